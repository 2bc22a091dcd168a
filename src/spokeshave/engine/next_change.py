"""Skip-ahead: from a quiet scan to the earliest scan in which anything can change (semantics section 11).

A scan is *quiet* when it left every value but times and inputs as it was, entered and left no step and told no event
(a changed input was seen by the whole scan already, so by itself it asks for no other). That is seen after it was run,
or before, by a `glance`. The scans behind it are then the same, until a stimulus, a device's threshold, or one of the
*times* below comes:

    comparisons of a step time, HELD, times of action blocks, windows, dead times of pairs, timers

Numbers of devices that change without turning a comparison ask for no scan: see `readings`.
"""

from __future__ import annotations

from spokeshave.engine.program import Program
from spokeshave.engine.situation import Mode, Situation
from spokeshave.engine.waits import first_at, turns_in
from spokeshave.machine.device import NEVER


def next_of_time(program: Program, s: Situation) -> int:
    """The earliest scan from `s.k` on in which time alone can change anything, if nothing else does before."""
    nearest = min(s.act_at, _next_of_steps(program, s))
    if program.edges:
        nearest = min(nearest, _next_of_edges(program, s))
    if program.pairs:
        nearest = min(nearest, _next_of_pairs(program, s))
    if program.times.timers:
        nearest = min(nearest, _next_of_timers(program, s))
    return max(s.k, nearest)


def _next_of_steps(program: Program, s: Situation) -> int:
    """Comparisons of step times, and windows."""
    times, v, period, nearest = program.times, s.v, program.period_ms, NEVER
    for seq in program.sequences:
        i = seq.index
        if s.mode[i] is not Mode.RUN:
            continue
        start = s.lost[i]
        for a in s.active[i]:
            step = seq.steps[a]
            t = step.t
            if t in times.fluid:
                return s.k
            began = start + s.entered[i][a]
            if t in times.comparisons:
                now = (s.k - 1 - began) * period
                for c in times.comparisons[t]:
                    limit = c.other(v)
                    wait = turns_in(c.op, now, int(limit), period) if limit is not None else 0
                    if wait and s.k - 1 + wait < nearest:
                        nearest = s.k - 1 + wait
            if step.longest is not None and not v[step.late]:
                late = began - (-step.longest.ms(v) // period)
                if late < nearest:
                    nearest = late
    return nearest


def _next_of_edges(program: Program, s: Situation) -> int:
    nearest = NEVER
    for i, e in enumerate(program.edges):
        if e.kind == "HELD" and s.held_from[i] >= 0 and not s.v[e.slot]:
            assert e.time is not None
            nearest = min(nearest, s.held_from[i] + first_at(0, e.time(s.v), program.period_ms))
    return nearest


def _next_of_pairs(program: Program, s: Situation) -> int:
    """Ends of dead times that an output waits for."""
    v, nearest = s.v, NEVER
    for pair, on in zip(program.pairs, s.pair_on):
        for mine, other in ((0, 1), (1, 0)):
            if v[pair.asked[mine]] and not v[pair.final[mine]] and on[other] >= 0 and not v[pair.asked[other]]:
                nearest = min(nearest, max(s.k, on[other] + 1 + pair.dead_scans))
    return nearest


def _next_of_timers(program: Program, s: Situation) -> int:
    v, nearest, now = s.v, NEVER, (s.k - 1) * program.period_ms
    for kind, base in program.times.timers:
        on, q, pt, start, was = v[base], v[base + 2], v[base + 1], v[base + 4], v[base + 5]
        running = was and not q if kind == "TON" else q and (kind == "TP" or not on)
        if running:
            if program.times.elapsed_read:
                return s.k
            nearest = min(nearest, s.k - 1 + first_at(now - start, pt, program.period_ms))
    return nearest


def jump(program: Program, s: Situation, to: int) -> None:
    """Goes on to scan `to` as if the scans before it had been run. Step times are set when they are looked at."""
    if program.guarded or s.by_hand:
        for i, mode in enumerate(s.mode):
            if mode is not Mode.RUN:
                s.lost[i] += to - s.k
    for on in s.pair_on:
        for mine in (0, 1):
            if on[mine] == s.k - 1:  # outputs of opposed pairs that were on in the last scan stay so
                on[mine] = to - 1
    s.k = to
