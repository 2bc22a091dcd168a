"""A scan that does nothing, told without running its phases.

After any scan all values are known. If in the next one no edge changes, no condition, trip or hold comes true, no
interlock changes its mind and no time is reached, then the ten phases would leave everything as it is but the inputs.
That takes a fraction of a scan to see, and most scans that a device asks for are like that: a switch that nobody waits for.
"""

from __future__ import annotations

from spokeshave.engine.evolve import enabled, may_clear
from spokeshave.engine.phases import forget_moves, read_device
from spokeshave.engine.program import LinkedSequence, Program
from spokeshave.engine.situation import Mode, Situation, set_times
from spokeshave.engine.skip import jump
from spokeshave.engine.trace import Trace


def can_glance(program: Program, s: Situation) -> bool:
    """Whether `glance` may be asked now: the texts that run in every scan, bodies and forces want their scan."""
    return not (program.restless or s.bodies or s.forces or s.cold)


def glance(program: Program, s: Situation, trace: Trace, quiet: bool) -> bool:
    """Whether scan `s.k` does nothing but take in what devices show; if so it is put down, else nothing has happened.

    No stimulus and nothing that depends on time alone may be due in it. `quiet` tells that the scan before did nothing
    either: then only what the changed inputs are read by can be different.
    """
    k = s.k
    while s.next_reading <= k:
        read_device(program, s, s.dev_next.index(s.next_reading))
        s.next_reading = min(s.dev_next)
    if not (quiet and _nobody_looks(program, s)) and not _nothing_follows(program, s):
        return False
    if s.moved:
        s.moved = False
        forget_moves(s)
    trace.record(s, True)
    jump(program, s, k + 1)
    return True


def _nobody_looks(program: Program, s: Situation) -> bool:
    for slot in s.changed:
        for i, q in program.readers.get(slot, ()):
            if i < 0 or q in s.active[i]:
                return False
    return True


def _nothing_follows(program: Program, s: Situation) -> bool:
    v = s.v
    for seq in program.sequences:
        if s.mode[seq.index] is not Mode.RUN:
            return False
        set_times(program, s, seq.index, s.k)
    if program.edges and not _edges_stay(program, s):
        return False
    if program.guarded and not _nothing_decided(program, s):
        return False
    for seq in program.sequences:
        if _moves(seq, s.active[seq.index], v):
            return False
    for i, lock in enumerate(program.interlocks):
        if v[lock.asked] and bool(lock.condition(v)) is (i in s.blocked):
            return False
    return True


def _moves(seq: LinkedSequence, active: list[int], v: list[object]) -> bool:
    for a in active:
        choose = seq.steps[a].choose
        if choose is None:
            return any(may_clear(w, v) for w in enabled(seq, active))
        if choose(v) >= 0:
            return True
    return False


def _edges_stay(program: Program, s: Situation) -> bool:
    v = s.v
    for e, was in zip(program.edges, s.edge_was):
        if bool(e.operand(v)) is not was or (v[e.slot] and e.kind != "HELD"):
            return False
    return True


def _nothing_decided(program: Program, s: Situation) -> bool:
    """No trip stands or comes, nobody holds; a restart comes with an edge."""
    v = s.v
    if s.raised or any(s.trip_on) or any(s.late_hold) or any(trip.condition(v) for trip in program.trips):
        return False
    return not any(seq.hold is not None and seq.hold(v) for seq in program.sequences)
