"""A scenario against a controller outside, in the time of the clock or by the count of our scans.

controller ──outputs──> forced in the run ──> machine stand-in ──inputs──> controller
                             │
                             └ what the model itself asks for is laid beside them: the first difference ends the run
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from spokeshave.controller.lanes import Apart, Lanes, tolerance_ms
from spokeshave.controller.line import LOST_S, Line, LineError, RoundTrip
from spokeshave.engine.explain import waiting
from spokeshave.engine.session import Session
from spokeshave.fieldbus.address_map import COUNTED, ECHO, POWER, RESTART
from spokeshave.language.literals import time_text, value_text
from spokeshave.language.scenario_lists import Case, cases_of
from spokeshave.language.scenario_rows import DeedRow, GivenRow
from spokeshave.model.project import Project, Scenario, Signal, SignalClass, Type, Value
from spokeshave.model.recipes import recipe_of, taken
from spokeshave.verify.scenario_language import check_sheet, scenario_problems
from spokeshave.verify.scenario_names import typed_value, way_to
from spokeshave.verify.scenarios import CaseRun, Result, Run

BEGIN_S = 5.0
"""How long a controller that cannot be begun anew is waited for until it stands as the model begins."""
GIVEN_UP_MS = 1000
"""What our scans are behind the clock, at most; more is given up."""
LOOK = 100
"""Scans between two looks at whether the run was cancelled."""


@dataclass(frozen=True, slots=True)
class Way:
    """How the two work together: what was measured of the way there and back, and what comes of it."""

    round_trip: RoundTrip
    tolerance_ms: int
    counts: bool
    """Whether the controller counts our scans, so that nobody waits for a clock."""

    def text(self) -> str:
        how = "as fast as it counts our scans" if self.counts else "in real time"
        return f"{how}; {self.round_trip.text()}; {self.tolerance_ms} ms late is taken as the same"


@dataclass(slots=True)
class Measured:
    """What the runs showed of the line, in ms."""

    lag_ms: int = 0
    late_ms: float = 0.0
    unseen: int = 0

    def with_more(self, other: Measured) -> Measured:
        """The worst of both."""
        return Measured(max(self.lag_ms, other.lag_ms), max(self.late_ms, other.late_ms), self.unseen + other.unseen)

    def text(self) -> str:
        said = f"changes came up to {self.lag_ms} ms after the model's"
        if self.late_ms >= 1:
            said += f"; our scans began up to {self.late_ms:.0f} ms late"
        if self.unseen:
            said += f"; {self.unseen} pulse{'s' * (self.unseen > 1)} of the model too short to be seen"
        return said


def way_of(line: Line, project: Project, their_scan_ms: int = 0, tolerance: int = 0, real_time: bool = False) -> Way:
    """Measures the line. Without a tolerance it is twice the way there and back, a scan of theirs and one of ours; a
    controller that counts our scans has no way that takes time, unless it is to run in `real_time`. Raises `LineError`.
    """
    session = Session(project)
    session.scan()
    line.write(_given(line, session))
    trip = line.measure()
    counts, period = line.counts and not real_time, project.period_ms
    worst = 0.0 if counts else trip.worst_ms
    return Way(trip, tolerance or tolerance_ms(worst, their_scan_ms or period, period), counts)


def left_out(project: Project, scenario: Scenario, line: Line) -> str:
    """Why a scenario is none for a controller outside: it does something to the controls themselves. Empty if it is one."""
    for case in cases_of(scenario.text).cases:
        start = check_sheet(project, case.text).sheet.start
        for text in (*(s.text for s, _ in way_to(project, start, scenario.name)), case.text):
            sheet = check_sheet(project, text).sheet
            rows: list[GivenRow | DeedRow] = [*sheet.given, *sheet.deeds]
            for row in rows:
                if why := _outside(project, row, line):
                    return f"line {row.line}: {why}"
    return ""


def _outside(project: Project, row: GivenRow | DeedRow, line: Line) -> str:
    """Why a row cannot be done to a controller outside; empty if it can."""
    do = row.kind if isinstance(row, GivenRow) else row.do
    if do == "power_cycle" and POWER not in line.points:
        return f'it cuts the power of the controller; map "{POWER}", which makes the controller do that by itself'
    if do in ("ask", "hand_drive"):
        return "it drives outputs by hand, which are the controller's"
    sets: list[tuple[Signal, Value]] = []
    if do in ("recipe", "use_recipe") and (recipe := recipe_of(project, row.value)) is not None:
        sets = list(taken(project, recipe))
    elif do in ("value", "set_value", "force") and (signal := project.signal(row.target)) is not None:
        if do == "force" and signal.cls is SignalClass.OUTPUT:
            return f"it forces {signal.name}, which is the controller's"
        sets = [(signal, typed_value(row.value, signal))]
    for signal, value in sets:
        point = line.points.get(signal.name)
        mapped = point is not None and point.table.writable
        if not mapped and not (isinstance(row, GivenRow) and value == signal.start):
            return (f"it sets {signal.name}, which is in the controller; let clients write {signal.name} in the address map, if the "
                    "controller takes it from there")  # fmt: skip
    return ""


class AgainstRun:
    """A scenario on its way, as `ScenarioRun`. Raises `LinkError` for a file that cannot run."""

    def __init__(self, project: Project, scenario: Scenario, line: Line, way: Way) -> None:
        self.project, self.scenario, self.line, self.way = project, scenario, line, way
        self.problems = scenario_problems(project, scenario)
        self.left_out = "" if self.problems else left_out(project, scenario, line)
        """Why it is none for a controller outside."""
        self.cases = () if self.problems or self.left_out else cases_of(scenario.text).cases
        self.measured = Measured()

    def run(self, look: Callable[[float], None] = lambda _: None) -> Result:
        """All runs of it, one after the other; `look` gets how much is done, and may end it by raising."""
        runs = []
        for i, case in enumerate(self.cases):

            def seen(part: float, before: int = i) -> None:
                look((before + part) / len(self.cases))

            runs.append(self._case(case, seen))
            if runs[-1].lost:
                break
        return Result(self.scenario, tuple(runs), self.problems, self.project)

    def _case(self, case: Case, look: Callable[[float], None]) -> Run:
        run = CaseRun(self.project, self.scenario, case, every_scan=True)
        try:
            ended = _Beside(run, self.line, self.way, self.measured).go(look)
        except LineError as error:
            return replace(run.result(), stopped=f"{error}, at {run.session.time_ms} ms", lost=True)
        return replace(run.result(), stopped=run.stopped or ended)


class _Beside:
    """One run, scan by scan."""

    def __init__(self, run: CaseRun, line: Line, way: Way, measured: Measured) -> None:
        self.run, self.line, self.way, self.measured = run, line, way, measured
        self.session = run.session
        self.program = run.session.program
        self.period_ms = self.program.period_ms
        many = {q.name for q in run.project.sequences if any(len(t.targets) > 1 for t in q.transitions)}
        self.compared = {n for n in line.points if n != ECHO and n not in many}
        """Of a sequence that can be in several steps at once no number is its state."""
        self.behind_ms = 0.0
        self.echo: Any = None
        self.echoed = time.perf_counter()
        """The count that the controller said last, and when it was new."""
        self.powered = 0
        """Stimuli of the run that were looked at for a power cycle."""

    def go(self, look: Callable[[float], None]) -> str:
        """Runs it to its end; gives why it ended before, or an empty text."""
        theirs, why = self._begin()
        if why:
            return why
        lanes: Lanes | None = None
        began, given_up = time.perf_counter(), 0.0
        more = True
        while more:
            k = self.session.k
            if k % LOOK == 0:
                look(min(1.0, self.run.at / max(1, self.run.scans)))
            if not self.way.counts:
                given_up += self._wait(began + (k * self.period_ms + given_up) / 1000)
                theirs = self._beat(k)
            self.run.slack_ms = self.way.tolerance_ms if lanes is None else lanes.late_ms
            for w in self.run.watchers:
                w.slack_ms = self.run.slack_ms
            self._take(theirs)
            more = self.run.advance(1)
            if self.session.k == k:  # nothing was left to run
                break
            shown = {n: v for n, v in theirs.items() if n in self.compared}
            model = self._model(shown)
            if lanes is None:
                lanes = Lanes(self.way.tolerance_ms, model, shown)
            apart = lanes.see(k * self.period_ms, model, shown, int(self.behind_ms))
            self.measured.lag_ms = max(self.measured.lag_ms, lanes.worst_ms)
            if apart is not None:
                return self._words(apart)
            self._cut_power()
            self.line.write(_given(self.line, self.session))
            if self.way.counts:
                theirs = self._counted(k)
        self.measured.unseen += lanes.unseen if lanes is not None else 0
        return ""

    # -- the controller

    def _begin(self) -> tuple[dict[str, Any], str]:
        """Gives the controller the inputs of the first scan, and brings it to its beginning. Gives what it shows then, and why it
        does not stand there.
        """
        first = self.session.fork()
        first.scan()
        self.line.write(_given(self.line, first))
        if self.line.restarts:
            self.line.pulse(RESTART)
            return self._counted(-1) if self.way.counts else self.line.read(), ""
        end = time.perf_counter() + BEGIN_S
        wanted = {n: first.situation.v[first.program.slots[n.lower()]] for n in self._outputs()}
        while True:
            theirs = self._counted(-1) if self.way.counts else self.line.read()
            other = next((n for n, x in wanted.items() if theirs[n] != x), "")
            if not other:
                return theirs, ""
            if time.perf_counter() > end:
                return theirs, (f"the controller is not at its beginning: {other} is {self._value(other, theirs[other])}; "
                                f'map "{RESTART}", which begins it anew')  # fmt: skip
            time.sleep(0.02)

    def _outputs(self) -> list[str]:
        return [s.name for s in self.program.project.signals if s.cls is SignalClass.OUTPUT]

    def _counted(self, k: int) -> dict[str, Any]:
        """Lets the controller run the scan behind scan `k` of ours, and gives what it shows then. Raises `LineError`."""
        number = (k + 1) % COUNTED + 1
        self.line.count(number)
        end = time.perf_counter() + LOST_S
        while True:
            theirs = self.line.read()
            if theirs[ECHO] == number:
                return theirs
            if time.perf_counter() > end:
                raise LineError(f"the controller has not run the scan it was told for {LOST_S:g} s")

    def _beat(self, k: int) -> dict[str, Any]:
        """What the controller shows now. One that says what it was told has to go on saying it. Raises `LineError`."""
        if self.line.counts:
            self.line.count(k % COUNTED + 1)
        theirs, now = self.line.read(), time.perf_counter()
        if theirs.get(ECHO) != self.echo or not self.line.counts:
            self.echo, self.echoed = theirs.get(ECHO), now
        elif now - self.echoed > LOST_S:
            raise LineError(f"the controller has not said our count again for {LOST_S:g} s")
        return theirs

    def _wait(self, due: float) -> float:
        """Waits for the time of a scan; gives what is given up, in ms, where we are too far behind."""
        now = time.perf_counter()
        if now < due:
            time.sleep(due - now)
            now = time.perf_counter()
        behind = max(0.0, (now - due) * 1000)
        self.behind_ms = max(behind, self.behind_ms - 0.1 * self.period_ms)  # a late scan is felt for a while
        self.measured.late_ms = max(self.measured.late_ms, behind)
        return behind if behind > GIVEN_UP_MS else 0.0

    def _take(self, theirs: dict[str, Any]) -> None:
        """What the controller gives out acts in the machine."""
        v, slots, forces = self.session.situation.v, self.program.slots, self.session.situation.forces
        for name in self._outputs():
            value = theirs[name]
            if slots[name.lower()] not in forces or v[slots[name.lower()]] != value:
                self.session.do("force", name, value)

    def _cut_power(self) -> None:
        """A power cycle of the run is one of the controller."""
        log = self.session.log[self.powered : self.session.next_stimulus]
        self.powered = self.session.next_stimulus
        if any(st.do == "power" for st, _ in log):
            self.line.pulse(POWER)

    # -- the model

    def _model(self, shown: dict[str, Any]) -> dict[str, Any]:
        """What the model itself has for everything that the controller shows."""
        s, found = self.session.situation, {}
        for name in shown:
            point = self.line.points[name]
            if point.step >= 0:
                found[name] = point.step in s.active[point.sequence]
            elif point.sequence >= 0:
                found[name] = s.v[self.program.sequences[point.sequence].state]
            else:
                slot = self.program.slots[name.lower()]
                found[name] = s.wished.get(slot, s.v[slot])
        return found

    def _value(self, name: str, value: Any) -> str:
        if isinstance(value, bool):
            return "on" if value else "off"
        kind = self.line.points[name].type
        return time_text(value) if kind is Type.TIME else value_text(value, kind)

    def _words(self, apart: Apart) -> str:
        """The first difference, with what the model would have done and why."""
        name, at = apart.name, apart.time_ms - self.run.script.start_ms
        model, theirs = self._value(name, apart.model), self._value(name, apart.theirs)
        said = f"at {at} ms {name} is {theirs} in the controller and {model} in the model"
        if apart.extra:
            said = f"at {at} ms {name} goes to {theirs} in the controller, and stays {model} in the model"
        steps = waiting(self.program, self.session.situation)
        mine = {
            q.name for q in self.program.project.sequences
            if q.name == name.partition(".")[0] or any(a.target.lower() == name.lower() for s in q.steps for a in s.actions)
        }  # fmt: skip
        reasons = []
        for w in [w for w in steps if w.sequence in mine] or steps:
            sequence = self.program.project.sequence(w.sequence)
            step = next((s for s in sequence.steps if s.name == w.step), None) if sequence is not None else None
            asks = step is not None and any(a.target.lower() == name.lower() for a in step.actions)
            terms = " and ".join(dict.fromkeys(t.short for way in w.ways for t in way.missing))
            reasons.append(f"{w.sequence} is in {w.step}" + f", which asks for {name}" * asks
                           + f", and waits on {terms}" * bool(terms) + f", {w.state_text}" * (w.state != "runs"))  # fmt: skip
        return f"{said}; the model: {'; '.join(reasons)}" if reasons else said


def _given(line: Line, session: Session) -> dict[str, Any]:
    """What the controller is given: everything in the map that a client may write, as it is after the last scan."""
    v, slots = session.situation.v, session.program.slots
    return {name: v[slots[name.lower()]] for name in line.given}
