"""Doing by rote what was done before: a machine goes through the same moves in every cycle.

In a plain machine file - one sequence, no texts but conditions, nothing that trips or holds - what a transition does to
steps and targets depends on nothing but where the sequence stands. The first time the phases run and say what it does;
from then on it is put down. Conditions, interlocks, devices and the clock are asked every time.

    Spot: the active steps, what is stored, which targets are on      Move: from spot to spot by transitions
"""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from dataclasses import dataclass, field
from typing import Any

from spokeshave.engine.program import FIRST_RECORDED, LinkedInterlock, LinkedStep, Program, Way
from spokeshave.engine.situation import Situation
from spokeshave.machine.device import NEVER

Key = tuple[tuple[int, ...], tuple[int, ...], tuple[bool, ...], frozenset[int] | None]
Driven = tuple[int, int, int]
"""A device and where its drives begin and end."""
MoveKey = int | tuple[Any, ...]


def is_plain(program: Program) -> bool:
    """Whether what a transition does follows from the spot alone."""
    return (
        program.transparent
        and not program.inward
        and not (
            program.restless
            or program.guarded
            or program.alarms
            or program.has_bodies
            or program.edges
            or program.pairs
        )
        and len(program.sequences) == 1
        and program.times.fixed
        and not (program.times.timers or program.times.fluid)
        and not any(b.rule.stored and b.rule.timed for b in program.blocks)
    )


@dataclass(slots=True)
class Spot:
    """Where a plain machine file can stand, and what has to be asked there."""

    active: tuple[int, ...]
    watched: frozenset[int]
    """Slots that conditions of the active steps and interlocks read."""
    clocks: tuple[tuple[int, int], ...]
    """(step, slot) of the step times they read."""
    choose: tuple[tuple[Callable[[list[Any]], Any], LinkedStep], ...] | None
    """None where transitions with several predecessors can clear."""
    locks: tuple[tuple[int, LinkedInterlock], ...]
    """The interlocks of outputs that are asked for."""
    turns: tuple[tuple[int, tuple[int, ...]], ...]
    """(step, scans after its entry in which a comparison of its time turns)."""
    windows: tuple[tuple[int, int], ...]
    """(step, scans after its entry in which it is late)."""
    times: tuple[tuple[int, int], ...]
    """(step, scans after its entry in which the time of an L or D block is reached)."""
    moves: dict[MoveKey, Move] = field(default_factory=dict)

    def phases_at(self, s: Situation) -> int:
        """The scan that has to be run because action control or a window asks for it."""
        entered, nearest = s.entered[0], s.act_at
        base = s.lost[0]
        for a, n in self.windows:
            late = base + entered[a] + n
            if s.k <= late < nearest:
                nearest = late
        return nearest

    def next_act(self, s: Situation) -> int:
        """The scan after `k` in which the time of an L or D block is reached."""
        entered, base, nearest = s.entered[0], s.lost[0], NEVER
        for a, n in self.times:
            if s.k < base + entered[a] + n < nearest:
                nearest = base + entered[a] + n
        return nearest

    def reached(self, s: Situation) -> tuple[bool, ...]:
        """Which of these times are reached in scan `k`."""
        return tuple([s.lost[0] + s.entered[0][a] + n <= s.k for a, n in self.times])

    def late_in(self, s: Situation) -> bool:
        """Whether a step becomes late in scan `k`, or could be."""
        return any(s.lost[0] + s.entered[0][a] + n <= s.k for a, n in self.windows)

    def next_turn(self, s: Situation, nearest: int) -> int:
        """The scan in which the time of a step turns a comparison, if that is before `nearest`."""
        entered, base = s.entered[0], s.lost[0]
        for a, scans in self.turns:
            began = base + entered[a]
            for n in scans:
                if began + n >= s.k:
                    if began + n < nearest:
                        nearest = began + n
                    break
        return nearest


@dataclass(slots=True)
class Move:
    """What transitions do from one spot: steps left and entered, values, what is stored, where it leads."""

    left: tuple[tuple[int, LinkedStep, int], ...]
    """(step, linked, scans it has to have lasted not to be left early)."""
    entered: tuple[int, ...]
    writes: tuple[tuple[int, Any], ...]
    columns: tuple[tuple[int, Any], ...]
    """What the trace shows of it."""
    stored: tuple[int, ...]
    gone: tuple[int, ...]
    pulse: bool
    """Whether action control has to look again in the next scan, since a pulse ends then."""
    written: frozenset[int]
    devices: tuple[Driven, ...]
    barred: bool
    """Whether an interlock may have a say in what goes out before or after."""
    to: Spot
    next_scans: tuple[int, int] | None
    """Scans from here to what `Spot.phases_at` and `Spot.next_turn` give, where all active steps have just been entered."""


def moves_key(chosen: list[Way], reached: tuple[bool, ...] | None) -> MoveKey:
    """Which transitions clear; and, where action control looks again, which of its times are reached."""
    if reached is not None:
        return (reached, *(w.order for w in chosen))
    return chosen[0].order if len(chosen) == 1 else tuple([w.order for w in chosen])


