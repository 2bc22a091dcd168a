"""Runs scenarios: the rows are done in their order, watchers give the verdicts; each choice of a list is a run."""

from __future__ import annotations

from dataclasses import dataclass, field

from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation, show_times
from spokeshave.engine.stimuli import Stimulus
from spokeshave.language.functions import RunStop
from spokeshave.language.scenario_lists import Case, cases_of
from spokeshave.language.syntax import Problem
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.expectations import Alarms, Outcome, ValueFrom, Verdict, Watcher, is_number
from spokeshave.verify.protection import ActedWatch
from spokeshave.verify.scenario_language import Checked, check_sheet, scenario_problems
from spokeshave.verify.scenario_names import way_to
from spokeshave.verify.script import Script, with_parameters
from spokeshave.verify.sheet_edges import SheetEdges
from spokeshave.verify.watchers import WATCHERS


@dataclass(frozen=True, slots=True)
class Run:
    """One run of a scenario, for one choice of its lists (`label`, such as `T = 3 s`).

    `project` is what ran, with the device parameters the scenario gives; `done` everything done in it; `scans` its length.
    Times of verdicts count from `start_ms`. `acted` are the rules that came into play, and when.
    """

    label: str
    verdicts: tuple[Verdict, ...]
    project: Project
    done: tuple[Stimulus, ...]
    scans: int
    start_ms: int = 0
    stopped: str = ""
    acted: tuple[tuple[tuple[str, str], int], ...] = ()
    visited: frozenset[str] = field(default=frozenset(), compare=False, repr=False)
    """The steps that were entered, as `Sequence.Step`."""
    lanes: tuple[tuple[str, str], ...] | None = field(default=None, compare=False, repr=False)
    """What accepted runs are compared by, where it was worked out already (see `accepted.lanes_of`)."""
    live: Session | None = field(default=None, compare=False, repr=False)
    lost: bool = False
    """Whether the line to a controller outside was lost, which is what `stopped` says then."""
    undone: tuple[tuple[int, str], ...] = field(default=(), compare=False)
    """Lines and texts of the rows of deeds whose moment did not come."""

    @property
    def outcome(self) -> Outcome:
        outcomes = {v.outcome for v in self.verdicts}
        if self.lost:
            return Outcome.LINE_LOST
        if self.stopped or Outcome.FAIL in outcomes or not outcomes:
            return Outcome.FAIL
        return Outcome.NOT_REACHED if Outcome.NOT_REACHED in outcomes else Outcome.PASS

    def session(self) -> Session:
        """The run itself, for looking at it; run again from what was done where it came from another process."""
        replay = Replay(self)
        while replay.advance(self.scans):
            pass
        return replay.session


class Replay:
    """A run on its way to be looked at: run again from what was done in it, unless it is here already."""

    def __init__(self, run: Run) -> None:
        self._to = run.scans if run.live is None else 0
        self.session = Session(run.project, run.done) if run.live is None else run.live

    @property
    def part(self) -> float:
        """How much is done, 0 to 1."""
        return min(1.0, self.session.k / self._to) if self._to else 1.0

    def advance(self, scans: int) -> bool:
        """Runs on for about so many scans; FALSE when the run is whole."""
        left = self._to - self.session.k
        if left > 0 and self.session.stopped is None:
            self.session.run_scans(min(left, scans))
        return self.session.k < self._to and self.session.stopped is None


