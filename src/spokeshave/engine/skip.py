"""Skip-ahead: from a quiet scan to the earliest scan in which anything can change (semantics section 11).

A scan is *quiet* when it left every value but times and inputs as it was, entered and left no step and told no event
(a changed input was seen by the whole scan already, so by itself it asks for no other). The scans behind it are then the
same, until a stimulus, a device's threshold, or one of the *times* below comes:

    comparisons of a step time, HELD, times of action blocks, windows, dead times of pairs, timers

A step time that is read in any other way than in a comparison makes its step *fluid*: while it is active every scan is run.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from operator import itemgetter
from typing import TYPE_CHECKING, Any

from spokeshave.engine.phases import set_times
from spokeshave.engine.program import NOTHING, OVERFLOWS, Program
from spokeshave.engine.situation import Mode, Situation
from spokeshave.language import checked as ck
from spokeshave.language.blocks import TIME
from spokeshave.language.compile import Compiled, Unit, compile_units
from spokeshave.language.functions import TURNS
from spokeshave.machine.device import NEVER
from spokeshave.model.project import Qualifier, SignalClass

if TYPE_CHECKING:
    from spokeshave.engine.names import SlotTable

_MIRROR = {"lt": "gt", "gt": "lt", "le": "ge", "ge": "le", "eq": "eq", "ne": "ne"}
_ET = 3
"""Where the elapsed time of a timer stands behind its base."""


@dataclass(frozen=True, slots=True)
class Comparison:
    """A step time compared with something that holds no step time."""

    op: str
    other: Compiled


@dataclass(frozen=True, slots=True)
class Times:
    """What a program compares with time: by (sequence, step), and its timers as (kind, base)."""

    comparisons: dict[tuple[int, int], tuple[Comparison, ...]]
    fluid: frozenset[tuple[int, int]]
    timers: tuple[tuple[str, int], ...]
    elapsed_read: bool
    steady: Any
    """Gives all values that must not have changed in a quiet scan."""


def read_times(table: SlotTable, units: Sequence[Unit], steps: dict[int, tuple[int, int]]) -> Times:
    """Looks through all texts of a project. `steps` tells whose time stands in a slot."""
    timers = {(kind, base) for kind, base in table.base.values() if kind in ("TON", "TOF", "TP")}
    elapsed = {base + _ET for _, base in timers}
    found: list[tuple[tuple[int, int], str, ck.Checked]] = []
    fluid: set[tuple[int, int]] = set()
    elapsed_read = False
    for _, tree in units:
        for node in _expressions(tree):
            for part in _walk(node):
                if isinstance(part, ck.Load) and part.slot in elapsed:
                    elapsed_read = True
            _compare(node, steps, found, fluid)
    code = compile_units([(0, other) for _, _, other in found])
    comparisons: dict[tuple[int, int], list[Comparison]] = {}
    for (step, op, _), other in zip(found, code):
        comparisons.setdefault(step, []).append(Comparison(op, other))
    given = {
        table.final[s.name.lower()] for s in table.project.signals if s.cls in (SignalClass.INPUT, SignalClass.SETTING)
    }
    passing = set(steps) | elapsed | given | {OVERFLOWS, NOTHING, TIME, TURNS}
    slots = [i for i in range(len(table.values)) if i not in passing]
    return Times(
        {step: tuple(c) for step, c in comparisons.items()},
        frozenset(fluid),
        tuple(sorted(timers)),
        elapsed_read,
        itemgetter(*slots),
    )


def _expressions(tree: ck.Checked | tuple[ck.CheckedStatement, ...]) -> Iterator[ck.Checked]:
    if not isinstance(tree, tuple):
        yield tree
        return
    for s in tree:
        expressions, blocks = ck.inner(s)
        yield from expressions
        for block in blocks:
            yield from _expressions(block)


def _walk(node: ck.Checked) -> Iterator[ck.Checked]:
    yield node
    if isinstance(node, ck.Apply):
        for a in node.args:
            yield from _walk(a)
    elif isinstance(node, ck.Edge):
        yield from _walk(node.operand)
        if node.time is not None:
            yield from _walk(node.time)


def _compare(
    node: ck.Checked,
    steps: dict[int, tuple[int, int]],
    found: list[tuple[tuple[int, int], str, ck.Checked]],
    fluid: set[tuple[int, int]],
) -> None:
    """Sorts the step times in an expression into comparisons and others, which make their step fluid."""
    if isinstance(node, ck.Load):
        if node.slot in steps:
            fluid.add(steps[node.slot])
    elif isinstance(node, ck.Edge):
        _compare(node.operand, steps, found, fluid)
        if node.time is not None:
            _compare(node.time, steps, found, fluid)
    elif isinstance(node, ck.Apply):
        if node.op in _MIRROR:
            a, b = node.args
            for op, one, other in ((node.op, a, b), (_MIRROR[node.op], b, a)):
                timed = [p for p in _walk(other) if isinstance(p, ck.Load) and p.slot in steps]
                if isinstance(one, ck.Load) and one.slot in steps and not timed:
                    found.append((steps[one.slot], str(op), other))
                    return
        for a in node.args:
            _compare(a, steps, found, fluid)


def first_at(now: int, need: int, period: int) -> int:
    """How many scans from now until a time that is `now` reaches `need`; 0 if it has."""
    return 0 if now >= need else -(-(need - now) // period)


def _comparison_scans(op: str, now: int, c: int, period: int) -> int:
    """Scans until the truth of `now op c` changes; 0 if it never does again."""
    if op in ("ge", "lt"):
        return first_at(now, c, period)
    if op in ("gt", "le"):
        return (c - now) // period + 1 if now <= c else 0
    return first_at(now, c, period) if now < c else 1 if now == c else 0


def next_scan(program: Program, s: Situation) -> int:
    """The earliest scan from `s.k` on that has to be run, after a quiet scan; stimuli are not looked at."""
    times, k, v, period = program.times, s.k, s.v, program.period_ms
    last = k - 1
    nearest = min(s.dev_next, default=NEVER)
    if nearest <= k:
        return k
    for seq in program.sequences:
        i = seq.index
        if s.mode[i] is not Mode.RUN:
            continue
        clock = s.clock[i]
        for a in s.active[i]:
            if (i, a) in times.fluid:
                return k
            step, now = seq.steps[a], (clock - s.entered[i][a]) * period
            for c in times.comparisons.get((i, a), ()):
                wait = _comparison_scans(c.op, now, int(c.other(v)), period)
                if wait and last + wait < nearest:
                    nearest = last + wait
            if step.longest is not None and not v[step.late]:
                wait = first_at(now, step.longest.ms(v), period)
                nearest = min(nearest, last + wait if wait else k)
            for block in step.blocks:
                if block.qualifier in (Qualifier.L, Qualifier.D, Qualifier.DS):
                    wait = first_at(now, block.time.ms(v), period)
                    if wait:
                        nearest = min(nearest, last + wait)
    for block in program.blocks if s.stored else ():
        since = s.stored.get(block.order)
        if since is not None and block.qualifier.timed and s.mode[block.sequence] is Mode.RUN:
            wait = first_at((s.clock[block.sequence] - since) * period, block.time.ms(v), period)
            if wait:
                nearest = min(nearest, last + wait)
    for i, e in enumerate(program.edges):
        if e.kind == "HELD" and s.held_from[i] >= 0 and not v[e.slot]:
            assert e.time is not None
            nearest = min(nearest, s.held_from[i] + first_at(0, e.time(v), period))
    for pair, on in zip(program.pairs, s.pair_on):
        for mine, other in ((0, 1), (1, 0)):
            if v[pair.asked[mine]] and not v[pair.final[mine]] and on[other] >= 0 and not v[pair.asked[other]]:
                nearest = min(nearest, max(k, on[other] + 1 + pair.dead_scans))
    for kind, base in times.timers:
        on, q, pt, start, was = v[base], v[base + 2], v[base + 1], v[base + 4], v[base + 5]
        running = was and not q if kind == "TON" else q and (kind == "TP" or not on)
        if running:
            if times.elapsed_read:
                return k
            nearest = min(nearest, last + first_at(v[TIME] - start, pt, period))
    return max(k, nearest)


def jump(program: Program, s: Situation, to: int) -> None:
    """Goes on to scan `to` as if the scans before it had been run: times pass, nothing else changes."""
    scans = to - s.k
    for i, mode in enumerate(s.mode):
        if mode is Mode.RUN:
            s.clock[i] += scans
            set_times(program, s, i, program.period_ms)
    for on in s.pair_on:
        for mine in (0, 1):
            if on[mine] == s.k - 1:  # on in the last scan, before forces
                on[mine] = to - 1
    s.k = to
