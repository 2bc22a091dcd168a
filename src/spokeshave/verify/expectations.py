"""Expectations as watchers: each looks at every scan and gives a verdict with the time and values that decided it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from math import inf
from typing import Any

from spokeshave.engine.explain import blockers
from spokeshave.engine.program import LinkedSequence, Program
from spokeshave.engine.situation import Situation
from spokeshave.engine.trace import Trace
from spokeshave.language import checked as ck
from spokeshave.language.compile import compile_units
from spokeshave.language.functions import RunStop
from spokeshave.language.scenario_rows import ExpectRow
from spokeshave.model.alarms import phrase_of
from spokeshave.model.project import Project, SignalClass, Type


class Outcome(StrEnum):
    """What came of an expectation: it held, it did not, or what it is about never came."""

    PASS = "pass"
    FAIL = "fail"
    NOT_REACHED = "not reached"
    LINE_LOST = "line lost"
    """Of a run against a controller outside: nobody knows what it did."""


@dataclass(frozen=True, slots=True)
class Verdict:
    """What came of one expectation: `time_ms` is the place in the trace to look at, -1 without one."""

    line: int
    text: str
    outcome: Outcome
    time_ms: int
    because: str


def entered(s: Situation, sequence: int) -> list[int]:
    """The steps that were entered in the last scan and are active at its end: a trip's step that a restart leaves in the
    same scan has not been there.
    """
    came = s.came[sequence]
    return [a for a in came if a in s.active[sequence]] if came else came


def is_entered(s: Situation, sequence: int, step: int) -> bool:
    """Whether a step is one of `entered`."""
    return step in s.came[sequence] and step in s.active[sequence]


class Watcher:
    """Watches one expectation. `see` is called at the end of every scan, `verdict` at the end of the run."""

    def __init__(self, row: ExpectRow, program: Program, trees: tuple[ck.Checked, ...]) -> None:
        self.row, self.program, self.trees = row, program, trees
        self.tests: list[Callable[[list[Any]], Any]] = compile_units([(0, t) for t in trees])
        self.decided: Verdict | None = None
        self.last: Situation | None = None
        self.now = 0
        """Time in ms since the scenario started."""
        self.start_ms = 0
        self.marks: dict[str, int] = {}
        self.slack_ms = 0
        """How late what is awaited may come, how early what is barred may go, how long it may be otherwise: where what is watched
        is a controller outside, which is seen by way of a line (verification, against a controller).
        """
        self._otherwise = -1
        """Since when what must hold does not."""

    def see(self, s: Situation) -> None:
        """Looks at the situation at the end of scan `s.k - 1`, as long as nothing is decided."""
        self.now = (s.k - 1) * self.program.period_ms - self.start_ms
        try:
            self.look(s)
        except RunStop as stop:
            self.has_no_value(stop)

    def look(self, s: Situation) -> None:
        raise NotImplementedError

    def due(self) -> int | None:
        """The time in ms since the scenario started at which it has to look, even if nothing happens."""
        return None

    def pass_over(self, scans: int) -> None:
        """So many scans were left out since the last look, in which all was as it was then."""

    def end(self) -> None:
        """Decides at the end of the run if nothing did before."""
        raise NotImplementedError

    def verdict(self) -> Verdict:
        if self.decided is None:
            try:
                self.end()
            except RunStop as stop:
                self.has_no_value(stop)
        assert self.decided is not None
        return self.decided

    def has_no_value(self, stop: RunStop) -> None:
        """The row cannot be judged from here on: it fails with what keeps it from having a value, and no other row does."""
        self.decide(Outcome.FAIL, f"it has no value: {stop.message}")

    def decide(self, outcome: Outcome, because: str, time_ms: int | None = None) -> None:
        time = self.now if time_ms is None else time_ms
        self.decided = Verdict(self.row.line, self.row.text, outcome, time, because)

    def breaks(self, broken: bool) -> bool:
        """Whether what must hold does not, and has not for longer than the slack."""
        self._otherwise = -1 if not broken else self._otherwise if self._otherwise >= 0 else self.now
        return broken and self.now - self._otherwise >= self.slack_ms

    def why(self, s: Situation, index: int = 0, want: bool = True) -> str:
        """The terms, with their values, that keep a condition from being as wanted."""
        terms = blockers(self.trees[index], self.row.conditions[index], s.v, want)
        return ", ".join(map(str, terms))

    def values(self, s: Situation, index: int = 0) -> str:
        """Every variable of a condition with its value now."""
        shown = dict.fromkeys(f"{n.name} = {_shown(s.v[n.slot])}" for n in ck.loads(self.trees[index]))
        return ", ".join(shown)


def _shown(value: Any) -> str:
    return (
        ("FALSE", "TRUE")[value]
        if isinstance(value, bool)
        else f"{value:g}"
        if isinstance(value, float)
        else str(value)
    )


def _seconds(ms: int) -> str:
    return f"{ms / 1000:g} s"


def _times(count: int) -> str:
    return "once" if count == 1 else f"{count} times"


class Always(Watcher):
    """always e, never e: decided by the first scan that breaks it."""

    def look(self, s: Situation) -> None:
        want = self.row.kind == "always"
        if self.breaks(bool(self.tests[0](s.v)) != want):
            self.decide(Outcome.FAIL, self.why(s, want=want))

    def end(self) -> None:
        self.decide(Outcome.PASS, "in every scan")


class TrueAt(Watcher):
    """at t: e, by t: e, finally e."""

    def due(self) -> int | None:
        return None if self.row.kind == "true_finally" else self.row.ms

    def look(self, s: Situation) -> None:
        if self.row.kind == "true_finally":
            self.last = s
            return
        true = bool(self.tests[0](s.v))
        kind, limit = self.row.kind, self.row.ms
        comes = kind == "true_by" and self.now <= limit + self.slack_ms
        if true and (comes or abs(self.now - limit) < self.slack_ms):
            self.decide(Outcome.PASS, self.values(s))
        elif self.now >= limit + self.slack_ms:
            self.decide(Outcome.PASS if true and kind == "true_at" else Outcome.FAIL,
                        self.values(s) if true else self.why(s))  # fmt: skip

    def end(self) -> None:
        s = self.last
        if self.row.kind == "true_finally" and s is not None:
            true = bool(self.tests[0](s.v))
            self.decide(Outcome.PASS if true else Outcome.FAIL, self.values(s) if true else self.why(s))
        else:
            self.decide(Outcome.NOT_REACHED, "the run ended before")


class NotBefore(Watcher):
    """not before t: e: decided when it comes."""

    def look(self, s: Situation) -> None:
        if self.tests[0](s.v):
            self.decide(
                Outcome.FAIL if self.now < self.row.ms - self.slack_ms else Outcome.PASS,
                f"after {_seconds(self.now)}: {self.values(s)}",
            )

    def end(self) -> None:
        self.decide(Outcome.NOT_REACHED, f"{self.row.conditions[0]} never came")


class Throughout(Watcher):
    """from t to t: e, while a: b: decided by the first scan of the span that breaks it."""

    def __init__(self, row: ExpectRow, program: Program, trees: tuple[ck.Checked, ...]) -> None:
        super().__init__(row, program, trees)
        self.seen, self.first = 0, 0
        self.counts = False
        """Whether the scan looked at last is one of the span."""

    def due(self) -> int | None:
        if self.row.kind != "true_from":
            return None
        return self.row.ms if self.now < self.row.ms else self.row.until_ms + self.program.period_ms

    def pass_over(self, scans: int) -> None:
        self.seen += scans * self.counts

    def look(self, s: Situation) -> None:
        of_span = self.row.kind == "true_from"
        self.counts = bool(self.row.ms <= self.now if of_span else self.tests[0](s.v))
        if of_span and self.now > self.row.until_ms:
            self.decide(Outcome.PASS, f"in all {self.seen} scans of it", self.first)
        elif self.counts:
            self.first = self.first if self.seen else self.now
            self.seen += 1
            if self.breaks(not self.tests[-1](s.v)):
                self.decide(Outcome.FAIL, self.why(s, len(self.tests) - 1))
        else:
            self.breaks(False)

    def end(self) -> None:
        if self.row.kind == "true_from" and self.now + self.program.period_ms < self.row.until_ms:
            self.decide(Outcome.NOT_REACHED, "the run ended before")
        elif not self.seen:
            self.decide(Outcome.NOT_REACHED, f"{self.row.conditions[0]} never came")
        else:
            self.decide(Outcome.PASS, f"in all {self.seen} scans of it", self.first)


def is_number(tree: ck.Checked, project: Project) -> bool:
    """Whether an expression is nothing but a number that the machine gives: the trace has each of its values."""
    if not isinstance(tree, ck.Load) or tree.type is not Type.REAL:
        return False
    signal = project.signal(tree.name)
    return signal is not None and signal.cls is SignalClass.INPUT


class ValueFrom(Watcher):
    """value e from low to high, while a: decided by the first value outside, else tells the least and the most.

    With a `trace` it looks at when `a` holds, and at the end at the values in those scans.
    """

    def __init__(self, row: ExpectRow, program: Program, trees: tuple[ck.Checked, ...]) -> None:
        super().__init__(row, program, trees)
        self.least, self.most, self.most_at = inf, -inf, 0
        self.trace: Trace | None = None
        self._since = -1
        self._spans: list[tuple[int, int]] = []
        """From which scan to before which `a` held."""

    def look(self, s: Situation) -> None:
        on = len(self.tests) == 1 or bool(self.tests[1](s.v))
        if self.trace is not None:
            if on and self._since < 0:
                self._since = s.k - 1
            elif not on and self._since >= 0:
                self._spans.append((self._since, s.k - 1))
                self._since = -1
        elif on:
            self._see(self.tests[0](s.v))
        else:
            self.breaks(False)

    def _see(self, value: Any) -> None:
        low, high = self.row.limits
        self.least = min(self.least, value)
        if value > self.most:
            self.most, self.most_at = value, self.now
        if self.breaks(not low <= value <= high):
            self.decide(Outcome.FAIL, f"{self.row.conditions[0]} = {_shown(value)}")

    def _read(self, trace: Trace) -> None:
        """The values of the spans, as the trace has them."""
        tree = self.trees[0]
        assert isinstance(tree, ck.Load)
        scans, values = trace.changes(trace.column(tree.name))
        if self._since >= 0:
            self._spans.append((self._since, trace.scan_count))
        for begin, end in self._spans:
            first = max(0, int(scans.searchsorted(begin, "right")) - 1)
            for i in range(first, int(scans.searchsorted(end))):
                self.now = max(begin, int(scans[i])) * self.program.period_ms - self.start_ms
                self._see(float(values[i]))
                if self.decided is not None:
                    return

    def end(self) -> None:
        if self.trace is not None:
            self._read(self.trace)
            if self.decided is not None:
                return
        if self.most < self.least:
            never = "the run ended before" if len(self.tests) == 1 else f"{self.row.conditions[1]} never came"
            self.decide(Outcome.NOT_REACHED, never)
        else:
            self.decide(Outcome.PASS, f"from {_shown(self.least)} to {_shown(self.most)}", self.most_at)


class LeadsTo(Watcher):
    """whenever a then within t b: after each rise of a, b must hold at the latest t later."""

    def __init__(self, row: ExpectRow, program: Program, trees: tuple[ck.Checked, ...]) -> None:
        super().__init__(row, program, trees)
        self.was, self.since, self.count, self.longest = False, -1, 0, 0

    def due(self) -> int | None:
        return self.since + self.row.ms if self.since >= 0 else None

    def look(self, s: Situation) -> None:
        cause = bool(self.tests[0](s.v))
        if cause and not self.was and self.since < 0:
            self.since = self.now
            self.count += 1
        self.was = cause
        if self.since >= 0:
            took = self.now - self.since
            if self.tests[1](s.v):
                self.longest, self.since = max(self.longest, took), -1
            elif took >= self.row.ms + self.slack_ms:
                self.decide(Outcome.FAIL, f"{took} ms after {self.row.conditions[0]}: {self.why(s, 1)}")

    def end(self) -> None:
        if self.since >= 0:
            self.decide(Outcome.NOT_REACHED, "the run ended while it was awaited")
        elif not self.count:
            self.decide(Outcome.NOT_REACHED, f"{self.row.conditions[0]} never came")
        else:
            self.decide(Outcome.PASS, f"{_times(self.count)}, at most {self.longest} ms")


class Counted(Watcher):
    """Seq.Step entered N times, count e: N times; also at least and at most. An expression counts when it becomes TRUE."""

    def __init__(self, row: ExpectRow, program: Program, trees: tuple[ck.Checked, ...]) -> None:
        super().__init__(row, program, trees)
        self.seq = self.step = -1
        self.word = "it came"
        if row.names:
            seq = next(q for q in program.sequences if q.name.lower() == row.names[0].lower())
            self.seq = seq.index
            self.step = next(s.index for s in seq.steps if s.name.lower() == row.names[1].lower())
            self.word = "entered"
        self.was = False
        self.count, self.last_ms = 0, 0

    def _has_come(self, s: Situation) -> bool:
        if self.seq >= 0:
            return is_entered(s, self.seq, self.step)
        before, self.was = self.was, bool(self.tests[0](s.v))
        return self.was and not before

    def look(self, s: Situation) -> None:
        if not self._has_come(s):
            return
        self.count += 1
        self.last_ms = self.now
        least = self.row.kind.endswith("_least")
        if self.count > self.row.count and not least:
            self.decide(Outcome.FAIL, f"{self.word} for the {self.count}. time")
        elif self.count == self.row.count and least:
            self.decide(Outcome.PASS, f"{self.word} {_times(self.count)}")

    def end(self) -> None:
        enough = self.count >= self.row.count or self.row.kind.endswith("_most")
        self.decide(Outcome.PASS if enough else Outcome.NOT_REACHED, f"{self.word} {_times(self.count)}", self.last_ms)


def _step_in(q: LinkedSequence, name: str) -> int:
    return next(s.index for s in q.steps if s.name.lower() == name.lower())


class Steps(Watcher):
    """Expectations on when steps are entered and left: order, reach, lasts."""

    def __init__(self, row: ExpectRow, program: Program, trees: tuple[ck.Checked, ...]) -> None:
        super().__init__(row, program, trees)
        by_name = {q.name.lower(): q for q in program.sequences}
        self.seq = by_name[row.names[0].lower()]
        self.came: list[tuple[str, int]] = []
        self.stays: list[tuple[int, int]] = []
        self.open = -1
        self._step = -1
        self._ends: list[tuple[int, int]] = []
        """Sequence and step that are to be reached, and from which it counts."""
        if row.kind.startswith("lasts"):
            self._step, self._see = _step_in(self.seq, row.names[1]), self._see_stay
        elif row.kind == "reach":
            ends = ((by_name[q.lower()], step) for q, step in zip(row.names[::2], row.names[1::2]))
            self._ends, self._see = [(q.index, _step_in(q, step)) for q, step in ends], self._see_reach
        else:
            self._see = self._see_entries

    def look(self, s: Situation) -> None:
        self._see(s)

    def _see_entries(self, s: Situation) -> None:
        if not entered(s, self.seq.index):
            return
        for a in self.seq.by_number(entered(s, self.seq.index)):
            self.came.append((self.seq.steps[a].name, self.now))
        wanted = [n.lower() for n in self.row.names[1:]]
        at = 0
        for name, time in self.came:
            if at < len(wanted) and name.lower() == wanted[at]:
                at += 1
                if at == len(wanted):
                    self.decide(Outcome.PASS, f"{self.row.names[-1]} entered last", time)
            elif self.row.kind == "exact_order":
                self.decide(Outcome.FAIL, f"{name} entered, {self.row.names[at + 1]} expected", time)
                return

    def _see_reach(self, s: Situation) -> None:
        if len(self.row.names) == 2 and self.open < 0:  # from a mark, or from the start
            self.open = self.marks.get(self.row.note.lower(), -1) if self.row.note else 0
        for which in range(len(self._ends) - 1, -1, -1):  # from where it counts, before what is to be reached
            sequence, step = self._ends[which]
            if is_entered(s, sequence, step):
                if which and self.open < 0:
                    self.open = self.now
                elif not which and self.open >= 0:
                    took = self.now - self.open
                    outcome = Outcome.PASS if took <= self.row.ms + self.slack_ms else Outcome.FAIL
                    self.decide(outcome, f"after {_seconds(took)}")
                    return

    def _see_stay(self, s: Situation) -> None:
        if self._step in s.left[self.seq.index] and self.open >= 0:
            took = self.now - self.open
            self.stays.append((self.open, took))
            self.open = -1
            least = self.row.kind == "lasts_least"
            if (took < self.row.ms - self.slack_ms) if least else (took > self.row.ms + self.slack_ms):
                self.decide(Outcome.FAIL, f"it lasted {_seconds(took)}")
        if is_entered(s, self.seq.index, self._step):
            self.open = self.now

    def end(self) -> None:
        if self.row.kind.startswith("lasts"):
            if self.open >= 0 and self.row.kind == "lasts_most" and self.now - self.open > self.row.ms + self.slack_ms:
                self.decide(Outcome.FAIL, f"it lasts {_seconds(self.now - self.open)} already")
            elif not self.stays:
                self.decide(Outcome.NOT_REACHED, f"{self.row.names[1]} was not passed through")
            else:
                times = [t for _, t in self.stays]
                span = dict.fromkeys((_seconds(min(times)), _seconds(max(times))))
                self.decide(Outcome.PASS, f"it lasted {' to '.join(span)}", self.stays[0][0])
        elif self.row.kind == "reach":
            self.decide(Outcome.NOT_REACHED, f"{'.'.join(self.row.names[:2])} was not reached")
        else:
            seen = ", ".join(n for n, _ in self.came) or "nothing"
            self.decide(Outcome.FAIL, f"entered were {seen}")


class Alarms(Watcher):
    """alarm "text", no alarm "text", no alarms, no hazards."""

    def look(self, s: Situation) -> None:
        """Alarms are read from the events of the trace at the end, see `see_events`."""

    def see_events(self, events: list[tuple[int, str, str, str]]) -> None:
        """`events` are (time in ms, kind, text, identifier of an alarm). An alarm with words of its own is known by what it is
        called too.
        """
        kind, note = "hazard" if self.row.kind == "no_hazards" else "alarm", self.row.note.lower()
        hits = [
            (t, text)
            for t, k, text, ident in events
            if k == kind and (note in text.lower() or note in phrase_of(ident).lower())
        ]
        wanted = self.row.kind == "alarm"
        if hits:
            self.decide(Outcome.PASS if wanted else Outcome.FAIL, hits[0][1], hits[0][0])
        elif wanted:
            others = "; ".join(text for _, k, text, _ in events if k == "alarm")
            self.decide(Outcome.FAIL, f"it was not raised; raised were: {others or 'none'}")
        else:
            self.decide(Outcome.PASS, "none was raised")

    def end(self) -> None:
        self.see_events([])
