"""Runs all rules of the static check."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.engine.link import link_problems
from spokeshave.model.answers import Answers
from spokeshave.model.diagnostics import Diagnostic, Place, Severity, did_you_mean
from spokeshave.model.project import Project
from spokeshave.verify.check import (
    actions,
    alarms,
    chart,
    copies,
    data_flow,
    devices,
    recipes,
    scene,
    signals,
    text_rules,
)
from spokeshave.verify.check.look import Look, warning
from spokeshave.verify.check.waivers import Sorted, sort_out
from spokeshave.verify.progress import look as look_up

RULES = (
    *chart.RULES,
    *signals.RULES,
    *actions.RULES,
    *devices.RULES,
    *text_rules.RULES,
    *data_flow.RULES,
    *copies.RULES,
    *alarms.RULES,
    *recipes.RULES,
    *scene.RULES,
)
_CODES_LIST = (
    "accepted-missing alarm-no-device alarm-of-nothing alarms-alike block-never-called branches-gap "
    "branches-overlap condition-constant confirmed-too-late "
    "contact-otherwise copy-otherwise counter-never-reset dead-time-zero drives-unopposed equal-overshoots input-not-given "
    "interlock-circular level-for-edge movement-unconfirmed name-near no-longest opposed-together other-copy priorities-mixed "
    "read-nowhere recipe-no-setting recipes-alike reset-never-stored run-circle run-no-end run-not-awaited run-nothing scene-of-nothing "
    "section-never-joins section-unsound set-never-cleared statement-unreachable step-no-exit "
    "step-unreachable stop-normally-open stored-never-reset target-shared tile-of-nothing time-beyond-window time-zero timer-in-step "
    "timer-resets-itself trip-misses-output trip-no-reset trip-no-scope window-below-travel window-reversed "
    "wires-exchanged written-nowhere written-twice"
)
CODES = _CODES_LIST.split()
"""The identifiers of the rules, for requirements that are shown by nothing being found."""

_ORDER = {Severity.ERROR: 0, Severity.WARNING: 1, Severity.ADVICE: 2}


def findings(project: Project) -> list[Diagnostic]:
    """The findings that are open, errors first: those that are waived are left out."""
    return list(look_over(project).open)


def look_over(project: Project) -> Sorted:
    """All findings, sorted out by the waivers of the project."""
    return _known(project)


def _look_over(project: Project) -> Sorted:
    sorted_out = sort_out(project, every_finding(project))
    return replace(sorted_out, open=tuple(sorted(sorted_out.open, key=lambda d: _ORDER[d.severity])))


_known = Answers(_look_over, most=4)


def every_finding(project: Project) -> list[Diagnostic]:
    """All findings, waived or not. A project that cannot run is still looked at by the rules."""
    found = link_problems(project)
    for c in project.conflicts:
        place, said = (
            Place(item=c.path.replace("/", ", ")),
            f"two versions differ: mine {c.mine or 'nothing'}, theirs {c.theirs or 'nothing'}",
        )
        found.append(Diagnostic("merge-conflict", Severity.ERROR, place, said, "keep mine, or take theirs"))
    found += _not_beside(project)
    look = Look(project)
    for n, rule in enumerate(RULES):
        look_up(n / len(RULES))
        found += rule(look)
    if project.scenarios and (not found or found[0].severity is not Severity.ERROR):
        from spokeshave.verify.scenario_language import scenario_problems  # not for a file without scenarios

        for scenario in project.scenarios:
            for p in scenario_problems(project, scenario):
                place = Place("scenario", item=scenario.name, line=p.line, column=p.column)
                found.append(Diagnostic("scenario", Severity.ERROR, place, p.message, p.advice))
    return list(dict.fromkeys([*found, *_broken_links(project)]))


def _not_beside(project: Project) -> list[Diagnostic]:
    """Accepted runs of which the machine file knows the digest alone."""
    said = "the file with the accepted runs is not beside the machine file, or this is not in it"
    advice = "put NAME.spoke.accepted beside it as it was then, or accept anew"
    found = [
        warning("accepted-missing", Place("scenario", item=a.scenario), f"the accepted run cannot be compared: {said}", advice)
        for a in project.accepted if a.stored
    ]  # fmt: skip
    if project.sweep.stored:
        what = f"the accepted sweep cannot be compared: {said}"
        found.append(warning("accepted-missing", Place(item="fault sweep"), what, advice))
    return found


def _broken_links(project: Project) -> list[Diagnostic]:
    """Requirements that say they are shown by a rule that is not there."""
    if not any(r.shown_by for r in project.requirements):
        return []
    from spokeshave.verify.protection import rules

    known = {r.name for r in rules(project)} | {f"check {code}" for code in CODES}
    return [
        warning("link-broken", Place("requirement", item=r.ident), f"{r.ident} is shown by {name}, which is not there",
                did_you_mean(name, known) or "link it to something else in the brief")
        for r in project.requirements for name in r.shown_by if name not in known
    ]  # fmt: skip
