"""A state program run beside the sequence it became: the states change in the same scans, and the outputs too, or all of them
one scan earlier, since a mark acts in the scan in which its step is entered (the text counts from the second scan on).
"""

from __future__ import annotations

import re
from contextlib import suppress

import numpy as np
from numpy.typing import NDArray

from spokeshave.engine.link import LinkError, link
from spokeshave.engine.program import Program
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.engine.trace import Trace
from spokeshave.language.literals import time_ms
from spokeshave.model.diagnostics import several
from spokeshave.model.project import Project, SignalClass, Type
from spokeshave.reading.hands import aimed, at_random, coincident
from spokeshave.verify.progress import look

LONG_RUNS, LONG, SHORT_RUNS, SHORT = 4, 1200, 80, 12
"""Runs and their scans: long ones go round, short ones try what can happen only once, behind the start."""
AIMED_RUNS, AIMED = 3, 5_000
"""Runs that lead through the transitions, and their scans."""
RESTING_RUNS, LEAST_REST, MOST_REST, RESTED = 3, 100, 3_000, 8_000
"""Runs that rest, the first in each state, others where nothing else leads on; how many scans, and all their scans."""
VARIANTS = 3
"""How often each of them is run: as it is, then with other inputs moving just where the state changes."""


_TIMES = re.compile(r"\b(?:T|TIME)#[\w.]+", re.IGNORECASE)
MOST_TELLING = 8
"""Runs that showed a difference and are kept in mind."""
LEFT = 0.5
"""What each form that is compared leaves of the progress that is told: nobody knows how many there will be."""


