"""Recordings from elsewhere: tables (a row a sample, or a row a change) and value change dumps (IEEE 1364, clause 18).

Times count from the first one; a recording says nothing of what its names are in the machine file.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from math import isfinite
from pathlib import Path

from spokeshave.formats.disk import text_of_file
from spokeshave.formats.errors import FormatError, reading
from spokeshave.formats.tables.grid import Sheet, read_sheets
from spokeshave.model.diagnostics import quoted

SUFFIXES = (".csv", ".vcd", ".tsv", ".txt", ".xlsx", ".xlsm", ".ods")
_TIME_HEADS = ("time", "zeit", "t", "timestamp", "zeitstempel", "date", "datum")
_NAME_HEADS = ("signal", "name", "variable", "tag", "channel", "kanal")
_VALUE_HEADS = ("value", "wert", "state", "zustand")
_WORDS = {
    "true": 1.0,
    "on": 1.0,
    "ein": 1.0,
    "yes": 1.0,
    "high": 1.0,
    "false": 0.0,
    "off": 0.0,
    "aus": 0.0,
    "no": 0.0,
    "low": 0.0,
}
_CLOCK = re.compile(
    r"(?:(\d{4})-(\d\d?)-(\d\d?)|(\d\d?)\.(\d\d?)\.(\d{4}))?[T ,]*(\d\d?):(\d\d)(?::(\d\d)(?:[.,](\d+))?)?\s*Z?"
)
_SCALES = {"fs": 1e-12, "ps": 1e-9, "ns": 1e-6, "us": 1e-3, "ms": 1.0, "s": 1000.0}
_DAY = 86_400_000
LONGEST_MS = 7 * _DAY
LARGEST_BYTES = 100_000_000
"""Bytes of a dump that is read."""


@dataclass(frozen=True, slots=True)
class Recording:
    """Names with their changes, each a time in ms and the value from then on, and the last moment that was recorded, in ms."""

    lanes: dict[str, list[tuple[int, float]]]
    end_ms: int


def read_recording(path: Path) -> Recording:
    """Raises `FormatError` with the row or line that is wrong."""
    with reading(path):
        if path.suffix.lower() not in SUFFIXES:
            raise FormatError(f"the suffix {path.suffix or '(none)'} is no recording", advice="use .csv, .xlsx or .vcd")
        dump = path.suffix.lower() == ".vcd"
        found = parse_dump(text_of_file(path, LARGEST_BYTES)) if dump else of_sheet(read_sheets(path)[0])
        if found.end_ms > LONGEST_MS:
            raise FormatError(
                f"it lasts {found.end_ms / _DAY:.3g} days, more than 7",
                advice="is the unit of its times the right one?",
            )
        return found


def of_sheet(sheet: Sheet) -> Recording:
    """A table whose first column with a time heading has the times. Raises `FormatError`."""
    head, time = _heading(sheet)
    heads = [sheet.cell(head, c).strip() for c in range(sheet.width)]
    lower = [h.lower() for h in heads]
    name = next((c for c, h in enumerate(lower) if c != time and h in _NAME_HEADS), -1)
    value = next((c for c, h in enumerate(lower) if c not in (time, name) and h in _VALUE_HEADS), -1)
    unit = _unit(lower[time])
    lanes: dict[str, list[tuple[int, float]]] = {}
    if name < 0 or value < 0:
        twice = next((h for c, h in enumerate(heads) if h and h in heads[:c]), "")
        if twice:
            raise FormatError(f"two columns are called {quoted(twice)}", line=head + 1)
    first: float | None = None
    last, days = 0.0, 0
    for r in range(head + 1, len(sheet.rows)):
        if not any(sheet.rows[r]):
            continue
        at, clock = _time(sheet.cell(r, time), unit, r + 1)
        if clock and first is not None and at + days * _DAY < last - _DAY / 2:
            days += 1  # past midnight
        at += days * _DAY
        first = at if first is None else first
        if at < last and last - at > 0.5 and r > head + 1:
            raise FormatError("the time goes backwards", line=r + 1, advice="sort the rows by time")
        last = at
        if name >= 0 and value >= 0:
            _note(lanes, sheet.cell(r, name).strip(), round(at - first), sheet.cell(r, value), r + 1)
            continue
        for c, title in enumerate(heads):
            if c != time and title:
                _note(lanes, title, round(at - first), sheet.cell(r, c), r + 1)
    if first is None or not lanes:
        raise FormatError("there are no values in it", advice="a time and a value for each signal in a row")
    return Recording(lanes, round(last - first))


def _heading(sheet: Sheet) -> tuple[int, int]:
    for r in range(min(20, len(sheet.rows))):
        for c in range(sheet.width):
            words = re.split(r"[\s_(\[]+", sheet.cell(r, c).strip().lower())
            if words[0] in _TIME_HEADS and sum(bool(x) for x in sheet.rows[r]) > 1:
                return r, c
    raise FormatError("no column has the times", advice="call one Time, with its unit: Time (s), time_ms")


def _unit(head: str) -> float:
    found = re.search(r"(?:^|[_\s(\[])(ms|us|µs|s|sec|min)\b", head)
    return {"ms": 1.0, "us": 1e-3, "µs": 1e-3, "min": 60_000.0}.get(found[1] if found else "s", 1000.0)


def _time(text: str, unit: float, row: int) -> tuple[float, bool]:
    """Milliseconds, and whether it is a time of the day without its date."""
    text = text.strip()
    with suppress(ValueError):
        if isfinite(number := float(text.replace(",", "."))):
            return number * unit, False
    if found := _CLOCK.fullmatch(text):
        y, m, d, d2, m2, y2, hour, minute, second, part = found.groups()
        ms = ((int(hour) * 60 + int(minute)) * 60 + int(second or 0)) * 1000 + float(f"0.{part or 0}") * 1000
        if not (y or y2):
            return ms, True
        try:
            day = datetime(int(y or y2), int(m or m2), int(d or d2)).toordinal()
        except ValueError:
            raise FormatError(f"{quoted(text)} is no date", line=row) from None
        return day * _DAY + ms, False
    raise FormatError(f"{quoted(text)} is no time", line=row, advice="write 12.5, 00:00:12.5, or 2026-03-01 10:00:12.5")


def _note(lanes: dict[str, list[tuple[int, float]]], name: str, at: int, text: str, row: int) -> None:
    """Puts a value down if it is another one; an empty cell says nothing new."""
    text = text.strip()
    if not name or not text:
        return
    value = _WORDS.get(text.lower())
    if value is None:
        try:
            value = float(text.replace(",", "."))
        except ValueError:
            raise FormatError(
                f"{quoted(text)} is no value of {quoted(name)}", line=row, advice="write a number, TRUE or FALSE"
            ) from None
    if not isfinite(value):
        raise FormatError(f"{quoted(text)} is no value of {quoted(name)}", line=row)
    _change(lanes.setdefault(name, []), at, value)


def _change(lane: list[tuple[int, float]], at: int, value: float) -> None:
    if lane and lane[-1][0] == at:
        lane.pop()
    if not lane or lane[-1][1] != value:
        lane.append((at, value))


def parse_dump(text: str) -> Recording:
    """A value change dump. What is unknown or at high impedance changes nothing. Raises `FormatError` with the line."""
    scale, scopes, now, last = 1.0, list[str](), 0.0, 0.0
    names: dict[str, list[tuple[str, str, int]]] = {}
    lanes: dict[str, list[tuple[int, float]]] = {}
    first: float | None = None
    said_at_last = True
    words = _words(text)
    for word, line in words:
        if word == "$timescale":
            said = "".join(w for w, _ in _until_end(words, line))
            found = re.fullmatch(r"(\d+)(fs|ps|ns|us|ms|s)", said)
            if found is None:
                raise FormatError(f"{quoted(said)} is no timescale", line=line)
            scale = int(found[1]) * _SCALES[found[2]]
        elif word == "$scope":
            scopes += [w for w, _ in _until_end(words, line)][-1:]
        elif word == "$upscope":
            list(_until_end(words, line))
            if scopes:
                scopes.pop()
        elif word == "$var":
            parts = [w for w, _ in _until_end(words, line)]
            if len(parts) < 4 or not re.fullmatch("[0-9]{1,3}", parts[1]):
                raise FormatError("a variable needs kind, size, identifier and name", line=line)
            name = ".".join([*scopes, parts[3]])
            names.setdefault(parts[2], []).append((name, parts[0], int(parts[1])))
            lanes.setdefault(name, [])
        elif word in ("$dumpvars", "$dumpall", "$dumpon", "$dumpoff", "$end"):
            continue
        elif word.startswith("$"):
            list(_until_end(words, line))
        elif word.startswith("#"):
            if not re.fullmatch("#[0-9]{1,18}", word):
                raise FormatError(f"{quoted(word)} is no time", line=line)
            now = int(word[1:]) * scale
            if now < last:
                raise FormatError("the time goes backwards", line=line)
            first, last, said_at_last = now if first is None else first, now, False
        else:
            said_at_last = True
            ident, value = _dumped(word, words, line)
            for name, kind, bits in names.get(ident, ()):
                if value is not None:
                    signed = kind == "integer" and value >= 2 ** (bits - 1)
                    _change(lanes[name], round(now - (first or 0)), value - 2**bits if signed else value)
    lanes = {n: c for n, c in lanes.items() if c}
    if not lanes:
        raise FormatError("there are no values in it", advice="a value change dump declares variables and dumps them")
    return Recording(
        lanes, round(last - (first or 0)) - (not said_at_last)
    )  # a last time alone is where it ends, not a moment of it


def _words(text: str) -> Iterator[tuple[str, int]]:
    for n, line in enumerate(text.split("\n"), 1):
        for word in line.split():
            yield word, n


def _until_end(words: Iterator[tuple[str, int]], line: int) -> Iterator[tuple[str, int]]:
    for word, n in words:
        if word == "$end":
            return
        yield word, n
    raise FormatError("an $end is missing", line=line)


def _dumped(word: str, words: Iterator[tuple[str, int]], line: int) -> tuple[str, float | None]:
    """Identifier and value of a change; None for one that is not known."""
    kind = word[0].lower()
    try:
        if kind in "br":
            ident, _ = next(words)
            digits = word[1:].lower()
            if kind == "r":
                return ident, float(digits)
            return ident, None if set(digits) - {"0", "1"} else float(int(digits, 2))
        if kind in "01xz" and len(word) > 1:
            return word[1:], float(kind) if kind in "01" else None
    except (ValueError, StopIteration, OverflowError):
        pass
    raise FormatError(f"{quoted(word)} is no change of a value", line=line)
