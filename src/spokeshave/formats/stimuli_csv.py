"""Stimuli as CSV: `time_ms,signal,value`, one row a change of an input or a setting; in, and out of a run."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from spokeshave.formats.disk import text_of_file, write_text_atomically
from spokeshave.formats.errors import FormatError, reading
from spokeshave.formats.trace_csv import Changes, change_row
from spokeshave.language.literals import read_value
from spokeshave.model.diagnostics import did_you_mean, line_and_column
from spokeshave.model.project import Project, SignalClass, Type, Value

HEADER = ["time_ms", "signal", "value"]


@dataclass(frozen=True, slots=True)
class Row:
    """A value that an input gets at a time in ms."""

    time_ms: int
    signal: str
    value: Value


def read_stimuli(path: Path, project: Project) -> list[Row]:
    """The rows of a stimuli file, stably sorted by time. Raises `FormatError` with the line that is wrong."""
    with reading(path):
        return parse_stimuli(text_of_file(path), project)


def parse_stimuli(text: str, project: Project) -> list[Row]:
    """As `read_stimuli`, from a text. Raises `FormatError` with the line."""
    if "\0" in text:
        line, _ = line_and_column(text, text.index("\0"))
        raise FormatError("there is a zero byte in the text", line=line, advice="save it as CSV in UTF-8")
    reader = csv.reader(io.StringIO(text.replace("\r\n", "\n")), strict=True)
    rows: list[Row] = []
    header_seen = False
    try:
        for cells in reader:
            cells = [c.strip() for c in cells]
            if not any(cells):
                continue
            if not header_seen:
                if [c.lower() for c in cells] != HEADER:
                    raise FormatError("the header line is missing", line=reader.line_num,
                                      advice=f"the first line should be {','.join(HEADER)}")  # fmt: skip
                header_seen = True
                continue
            rows.append(_row(cells, project, reader.line_num))
    except csv.Error as error:
        raise FormatError(f"not CSV: {error}", line=reader.line_num) from None
    if not header_seen:
        raise FormatError("the file is empty", advice=f"the first line should be {','.join(HEADER)}")
    return sorted(rows, key=lambda r: r.time_ms)


def stimuli_rows(trace: Changes, project: Project) -> Iterator[str]:
    """What the inputs and settings of a run were, header first: run with it, the machine does the same again, also without
    its devices.
    """
    given = {s.name: s for s in project.signals if s.cls in (SignalClass.INPUT, SignalClass.SETTING)}
    columns = [given.get(c.name) for c in trace.recorded]
    yield ",".join(HEADER)
    for k, column, value in zip(trace.scans, trace.columns, trace.values):
        s = columns[column]
        if s is not None and not (k == 0 and s.cls is SignalClass.SETTING and value == s.start):
            yield change_row(k * trace.period_ms, s.name, value, s.type is Type.REAL)


def write_given(changes: Iterable[tuple[int, str, Value]], path: Path) -> None:
    """Writes changes of inputs and settings: time in ms, name, value. Raises `FormatError`."""
    rows = [change_row(t, name, value, isinstance(value, float)) for t, name, value in changes]
    write_text_atomically("\n".join([",".join(HEADER), *rows]) + "\n", path)


def write_stimuli(trace: Changes, project: Project, path: Path) -> None:
    """Writes `stimuli_rows`. Raises `FormatError` when the file cannot be written."""
    write_text_atomically("\n".join(stimuli_rows(trace, project)) + "\n", path)


def _row(cells: list[str], project: Project, line: int) -> Row:
    if len(cells) != 3:
        raise FormatError(f"{len(cells)} values instead of 3", line=line, advice="time_ms,signal,value")
    try:
        time_ms = int(cells[0])
    except ValueError:
        raise FormatError(f"{cells[0]!r} is not a time in whole ms", line=line) from None
    if time_ms < 0:
        raise FormatError(f"time {time_ms} is before the start", line=line, advice="times count from 0")
    signal = project.signal(cells[1])
    if signal is None:
        offer = did_you_mean(cells[1], (s.name for s in project.signals))
        raise FormatError(f"there is no signal {cells[1]}", line=line, advice=offer)
    if signal.cls not in (SignalClass.INPUT, SignalClass.SETTING):
        raise FormatError(f"{signal.name} is an {signal.cls}", line=line, advice="only inputs and settings can be set")
    try:
        return Row(time_ms, signal.name, read_value(cells[2], signal.type))
    except ValueError as error:
        raise FormatError(str(error), line=line, item=signal.name) from None
