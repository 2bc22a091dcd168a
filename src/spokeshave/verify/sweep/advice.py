"""What would make a bad cell a caught one, in a sentence, and the edit that does it where there is a plain one."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from spokeshave.machine.kinds import sensors_of
from spokeshave.model import edits, flow_edits
from spokeshave.model.edits import free_name, taken_names
from spokeshave.model.project import Device, Project, Sequence, Step, Trip
from spokeshave.verify.check.remedies import USUAL_LONGEST
from spokeshave.verify.sweep.concerns import reads_of
from spokeshave.verify.sweep.faults import HANDS
from spokeshave.verify.sweep.matrix import Matrix
from spokeshave.verify.sweep.phrases import LEFT, ON, PRESSED, STANDS, WAITS
from spokeshave.verify.sweep.verdicts import Cell, Verdict

OPPOSITE = {
    "extended": "retracted",
    "retracted": "extended",
    "low": "high",
    "high": "low",
    "end_low": "end_high",
    "end_high": "end_low",
}


@dataclass(frozen=True, slots=True)
class Advice:
    """`text` says what would tell of it; `title` and `mend` are an edit that does so."""

    text: str
    title: str = ""
    mend: Callable[[Project], Project] | None = field(default=None, compare=False)


def advice(project: Project, cell: Cell) -> Advice:
    """What to do about a bad cell."""
    for phrase, says in ((PRESSED, _pressed), (ON, _on), (LEFT, _left), (WAITS, _waits), (STANDS, _stands)):
        names = phrase.read(cell.because)
        if names is not None:
            return says(project, cell, names)
    if cell.verdict is Verdict.HAZARD:
        return Advice("An interlock or a trip has to keep it from happening: what came to harm must not be driven then")
    if cell.verdict is Verdict.STUCK:
        return Advice("A longest time of the step in which it stands, or an alarm of its own, would tell of it")
    return Advice("What ends otherwise is looked at by nobody: await it in the last step, or raise an alarm on it")


def causes(project: Project, matrix: Matrix) -> list[tuple[Advice, list[Cell]]]:
    """The bad cells that nobody has explained, those together that one thing would mend; the most first."""
    found: dict[Advice, list[Cell]] = {}
    for cell in matrix.open():
        found.setdefault(advice(project, cell), []).append(cell)
    return sorted(found.items(), key=lambda x: -len(x[1]))


def _at(project: Project, step: str) -> tuple[Sequence, Step] | None:
    q, _, name = step.partition(".")
    sequence = project.sequence(q)
    found = sequence.step(name) if sequence is not None else None
    return None if sequence is None or found is None else (sequence, found)


def _pressed(project: Project, cell: Cell, names: dict[str, str]) -> Advice:
    device = project.device(names["stop"])
    contact = device.wired("contact") if device is not None else ""
    closed = device is None or bool(dict(device.parameters).get("normally_closed", 1.0))
    condition = f"NOT {contact}" if closed else contact
    if not contact:
        return Advice(f"Nothing reads {names['stop']}")
    name = free_name("Emergency", taken_names(project) | {t.name.lower() for t in project.trips})
    trip = Trip(name, 1, condition, latching=bool(project.reset.strip()))
    return Advice(
        f"A trip on {condition} turns off what is driven while {names['stop']} is pressed",
        f"Add a trip on {condition}", lambda p: edits.put_items(p, "trips", (*p.trips, trip)),
    )  # fmt: skip


def _on(project: Project, cell: Cell, names: dict[str, str]) -> Advice:
    output, why = names["output"], names["why"]
    if "power is back" in why:
        return Advice(
            f"{output} comes on by itself when power is back: begin in a step that waits for a hand, and keep nothing that starts it"
        )
    if "after the reset" in why:
        return Advice(
            f"{output} comes on by itself after a reset: a trip that restarts its sequence, or a way on that asks for a hand, keeps it off"
        )
    return Advice(f"{output} is on {why}: what stops the machine has to turn it off too, or say that it may stay on")


def _left(project: Project, cell: Cell, names: dict[str, str]) -> Advice:
    step, device, at = names["step"], project.device(names["device"]), _at(project, names["step"])
    if device is None or at is None:
        return Advice(f"{step} has to await where {names['device']} is")
    if not any(device.wired(t.name) for t in sensors_of(device)):
        return Advice(
            f"{device.name} tells nobody where it is: {step} can only be sure of it with a switch, or a monitor that shows that it runs"
        )
    awaited = list(_awaited(at[0], at[1], device))
    if not awaited:
        return _unawaited(at[0], at[1], device)
    for index, terminal, signal in awaited:
        other = device.wired(OPPOSITE.get(terminal, ""))
        condition = at[0].transitions[index].condition
        if other and other.lower() not in reads_of(condition):
            what = (
                f"{step} believes {signal} of {device.name} alone: with AND NOT {other} a switch that sticks keeps it there, "
                "and its longest time tells"
            )
            return Advice(
                what, f"Await NOT {other} too in {step}", _await(at[0].name, index, f"({condition}) AND NOT {other}")
            )
    return Advice(
        f"{step} believes what {device.name} shows as soon as it is entered: await that it has gone off in between, or give the step a "
        "shortest time; a switch that sticks is told then"
    )


def _unawaited(q: Sequence, step: Step, device: Device) -> Advice:
    """A step that is left whatever a device does."""
    text = f"{q.name}.{step.name} is left without a look at {device.name}"
    marks = {a.target.lower() for a in step.actions if not a.qualifier.resets}
    ways = [i for i, t in enumerate(q.transitions) if step.name in t.sources]
    for drive, sensor in (("extend", "extended"), ("retract", "retracted"), ("run", "running")):
        switch = device.wired(sensor)
        if switch and device.wired(drive).lower() in marks and len(ways) == 1:
            condition = f"({q.transitions[ways[0]].condition}) AND {switch}"
            return Advice(
                f"{text}: await {switch} there",
                f"Await {switch} too in {step.name}",
                _await(q.name, ways[0], condition),
            )
    return Advice(f"{text}: await what shows that it is where it belongs, there or in a position of the opening logic")


def _await(sequence: str, index: int, condition: str) -> Callable[[Project], Project]:
    return lambda p: flow_edits.change_transition(p, sequence, index, condition=condition)


def _awaited(q: Sequence, step: Step, device: Device) -> Iterator[tuple[int, str, str]]:
    """The switches of a device that the ways out of a step read: (transition, terminal, signal)."""
    for index, t in enumerate(q.transitions):
        if step.name in t.sources:
            reads = reads_of(t.condition)
            yield from ((index, terminal, signal) for terminal, signal in device.wires if signal.lower() in reads)


def _waits(project: Project, cell: Cell, names: dict[str, str]) -> Advice:
    at = _at(project, names["step"])
    if at is None:
        return Advice(f"A longest time of {names['step']} would tell of it")
    q, step = at
    if step.name == q.initial or _by_hand(project, names["terms"]):
        return Advice(
            f"{names['step']} waits for somebody, who sees that nothing happens. Explain it so, or let a lamp say what is missing"
        )
    if not step.longest:
        return Advice(
            f"A longest time of {names['step']} tells that {names['terms']} does not come",
            f"Give {step.name} {USUAL_LONGEST[2:]} at most",
            lambda p: edits.change_step(p, q.name, step.name, longest=USUAL_LONGEST),
        )
    return Advice(
        f"{names['step']} is late at some time, but its alarm has nothing to do with {cell.fault.split()[0]}: let an alarm point at it"
    )


def _by_hand(project: Project, terms: str) -> bool:
    """Whether all that is missing is given by hands."""
    by_hand = {s.lower() for d in project.devices if d.kind in HANDS or d.kind == "selector" for _, s in d.wires}
    read = reads_of(terms.replace(" and ", " AND "))
    return bool(read) and read <= by_hand


def _stands(project: Project, cell: Cell, names: dict[str, str]) -> Advice:
    return Advice(
        f"No reset leads home from {names['steps']}: a trip that restarts its sequence, or a way out on the reset, would; "
        "or name a scenario that says what people do then (`--reset`)"
    )
