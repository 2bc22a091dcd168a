"""Traces as value change dump (IEEE 1364, clause 18), timescale 1 ms: signals in one scope, steps in one a sequence."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from spokeshave.formats.disk import write_text_atomically
from spokeshave.formats.trace_csv import Changes
from spokeshave.model.project import Type

_BITS = {Type.INT: 16, Type.DINT: 32, Type.TIME: 64}
_FIRST, _LAST = 33, 126
"""Identifiers are made of the printable characters from ! to ~."""


def identifier(n: int) -> str:
    """The identifier of column `n`: one character for the first 94, then two, and so on.

    >>> identifier(0), identifier(93), identifier(94)
    ('!', '~', '!!')
    """
    base = _LAST - _FIRST + 1
    out = ""
    n += 1
    while n:
        n, digit = divmod(n - 1, base)
        out = chr(_FIRST + digit) + out
    return out


def _value(kind: Type, value: float, ident: str) -> str:
    if kind is Type.BOOL:
        return f"{int(value)}{ident}"
    if kind is Type.REAL:
        return f"r{value!r} {ident}"
    bits = _BITS[kind]
    return f"b{int(value) & ((1 << bits) - 1):b} {ident}"


def vcd_lines(trace: Changes) -> Iterator[str]:
    """The lines of the file, without line ends. Nothing in it depends on the clock or the machine."""
    yield "$version Spokeshave $end"
    yield "$timescale 1 ms $end"
    scopes: dict[str, list[tuple[int, str]]] = {}
    for i, column in enumerate(trace.recorded):
        parts = column.name.split(".")
        scope, name = (parts[0], parts[1]) if len(parts) == 3 else ("signals", column.name)
        scopes.setdefault(scope, []).append((i, name))
    for scope, columns in scopes.items():
        yield f"$scope module {scope} $end"
        for i, name in columns:
            kind = trace.recorded[i].type
            what = "wire 1" if kind is Type.BOOL else "real 64" if kind is Type.REAL else f"integer {_BITS[kind]}"
            yield f"$var {what} {identifier(i)} {name} $end"
        yield "$upscope $end"
    yield "$enddefinitions $end"
    kinds = [c.type for c in trace.recorded]
    names = [identifier(i) for i in range(len(kinds))]
    now = -1
    for k, column_index, value in zip(trace.scans, trace.columns, trace.values):
        if k != now:
            if now == 0:
                yield "$end"
            yield f"#{k * trace.period_ms}"
            if now < 0:
                yield "$dumpvars"
            now = k
        yield _value(kinds[column_index], value, names[column_index])
    if now == 0:
        yield "$end"
    yield f"#{trace.scan_count * trace.period_ms}"


def write_vcd(trace: Changes, path: Path) -> None:
    """Writes a dump. Raises `FormatError` when the file cannot be written."""
    write_text_atomically("\n".join(vcd_lines(trace)) + "\n", path)
