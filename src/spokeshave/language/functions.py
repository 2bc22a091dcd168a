"""Standard functions of IEC 61131-3, and the arithmetic that compiled code calls (semantics section 2 and 6)."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from spokeshave.language import LanguageError
from spokeshave.model.project import Type

Where = tuple[int, int, int]
"""(place number, line, column): which text, and where in it, an operation stands."""


class RunStop(LanguageError):
    """A located error that ends a run: division by zero, a number that is not finite, an endless loop."""

    def __init__(self, message: str, where: Where) -> None:
        super().__init__(message)
        self.message = message
        self.where = where


@dataclass(frozen=True, slots=True)
class Function:
    """How a function is called: number of inputs, `real` if all are REAL, `selects` for SEL(BOOL, a, b)."""

    least: int
    most: int
    real: bool = False
    selects: bool = False
    operator: str = ""
    """The operator a function form such as ADD stands for."""


FUNCTIONS = {
    "ABS": Function(1, 1),
    "MIN": Function(2, 16),
    "MAX": Function(2, 16),
    "LIMIT": Function(3, 3),
    "SEL": Function(3, 3, selects=True),
    "MUX": Function(2, 16),
    "MOVE": Function(1, 1),
    "TRUNC": Function(1, 1, real=True),
    "EXPT": Function(2, 2, operator="**"),
    "ADD": Function(2, 16, operator="+"),
    "MUL": Function(2, 16, operator="*"),
    "SUB": Function(2, 2, operator="-"),
    "DIV": Function(2, 2, operator="/"),
    "GT": Function(2, 16, operator=">"),
    "GE": Function(2, 16, operator=">="),
    "EQ": Function(2, 16, operator="="),
    "LE": Function(2, 16, operator="<="),
    "LT": Function(2, 16, operator="<"),
    "NE": Function(2, 2, operator="<>"),
}
REAL_FUNCTIONS: dict[str, Callable[[float], float]] = {
    "SQRT": math.sqrt, "LN": math.log, "LOG": math.log10, "EXP": math.exp, "SIN": math.sin, "COS": math.cos,
    "TAN": math.tan, "ASIN": math.asin, "ACOS": math.acos, "ATAN": math.atan,
}  # fmt: skip
FUNCTIONS |= {name: Function(1, 1, real=True) for name in REAL_FUNCTIONS}

CONVERSIONS: dict[str, tuple[Type, Type]] = {
    f"{a}_TO_{b}": (a, b) for a in Type for b in Type if a is not b and not (b is Type.BOOL and a is Type.REAL)
}


def wrap16(x: int, v: list[Any], where: Where) -> int:
    """INT result in two's complement; a wrap is noted as a *numeric overflow* in `v[0]`."""
    if -32768 <= x <= 32767:
        return x
    v[0].append(where)
    return ((x + 32768) & 0xFFFF) - 32768


def wrap32(x: int, v: list[Any], where: Where) -> int:
    """DINT result in two's complement; a wrap is noted as a *numeric overflow* in `v[0]`."""
    if -(2**31) <= x < 2**31:
        return x
    v[0].append(where)
    return ((x + 2**31) & 0xFFFFFFFF) - 2**31


def whole_div(a: int, b: int, where: Where) -> int:
    """Integer division, rounded toward zero. Raises `RunStop` for a divisor of 0."""
    if b == 0:
        raise RunStop("division by zero", where)
    q = abs(a) // abs(b)
    return q if (a < 0) == (b < 0) else -q


def whole_mod(a: int, b: int, where: Where) -> int:
    """Remainder with the sign of the dividend, so that `a = (a / b) * b + a MOD b`.

    Raises `RunStop` for a divisor of 0.
    """
    if b == 0:
        raise RunStop("MOD by zero", where)
    return a - b * whole_div(a, b, where)


def within(i: int, first: int, last: int, where: Where) -> int:
    """The index of a row of a table. Raises `RunStop` for one it does not have."""
    if not first <= i <= last:
        raise RunStop(f"row {i} is outside of the table, which has {first} to {last}", where)
    return i


def gives(outer: list[Any], inner: list[Any], slot: int) -> Any:
    """What a function that ran on values of its own gives; the loop turns it took count where it was called."""
    outer[3] = inner[3]
    return inner[slot]


