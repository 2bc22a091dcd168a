"""Traces as CSV: `time_ms,signal,value`, one row a change at the end of the scan in which it happened."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Protocol

from spokeshave.formats.disk import write_text_atomically
from spokeshave.model.project import Type


class Column(Protocol):
    """What a column of a trace has to say of itself."""

    @property
    def name(self) -> str: ...
    @property
    def type(self) -> Type: ...


class Changes(Protocol):
    """What is needed of a trace: parallel changes in the order of scan and column."""

    @property
    def recorded(self) -> Sequence[Column]: ...
    @property
    def scans(self) -> Sequence[int]: ...
    @property
    def columns(self) -> Sequence[int]: ...
    @property
    def values(self) -> Sequence[float]: ...
    @property
    def period_ms(self) -> int: ...
    @property
    def scan_count(self) -> int: ...


def change_row(time_ms: int, name: str, value: float, real: bool) -> str:
    """The line of a change; a REAL reads back as the same."""
    return f"{time_ms},{name},{value!r}" if real else f"{time_ms},{name},{int(value)}"


def trace_rows(trace: Changes) -> Iterator[str]:
    """The lines of the file, header first, without line ends."""
    yield "time_ms,signal,value"
    names = [c.name for c in trace.recorded]
    real = [c.type is Type.REAL for c in trace.recorded]
    period = trace.period_ms
    for k, column, value in zip(trace.scans, trace.columns, trace.values):
        yield change_row(k * period, names[column], value, real[column])


def write_trace(trace: Changes, path: Path) -> None:
    """Writes a trace as CSV. Raises `FormatError` when the file cannot be written."""
    write_text_atomically("\n".join(trace_rows(trace)) + "\n", path)