@dataclass(frozen=True, slots=True)
class Result:
    """What came of a scenario: its runs, or the `problems` that keep it from running. `project` is the machine file."""

    scenario: Scenario
    runs: tuple[Run, ...]
    problems: tuple[Problem, ...] = ()
    project: Project = field(default_factory=Project, compare=False, repr=False)

    @property
    def outcome(self) -> Outcome:
        """The worst of the runs; a scenario that could not be run fails."""
        outcomes = {r.outcome for r in self.runs}
        if self.problems or Outcome.FAIL in outcomes or not outcomes:
            return Outcome.FAIL
        if Outcome.LINE_LOST in outcomes:
            return Outcome.LINE_LOST
        return Outcome.NOT_REACHED if Outcome.NOT_REACHED in outcomes else Outcome.PASS

    @property
    def verdicts(self) -> tuple[Verdict, ...]:
        """Those of all runs."""
        return tuple(v for r in self.runs for v in r.verdicts)

    @property
    def stopped(self) -> str:
        """The located error that ended a run, if one did."""
        return next((r.stopped for r in self.runs if r.stopped), "")

    @property
    def worst_run(self) -> Run | None:
        """The first run that did not pass, or the first."""
        return next((r for r in self.runs if r.outcome is not Outcome.PASS), self.runs[0] if self.runs else None)

    @property
    def undone(self) -> tuple[tuple[int, str], ...]:
        """Lines and texts of the rows of deeds that were done in no run: what they are there for is not shown."""
        if not self.runs:
            return ()
        lines = set.intersection(*({line for line, _ in r.undone} for r in self.runs))
        return tuple((line, text) for line, text in self.runs[0].undone if line in lines)

    @property
    def session(self) -> Session | None:
        """The run of `worst_run`."""
        return self.worst_run.session() if self.worst_run is not None else None

    @property
    def worst(self) -> Verdict | None:
        """The first verdict that is not a pass, or None."""
        return next((v for v in self.verdicts if v.outcome is not Outcome.PASS), None)


