"""Which scenario is run again under every fault, and which says how the machine is reset."""

from __future__ import annotations

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


def cycle_of(project: Project, name: str) -> Scenario:
    """The scenario to sweep: the one named, the one of the plan, or the first that can be. Raises `SweepError`."""
    possible, name = cycles_of(project), name or project.sweep.cycle
    if not name:
        if not possible:
            raise SweepError("there is no scenario that could be a reference cycle: one run that starts at the beginning and "
                             "breaks nothing")  # fmt: skip
        return possible[0]
    scenario = project.scenario(name)
    if scenario is None:
        raise SweepError(f"there is no scenario {name!r}{_offer(name, possible)}")
    if scenario not in possible:
        why = scenario_problems(project, scenario)
        reason = str(why[0].message) if why else "it has lists, starts elsewhere, or breaks something itself"
        raise SweepError(f"{scenario.name} cannot be a reference cycle: {reason}{_offer(name, possible)}")
    return scenario


def passes(project: Project, cycle: str = "") -> str:
    """Why the cycle cannot be a reference since it fails, or an empty text. Raises as `Reference` does."""
    scenario = cycle_of(project, cycle)
    result = run_scenario(project, scenario)
    if result.outcome is Outcome.PASS:
        return ""
    worst = result.worst
    return f"{scenario.name} does not pass{f': {worst.text}, {worst.because}' if worst else ''}"


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