class Proof:
    """Compares sequences with a text, which counts from the second scan on or from the first: `written` are both. `states`
    names the variable of the state of each sequence, by its name in lower case.
    """

    def __init__(self, written: list[Project], states: dict[str, str]) -> None:
        self.states = states
        self._internals = {s.name.lower() for s in written[0].variables if s.cls is SignalClass.INTERNAL}
        self.early = False
        """Whether the outputs of the last sequence compared come one scan earlier than in the text."""
        self.runs = self.scans = 0
        self.forms = -1
        """How many forms were compared before."""
        self.odd: list[str] = []
        """Variables that were found to differ where the states do not, since the last form began."""
        self.of_states = False
        """Whether the last form changed its state in other scans than the text."""
        self.stops = ""
        """Where the text itself stops in one of the runs."""
        self._kept: dict[tuple[int, int], Session] = {}
        self._telling: list[tuple[Program, list[Stimulus], Session]] = []
        """Runs that showed a difference, with the text in each, the last one first: most forms fall by the same few."""
        self._entered: set[str] = set()
        """The flags of the steps that some run of the last form entered."""
        try:
            self.texts = [link(w) for w in written]
        except LinkError:  # a text that cannot run has no behaviour yet; the check says what is wrong
            self.texts = []

    def shown(self, project: Project) -> str:
        """What the comparison showed, in a sentence."""
        if not self.texts:
            return "the text cannot run yet, so it was not compared"
        outputs = "all outputs come one scan earlier" if self.early else "the outputs change in the same scans"
        mine = [q for q in project.sequences if q.name.lower() in self.states]
        names = ", ".join(q.name for q in mine)
        never = [s.name if len(mine) == 1 else f"{q.name}.{s.name}" for q in mine for s in q.steps
                 if f"{q.name}.{s.name}.X" not in self._entered]  # fmt: skip
        but = f"; no run came to {several(never)}" if never else ""
        return f"{names}: {self.runs} runs beside the text, {self.scans:,} scans: the state changes in the same scans, {outputs}{but}"

    def difference(self, project: Project) -> str:
        """The first difference of a sequence and the text, in words; empty for none, and for a text that cannot run."""
        if not self.texts:
            return ""
        try:
            chart = link(project)
        except LinkError as error:
            return str(error)
        first = ""
        self.forms += 1
        self.odd = []
        for text in self.texts:
            found = self._of(project, chart, text)
            if not found:
                return ""
            first = first or found
        return first

    def _of(self, project: Project, chart: Program, text: Program) -> str:
        """The first difference of a sequence and one of the texts."""
        self.text = text
        self.early, self.runs, self.scans = False, 0, 0
        self._entered.clear()
        self.of_states = False
        self.same = self.later = self._odd_same = self._odd_later = ""
        for n, (of, given, two) in enumerate(self._telling):
            if of is text:
                one = Session(chart, given)
                one.run_for(two.k * project.period_ms)
                if found := self._differ(project, one, two):
                    self._telling.insert(0, self._telling.pop(n))
                    return found
        for n in range(SHORT_RUNS + LONG_RUNS):
            look(1 - LEFT ** (self.forms + n / (SHORT_RUNS + LONG_RUNS) / 2))
            scans = SHORT if n < SHORT_RUNS else LONG
            one = Session(chart, at_random(project, n, scans))
            one.run_for(scans * project.period_ms)
            if found := self._tells(project, one, self._run_of_text(one, scans, n)):
                return found
        for n in range(AIMED_RUNS):
            one = aimed(project, chart, n, AIMED)
            scans = one.k
            for variant in range(VARIANTS):
                look(1 - LEFT ** (self.forms + 0.5 + (n + variant / VARIANTS) / AIMED_RUNS / 2))
                if variant:
                    given = [st for st, _ in one.log]
                    one = Session(chart, coincident(project, given, _changes(one.trace), n * VARIANTS + variant - 1))
                    one.run_for(scans * project.period_ms)
                if found := self._tells(project, one, self._run_of_text(one, scans)):
                    return found
        for n in range(RESTING_RUNS):
            long = _rest(project, text)
            one = aimed(project, chart, n, RESTED, long if n == 0 else 0, long if n else 0)
            if found := self._tells(project, one, self._run_of_text(one, one.k)):
                return found
        self.early = bool(self.same)
        return ""

    def _tells(self, project: Project, one: Session, two: Session) -> str:
        """The first difference of a run of the chart and that of the text; a run that shows one is tried first with other forms."""
        found = self._differ(project, one, two)
        if found:
            self._telling.insert(0, (self.text, [st for st, _ in one.log], two))
            del self._telling[MOST_TELLING:]
        return found

    def _differ(self, project: Project, one: Session, two: Session) -> str:
        """The first difference of a run of the chart and that of the text."""
        entered = _entered(one.trace)
        self._entered.update(one.trace.recorded[c].name for c in entered)
        self.runs += 1
        self.scans += two.trace.scan_count
        for q in project.sequences:
            variable = self.states.get(q.name.lower())
            if variable is not None:
                numbers = {f"{q.name}.{s.name}.X": s.number for s in q.steps}
                numbers = {name: n for name, n in numbers.items() if one.trace.column(name) in entered}
                if found := _state_differs(one, numbers, two, variable):
                    self.of_states = True
                    return found
        if two.stopped is not None:
            self.stops = self.stops or f"the program stops: {two.stopped.message}"
        for s in project.variables:
            mine = s.cls is SignalClass.INTERNAL and s.name.lower() in self._internals
            if mine and (found := self._drifts(project, one.trace, two.trace, s.name)):
                self.odd.append(s.name)
                return found
        for output in (s.name for s in project.signals if s.cls is SignalClass.OUTPUT):
            a, b = _values(one.trace, output), _values(two.trace, output)
            both = min(len(a), len(b))
            a, b = a[:both], b[:both]
            if not self.same and (other := np.flatnonzero(a[1:] != b[1:])).size:
                k = int(other[0]) + 1
                self._odd_same = output
                self.same = (
                    f"at {k * project.period_ms} ms {output} is {b[k]:g} in the text and {a[k]:g} in the sequence"
                )
            if not self.later and not np.array_equal(a[1:-1], b[2:]):
                self.later, self._odd_later = f"{output} does not come one scan earlier like the others", output
        if not (self.same and self.later):
            return ""
        self.odd += [self._odd_same, self._odd_later]
        return self.same

    def _run_of_text(self, chart: Session, scans: int, number: int = -1) -> Session:
        """The text in the run of a chart; those at random, which have a number, are the same for every sequence."""
        found = self._kept.get((id(self.text), number))
        if found is None:
            found = Session(self.text, [st for st, _ in chart.log])
            found.run_for(scans * self.text.period_ms)
            if number >= 0:
                self._kept[id(self.text), number] = found
        return found

    def _drifts(self, project: Project, chart: Trace, text: Trace, name: str) -> str:
        """Where a variable is another than in the text in the scan before, the same and the next: a scan early or late, as a body
        comes, is no difference, but it may not add up.
        """
        a, b = _values(chart, name), _values(text, name)
        n = min(len(a), len(b))
        mine, now = a[1 : n - 1], b[1 : n - 1]
        other = np.flatnonzero((mine != now) & (mine != b[2:n]) & (mine != b[: n - 2])) if n > 2 else np.array([], int)
        if not other.size:
            return ""
        k = int(other[0]) + 1
        return f"at {k * project.period_ms} ms {name} is {b[k]:g} in the text and {a[k]:g} in the sequence"


