"""Phase 6: the evolution of the sequences and their time windows (semantics section 4 and 9.1)."""

from __future__ import annotations

from spokeshave.engine.alarms import raise_alarm
from spokeshave.engine.program import LinkedSequence, LinkedStep, Program, Way
from spokeshave.engine.situation import Mode, Situation, enter, event, leave, set_state


def evolve(program: Program, s: Situation) -> None:
    """All sequences in their listed order; later ones see the step flags of earlier ones."""
    for seq in program.sequences:
        i = seq.index
        if s.mode[i] is Mode.RUN:
            if not s.jumped[i] and not s.cold:
                chosen = choose(seq, s.active[i], s.v)
                if chosen:
                    _clear(program, s, seq, chosen)
            _see_late(program, s, seq)


def enabled(seq: LinkedSequence, active: list[int]) -> list[Way]:
    """Transitions with all their predecessors active, in the order of priority."""
    if len(active) == 1:
        return [w for w in seq.steps[active[0]].ways if len(w.sources) == 1]
    found = {w.order: w for a in active for w in seq.steps[a].ways if all(p in active for p in w.sources)}
    return [found[o] for o in sorted(found)]


def may_clear(way: Way, v: list[object]) -> bool:
    """The condition and the permissives of every step it enters (semantics section 8). All are evaluated."""
    true = way.condition(v)
    for permissive, _, _ in way.permissives:
        true = permissive(v) and true
    return bool(true)


def can_leave(step: LinkedStep, active: list[int]) -> bool:
    """Whether any way out has all its predecessors active."""
    there = active.__contains__
    for way in step.ways:  # noqa: SIM110 (asked in most scans)
        if all(map(there, way.sources)):
            return True
    return False


def choose(seq: LinkedSequence, active: list[int], v: list[object]) -> list[Way]:
    """The transitions to clear. Where every way out has one predecessor, steps cannot be in each other's way."""
    chosen = []
    for a in active:
        step = seq.steps[a]
        if step.choose is None:
            if can_leave(step, active):
                return _choose_among(seq, active, v)
            continue
        n = step.choose(v)
        if n >= 0:
            chosen.append(step.ways[n])
    if len(chosen) > 1:
        chosen.sort(key=in_order)
    return chosen


def in_order(way: Way) -> int:
    """The key by which ways out are sorted: their place in the order of priority."""
    return way.order


def _choose_among(seq: LinkedSequence, active: list[int], v: list[object]) -> list[Way]:
    """In order of priority, each transition none of whose predecessors has been given away."""
    true = [w for w in enabled(seq, active) if may_clear(w, v)]
    given: set[int] = set()
    chosen = []
    for way in true:
        if given.isdisjoint(way.sources):
            given.update(way.sources)
            chosen.append(way)
    return chosen


def _clear(program: Program, s: Situation, seq: LinkedSequence, chosen: list[Way]) -> None:
    """First every predecessor is left, then every successor is entered."""
    i, steps = seq.index, seq.steps
    active = s.active[i]
    for way in chosen:
        for a in way.sources:
            step = steps[a]
            if step.shortest is not None:
                _see_early(s, seq, step)
            leave(program, s, i, a)
    for way in chosen:
        for a in way.targets:
            if a in active:  # was not left, or was entered by another transition already
                step = steps[a]
                event(s, "unsafe activation", f"{seq.name}.{step.name} was entered while active", step.place)
            enter(program, s, i, a)
    set_state(program, s, i)


def _see_early(s: Situation, seq: LinkedSequence, step: LinkedStep) -> None:
    """Leaving before the shortest time is an alarm that clears at once: it tells of a moment."""
    assert step.shortest is not None
    if s.v[step.t] < step.shortest.ms(s.v):
        event(s, "early", f"{seq.name}.{step.name} left after {s.v[step.t]} ms, early", step.place)


def _see_late(program: Program, s: Situation, seq: LinkedSequence) -> None:
    v = s.v
    for a in s.active[seq.index]:
        step = seq.steps[a]
        if step.longest is None or v[step.t] < step.longest.ms(v) or v[step.late]:
            continue
        v[step.late] = True
        ident = f"late:{seq.name}.{step.name}"
        raise_alarm(
            program, s, ident, f"{seq.name}.{step.name} is late: longer than {step.longest.ms(v)} ms", step.place
        )
        event(s, "late", f"{seq.name}.{step.name}", step.place)
        if step.trip >= 0:
            s.raised.add(step.trip)
        elif step.response == "hold":
            s.late_hold[seq.index] = True
