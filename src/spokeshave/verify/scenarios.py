"""Runs scenarios: rows are done in their order, each at its moment; watchers give the verdicts."""

from __future__ import annotations

from dataclasses import dataclass, field

from spokeshave.engine.session import Session
from spokeshave.language.compile import compile_units
from spokeshave.language.literals import read_value
from spokeshave.language.scenario import DeedRow
from spokeshave.language.syntax import Problem
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.expectations import WATCHERS, Alarms, Outcome, Verdict, Watcher
from spokeshave.verify.scenario_language import Checked, check_sheet


@dataclass(frozen=True, slots=True)
class Result:
    """What came of a scenario. `session` holds the run for looking at it; `problems` keep it from running."""

    scenario: Scenario
    verdicts: tuple[Verdict, ...]
    problems: tuple[Problem, ...] = ()
    session: Session | None = field(default=None, compare=False)
    stopped: str = ""

    @property
    def outcome(self) -> Outcome:
        """The worst of the verdicts; a scenario that could not be run or finished fails."""
        outcomes = {v.outcome for v in self.verdicts}
        if self.problems or self.stopped or Outcome.FAIL in outcomes or not outcomes:
            return Outcome.FAIL
        return Outcome.NOT_REACHED if Outcome.NOT_REACHED in outcomes else Outcome.PASS

    @property
    def worst(self) -> Verdict | None:
        """The first verdict that is not a pass, or None."""
        return next((v for v in self.verdicts if v.outcome is not Outcome.PASS), None)


class Script:
    """The rows of a scenario as they come up in a run. Rows wait for their moment one after the other."""

    def __init__(self, session: Session, checked: Checked) -> None:
        self.session = session
        self.rows = checked.sheet.deeds
        self.at = 0
        self.before_ms = 0
        """When the row before was done."""
        self.armed_ms: int | None = None
        """When the condition or step of the present row came."""
        self.releases: list[tuple[int, str]] = []
        self.tests = {
            r.line: compile_units([(0, t) for t in checked.conditions[r.line]])
            for r in self.rows if checked.conditions[r.line]
        }  # fmt: skip

    def before_scan(self) -> None:
        """Does everything that is due in the next scan."""
        now = self.session.time_ms
        for time, name in [r for r in self.releases if r[0] <= now]:
            self.session.do("hand", name, 0)
            self.releases.remove((time, name))
        while self.at < len(self.rows) and self._is_due(self.rows[self.at], now):
            self._do(self.rows[self.at], now)
            self.at += 1
            self.before_ms, self.armed_ms = now, None

    def _is_due(self, row: DeedRow, now: int) -> bool:
        m = row.moment
        if m.kind == "at":
            return now >= m.ms
        if m.kind == "after":
            return now >= self.before_ms + m.ms
        if self.armed_ms is None and self.session.k and self._has_come(row):
            self.armed_ms = now
        return self.armed_ms is not None and now >= self.armed_ms + m.ms

    def _has_come(self, row: DeedRow) -> bool:
        """Whether the row's condition holds, or its step was entered, in the scan before."""
        s = self.session.situation
        if row.moment.kind == "when":
            return bool(self.tests[row.line][0](s.v))
        for q in self.session.program.sequences:
            if q.name.lower() == row.moment.sequence.lower():
                return any(q.steps[a].name.lower() == row.moment.step.lower() for a in s.came[q.index])
        return False

    def _do(self, row: DeedRow, now: int) -> None:
        do = self.session.do
        name = row.target
        match row.do:
            case "press":
                do("hand", name, 1)
                self.releases.append((now + row.ms, name))
            case "hold":
                do("hand", name, 1)
            case "release":
                do("hand", name, 0)
            case "turn":
                do("hand", name, hand_value(row.value))
            case "set_value" | "force":
                signal = self.session.program.project.signal(name)
                assert signal is not None
                do("set" if row.do == "set_value" else "force", name, read_value(row.value, signal.type))
            case "unforce":
                do("unforce", name)
            case "break_device":
                do("fail", name, row.value)
            case "mend_device":
                do("heal", name, row.value)
            case "power_cycle":
                do("power")
            case "acknowledge":
                do("ack")


def hand_value(text: str) -> float:
    """Where a selector or a setpoint is turned. Raises `ValueError`."""
    number = float(text)
    return int(number) if number.is_integer() else number


class ScenarioRun:
    """One scenario on its way: `advance` runs some scans, `result` judges what was run.

    Raises `LinkError` for a machine file that cannot run. A text that is wrong is done at once, with problems.
    """

    def __init__(self, project: Project, scenario: Scenario) -> None:
        self.scenario = scenario
        self.checked = check_sheet(project, scenario.text)
        self.scans = 0
        self.at = 0
        if self.checked.problems:
            return
        self.session = Session(project)
        self.script = Script(self.session, self.checked)
        self.scans = -(-self.checked.sheet.length_ms // project.period_ms)
        conditions, program = self.checked.conditions, self.session.program
        self.watchers: list[Watcher] = [
            WATCHERS[r.kind](r, program, conditions[r.line]) for r in self.checked.sheet.expectations
        ]

    @property
    def part(self) -> float:
        """How much of the run is done, 0 to 1."""
        return self.at / self.scans if self.scans else 1.0

    def advance(self, scans: int) -> bool:
        """Runs up to that many scans; FALSE when there is nothing more to run."""
        end = min(self.scans, self.at + scans)
        while self.at < end:
            self.script.before_scan()
            if not self.session.scan():
                self.scans = self.at
                return False
            for w in self.watchers:
                w.see(self.session.situation)
            self.at += 1
        return self.at < self.scans

    def result(self) -> Result:
        """The verdicts, as far as the run has come."""
        if self.checked.problems:
            return Result(self.scenario, (), self.checked.problems)
        session = self.session
        period = session.program.period_ms
        events = [(e.k * period, e.kind, e.text) for e in session.trace.events]
        for w in self.watchers:
            if isinstance(w, Alarms):
                w.see_events(events)
        stopped = "" if session.stopped is None else str(session.stopped)
        return Result(self.scenario, tuple(w.verdict() for w in self.watchers), (), session, stopped)


def run_scenario(project: Project, scenario: Scenario) -> Result:
    """Runs one scenario whole; see `ScenarioRun`."""
    run = ScenarioRun(project, scenario)
    run.advance(run.scans)
    return run.result()


def run_all(project: Project) -> list[Result]:
    """All scenarios in their order."""
    return [run_scenario(project, s) for s in project.scenarios]