class ScanMemo:
    """The spots and moves of a program that were met so far. Forgotten when somebody changes a setting."""

    def __init__(self, program: Program) -> None:
        self.program = program
        self.plain = is_plain(program)
        self.spots: dict[Key, Spot] = {}
        self.driven: dict[int, tuple[Driven, ...]] = {}
        for i, d in enumerate(program.devices):
            for slot in d.drives:
                device = (i, d.first_drive, d.first_drive + len(d.drives))
                self.driven[slot] = (*self.driven.get(slot, ()), device)
        barred = sorted(final for _, final in program.outputs)
        self.behind_locks = tuple(dict.fromkeys(d for final in barred for d in self.driven.get(final, ())))

    def anew(self) -> ScanMemo:
        """Another one of the same program in which nothing is kept; this one stays as it is for runs that share it."""
        other = copy(self)
        other.spots = {}
        return other

    def spot(self, s: Situation) -> Spot:
        """Where a situation stands."""
        key = (tuple(s.active[0]), tuple(sorted(s.stored)), self._times_reached(s), s.written)
        found = self.spots.get(key)
        if found is None:
            found = self.spots[key] = self._look(s)
        return found

    def _times_reached(self, s: Situation) -> tuple[bool, ...]:
        """Which L and D blocks of active steps have reached their times."""
        clock, period = s.k - 1 - s.lost[0], self.program.period_ms
        return tuple(
            (clock - s.entered[0][a]) * period >= b.time.ms(s.v)
            for a in s.active[0]
            for b in self.program.sequences[0].steps[a].varying
            if b.rule.in_step is not None
        )

    def _look(self, s: Situation) -> Spot:
        program, v = self.program, s.v
        seq, times, period = program.sequences[0], program.times, program.period_ms
        steps = [seq.steps[a] for a in s.active[0]]
        reads = frozenset().union(*(x.reads for x in steps))
        joint = any(x.choose is None and all(p in s.active[0] for p in w.sources) for x in steps for w in x.ways)
        turns = []
        for x in steps:
            scans: set[int] = set()
            for c in times.comparisons.get(x.t, ()):
                limit = c.other(v)
                if limit is None:
                    continue
                value = int(limit)
                scans |= {-(-value // period)} if c.op in ("ge", "lt") else {value // period + 1}
                if c.op in ("eq", "ne"):
                    scans |= {-(-value // period)}
            if scans:
                turns.append((x.index, tuple(sorted(scans))))
        return Spot(
            tuple(s.active[0]),
            reads | program.watched,
            tuple((x.index, x.t) for x in steps if x.t in reads),
            None if joint else tuple((x.choose, x) for x in steps if x.choose is not None),
            tuple((i, lock) for i, lock in enumerate(program.interlocks) if v[lock.asked]),
            tuple(turns),
            tuple((x.index, -(-x.longest.ms(v) // period)) for x in steps if x.longest is not None),
            tuple(
                (x.index, -(-b.time.ms(v) // period)) for x in steps for b in x.varying if b.rule.in_step is not None
            ),
        )

    def learn(
        self, before: Spot, key: MoveKey, was: dict[int, int], on: frozenset[int], chosen: list[Way],
        s: Situation,
    ) -> None:  # fmt: skip
        """Keeps what a scan has just done that cleared `chosen`; `was` and `on` are what was stored and on before."""
        program, seq, v = self.program, self.program.sequences[0], s.v
        assert s.written is not None
        after = self.spot(s)
        left = tuple(
            (a, seq.steps[a], 0 if x is None else -(-x.ms(v) // program.period_ms))
            for w in chosen
            for a in w.sources
            for x in (seq.steps[a].shortest,)
        )
        entered = tuple(a for w in chosen for a in w.targets)
        flags = {seq.steps[a].x: False for a, _, _ in left} | {seq.steps[a].x: True for a in entered}
        values: dict[int, Any] = {**flags, seq.state: v[seq.state]}
        for n in s.written ^ on:
            target = program.targets[n]
            values[target.slot] = n in s.written
            if target.final >= 0:
                values[target.final] = n in s.written
        shown = [(slot - FIRST_RECORDED, x) for slot, x in values.items() if slot < program.end_recorded]
        barred = bool(before.locks or after.locks)
        devices = dict.fromkeys(d for slot in values for d in self.driven.get(slot, ()))
        if barred:
            devices |= dict.fromkeys(self.behind_locks)
        # A step that is left and entered at once shows no change.
        steady = {seq.steps[a].x - FIRST_RECORDED for a, _, _ in left if a in entered}
        pulse = any(b.rule.pulse for a in entered for b in seq.steps[a].varying)
        pulse |= any(linked.parting for _, linked, _ in left)
        must = after.phases_at(s)
        before.moves[key] = Move(
            left,
            entered,
            tuple(values.items()),
            tuple(sorted(c for c in shown if c[0] not in steady)),
            tuple(o for o in s.stored if o not in was),
            tuple(o for o in was if o not in s.stored),
            pulse,
            s.written,
            tuple(devices),
            barred,
            after,
            (must - (s.k - 1), after.next_turn(s, must) - (s.k - 1)) if set(entered) == set(after.active) else None,
        )
