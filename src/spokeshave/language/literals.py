"""Literals of IEC 61131-3: what their text means, and how a value is written."""

from __future__ import annotations

import itertools
import re
import sys
from fractions import Fraction
from functools import lru_cache

from spokeshave.model.diagnostics import quoted
from spokeshave.model.project import Type, Value

_UNIT_MS = {"d": 86_400_000, "h": 3_600_000, "m": 60_000, "s": 1000, "ms": 1}
_PART = re.compile(r"([0-9][0-9_]*(?:\.[0-9][0-9_]*)?)(ms|d|h|m|s)", re.IGNORECASE)
_TIME = re.compile(r"(?:(?:T|TIME)#)?\s*([-+]?)((?:[0-9][0-9_]*(?:\.[0-9][0-9_]*)?(?:ms|d|h|m|s)_?)+)", re.IGNORECASE)


@lru_cache(maxsize=5000)
def time_ms(text: str) -> int:
    """Milliseconds of a TIME literal, with or without its `T#`. Raises ValueError with a message for people.

    >>> time_ms("T#1m2s500ms"), time_ms("1.5s")
    (62500, 1500)
    """
    found = _TIME.fullmatch(text.strip())
    if not found:
        raise ValueError(f"{_shown(text.strip())!r} is not a time; write it like T#2s, T#1.5s or T#1m30s")
    units = [unit.lower() for _, unit in _PART.findall(found[2])]
    if any(_UNIT_MS[a] <= _UNIT_MS[b] for a, b in itertools.pairwise(units)):
        raise ValueError(f"{_shown(text.strip())} has its units in the wrong order; write d, h, m, s, ms, each once")
    total = sum(Fraction(amount.replace("_", "")) * _UNIT_MS[unit.lower()] for amount, unit in _PART.findall(found[2]))
    if total.denominator != 1:
        raise ValueError(f"{_shown(text.strip())} is not a whole number of milliseconds")
    return -int(total) if found[1] == "-" else int(total)


def duration_ms(text: str) -> int:
    """Milliseconds of `2 s`, `300 ms`, `1.5 min` or a TIME literal. Raises `ValueError`."""
    text = text.replace(" ", "").lower()
    return time_ms(text.replace("min", "m"))


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


LARGEST_REAL = sys.float_info.max
INT_LIMITS = {Type.INT: (-(2**15), 2**15 - 1), Type.DINT: (-(2**31), 2**31 - 1)}


def _a(kind: Type) -> str:
    return f"an {kind}" if kind is Type.INT else f"a {kind}"


def value_problem(value: object, kind: Type) -> str:
    """Why a value is none of a type, or an empty string: the one rule for what a variable may hold (semantics section 2).

    >>> value_problem(99999, Type.INT), value_problem(1.5, Type.DINT), value_problem(True, Type.BOOL)
    ('99999 is out of range; INT holds -32768 to 32767', '1.5 is not a DINT value', '')
    """
    if isinstance(value, bool) or kind is Type.BOOL:
        return "" if isinstance(value, bool) and kind is Type.BOOL else f"{_shown(value)} is not {_a(kind)} value"
    if kind is Type.REAL:
        if not isinstance(value, (int, float)):
            return f"{_shown(value)} is not a REAL value"
        return "" if abs(value) <= LARGEST_REAL else f"{_shown(value)} is not a finite number"
    if not isinstance(value, int):
        return f"{_shown(value)} is not {_a(kind)} value"
    low, high = INT_LIMITS.get(kind, (-(2**63), 2**63 - 1))
    return "" if low <= value <= high else f"{_shown(value)} is out of range; {kind} holds {low} to {high}"


def _shown(value: object) -> str:
    return quoted(value, 40)


def real_number(text: str) -> float:
    """The number of a REAL literal. Raises ValueError for one that is none, or that no REAL holds."""
    try:
        number = float(text.replace("_", ""))
    except ValueError:
        raise ValueError(f"{_shown(text)!r} is not a REAL value") from None
    if problem := value_problem(number, Type.REAL):
        raise ValueError(problem.replace(_shown(number), _shown(text)))
    return number


def real_text(value: float) -> str:
    """A REAL as IEC 61131-3 writes it, with digits on both sides of the point, the shortest that reads back.

    >>> real_text(0.00001), real_text(1e22), real_text(180)
    ('1.0e-05', '1.0e+22', '180.0')
    """
    digits, mark, exponent = repr(float(value)).partition("e")
    return f"{digits}{'' if '.' in digits else '.0'}{mark}{exponent}"


def value_text(value: Value, kind: Type) -> str:
    """A value as a literal of its type: `TRUE`, `T#2s`, `12`, `180.0`."""
    if kind is Type.BOOL:
        return "TRUE" if value else "FALSE"
    if kind is Type.TIME:
        return time_text(int(value))
    return real_text(float(value)) if kind is Type.REAL else str(int(value))


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
        number: Value = int(text) if re.fullmatch(r"[-+]?[0-9]{1,40}", text) else time_ms(text)
    elif kind is Type.REAL:
        return real_number(text)
    else:
        try:
            number = int(text.replace("_", ""))
        except ValueError:
            raise ValueError(f"{_shown(text)!r} is not {_a(kind)} value") from None
    if problem := value_problem(number, kind):
        raise ValueError(problem)
    return number
