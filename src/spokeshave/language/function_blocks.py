"""Standard function blocks of IEC 61131-3: what they are made of, and what they do once each time they are called.

An instance owns slots in the list of values: its inputs, its outputs, then its memory, from `base` on. Timers read the
scan's time from `v[TIME]`, never a clock (semantics section 6).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from spokeshave.model.project import Type, Value

TIME = 2
"""Slot of the scan's time in ms."""


@dataclass(frozen=True, slots=True)
class BlockType:
    """`inputs` and `outputs` are (name, type); `memory` are start values of what it remembers."""

    inputs: tuple[tuple[str, Type], ...]
    outputs: tuple[tuple[str, Type], ...]
    memory: tuple[Value, ...] = ()

    def members(self) -> list[tuple[str, Type]]:
        """Inputs, then outputs, in the order of their slots."""
        return [*self.inputs, *self.outputs]


_B, _T, _I = Type.BOOL, Type.TIME, Type.INT
_TIMER = BlockType((("IN", _B), ("PT", _T)), (("Q", _B), ("ET", _T)), (0, False))

BLOCKS: dict[str, BlockType] = {
    "TON": _TIMER,
    "TOF": _TIMER,
    "TP": _TIMER,
    "CTU": BlockType((("CU", _B), ("R", _B), ("PV", _I)), (("Q", _B), ("CV", _I)), (False,)),
    "CTD": BlockType((("CD", _B), ("LD", _B), ("PV", _I)), (("Q", _B), ("CV", _I)), (False,)),
    "CTUD": BlockType(
        (("CU", _B), ("CD", _B), ("R", _B), ("LD", _B), ("PV", _I)),
        (("QU", _B), ("QD", _B), ("CV", _I)),
        (False, False),
    ),
    "R_TRIG": BlockType((("CLK", _B),), (("Q", _B),), (False,)),
    "F_TRIG": BlockType((("CLK", _B),), (("Q", _B),), (False,)),
    "SR": BlockType((("S1", _B), ("R", _B)), (("Q1", _B),)),
    "RS": BlockType((("S", _B), ("R1", _B)), (("Q1", _B),)),
}


def ton(v: list[Any], b: int) -> None:
    """In the scan in which IN rises ET is 0; Q from the first scan with `t - t_rise >= PT` on."""
    if not v[b]:
        v[b + 2], v[b + 3], v[b + 5] = False, 0, False
        return
    if not v[b + 5]:
        v[b + 4], v[b + 5] = v[TIME], True
    passed = v[TIME] - v[b + 4]
    v[b + 2], v[b + 3] = passed >= v[b + 1], min(passed, v[b + 1])


def tof(v: list[Any], b: int) -> None:
    """Q from IN on until IN has been FALSE for PT."""
    if v[b]:
        v[b + 2], v[b + 3], v[b + 5] = True, 0, True
        return
    if v[b + 5]:
        v[b + 4], v[b + 5] = v[TIME], False
    if v[b + 2]:
        passed = v[TIME] - v[b + 4]
        v[b + 2], v[b + 3] = passed < v[b + 1], min(passed, v[b + 1])


def tp(v: list[Any], b: int) -> None:
    """A pulse of PT from a rise of IN; while it lasts IN does not matter. Memory: start, whether it runs or IN stays."""
    if v[b + 2]:
        passed = v[TIME] - v[b + 4]
        v[b + 2], v[b + 3] = passed < v[b + 1], min(passed, v[b + 1])
    elif v[b] and not v[b + 5]:
        v[b + 2], v[b + 3], v[b + 4] = v[b + 1] > 0, 0, v[TIME]
    if not v[b + 2] and not v[b]:
        v[b + 3] = 0
    v[b + 5] = v[b]


def ctu(v: list[Any], b: int) -> None:
    """CTU: counts up with each rise of CU, R sets to 0 (IEC 61131-3)."""
    if v[b + 1]:
        v[b + 4] = 0
    elif v[b] and not v[b + 5] and v[b + 4] < 32767:
        v[b + 4] += 1
    v[b + 5] = v[b]
    v[b + 3] = v[b + 4] >= v[b + 2]


def ctd(v: list[Any], b: int) -> None:
    """CTD: counts down with each rise of CD, LD loads PV (IEC 61131-3)."""
    if v[b + 1]:
        v[b + 4] = v[b + 2]
    elif v[b] and not v[b + 5] and v[b + 4] > -32768:
        v[b + 4] -= 1
    v[b + 5] = v[b]
    v[b + 3] = v[b + 4] <= 0


def ctud(v: list[Any], b: int) -> None:
    """CTUD: counts both ways; a rise of both counts nothing (IEC 61131-3)."""
    up, down = v[b] and not v[b + 8], v[b + 1] and not v[b + 9]
    if v[b + 2]:
        v[b + 7] = 0
    elif v[b + 3]:
        v[b + 7] = v[b + 4]
    elif up != down:
        v[b + 7] = max(-32768, min(32767, v[b + 7] + (1 if up else -1)))
    v[b + 8], v[b + 9] = v[b], v[b + 1]
    v[b + 5], v[b + 6] = v[b + 7] >= v[b + 4], v[b + 7] <= 0


def r_trig(v: list[Any], b: int) -> None:
    """R_TRIG: Q for one call after CLK has risen."""
    v[b + 1], v[b + 2] = v[b] and not v[b + 2], v[b]


def f_trig(v: list[Any], b: int) -> None:
    """F_TRIG: Q for one call after CLK has fallen."""
    v[b + 1], v[b + 2] = not v[b] and not v[b + 2], not v[b]


def sr(v: list[Any], b: int) -> None:
    """The set input wins."""
    v[b + 2] = v[b] or (v[b + 2] and not v[b + 1])


def rs(v: list[Any], b: int) -> None:
    """The reset input wins."""
    v[b + 2] = not v[b + 1] and (v[b] or v[b + 2])


WORK: dict[str, Callable[[list[Any], int], None]] = {
    "TON": ton, "TOF": tof, "TP": tp, "CTU": ctu, "CTD": ctd, "CTUD": ctud, "R_TRIG": r_trig, "F_TRIG": f_trig,
    "SR": sr, "RS": rs,
}  # fmt: skip
