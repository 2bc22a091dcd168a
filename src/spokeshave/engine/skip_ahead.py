"""Running a stretch with skip-ahead: from each scan that does something to the next one that can.

scan ──> what time alone does next ──> jump ──> devices show something
  ^                                                    │
  └──── something follows <── does anybody look? <─────┘── no: put down, jump on
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from spokeshave.engine.evolve import choose, in_order
from spokeshave.engine.finish import outputs
from spokeshave.engine.next_change import jump, next_of_time
from spokeshave.engine.phases import forget_moves, read_devices, turn_device
from spokeshave.engine.program import OVERFLOWS, Program, Way
from spokeshave.engine.quiescence import nothing_follows
from spokeshave.engine.scan import scan
from spokeshave.engine.scan_memo import Driven, Move, ScanMemo, Spot, moves_key
from spokeshave.engine.situation import Situation
from spokeshave.engine.trace import Trace
from spokeshave.language.functions import RunStop
from spokeshave.machine.device import NEVER

Look = Callable[[Situation], bool]


class SkipAhead:
    """Counts what it did: scans that were run or done by rote, and scans in which only inputs changed."""

    def __init__(self, program: Program, s: Situation, trace: Trace, rote: ScanMemo) -> None:
        self.program, self.s, self.trace, self.rote = program, s, trace, rote
        self.run = self.glances = 0
        self.look: Look | None = None

    def to(self, end: int, most: int, look: Look | None = None, tells_moves: bool = False) -> bool:
        """On to scan `end`, until `most` scans were run, or until `look`, asked after each scan in which anything
        happened, says so: then TRUE. With `tells_moves` it may ask which steps came and left. Raises `RunStop` as `scan`
        does; no stimulus may be due.
        """
        self.look = look
        if self.rote.plain and not (tells_moves or self.s.forces or self.s.by_hand or self.s.cold):
            return self._by_rote(end, most)
        return self._by_phases(end, most)

    def _by_phases(self, end: int, most: int) -> bool:
        program, s, trace = self.program, self.s, self.trace
        can_glance = not (s.forces or s.by_hand)
        idle = not program.runs_texts
        wake, quiet, unseen = 0, s.calm == s.k, program.times.unseen(s.v)
        if quiet:
            wake = self._jump(next_of_time(program, s), end)
        while s.k < end and self.run < most:
            if can_glance and (quiet or idle) and s.k < wake and not s.bodies and self._nothing_but_inputs():
                self.glances += 1
                quiet = True
            else:
                scan(program, s, (), trace)
                self.run += 1
                wake = 0
                before, unseen = unseen, program.times.unseen(s.v)
                quiet = not trace.stirred and unseen == before
            s.calm = s.k if quiet else -1
            if self.look is not None and self.look(s):
                return True
            if (quiet or (can_glance and idle)) and (wake <= s.k or not program.times.fixed):
                wake = next_of_time(program, s)
            if quiet:
                wake = self._jump(wake, end)
        return False

    def _jump(self, wake: int, end: int) -> int:
        """Jumps over the scans before `wake` in which no device shows anything either, at most to `end`."""
        s = self.s
        to = min(wake, s.next_reading, end)
        if to > s.k:
            jump(self.program, s, to)
            s.calm = to
        return wake

    def _nothing_but_inputs(self) -> bool:
        """Whether scan `k` does nothing but take in what devices show; if so it is put down, else nothing has happened."""
        program, s = self.program, self.s
        read_devices(program, s)
        if s.events or not program.inward.isdisjoint(s.changed):
            return False
        if not program.always_read.isdisjoint(s.changed):
            return False  # what runs in every scan, and has done nothing, sees something else now
        try:
            if not nothing_follows(program, s) or s.v[OVERFLOWS]:
                s.v[OVERFLOWS].clear()
                return False
        except RunStop:
            return False  # the scan stops there too, and tells it
        if s.moved:
            s.moved = False
            forget_moves(s)
        self.trace.record_inputs(s.k, s.changed, s.v)
        jump(program, s, s.k + 1)
        return True

    def _by_rote(self, end: int, most: int) -> bool:
        """A plain machine file: see `rote`. Every scan that is not known by rote is run."""
        program, s, trace, rote = self.program, self.s, self.trace, self.rote
        changed = s.changed
        spot: Spot | None = None
        must, wake, quiet = 0, 0, False
        look, looked = self.look, s.k
        look_at_inputs = look if program.looked_at else None
        while True:
            if look is not None and not quiet and s.k > looked and look(s):
                return True
            if s.k >= end or self.run >= most:
                return False
            k = looked = s.k
            chosen: list[Way] = []
            asked = False
            due = k >= s.act_at
            if spot is not None and (k < must or (due and not spot.late_in(s))):
                if s.next_reading <= k:
                    read_devices(program, s)
                nobody_looks = quiet and not s.events and k < wake and not due and spot.watched.isdisjoint(changed)
                if not nobody_looks:
                    chosen, asked = self._ask(spot), True
                if chosen or due:
                    known = spot.moves.get(moves_key(chosen, spot.reached(s) if due else None))
                    if known is not None and self._move(known):
                        self.run += 1
                        spot, quiet = known.to, False
                        if known.next_scans is not None:
                            must, wake = k + known.next_scans[0], k + known.next_scans[1]
                        else:
                            must = spot.phases_at(s)
                            wake = spot.next_turn(s, must)
                        continue
                elif s.events:
                    pass  # a device came to harm, which a whole scan tells
                elif nobody_looks or not (spot.locks and self._lock_turns(spot)):
                    if changed:
                        trace.record_inputs(k, changed, s.v)
                    self.glances += 1
                    quiet = True
                    s.k = k + 1
                    if look_at_inputs is not None and look_at_inputs(s):
                        return True
                    if k >= wake:
                        wake = spot.next_turn(s, must)
                    to = wake if wake < s.next_reading else s.next_reading
                    if to > s.k:
                        s.k = to if to < end else end
                    continue
                else:
                    self._go_out(True, rote.behind_locks, ())
                    self.run += 1
                    quiet = False
                    if k >= wake:
                        wake = spot.next_turn(s, must)
                    continue
            reached = spot.reached(s) if spot is not None and due else None
            was, on, events = dict(s.stored), s.written, len(trace.events)
            scan(program, s, (), trace)
            self.run += 1
            s.moved = False
            forget_moves(s)
            if spot is not None and asked and (chosen or due) and on is not None and len(trace.events) == events:
                rote.learn(spot, moves_key(chosen, reached), was, on, chosen, s)
            spot, quiet = rote.spot(s), False
            must = spot.phases_at(s)
            wake = spot.next_turn(s, must)

    def _ask(self, spot: Spot) -> list[Way]:
        """The transitions that clear in scan `k`."""
        s, program = self.s, self.program
        v = s.v
        if spot.clocks:
            clock = s.k - s.lost[0]
            for a, slot in spot.clocks:
                v[slot] = (clock - s.entered[0][a]) * program.period_ms
        if spot.choose is None:
            return choose(program.sequences[0], s.active[0], v)
        if len(spot.choose) == 1:
            test, step = spot.choose[0]
            n = test(v)
            return [step.ways[n]] if n >= 0 else []
        chosen = [step.ways[n] for test, step in spot.choose if (n := test(v)) >= 0]
        if len(chosen) > 1:
            chosen.sort(key=in_order)
        return chosen

    def _lock_turns(self, spot: Spot) -> bool:
        """Whether an interlock lets something go out that it did not before, or the other way round."""
        v, blocked = self.s.v, self.s.blocked
        for i, lock in spot.locks:  # noqa: SIM110 (asked in most scans)
            if bool(lock.condition(v)) is (i in blocked):
                return True
        return False

    def _move(self, move: Move) -> bool:
        """Does scan `k` by rote, unless something is late or early about it."""
        s, program = self.s, self.program
        k, v, entered = s.k, s.v, s.entered[0]
        clock = k - s.lost[0]
        for a, step, least in move.left:
            if clock - entered[a] < least or v[step.late]:
                return False
        for a, step, _ in move.left:
            v[step.t] = (clock - entered[a]) * program.period_ms
        for a in move.entered:
            entered[a] = clock
            v[program.sequences[0].steps[a].t] = 0
        for slot, value in move.writes:
            v[slot] = value
        s.active[0][:] = move.to.active
        for order in move.gone:
            del s.stored[order]
        for order in move.stored:
            s.stored[order] = clock
        s.written = move.written
        s.act_at = k + 1 if move.pulse else move.to.next_act(s) if move.to.times else NEVER
        self._go_out(move.barred, move.devices, move.columns)
        return True

    def _go_out(self, barred: bool, driven: tuple[Driven, ...], columns: tuple[tuple[int, Any], ...]) -> None:
        """Phases 9 and 10 of scan `k`: what interlocks let out, the devices it drives, and what the trace shows."""
        s, program = self.s, self.program
        if barred:
            outputs(program, s)
        before = s.drives
        if driven and (now := program.drives(s.v)) != before:
            s.drives = now
            for i, first, last in driven:
                if before[first:last] != now[first:last]:
                    turn_device(program, s, i)
            s.next_reading = min(s.dev_next)
        self.trace.record_move(s, columns)
        s.k += 1
