"""The form of modes with what belongs to it: buttons and selectors on the board, and scenarios that show each mode.

A scenario is taken along where it passes; one that does not is told with the reason: the rest of the machine may keep it from going.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from spokeshave.model.edits import add_item, free_name, taken_names
from spokeshave.model.modes import Modes, by_hand_button, with_modes
from spokeshave.model.project import Device, Project, Scenario, Sequence
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import run_scenario

GROUP = "Modes"


@dataclass(frozen=True, slots=True)
class Tried:
    """Scenarios of the modes that pass, and the names of those that do not, each with why."""

    passed: tuple[Scenario, ...]
    left: tuple[tuple[str, str], ...] = ()

    def said(self) -> str:
        """In a line or two."""
        n = len(self.passed)
        text = f"{n} scenario{'s' * (n != 1)} of the group {GROUP} pass{'es' * (n == 1)}"
        return "; ".join([text, *(f"{name} does not: {why}" for name, why in self.left)])


def build_modes(project: Project, sequence: str, modes: Modes, devices: bool = True) -> Project:
    """The machine file with the modes of a sequence, with a button or selector for each input that no device gives.

    Raises `EditError` as `with_modes` does.
    """
    made = with_modes(project, sequence, modes)
    return _with_devices(made, modes) if devices else made


def try_modes(project: Project, sequence: str, modes: Modes) -> Tried:
    """Runs the scenarios of the modes that a sequence has been given."""
    q = project.sequence(sequence)
    assert q is not None
    passed, left = [], []
    names = {s.name.lower() for s in project.scenarios}
    for name, text in _scenarios(project, q, modes):
        scenario = Scenario(free_name(f"{q.name}: {name}", names), text, GROUP)
        result = run_scenario(project, scenario)
        if result.outcome is Outcome.PASS:
            passed.append(scenario)
            names.add(scenario.name.lower())
        else:
            why = [v.because for v in result.verdicts if v.outcome is not Outcome.PASS]
            left.append((scenario.name, next(iter([*why, *map(str, result.problems)]), result.stopped)))
    return Tried(tuple(passed), tuple(left))


def _with_devices(project: Project, modes: Modes) -> Project:
    """A button or selector for each input that no device gives, to the right of what is on the board."""
    given = {s.lower() for d in project.devices for _, s in d.wires}
    column = max((d.at[0] for d in project.devices), default=-1) + 1
    row = 0
    for name, what in modes.inputs():
        if name.lower() in given:
            continue
        kind, terminal = ("selector", "at_1") if what.startswith("selector") else ("button", "contact")
        called = free_name(f"{name}{'Switch' if kind == 'selector' else 'Button'}", taken_names(project))
        project = add_item(project, "devices", Device(called, kind, ((terminal, name),), at=(column, row)))
        row += 1
    return project


def _hand(project: Project, name: str, on: str = "") -> str:
    """The deed that works an input: `press StartButton`, `turn ByStepSwitch to 1`, `set Start to TRUE`."""
    found: Device | None = next(
        (d for d in project.devices if any(s.lower() == name.lower() for _, s in d.wires)), None
    )
    if found is None:
        return f"set {name} to TRUE"
    if found.kind == "selector":
        at = next(t for t, s in found.wires if s.lower() == name.lower())
        return f"turn {found.name} to {at[-1]}"
    return f"press {found.name}"


def _held(project: Project, name: str) -> tuple[str, str]:
    """The deeds that hold a button and let it go."""
    deed = _hand(project, name)
    if deed.startswith("press "):
        return f"hold {deed[6:]}", f"release {deed[6:]}"
    return f"set {name} to TRUE", f"set {name} to FALSE"


def _scenarios(project: Project, q: Sequence, m: Modes) -> Iterator[tuple[str, str]]:
    """Names and rows, the simplest first."""
    first = next(t for _, t in q.leaving(q.initial)).targets[0]
    rest, one = f"{q.name}.{q.initial}", f"{q.name}.{first}"
    start = f"at 1 s: {_hand(project, m.start)}"
    safe = "expect no hazards"

    def rows(*lines: str) -> str:
        return "\n".join([*lines, ""])

    yield "nothing starts by itself", rows("run for 30 s", f"expect always {rest}.X", safe)
    yield "one cycle for each start", rows(start, "run for 10 min", f"expect {one} entered 1 times", safe)
    if m.continuous:
        on = f"at 0 s: {_hand(project, m.continuous)}"
        yield "cycle after cycle", rows(on, start, "run for 10 min", f"expect {one} entered at least 2 times", safe)
        if m.stop:
            stop = f"on {one}, 0.5 s later: {_hand(project, m.stop)}"
            yield (
                "stopped at the end of the cycle",
                rows(
                    on, start, stop, "run for 10 min", f"expect {one} entered 1 times", f"expect finally {rest}.X", safe
                ),
            )
    if m.by_step:
        on, press = f"at 0 s: {_hand(project, m.by_step)}", _hand(project, m.next_step)
        yield "no step without a press", rows(on, start, "run for 30 s", f"expect always {rest}.X")
        yield (
            "one step for a press",
            rows(
                on,
                start,
                f"after 1 s: {press}",
                "run for 60 s",
                f"expect {one} entered 1 times",
                f"expect finally {one}.X",
            ),
        )
    if m.pause:
        pause = f"on {one}, 0.1 s later: {_hand(project, m.pause_button)}"
        yield "paused, it stays", rows(start, pause, "run for 60 s", f"expect finally {one}.X", safe)
        again = f"after 5 s: {_hand(project, m.start)}"
        yield (
            "goes on after a pause",
            rows(
                start,
                pause,
                again,
                "run for 10 min",
                f"expect {one} entered 1 times",
                f"expect finally NOT {one}.X",
                safe,
            ),
        )
    if m.hand:
        over = f"on {one}, 0.3 s later: {_hand(project, m.hand)}"
        yield (
            "given up for the hand",
            rows(start, over, "run for 60 s", f"expect {one} entered 1 times", f"expect finally {rest}.X"),
        )
        button = by_hand_button(m.by_hand[0])
        push, leave = _held(project, button)
        asked = f"{q.name}Hand.{m.by_hand[0]}On"
        yield (
            f"{m.by_hand[0]} by hand",
            rows(
                f"at 0 s: {_hand(project, m.hand)}", f"at 1 s: {push}", f"at 2 s: {leave}", f"at 3 s: {_hand(project, m.start)}",
                "run for 20 s", f"expect {asked} entered 1 times", f"expect {asked} lasts at most 1.1 s", f"expect always {rest}.X",
            ),
        )  # fmt: skip
    if m.home:
        go = f"on {one}, 0.3 s later: {_hand(project, m.home)}"
        yield (
            "led home",
            rows(
                start, go, "run for 60 s", f"expect {q.name}Home.Back entered 1 times", f"expect finally {rest}.X", safe
            ),
        )
