"""A scan that does nothing, told without running its phases.

After any scan all values are known. If in the next one no edge changes, no condition, trip or hold comes true, no
interlock changes its mind and no time is reached, then the ten phases would leave everything as it is but the inputs.
That takes a fraction of a scan to see, and most scans that a device asks for are like that: a switch that nobody waits for.
"""

from __future__ import annotations

from spokeshave.engine.alarms import alarms_stay
from spokeshave.engine.evolve import can_leave, enabled, may_clear
from spokeshave.engine.program import LinkedSequence, Program
from spokeshave.engine.situation import Mode, Situation, set_times


def nothing_follows(program: Program, s: Situation) -> bool:
    """Whether scan `s.k` changes nothing more, with the inputs as they are now. No text may run in every scan, no body
    be on, nothing be forced, and nothing that depends on time alone may be due.
    """
    v = s.v
    for seq in program.sequences:
        if s.mode[seq.index] is not Mode.RUN:
            return False
        set_times(program, s, seq.index, s.k)
    if program.edges and not _edges_stay(program, s):
        return False
    if program.alarms and not alarms_stay(program, s):
        return False
    if program.guarded and not _nothing_decided(program, s):
        return False
    for seq in program.sequences:
        if _moves(seq, s.active[seq.index], v):
            return False
    return not any(
        v[lock.asked] and bool(lock.condition(v)) is (i in s.blocked) for i, lock in enumerate(program.interlocks)
    )


def _moves(seq: LinkedSequence, active: list[int], v: list[object]) -> bool:
    for a in active:
        step = seq.steps[a]
        if step.choose is not None:
            if step.choose(v) >= 0:
                return True
        elif can_leave(step, active):
            return any(may_clear(w, v) for w in enabled(seq, active))
    return False


def _edges_stay(program: Program, s: Situation) -> bool:
    v = s.v
    return not any(
        bool(e.operand(v)) is not was or (v[e.slot] and e.kind != "HELD") for e, was in zip(program.edges, s.edge_was)
    )


def _nothing_decided(program: Program, s: Situation) -> bool:
    """No trip stands or comes, nobody holds; a restart comes with an edge."""
    v = s.v
    if s.raised or any(s.trip_on) or any(s.late_hold) or any(trip.condition(v) for trip in program.trips):
        return False
    return not any(seq.hold is not None and seq.hold(v) for seq in program.sequences)
