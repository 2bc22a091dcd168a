"""Rules on what becomes of values: set and never cleared, let go of before it is confirmed, called in a step alone, read from another copy."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.engine.link_sequence import transition_place
from spokeshave.language import syntax as sx
from spokeshave.model.diagnostics import Diagnostic, Place
from spokeshave.model.project import Device, Qualifier, Sequence, SignalClass, Step, Type
from spokeshave.verify.check.look import Look, warning

TIMERS = ("TON", "TOF", "TP")


def set_never_cleared(look: Look) -> Iterator[Diagnostic]:
    """A flag or an output that texts set TRUE, and that nothing makes FALSE again: no text, no action block, no trip."""
    zeroed = {n.lower() for t in look.project.trips for n in t.zeroed}
    for s in look.project.signals:
        writes = look.writing.get(s.name.lower(), [])
        if s.type is not Type.BOOL or s.cls is SignalClass.INPUT or not writes or s.name.lower() in zeroed:
            continue
        if look.used(s.name, "act") or not all(_is_true(w) for _, w in writes):
            continue
        if s.cls is not SignalClass.OUTPUT and not look.used(s.name, "read"):
            continue
        place, first = writes[0]
        if any(w in block for p, block in look.statements for _, w in writes if p.kind in ("opening", "closing")):
            continue  # always on from the first scan: that is what it says
        yield warning("set-never-cleared", place.spot(first.span.line, first.span.column),
                      f"{s.name} is set TRUE and cleared nowhere", "clear it where it was dealt with, or have a trip set it to zero")  # fmt: skip


def _is_true(statement: sx.Statement) -> bool:
    return (
        isinstance(statement, sx.Assign)
        and isinstance(statement.value, sx.Literal)
        and statement.value.value is True
        and isinstance(statement.target, sx.Name)
    )


def timer_in_a_step(look: Look) -> Iterator[Diagnostic]:
    """A timer that is called by the bodies of steps alone: left, it stands as it is, and is not begun anew when the step comes again."""
    kinds = {i.name.lower(): i.kind.upper() for i in look.project.instances}
    called: dict[str, list[tuple[Place, sx.Statement]]] = {}
    for place, s in look.each_statement():
        if isinstance(s, sx.BlockCall) and kinds.get(str(s.instance).lower()) in TIMERS:
            called.setdefault(str(s.instance), []).append((place, s))
    for name, calls in called.items():
        place, first = calls[0]
        if all(p.kind == "body" for p, _ in calls):
            yield warning("timer-in-step", place.spot(first.span.line, first.span.column),
                          f"{name} is called in the body of a step alone: left and come to again, it stands as it was",
                          "call it in opening or closing logic with the step in its IN, or wait by the step's own time")  # fmt: skip


def block_never_called(look: Look) -> Iterator[Diagnostic]:
    """A block whose outputs are read and that no text calls: they stay as they are at the start."""
    if len(look.statements) < 2 + sum(len(q.bodies) for q in look.project.sequences):
        return  # a text cannot be read yet, and may call it
    called = {str(s.instance).lower() for _, s in look.each_statement() if isinstance(s, sx.BlockCall)}
    for i in look.project.instances:
        read = [
            u
            for name, found in look.by_name.items()
            if name.partition(".")[0] == i.name.lower()
            for u in found
            if u.how == "read"
        ]
        if i.name.lower() not in called and read:
            yield warning("block-never-called", read[0].place, f"{i.name} is read here, and called nowhere: it never runs",
                          f"call it in the opening logic, {i.name}(...);")  # fmt: skip


def confirmed_too_late(look: Look) -> Iterator[Diagnostic]:
    """A movement that one step begins and lets go of, and whose end switch only a later step awaits."""
    for d in look.project.devices:
        for drive, sensor in (("extend", "extended"), ("retract", "retracted")) if d.kind == "actuator" else ():
            output, switch = d.wired(drive), d.wired(sensor)
            awaited: dict[str, list[int]] = {}
            for place in (u.place for u in look.used(switch, "read") if output and u.place.kind == "transition"):
                awaited.setdefault(place.sequence, []).append(place.index)
            for name, ways in awaited.items():
                sequence = look.project.sequence(name)
                assert sequence is not None
                yield from _late(sequence, d, output, switch, ways)


def _late(q: Sequence, device: Device, output: str, switch: str, awaited: list[int]) -> Iterator[Diagnostic]:
    def drives(step: Step) -> bool:
        return any(a.target.lower() == output.lower() and not a.qualifier.resets for a in step.actions)

    here = {n for i in awaited for n in q.transitions[i].sources}
    for step in q.steps:
        marks = [a for a in step.actions if a.target.lower() == output.lower()]
        if step.name in here or not marks or any(a.qualifier is not Qualifier.N for a in marks):
            continue
        leaving = [t for t in q.transitions if step.name in t.sources]
        after = [s for t in leaving for n in t.targets if (s := q.step(n)) is not None]
        if leaving and after and not any(map(drives, after)) and any(s.name in here for s in after):
            later = next(s.name for s in after if s.name in here)
            index = next(i for i, t in enumerate(q.transitions) if step.name in t.sources)
            yield warning("confirmed-too-late", transition_place(q, index),
                          f"{step.name} lets go of {output} before {device.name} is there: {later} awaits {switch}",
                          f"await {switch} in {step.name}, or go on with {output} in {later}")  # fmt: skip


RULES = (set_never_cleared, timer_in_a_step, block_never_called, confirmed_too_late)
