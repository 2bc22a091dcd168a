"""Files read with the proof that nothing changed its behaviour on the way in.

A program that is a `CASE` on its state is read as a sequence. Both are then run beside each other, every scan, under hands
that move at random, always the same ones: the state has to change in the same scans, and every output too, or all of
them one scan earlier, where bodies set them (they run in the scan in which their step is entered). Where that does not
hold, the text is kept as it is; where it still does not, it is refused.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from spokeshave.formats.errors import FormatError, reading
from spokeshave.formats.files import read_project as read_as_it_is
from spokeshave.formats.files import text_of
from spokeshave.formats.iec_places import in_file
from spokeshave.formats.iec_read import parse_states, places_in_text
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.project import Project, Signal, SignalClass, Type

if TYPE_CHECKING:
    from spokeshave.engine.stimuli import Stimulus
    from spokeshave.engine.trace import Trace

LONG_RUNS, LONG, SHORT_RUNS, SHORT = 4, 1200, 80, 12
"""Runs and their scans: long ones go round, short ones try what can happen only once, behind the start."""
_NUMBERS = (0, 1, 2, 3, 5, 9, 10, 11, 50, 99, 100, 101, 1000)


def read_project(path: Path) -> Project:
    """The machine file at `path`, as `formats.files.read_project`; a state program only if the sequence it became does the
    same. Raises `FormatError`.
    """
    if path.suffix.lower() != ".st":
        return read_as_it_is(path)
    with reading(path):
        return read_iec(text_of(path))


def located(found: list[Diagnostic], file: Path) -> list[Diagnostic]:
    """Findings of an IEC text with the line and column they have in it, where that is known."""
    origins = places_in_text(text_of(file))
    return [in_file(d, origins, str(file)) for d in found]


def read_iec(text: str) -> Project:
    """The machine file of an IEC text, its state programs proven beside the text. Raises `FormatError`."""
    project, written = parse_states(text)
    if written is None:
        return project
    differs = difference(project, written)
    if not differs:
        return project
    charts = {q.name for q in written.sequences}
    names = frozenset(q.name.lower() for q in project.sequences if q.name not in charts)
    kept, _ = parse_states(text, names)
    if differs := difference(kept, written):
        raise FormatError(f"the sequence would not do what the text does: {differs}",
                          advice="set the state in one place of each branch, from conditions alone")  # fmt: skip
    return kept


def difference(project: Project, written: Project) -> str:
    """The first difference of the sequences and the text they were read from, in words; empty for none, and for a file
    that cannot run: the check says why.
    """
    # Only a text that became another one needs to be run.
    from spokeshave.engine.link import LinkError, link
    from spokeshave.engine.session import Session

    outputs = [s.name for s in project.signals if s.cls is SignalClass.OUTPUT]
    sequences = {q.name.lower(): q for q in project.sequences}
    states = _states(project, written)
    same = early = ""
    try:
        text = link(written)
    except LinkError:  # a text that cannot run has no behaviour yet; the check says what is wrong
        return ""
    try:
        chart = link(project)
    except LinkError as error:
        return str(error)
    for n in range(LONG_RUNS + SHORT_RUNS):
        scans = LONG if n < LONG_RUNS else SHORT
        stimuli = list(_hands(project, n, scans))
        one, two = (Session(program, stimuli, every_scan=True) for program in (chart, text))
        for session in (one, two):
            session.run_for(scans * project.period_ms)
        for name, variable in states.items():
            numbers = {f"{sequences[name].name}.{s.name}.X": s.number for s in sequences[name].steps}
            if found := _state_differs(one.trace, numbers, two.trace, variable):
                return found
        for output in outputs:
            a, b = _values(one.trace, output), _values(two.trace, output)
            k = next((i for i, (x, y) in enumerate(zip(a, b)) if x != y), -1)
            if k >= 0 and not same:
                same = f"at {k * project.period_ms} ms {output} is {b[k]} in the text and {a[k]} in the sequence"
            early = early or (
                "" if a[1:-1] == b[2:] else same or f"{output} does not come one scan earlier like the others"
            )
    return same if early else ""


def _states(project: Project, written: Project) -> dict[str, str]:
    """Sequences that stand for a state variable of the text, by name in lower case."""
    charts = {q.name.lower() for q in written.sequences}
    mine = [q for q in project.sequences if q.name.lower() not in charts]
    here = {s.name.lower() for s in project.signals}
    steps = {s.name.lower() for q in mine for s in q.steps}
    gone = [s for s in written.signals if s.name.lower() not in here | steps and s.cls is SignalClass.INTERNAL]
    variables = [s for s in gone if s.type in (Type.INT, Type.DINT)]
    return {q.name.lower(): s.name for q, s in zip(mine, variables)}


def _hands(project: Project, seed: int, scans: int) -> Iterator[Stimulus]:
    """Inputs that change at random moments, all of them or one; numbers take usual ones and those of the texts."""
    chance = random.Random(seed)
    from spokeshave.engine.stimuli import Stimulus

    inputs = [s for s in project.signals if s.cls is SignalClass.INPUT]
    t = project.period_ms
    while inputs and t < scans * project.period_ms:
        for s in inputs if chance.random() < 0.5 else [chance.choice(inputs)]:
            yield Stimulus(t, "set", s.name, _value(s, chance))
        t += project.period_ms * chance.choice((1, 1, 2, 3, 7, 20, 60, 150))


def _value(s: Signal, chance: random.Random) -> Any:
    if s.type is Type.BOOL:
        return chance.random() < 0.5
    number = chance.choice(_NUMBERS)
    return float(number) if s.type is Type.REAL else number


def _values(trace: Trace, name: str) -> list[Any]:
    """The value of a signal at the end of each scan."""
    scans, values = trace.changes(trace.column(name))
    out: list[Any] = []
    for i, value in enumerate(values):
        end = int(scans[i + 1]) if i + 1 < len(scans) else trace.scan_count
        out += [value] * (end - int(scans[i]))
    return out


def _state_differs(chart: Trace, numbers: dict[str, int], text: Trace, variable: str) -> str:
    active = {number: _values(chart, name) for name, number in numbers.items()}
    for k, state in enumerate(_values(text, variable)[: chart.scan_count]):
        now = next((n for n, on in active.items() if on[k]), -1)
        if now != state:
            return f"at {k * chart.period_ms} ms the state is {state} in the text and {now} in the sequence"
    return "" if chart.scan_count == text.scan_count else "one of them stops"