def _rest(project: Project, text: Program) -> int:
    """How many scans a run rests in a state: behind the longest time that the texts and settings name, within bounds."""
    p, named = text.project, []
    for word in _TIMES.findall(f"{p.opening} {p.closing}"):
        with suppress(ValueError):  # of a comment
            named.append(time_ms(word))
    named += [int(s.start) for s in p.variables if s.type is Type.TIME]
    most = MOST_REST * project.period_ms
    scans = max((ms for ms in named if ms <= most), default=0) // project.period_ms
    return max(LEAST_REST, scans + LEAST_REST)


def _values(trace: Trace, name: str) -> NDArray[np.float64]:
    """The value of a signal at the end of each scan."""
    scans, values = trace.changes(trace.column(name))
    return np.repeat(values, np.diff(np.append(scans, trace.scan_count)))


def _entered(trace: Trace) -> set[int]:
    """The columns of the steps that were active in some scan."""
    columns = np.array(trace.columns, np.int64)[np.array(trace.values) != 0]
    return {c for c in np.unique(columns).tolist() if trace.recorded[c].kind == "step"}


def _changes(trace: Trace) -> list[int]:
    """The scans in which a step was entered or left."""
    changes = [trace.changes(c)[0][1:] for c in _entered(trace)]
    return np.unique(np.concatenate(changes)).tolist() if changes else []


def _active(trace: Trace, numbers: dict[str, int]) -> NDArray[np.int64]:
    """The number of the first of some steps that is active at the end of each scan, -1 where none is."""
    out = np.full(trace.scan_count, -1)
    for name, number in reversed(numbers.items()):
        for begin, end in trace.windows(name):
            out[begin:end] = number
    return out


def _state_differs(one: Session, numbers: dict[str, int], two: Session, variable: str) -> str:
    """Where the states of a sequence and of the text differ; a text that stops has no behaviour from there on."""
    chart, text = one.trace, two.trace
    now = _active(chart, numbers)
    states = _values(text, variable)[: chart.scan_count]
    both = min(len(now), len(states))
    if (other := np.flatnonzero(now[:both] != states[:both])).size:
        k = int(other[0])
        return f"at {k * chart.period_ms} ms the state is {states[k]:g} in the text and {now[k]} in the sequence"
    if one.stopped is None or text.scan_count <= chart.scan_count + 1:
        return ""
    return f"at {one.k * chart.period_ms} ms the sequence stops, and the text does not: {one.stopped.message}"