class CaseRun:
    """One run on its way. It begins where a mark of another scenario is reached, if the scenario says so.

    With `verdicts_only` neither the rules that come into play are noted nor numbers that devices give in between.
    """

    def __init__(
        self, project: Project, scenario: Scenario, case: Case, every_scan: bool = False, verdicts_only: bool = False
    ) -> None:
        self.case = case
        self.checked = check_sheet(project, case.text)
        way = way_to(project, self.checked.sheet.start, scenario.name)
        self.ahead: list[tuple[Checked, str]] = [(check_sheet(project, s.text), mark) for s, mark in way]
        """Scenarios that are played up to a mark; nothing is expected there."""
        self.project = project
        for checked in (*(c for c, _ in self.ahead), self.checked):
            self.project = with_parameters(self.project, checked.sheet.given)
        looked_at = [t for c, _ in self.ahead for row in c.sheet.deeds for t in c.conditions[row.line]]
        self._told: set[int] = set()
        """Rows about a number of the machine, which the trace tells whole: nobody looks at it as it changes."""
        if not every_scan:
            rows = (r for r in self.checked.sheet.expectations if r.kind == "value_from")
            self._told = {r.line for r in rows if is_number(self.checked.conditions[r.line][0], project)}
        for line, trees in self.checked.conditions.items():
            looked_at += trees[1:] if line in self._told else trees
        self.session = Session(self.project, every_scan=every_scan, also=looked_at)
        self.session.tells_moves = True
        self.session.trace.keeps_numbers = not verdicts_only or bool(self._told)
        self.verdicts_only = verdicts_only
        self.seen_to = 0
        """The scan behind the last one that was looked at."""
        self.until = 0
        """The scan to which is run."""
        self.slack_ms = 0
        """What watchers let pass, see `Watcher.slack_ms`."""
        self.acted: ActedWatch | None = None
        self.watchers: list[Watcher] = []
        self._looking: list[Watcher] = []
        """Those that are not decided yet."""
        self._timed: list[Watcher] = []
        """Those that want to look at some time even if nothing happens."""
        self.edges = SheetEdges((), self.session.program)
        self.stopped = ""
        period = project.period_ms
        self.lengths = [-(-c.sheet.length_ms // period) for c in (*(c for c, _ in self.ahead), self.checked)]
        self.at = 0
        self._segment(None)

    @property
    def scans(self) -> int:
        """How many scans are still to run, at most, with those that were."""
        return self.at + sum(self.lengths)

    def _segment(self, before: Script | None) -> None:
        """Begins the next part: up to a mark, or the scenario itself."""
        checked = self.ahead[0][0] if self.ahead else self.checked
        self.script = Script(self.session, checked)
        if before is not None:  # what is still held down is let go of in time
            shift = self.script.start_ms - before.start_ms
            self.script.later = [(t - shift, what, name, value) for t, what, name, value in before.later]
        self.script.begin()
        if not self.ahead:
            self._watch()

    def _watch(self) -> None:
        program = self.session.program
        if not self.verdicts_only:
            self.acted = ActedWatch(program, self.script.start_ms)
        self.edges = SheetEdges(self.checked.edges, program)
        for row in self.checked.sheet.expectations:
            watcher = WATCHERS[row.kind](row, program, self.checked.conditions[row.line])
            watcher.start_ms, watcher.marks = self.script.start_ms, self.script.marks
            watcher.slack_ms = self.slack_ms
            if isinstance(watcher, ValueFrom) and row.line in self._told:
                watcher.trace = self.session.trace
            self.watchers.append(watcher)
        self.session.look_anew()
        self._looking = [
            w for w in self.watchers if not isinstance(w, Alarms)
        ]  # those are read from the trace at the end
        self._timed = [w for w in self._looking if type(w).due is not Watcher.due]

    def advance(self, scans: int) -> bool:
        """Runs up to that many scans; FALSE when there is nothing more to run."""
        session = self.session
        end = session.k + scans
        while session.k < end:
            if not self.lengths or self.lengths[0] <= 0:
                return self._end()
            try:
                self._before_scan()
            except RunStop as stop:  # what a row waits for has no value
                row = self.script.rows[self.script.at]
                at = f"{session.time_ms - self.script.start_ms} ms"
                self.stopped = f"row {row.line}, column {stop.where[2]}: {stop.message}, at {at}"
                self.lengths = []
                return False
            begin = session.k
            self.until = max(begin + 1, min(end, begin + self.lengths[0], self._due()))
            session.run_scans(self.until - begin, self._look)
            if session.stopped is not None:
                self.stopped = str(session.stopped)
                self.lengths = []
                return False
            if self.seen_to < session.k:
                self._see(session.situation)
            self.at += session.k - begin
            self.lengths[0] -= session.k - begin
        return self.lengths[0] > 0 or self._end()

    def _before_scan(self) -> None:
        """What is due in the next scan; where the mark it begins at is reached, the scenario itself begins."""
        self.script.before_scan()
        if self.ahead and self.ahead[0][1].lower() in self.script.marks:
            self.ahead.pop(0)
            self.lengths.pop(0)
            self._segment(self.script)
            self.script.before_scan()

    def _due(self) -> int:
        """The scan behind which somebody has to look even if nothing happens: the script, or a watcher by its time."""
        period, start = self.session.program.period_ms, self.script.start_ms
        times = [t for w in self._timed if w.decided is None and (t := w.due()) is not None]
        if self.edges.edges:
            times += self.edges.due()
        scans = [-(-(start + t) // period) for t in times]
        k = self.session.k
        return min([self.script.next_scan(), *(scan + 1 for scan in scans if scan >= k)])

    def _look(self, s: Situation) -> bool:
        """After each scan in which anything happened: TRUE if a row of the script has been waiting for that, or if
        somebody now wants to look earlier than was known.
        """
        self._see(s)
        try:
            return self.script.has_come(s.came.__getitem__) or self._due() < self.until
        except RunStop:  # told before the next scan
            return True

    def _see(self, s: Situation) -> None:
        """Shows the situation at the end of scan `s.k - 1` to all that watch, and tells how many scans like the one before
        were jumped over.
        """
        over, self.seen_to = s.k - 1 - self.seen_to, s.k
        show_times(self.session.program, s)
        if self.ahead:
            return
        if self.acted is not None:
            self.acted.see(s)
        if self.edges.edges:
            self.edges.see(s, (s.k - 1) * self.session.program.period_ms - self.script.start_ms)
        decided = False
        for w in self._looking:
            if over:
                w.pass_over(over)
            if self.edges.faults and (stop := self.edges.fault_in(w.trees)) is not None:
                w.has_no_value(stop)
            else:
                w.see(s)
            decided |= w.decided is not None
        if decided:
            self._looking = [w for w in self._looking if w.decided is None]

    def _end(self) -> bool:
        if self.ahead and not self.stopped:
            self.stopped = f"the situation {self.ahead[0][1]!r} was not reached"
        self.lengths = []
        return False

    def result(self) -> Run:
        """The verdicts, as far as the run has come."""
        session, start = self.session, self.script.start_ms
        period = session.program.period_ms
        events = [
            (e.k * period - start, e.kind, e.text, e.ident) for e in session.trace.events if e.k * period >= start
        ]
        for w in self.watchers:
            if isinstance(w, Alarms):
                w.now = (self.seen_to - 1) * period - start
                w.see_events(events)
        done = tuple(st for st, _ in session.log[: session.next_stimulus])
        acted = tuple(self.acted.first.items()) if self.acted is not None else ()
        undone = tuple((row.line, row.text) for row in self.script.rows[self.script.at :])
        return Run(self.case.label, tuple(w.verdict() for w in self.watchers), self.project, done, session.k, start,
                   self.stopped, acted, entered_in(session), live=session, undone=undone)  # fmt: skip


def entered_in(session: Session) -> frozenset[str]:
    """The steps that were active in any scan of a run, as `Sequence.Step`."""
    trace = session.trace
    flags = ((i, r.name) for i, r in enumerate(trace.recorded) if r.kind == "step")
    return frozenset(name.removesuffix(".X") for i, name in flags if trace.changes(i)[1].any())


class ScenarioRun:
    """A scenario on its way: `advance` runs some scans, `result` judges what was run.

    Raises `LinkError` for a machine file that cannot run. A text that is wrong is done at once, with problems.
    """

    def __init__(
        self, project: Project, scenario: Scenario, every_scan: bool = False, verdicts_only: bool = False
    ) -> None:
        """`every_scan` runs every scan, where otherwise those are jumped over in which nothing happens; `verdicts_only` as in
        `CaseRun`.
        """
        self.project, self.scenario, self.every_scan, self.verdicts_only = project, scenario, every_scan, verdicts_only
        self.problems = scenario_problems(project, scenario)
        self.cases = () if self.problems else cases_of(scenario.text).cases
        self.runs: list[Run] = []
        self.now = self._case(0) if self.cases else None

    def _case(self, index: int) -> CaseRun:
        return CaseRun(self.project, self.scenario, self.cases[index], self.every_scan, self.verdicts_only)

    @property
    def part(self) -> float:
        """How much of the run is done, 0 to 1."""
        if self.now is None:
            return 1.0
        return (len(self.runs) + self.now.at / max(1, self.now.scans)) / len(self.cases)

    def advance(self, scans: int) -> bool:
        """Runs up to that many scans; FALSE when there is nothing more to run."""
        if self.now is None:
            return False
        if self.now.advance(scans):
            return True
        self.runs.append(self.now.result())
        self.now = None
        if not self.runs[-1].stopped and len(self.runs) < len(self.cases):
            self.now = self._case(len(self.runs))
        return self.now is not None

    @property
    def has_failed(self) -> bool:
        """Whether it cannot pass any more, as far as is decided."""
        now = self.now.watchers if self.now is not None else ()
        failed = any(w.decided is not None and w.decided.outcome is Outcome.FAIL for w in now)
        return failed or any(r.outcome is not Outcome.PASS for r in self.runs)

    def result(self) -> Result:
        """What came of it, as far as the runs have come."""
        runs = [*self.runs, *([self.now.result()] if self.now is not None else [])]
        return Result(self.scenario, tuple(runs), self.problems, self.project)


def run_scenario(project: Project, scenario: Scenario, every_scan: bool = False, verdicts_only: bool = False) -> Result:
    """Runs one scenario whole; see `ScenarioRun`."""
    run = ScenarioRun(project, scenario, every_scan, verdicts_only)
    while run.advance(1 << 30):
        pass
    return run.result()


def run_all(project: Project) -> list[Result]:
    """All scenarios in their order."""
    return [run_scenario(project, s) for s in project.scenarios]
