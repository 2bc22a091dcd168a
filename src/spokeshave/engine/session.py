"""A run one can stop, look at and take back: start, go on, one scan, back, hands and failures, edits while running."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from spokeshave.engine.link import link
from spokeshave.engine.phases import StimulusError, sample
from spokeshave.engine.program import Program
from spokeshave.engine.scan import scan
from spokeshave.engine.situation import Situation, event, set_state
from spokeshave.engine.skip import jump, next_scan
from spokeshave.engine.stimuli import Stimulus, in_time
from spokeshave.engine.trace import Trace
from spokeshave.language.blocks import BLOCKS
from spokeshave.language.functions import RunStop
from spokeshave.model.diagnostics import Diagnostic, Place, Severity
from spokeshave.model.project import Project

CHECKPOINT_SCANS = 1000


class Session:
    """A machine file in a run. `stopped` holds the located error that ended it, if one did.

    Everything done from outside is kept in `log` in the order of its time, with whether it was done by hand, so that
    any earlier scan can be reached again.
    """

    def __init__(self, project: Project, stimuli: Iterable[Stimulus] = (), every_scan: bool = False) -> None:
        """Raises `LinkError` for a machine file that cannot run. `every_scan` switches skip-ahead off."""
        self.every_scan = every_scan
        self.program: Program = link(project)
        self.planned = in_time(list(stimuli))
        self.reset()

    def reset(self) -> None:
        """Back to before scan 0; what was planned will be done again, what was done by hand is forgotten."""
        self.situation = Situation(self.program)
        self.trace = Trace(self.program)
        self.log: list[tuple[Stimulus, bool]] = [(p, False) for p in self.planned]
        self.next_stimulus = 0
        self.stopped: Diagnostic | None = None
        self.executed = 0
        """Scans that were run, not jumped over."""
        self._steady: object = None
        self._checkpoints = [(self.situation.copy(), 0)]

    # -- time

    @property
    def k(self) -> int:
        """The scan that comes next."""
        return self.situation.k

    @property
    def time_ms(self) -> int:
        return self.k * self.program.period_ms

    def scan(self) -> bool:
        """One scan; FALSE if the run has ended with an error."""
        if self.stopped is not None:
            return False
        s, log = self.situation, self.log
        at, t = self.next_stimulus, s.k * self.program.period_ms
        end = at
        while end < len(log) and log[end][0].time_ms <= t:
            end += 1
        self.next_stimulus = end
        try:
            scan(self.program, s, [st for st, _ in log[at:end]], self.trace)
        except RunStop as stop:
            self._stop(stop)
            return False
        self.executed += 1
        if s.k >= self._checkpoints[-1][0].k + CHECKPOINT_SCANS:
            self._checkpoints.append((s.copy(), end))
        return True

    def _jump(self, end: int) -> None:
        """After a quiet scan, goes on to the next scan in which anything can change, at most to `end`."""
        s, program = self.situation, self.program
        before, self._steady = self._steady, program.times.steady(s.v)
        if self._steady != before or self.trace.stirred:
            return
        to = min(end, next_scan(program, s))
        if self.next_stimulus < len(self.log):
            to = min(to, -(-self.log[self.next_stimulus][0].time_ms // program.period_ms))
        if to > s.k:
            jump(program, s, to)
            self.trace.scan_count = to

    def _stop(self, stop: RunStop) -> None:
        number, line, column = stop.where
        place = self.program.places[number].spot(line, column)
        time = f"at {self.time_ms} ms"
        self.stopped = Diagnostic("run-stopped", Severity.ERROR, place, f"{stop.message}, {time}")

    def run_scans(self, count: int) -> int:
        """Up to `count` scans, quiet ones jumped over; gives how many have passed."""
        start = self.k
        end = start + count
        self._steady = None  # what single scans did in between is not known here
        while self.k < end:
            if not self.scan():
                break
            if not self.every_scan:
                self._jump(end)
        return self.k - start

    def run_for(self, ms: int) -> int:
        """All scans with `t < now + ms`."""
        period = self.program.period_ms
        return self.run_scans(-(-(self.time_ms + ms) // period) - self.k)

    def run_until(self, reached: Callable[[], bool], most_ms: int) -> bool:
        """Scans until `reached()` holds after one of them, at most `most_ms`; tells whether it did."""
        for _ in range(-(-most_ms // self.program.period_ms)):
            if not self.scan():
                return False
            if reached():
                return True
        return False

    def run_to_step_change(self, most_ms: int = 3_600_000) -> bool:
        """Scans until an active step of any sequence changes."""
        before = [list(a) for a in self.situation.active]
        return self.run_until(lambda: self.situation.active != before, most_ms)

    def back(self, scans: int = 1) -> None:
        """Takes back scans by running again from a checkpoint; not further than the last edit."""
        target = max(self._checkpoints[0][0].k, self.k - scans)
        while self._checkpoints[-1][0].k > target:
            self._checkpoints.pop()
        situation, at = self._checkpoints[-1]
        self.situation, self.next_stimulus = situation.copy(), at
        self._steady = None
        self.trace.cut(situation.k)
        self.stopped = None
        self.run_scans(target - self.k)
        # What was done by hand in scans that were taken back is undone with them; what was planned will come again.
        self.log[self.next_stimulus :] = [entry for entry in self.log[self.next_stimulus :] if not entry[1]]

    # -- hands

    def do(self, what: str, target: str = "", value: object = None) -> None:
        """Does something from the next scan on (see `Stimulus`). Raises `StimulusError` for unknown names."""
        probe = self.situation.copy()
        stimulus = Stimulus(self.time_ms, what, target, value)
        sample(self.program, probe, [stimulus])
        at = self.next_stimulus
        while at < len(self.log) and self.log[at][0].time_ms <= self.time_ms:
            at += 1
        self.log.insert(at, (stimulus, True))

    # -- edits while running

    def adopt(self, project: Project) -> None:
        """Goes on with an edited machine file, between two scans. Raises `LinkError` and goes on with the old one.

        Values, active steps and stored actions are carried over by name; what is new starts as it would at first.
        """
        new = link(project)
        old, was = self.program, self.situation
        now = Situation(new)
        now.k, now.cold = was.k, was.cold
        _carry_values(old, was, new, now)
        _carry_sequences(old, was, new, now)
        _carry_devices(old, was, new, now)
        self.program, self.situation = new, now
        self._steady = None
        trace = Trace(new)
        _carry_trace(self.trace, trace)
        self.trace = trace
        event(now, "edit", project.name, Place())
        self._checkpoints = [(now.copy(), self.next_stimulus)]


def _carry_values(old: Program, was: Situation, new: Program, now: Situation) -> None:
    for name, slot in new.slots.items():
        if name in old.slots and old.types[name] is new.types[name]:
            before = old.project.signal(name)
            after = new.project.signal(name)
            assert before is not None and after is not None
            if before.start == after.start or after.cls.value != "setting":
                now.v[slot] = was.v[old.slots[name]]
                now.v[new.asked[slot]] = was.v[old.asked[old.slots[name]]]
            if old.slots[name] in was.taken:
                now.taken.add(slot)
            if old.slots[name] in was.forces:
                now.forces[slot] = was.forces[old.slots[name]]
    for i, e in enumerate(new.edges):
        # An edge of an edited text starts from its present value, so that the edit itself makes no pulse.
        now.edge_was[i] = bool(e.operand(now.v))
        now.held_from[i] = now.k if now.edge_was[i] else -1
    if [e.kind for e in old.edges] == [e.kind for e in new.edges]:
        now.edge_was, now.held_from = list(was.edge_was), list(was.held_from)
        for before_edge, edge in zip(old.edges, new.edges):
            now.v[edge.slot] = was.v[before_edge.slot]
    for name, (kind, base) in new.instances.items():
        if old.instances.get(name, ("", 0))[0] == kind:
            size = len(BLOCKS[kind].members()) + len(BLOCKS[kind].memory)
            start = old.instances[name][1]
            now.v[base : base + size] = was.v[start : start + size]
    if [p.names for p in old.pairs] == [p.names for p in new.pairs]:
        now.pair_on = [list(x) for x in was.pair_on]
    now.alarms = dict(was.alarms)


def _carry_sequences(old: Program, was: Situation, new: Program, now: Situation) -> None:
    olds = {q.name.lower(): q for q in old.sequences}
    for q in new.sequences:
        before = olds.get(q.name.lower())
        if before is None:
            continue
        i, j = q.index, before.index
        index = {s.name.lower(): s for s in q.steps}
        kept = [(before.steps[a], index[before.steps[a].name.lower()]) for a in was.active[j]
                if before.steps[a].name.lower() in index]  # fmt: skip
        now.clock[i], now.mode[i] = was.clock[j], was.mode[j]
        now.late_hold[i] = was.late_hold[j]
        for o in before.steps:
            n = index.get(o.name.lower())
            if n is not None:
                now.v[n.t], now.v[n.late] = was.v[o.t], was.v[o.late]
        if kept:
            for s in q.steps:
                now.v[s.x] = False
            now.active[i], now.entered[i], now.came[i] = [], {}, []
            for o, n in kept:
                now.active[i].append(n.index)
                now.entered[i][n.index] = was.entered[j][o.index]
                now.v[n.x] = True
                if o.index in was.came[j]:
                    now.came[i].append(n.index)
        for b in old.blocks:
            if b.sequence == j and b.order in was.stored:
                step = (b.order >> 16) & 0xFFFFFF
                if any(s.number == step for s in q.steps):
                    now.stored[(i << 40) + (b.order & ((1 << 40) - 1))] = was.stored[b.order]
        set_state(new, now, i)
    if [b.order for b in old.blocks] == [b.order for b in new.blocks]:
        now.spent, now.kept = set(was.spent), [list(x) for x in was.kept]
    if [i.output for i in old.interlocks] == [i.output for i in new.interlocks]:
        now.blocked = set(was.blocked)
    names = {t.name: t.index for t in old.trips}
    for t in new.trips:
        if t.name in names:
            now.trip_on[t.index] = was.trip_on[names[t.name]]
            now.effected[t.index] = set(was.effected[names[t.name]])
            if names[t.name] in was.raised:
                now.raised.add(t.index)


def _carry_devices(old: Program, was: Situation, new: Program, now: Situation) -> None:
    index = {(d.name.lower(), d.device.kind): i for i, d in enumerate(old.devices)}
    drives: list[object] = []
    for i, d in enumerate(new.devices):
        j = index.get((d.name.lower(), d.device.kind))
        same = j is not None and old.devices[j].device.value == d.device.value
        # A device with other parameters begins anew from now; its failures and the operator's hand stay.
        now.dev_state[i] = was.dev_state[j] if j is not None and same else (now.k, *now.dev_state[i][1:])
        if j is not None:
            now.dev_hand[i], now.dev_failed[i] = was.dev_hand[j], was.dev_failed[j]
        now.dev_next[i] = now.k
        drives += [None] * len(d.drives)
    # No drive matches, so that every device is turned to its drives at the end of the next scan.
    now.drives = tuple(drives)


def _carry_trace(old: Trace, new: Trace) -> None:
    """The trace goes on under the new columns; columns that are gone are dropped."""
    index = {r.name.lower(): i for i, r in enumerate(new.recorded)}
    to = [index.get(r.name.lower(), -1) for r in old.recorded]
    for k, column, value in zip(old.scans, old.columns, old.values):
        if to[column] >= 0:
            new.scans.append(k)
            new.columns.append(to[column])
            new.values.append(value)
            new._last[to[column]] = value
    new.events = list(old.events)
    new.scan_count = old.scan_count
    if len(old.motions) == len(new.motions):
        new.motions = old.motions


__all__ = ["Session", "StimulusError"]