def real_div(a: float, b: float, where: Where) -> float:
    """Division of REAL. Raises `RunStop` for a divisor of 0 and a result that is not finite."""
    if b == 0:
        raise RunStop("division by zero", where)
    return finite(a / b, where)


def finite(x: float, where: Where) -> float:
    """`x`, unless it is a NaN or infinite: such a value never enters a variable. Raises `RunStop` then."""
    if math.isfinite(x):
        return x
    raise RunStop("the result is not a finite number", where)


def whole_part(x: float, where: Where) -> int:
    """`TRUNC`: the whole number towards zero."""
    return int(finite(x, where))


def nearest(x: float, where: Where) -> int:
    """A REAL as a whole number, halves to the even one."""
    return round(finite(x, where))


LONGEST_TIME = 2**63 - 1
"""Milliseconds a TIME may have, to either side."""


def bounded(ms: int, where: Where) -> int:
    """A TIME, unless it is beyond what a TIME holds. Raises `RunStop` then."""
    if -LONGEST_TIME <= ms <= LONGEST_TIME:
        return ms
    raise RunStop("the time is out of range", where)


def real_pow(a: float, b: float, where: Where) -> float:
    """A power. Raises `RunStop` where it has no finite value."""
    try:
        return finite(math.pow(a, b), where)
    except (ValueError, OverflowError, ZeroDivisionError):
        raise RunStop(f"{a} ** {b} has no finite value", where) from None


def real_function(name: str, a: float, where: Where) -> float:
    """A function of one REAL; where it has no value the run stops. Raises `RunStop` then."""
    try:
        return finite(REAL_FUNCTIONS[name](a), where)
    except (ValueError, OverflowError):
        raise RunStop(f"{name}({a}) has no value", where) from None


def mux(key: int, values: tuple[Any, ...], where: Where) -> Any:
    """`MUX`: the input of this number, from 0. Raises `RunStop` where there is none."""
    if not 0 <= key < len(values):
        raise RunStop(f"MUX has no input {key}", where)
    return values[key]


MOST_TURNS = 100_000
TURNS = 3
"""Slot that counts the loop turns of a scan."""


def turn(v: list[Any], where: Where) -> None:
    """One more turn of a loop; more than 100,000 in a scan stop the run (semantics section 6).

    Raises `RunStop` then.
    """
    v[TURNS] += 1
    if v[TURNS] > MOST_TURNS:
        raise RunStop(f"more than {MOST_TURNS:,} loop turns in one scan", where)


def time_mul(a: int, b: float, where: Where) -> int:
    """A TIME in ms times a number. Raises `RunStop` beyond the bounds of TIME."""
    try:
        return bounded(round(finite(a * b, where)), where)
    except OverflowError:  # too large for a REAL
        raise RunStop("the time is out of range", where) from None


def time_div(a: int, b: float, where: Where) -> int:
    """A TIME in ms by a number. Raises `RunStop` for a divisor of 0."""
    if b == 0:
        raise RunStop("division by zero", where)
    return whole_div(a, b, where) if isinstance(b, int) else bounded(round(finite(a / b, where)), where)


def counts_on(value: int, end: int, step: int, where: Where) -> bool:
    """Whether a FOR goes on: up to the end by a positive step, down to it by a negative one.

    Raises `RunStop` for a step of 0.
    """
    if step == 0:
        raise RunStop("a step of 0 never ends", where)
    return value <= end if step > 0 else value >= end


def limit(low: Any, x: Any, high: Any) -> Any:
    """`MIN(MAX(IN, MN), MX)`, as IEC 61131-3 has it: where the limits cross, the upper one."""
    return min(max(x, low), high)


HELPERS: dict[str, Callable[..., Any]] = {
    f.__name__: f
    for f in (
        wrap16,
        wrap32,
        whole_div,
        whole_mod,
        real_div,
        real_pow,
        finite,
        whole_part,
        nearest,
        bounded,
        real_function,
        mux,
        within,
        gives,
        turn,
        counts_on,
        time_mul,
        time_div,
        limit,
    )
}
HELPERS |= {"abs": abs, "min": min, "max": max, "round": round, "float": float, "int": int, "bool": bool}
