"""Which scenario is run again under every fault, and which says how the machine is reset."""

from __future__ import annotations

from spokeshave.language.scenario import parse_scenario
from spokeshave.language.scenario_lists import cases_of
from spokeshave.model.project import Project, Scenario
from spokeshave.verify import VerifyError
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenario_language import Checked, check_sheet, scenario_problems
from spokeshave.verify.scenarios import run_scenario


class SweepError(VerifyError):
    """A sweep that cannot be done, and why."""


def cycles_of(project: Project) -> list[Scenario]:
    """The scenarios that can be a reference cycle: they start at the beginning and break nothing."""
    found = []
    for s in project.scenarios:
        cases = cases_of(s.text).cases
        if len(cases) != 1 or scenario_problems(project, s):
            continue
        sheet = check_sheet(project, cases[0].text).sheet
        faulty = any(r.kind == "failure" for r in sheet.given) or any(
            r.do in ("break_device", "mend_device", "power_cycle", "force", "hand_drive") for r in sheet.deeds
        )
        if not sheet.start and not faulty:
            found.append(s)
    return found


def promises_to_come_back(scenario: Scenario) -> bool:
    """Whether the rows say of each order of steps that it ends in the step in which it begins."""
    orders = _orders(scenario)
    return bool(orders) and all(len(o) > 1 and o[0] == o[-1] for o in orders)


def _orders(scenario: Scenario) -> list[list[str]]:
    """The steps of each order that its rows expect, without the sequence."""
    rows = parse_scenario(scenario.text).expectations
    return [[step.lower() for step in row.names[1:]] for row in rows if row.kind == "order"]


def likely_cycle(possible: list[Scenario]) -> Scenario | None:
    """Of scenarios whose rows promise that they come back to the steps in which they begin, the one that goes through the most."""
    return fullest([s for s in possible if promises_to_come_back(s)])


def fullest(possible: list[Scenario]) -> Scenario | None:
    """Of scenarios the one whose rows name the most steps one behind the other, the first of such."""
    return max(possible, key=lambda s: sum(len(set(o)) for o in _orders(s)), default=None)


def usual_cycle(project: Project) -> Scenario | None:
    """The scenario that is swept if nobody says which: the `likely_cycle`, else the first that comes back in a run, else the `fullest`;
    None where none can be.
    """
    possible = cycles_of(project)
    return likely_cycle(possible) or next((s for s in possible if _comes_back(project, s)), fullest(possible))


def _comes_back(project: Project, scenario: Scenario) -> bool:
    result = run_scenario(project, scenario)
    live = result.runs[0].live if result.runs and result.outcome is Outcome.PASS else None
    if live is None or not live.trace.scan_count:
        return False
    steps = [f"{q.name}.{x.name}.X" for q in project.sequences for x in q.steps]
    last = live.trace.scan_count - 1
    at_home = all(live.trace.at(x, 0) == live.trace.at(x, last) for x in steps)
    return at_home and any(len(live.trace.windows(x)) > 1 for x in steps)


def cycle_of(project: Project, name: str) -> Scenario:
    """The scenario to sweep: the one named, the one of the plan, or the usual one. Raises `SweepError`."""
    possible, name = cycles_of(project), name or project.sweep.cycle
    if not name:
        usual = usual_cycle(project)
        if usual is None:
            raise SweepError("there is no scenario that could be a reference cycle: one run that starts at the beginning and "
                             "breaks nothing")  # fmt: skip
        return usual
    scenario = project.scenario(name)
    if scenario is None:
        raise SweepError(f"there is no scenario {name!r}{_offer(name, possible)}")
    if scenario not in possible:
        why = scenario_problems(project, scenario)
        reason = str(why[0].message) if why else "it has lists, starts elsewhere, or breaks something itself"
        raise SweepError(f"{scenario.name} cannot be a reference cycle: {reason}{_offer(name, possible)}")
    return scenario


def _offer(name: str, possible: list[Scenario]) -> str:
    known = ", ".join(s.name for s in possible)
    return f"; possible are: {known}" if known else ""


def reset_of(project: Project, name: str) -> Checked | None:
    """The rows of the scenario that says how the machine is reset; None for the usual way.

    Raises `SweepError` if there is no such scenario, or none that can be used.
    """
    if not name:
        return None
    scenario = project.scenario(name)
    if scenario is None or scenario_problems(project, scenario) or len(cases_of(scenario.text).cases) != 1:
        raise SweepError(f"{name!r} says how the machine is reset, but is no scenario of one run without faults")
    return check_sheet(project, cases_of(scenario.text).cases[0].text)
