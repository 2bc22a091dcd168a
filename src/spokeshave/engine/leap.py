"""Running a stretch with skip-ahead: from each scan that does something to the next one that can.

scan ──> what time alone does next ──> jump ──> devices show something
  ^                                                    │
  └──── something follows <── does anybody look? <─────┘── no: put down, jump on
"""

from __future__ import annotations

from spokeshave.engine.glance import nothing_follows
from spokeshave.engine.phases import forget_moves, plan_reading
from spokeshave.engine.program import Program
from spokeshave.engine.scan import scan
from spokeshave.engine.situation import Situation
from spokeshave.engine.skip import jump, next_of_time
from spokeshave.engine.trace import Trace

NOT_KNOWN = object()


class Leap:
    """Counts what it did: scans that were run, and scans in which only inputs changed."""

    def __init__(self, program: Program, s: Situation, trace: Trace) -> None:
        self.program, self.s, self.trace = program, s, trace
        self.run = self.glances = 0
        self._watching: frozenset[int] | None = None

    def to(self, end: int, most: int) -> None:
        """On to scan `end`, or until `most` scans were run. Raises `RunStop` as `scan` does; no stimulus may be due."""
        program, s, trace = self.program, self.s, self.trace
        can_glance = not (program.restless or s.forces)
        wake, quiet, unseen = 0, False, NOT_KNOWN
        while s.k < end and self.run < most:
            if can_glance and s.k < wake and not s.bodies and self._nothing_but_inputs(quiet):
                self.glances += 1
                quiet = True
            else:
                scan(program, s, (), trace)
                self.run += 1
                self._watching, wake = None, 0
                before, unseen = unseen, program.times.unseen(s.v)
                quiet = not trace.stirred and unseen == before
            if wake <= s.k or not program.times.fixed:
                wake = next_of_time(program, s)
            if quiet:
                to = wake if wake < s.next_reading else s.next_reading
                if to > s.k:
                    jump(program, s, to if to < end else end)

    def _nothing_but_inputs(self, quiet: bool) -> bool:
        """Whether scan `k` does nothing but take in what devices show; if so it is put down, else nothing has happened.

        After a `quiet` scan only what reads the changed inputs can be different.
        """
        program, s = self.program, self.s
        k, v, changed = s.k, s.v, s.changed
        while s.next_reading <= k:
            dev_next = s.dev_next
            i = dev_next.index(s.next_reading)
            d = program.devices[i]
            values = s.dev_ahead[i] or d.device.sense(s.dev_state[i], k)
            for index, slot in d.sensors:
                value = values[index]
                if v[slot] != value and slot not in s.taken:
                    v[slot] = value
                    changed.append(slot)
            plan_reading(s, d, i)
            s.next_reading = min(dev_next)
        if not quiet or not self._watched().isdisjoint(changed):
            if not nothing_follows(program, s):
                return False
            if s.moved:
                s.moved = False
                forget_moves(s)
        self.trace.record_inputs(k, changed, v)
        jump(program, s, k + 1)
        return True

    def _watched(self) -> frozenset[int]:
        """Slots that somebody looks at in this situation."""
        if self._watching is None:
            program = self.program
            self._watching = program.watched.union(
                *(q.steps[a].reads for q, active in zip(program.sequences, self.s.active) for a in active)
            )
        return self._watching
