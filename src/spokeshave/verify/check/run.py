"""Runs all rules of the static check."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.engine.link import link_problems
from spokeshave.model.diagnostics import Diagnostic, Place, Severity
from spokeshave.model.project import Project
from spokeshave.verify.check import actions, chart, signals, texts
from spokeshave.verify.check.look import Look
from spokeshave.verify.check.waivers import Sorted, sort_out
from spokeshave.verify.scenario_language import scenario_problems

RULES = (*chart.RULES, *signals.RULES, *actions.RULES, *texts.RULES)
_ORDER = {Severity.ERROR: 0, Severity.WARNING: 1, Severity.ADVICE: 2}


def findings(project: Project) -> list[Diagnostic]:
    """The findings that are open, errors first: those that are waived are left out."""
    return list(look_over(project).open)


def look_over(project: Project) -> Sorted:
    """All findings, sorted out by the waivers of the project."""
    sorted_out = sort_out(project, every_finding(project))
    return replace(sorted_out, open=tuple(sorted(sorted_out.open, key=lambda d: _ORDER[d.severity])))


def every_finding(project: Project) -> list[Diagnostic]:
    """All findings, waived or not. A project that cannot run is still looked at by the rules."""
    found = link_problems(project)
    look = Look(project)
    for rule in RULES:
        found += rule(look)
    if not found or found[0].severity is not Severity.ERROR:
        for scenario in project.scenarios:
            for p in scenario_problems(project, scenario):
                place = Place("scenario", item=scenario.name, line=p.line, column=p.column)
                found.append(Diagnostic("scenario", Severity.ERROR, place, p.message, p.advice))
    return list(dict.fromkeys(found))
