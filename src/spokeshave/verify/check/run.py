"""Runs all rules of the static check."""

from __future__ import annotations

from spokeshave.engine.link import link_problems
from spokeshave.model.diagnostics import Diagnostic, Place, Severity
from spokeshave.model.project import Project
from spokeshave.verify.check import actions, chart, signals
from spokeshave.verify.check.look import Look
from spokeshave.verify.scenario_language import scenario_problems

RULES = (*chart.RULES, *signals.RULES, *actions.RULES)
_ORDER = {Severity.ERROR: 0, Severity.WARNING: 1, Severity.ADVICE: 2}


def findings(project: Project) -> list[Diagnostic]:
    """All findings, errors first. A project that cannot run is still looked at by the rules."""
    found = link_problems(project)
    look = Look(project)
    for rule in RULES:
        found += rule(look)
    if not found or found[0].severity is not Severity.ERROR:
        for scenario in project.scenarios:
            for p in scenario_problems(project, scenario):
                place = Place("scenario", item=scenario.name, line=p.line, column=p.column)
                found.append(Diagnostic("scenario", Severity.ERROR, place, p.message, p.advice))
    return sorted(dict.fromkeys(found), key=lambda d: _ORDER[d.severity])
