"""Literals of IEC 61131-3: what their text means, and how a value is written."""

from __future__ import annotations

import re
from fractions import Fraction

from spokeshave.model.project import Type, Value

_UNIT_MS = {"d": 86_400_000, "h": 3_600_000, "m": 60_000, "s": 1000, "ms": 1}
_PART = re.compile(r"([0-9][0-9_]*(?:\.[0-9][0-9_]*)?)(ms|d|h|m|s)", re.IGNORECASE)
_TIME = re.compile(r"(?:(?:T|TIME)#)?\s*([-+]?)((?:[0-9][0-9_]*(?:\.[0-9][0-9_]*)?(?:ms|d|h|m|s)_?)+)", re.IGNORECASE)


def time_ms(text: str) -> int:
    """Milliseconds of a TIME literal, with or without its `T#`. Raises ValueError with a message for people.

    >>> time_ms("T#1m2s500ms"), time_ms("1.5s")
    (62500, 1500)
    """
    found = _TIME.fullmatch(text.strip())
    if not found:
        raise ValueError(f"{text.strip()!r} is not a time; write it like T#2s, T#1.5s or T#1m30s")
    total = sum(Fraction(amount.replace("_", "")) * _UNIT_MS[unit.lower()] for amount, unit in _PART.findall(found[2]))
    if total.denominator != 1:
        raise ValueError(f"{text.strip()} is not a whole number of milliseconds")
    return -int(total) if found[1] == "-" else int(total)


def time_text(ms: int) -> str:
    """A TIME literal in its shortest usual form.

    >>> time_text(62500), time_text(0), time_text(-20)
    ('T#1m2s500ms', 'T#0s', 'T#-20ms')
    """
    if ms == 0:
        return "T#0s"
    rest, out = abs(ms), ""
    for unit in ("d", "h", "m", "s", "ms"):
        amount, rest = divmod(rest, _UNIT_MS[unit])
        if amount:
            out += f"{amount}{unit}"
    return f"T#{'-' if ms < 0 else ''}{out}"


INT_LIMITS = {Type.INT: (-(2**15), 2**15 - 1), Type.DINT: (-(2**31), 2**31 - 1)}


def fits(value: int, kind: Type) -> bool:
    low, high = INT_LIMITS[kind]
    return low <= value <= high


def value_text(value: Value, kind: Type) -> str:
    """A value as a literal of its type: `TRUE`, `T#2s`, `12`, `180.0`."""
    if kind is Type.BOOL:
        return "TRUE" if value else "FALSE"
    if kind is Type.TIME:
        return time_text(int(value))
    return repr(float(value)) if kind is Type.REAL else str(int(value))


def read_value(text: str, kind: Type) -> Value:
    """The value a person typed for a variable of type `kind`. Raises ValueError with a message for people.

    >>> read_value("1", Type.BOOL), read_value("2s", Type.TIME), read_value("1500", Type.TIME)
    (True, 2000, 1500)
    """
    text = text.strip()
    if kind is Type.BOOL:
        if text.upper() in ("1", "TRUE"):
            return True
        if text.upper() in ("0", "FALSE"):
            return False
        raise ValueError(f"{text!r} is not a BOOL value; use TRUE or FALSE, 1 or 0")
    if kind is Type.TIME:
        return int(text) if re.fullmatch(r"[-+]?[0-9]+", text) else time_ms(text)
    try:
        number = float(text.replace("_", "")) if kind is Type.REAL else int(text.replace("_", ""))
    except ValueError:
        raise ValueError(f"{text!r} is not a {kind} value") from None
    if isinstance(number, float):
        if number != number or number in (float("inf"), float("-inf")):
            raise ValueError(f"{text} is not a finite number")
    elif not fits(number, kind):
        low, high = INT_LIMITS[kind]
        raise ValueError(f"{text} is out of range; {kind} holds {low} to {high}")
    return number
