"""A run one can stop, look at and take back: start, go on, one scan, back, hands and failures, edits while running."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from spokeshave.engine.hot_edit import carried_trace, carry_over
from spokeshave.engine.link import link
from spokeshave.engine.phases import StimulusError, check_value, sample
from spokeshave.engine.program import Program
from spokeshave.engine.scan import scan
from spokeshave.engine.scan_memo import ScanMemo
from spokeshave.engine.sensor_trace import begin_stretch, end_stretch
from spokeshave.engine.situation import Situation, event, show_times
from spokeshave.engine.skip_ahead import Look, SkipAhead
from spokeshave.engine.stimuli import Stimulus, in_time
from spokeshave.engine.trace import Trace
from spokeshave.language.checked import Checked
from spokeshave.language.functions import RunStop
from spokeshave.model.diagnostics import Diagnostic, Place, Severity
from spokeshave.model.project import Project

CHECKPOINT_SCANS = 2500
"""Scans that were run from one checkpoint to the next; those jumped over cost nothing to go through again."""

MOST_EDITS = 200
"""So many edits back the past can be looked at as it was."""


class Session:
    """A machine file in a run. `stopped` holds the located error that ended it, if one did.

    Everything done from outside is kept in `log` in the order of its time, with whether it was done by hand, so that
    any earlier scan can be reached again.
    """

    def __init__(
        self, project: Project | Program, stimuli: Iterable[Stimulus] = (), every_scan: bool = False,
        also: Sequence[Checked] = (),
    ) -> None:  # fmt: skip
        """A run of a machine file, or of one that is linked already. Raises `LinkError` for one that cannot run.

        `every_scan` switches skip-ahead off; `also` as in `link`.
        """
        self.every_scan = every_scan
        self.tells_moves = False
        """Whether `look` asks which steps came and left: then nothing is done by rote, which does not tell."""
        self.program: Program = project if isinstance(project, Program) else link(project, also)
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
        self.glances = 0
        """Scans that were seen to do nothing but take in what devices show."""
        self._memo = ScanMemo(self.program)
        self._next_checkpoint = CHECKPOINT_SCANS
        self._checkpoints = [(self.situation.copy(), 0)]
        self._before_edits: list[Session] = []
        """What ran before each edit, in the order of time: only to look at."""
        self._moment: tuple[Session, int] | None = None

    @property
    def plain(self) -> bool:
        """Whether scans may be done by rote (see `rote`)."""
        return self._memo.plain

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
        s, log, at = self.situation, self.log, self.next_stimulus
        due: list[Stimulus] = []
        if at < len(log):
            t = s.k * self.program.period_ms
            while at < len(log) and log[at][0].time_ms <= t:
                due.append(log[at][0])
                at += 1
            self.next_stimulus = at
            if self._memo.spots and any(st.do == "set" for st in due):
                self._memo = self._memo.anew()  # settings may be others now
        try:
            scan(self.program, s, due, self.trace)
        except RunStop as stop:
            self._stop(stop)
            return False
        self.executed += 1
        self._keep_checkpoint()
        return True

    def _keep_checkpoint(self) -> None:
        """Another checkpoint, if enough was run since the last."""
        if self.executed >= self._next_checkpoint:
            self._next_checkpoint = self.executed + CHECKPOINT_SCANS
            self._checkpoints.append((self.situation.copy(), self.next_stimulus))

    def _stop(self, stop: RunStop) -> None:
        number, line, column = stop.where
        place = self.program.places[number].spot(line, column)
        time = f"at {self.time_ms} ms"
        self.stopped = Diagnostic("run-stopped", Severity.ERROR, place, f"{stop.message}, {time}")

    def run_scans(self, count: int, look: Look | None = None) -> int:
        """Up to `count` scans, quiet ones jumped over; gives how many have passed.

        `look` is asked after each scan in which anything happened, and ends the run by saying TRUE. What it looks at by
        conditions has to be in `also` of `link`; step times are to be set with `set_times`.
        """
        start = self.k
        end = start + count
        s = self.situation
        while s.k < end and self.stopped is None:
            if self.every_scan or self.program.own or s.cold or self._stimulus_is_due():
                if self.scan() and look is not None and look(s):
                    break
            elif self._stretch(end, look):
                break
        return self.k - start

    def _stimulus_is_due(self) -> bool:
        log, at = self.log, self.next_stimulus
        return at < len(log) and log[at][0].time_ms <= self.time_ms

    def _stretch(self, end: int, look: Look | None) -> bool:
        """Scans with skip-ahead up to the next stimulus or checkpoint, at most to scan `end`. TRUE if `look` says so."""
        s, program = self.situation, self.program
        if self.next_stimulus < len(self.log):
            end = min(end, -(-self.log[self.next_stimulus][0].time_ms // program.period_ms))
        begin_stretch(program, s, self.trace)
        leap = SkipAhead(program, s, self.trace, self._memo)
        seen = False
        try:
            seen = leap.to(end, self._next_checkpoint - self.executed, look, self.tells_moves)
        except RunStop as stop:
            self._stop(stop)
        self.executed += leap.run
        self.glances += leap.glances
        end_stretch(program, s, self.trace, self.stopped is not None)
        self._keep_checkpoint()
        return seen

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
        self.trace.cut(situation.k)
        self.stopped = None
        self._moment = None
        self.run_scans(target - self.k)
        # What was done by hand in scans that were taken back is undone with them; what was planned will come again.
        self.log[self.next_stimulus :] = [entry for entry in self.log[self.next_stimulus :] if not entry[1]]

    def look_at(self, also: Sequence[Checked]) -> None:
        """From now on no scan is jumped over in which one of these conditions could turn; see `link`."""
        s = self.situation
        self.program = link(self.program.project, also)
        self._memo = ScanMemo(self.program)
        for i in range(len(self.program.devices)):  # what devices will show is planned by what is looked at
            s.dev_next[i], s.dev_ahead[i], s.dev_wake[i], s.dev_course[i] = s.k, (), s.k, None
        s.next_reading = min(s.dev_next, default=s.next_reading)

    def look_anew(self) -> None:
        """The next scan is run, whatever happens in it: for somebody who begins to look."""
        self.situation.calm = -1

    def run_to(self, end: int, holds: Callable[[Situation], bool]) -> bool:
        """On to scan `end`, or until something holds after a scan; what it looks at by conditions is told to `look_at`."""

        def look(s: Situation) -> bool:
            show_times(self.program, s)
            return holds(s)

        self.look_anew()
        while self.k < end and self.stopped is None:
            before = self.k
            self.run_scans(end - self.k, look)
            if self.k > before and look(self.situation):
                return True
        return False

    # -- the past

    def moment(self, k: int) -> tuple[Program, Situation]:
        """The situation after scan `k` as it was, with the program that ran then. Not for running on.

        It is worked out again from the last checkpoint before it: at most `CHECKPOINT_SCANS` scans. A scan that has not
        come yet gives the present; one before an edit gives the machine file of that time.
        """
        if k >= self.k - 1:
            return self.program, self.situation
        k = max(0, k)
        session = next((x for x in self._before_edits if k < x.k), self)
        program, situation = session._again(k)
        return program, situation

    def _again(self, k: int) -> tuple[Program, Situation]:
        """As `moment`, going on from the last one that was looked at where that is nearer."""
        situation, at = next((c for c in reversed(self._checkpoints) if c[0].k <= k), self._checkpoints[0])
        if self._moment is not None and situation.k <= self._moment[1] <= k:
            again = self._moment[0]
        else:
            again = self._beside(situation, at)
        again.run_scans(k + 1 - again.k)
        self._moment = (again, k)
        return again.program, again.situation

    def fork(self) -> Session:
        """Another run that goes on from here by itself; its trace begins now, and it cannot go back."""
        return self._beside(self.situation, self.next_stimulus)

    def _beside(self, situation: Situation, at: int) -> Session:
        """A run of the same program that goes on from a situation."""
        other = object.__new__(Session)
        other.tells_moves = self.tells_moves
        other.every_scan, other.program, other.log = self.every_scan, self.program, list(self.log)
        other.planned, other.situation, other.next_stimulus = self.planned, situation.copy(), at
        other.trace, other.stopped, other._memo = Trace(self.program), None, self._memo
        other.executed, other.glances, other._moment = 0, 0, None
        other._next_checkpoint, other._checkpoints, other._before_edits = 1 << 60, [], []
        return other

    # -- hands

    def do(self, what: str, target: str = "", value: object = None) -> None:
        """Does something from the next scan on (see `Stimulus`). Raises `StimulusError` for unknown names."""
        stimulus = Stimulus(self.time_ms, what, target, value)
        at = self.next_stimulus
        while at < len(self.log) and self.log[at][0].time_ms <= self.time_ms:
            at += 1
        if what in ("set", "force") and ("." not in target or target.lower() in self.program.slots):
            check_value(self.program, stimulus)
        else:  # tried out behind what will be done in the same scan
            due = [*(st for st, _ in self.log[self.next_stimulus : at]), stimulus]
            sample(self.program, self.situation.copy(), due)
        self.log.insert(at, (stimulus, True))
        self._moment = None

    # -- edits while running

    def adopt(self, project: Project) -> None:
        """Goes on with an edited machine file, between two scans. Raises `LinkError` and goes on with the old one.

        Values, active steps and stored actions are carried over by name; what is new starts as it would at first.
        """
        new = link(project)
        old, was = self.program, self.situation
        past = object.__new__(Session)
        past.__dict__ |= {**self.__dict__, "log": list(self.log), "_before_edits": [], "_moment": None}
        del past.trace  # the one that goes on has all of it
        now = Situation(new)
        now.k, now.cold = was.k, was.cold
        carry_over(old, was, new, now)
        self.program, self.situation, self._memo = new, now, ScanMemo(new)
        self.trace = carried_trace(self.trace, new)
        event(now, "edit", project.name, Place())
        self._checkpoints = [(now.copy(), self.next_stimulus)]
        self._before_edits = [*self._before_edits[-MOST_EDITS:], past]
        self._moment = None


__all__ = ["Session", "StimulusError"]
