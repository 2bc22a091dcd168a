"""What names mean where: the protocol by which the checker asks the place that a text stands in."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Protocol

from spokeshave.language import checked as ck
from spokeshave.language import syntax as sx
from spokeshave.model.project import Type


@dataclass(frozen=True, slots=True)
class Symbol:
    """What a name means: its type, the slot of its value, and why it may not be written (empty if it may)."""

    name: str
    type: Type
    slot: int
    locked: str = ""


@dataclass(frozen=True, slots=True)
class Called:
    """A block instance that a text calls: its inputs and outputs as (name, slot, type), what the call does at its place in
    the text, and why it may not be called here (empty if it may).
    """

    kind: str
    inputs: tuple[tuple[str, int, Type], ...]
    outputs: tuple[tuple[str, int, Type], ...]
    work: Callable[[sx.Span], ck.CheckedStatement]
    locked: str = ""


class Scope(Protocol):
    """Tells the checker what names mean in the place a text belongs to."""

    def lookup(self, parts: tuple[str, ...]) -> Symbol | str:
        """The symbol of a (dotted) name, or a sentence on why there is none."""

    def known(self) -> Iterable[str]:
        """Names to offer when one is misspelt."""

    def instance(self, name: str) -> Called | None:
        """The block instance of this name, in lower case."""

    def function(self, name: str) -> ck.Function | str | None:
        """The function of the file's own of this name, in lower case; a sentence on why it may not be called."""

    def functions(self) -> Iterable[str]:
        """Names of functions of the file's own."""

    def rows(self, table: tuple[str, ...]) -> tuple[int, int] | str:
        """The first and the last row of the table of a (dotted) name in lower case, or a sentence on why there is none."""

    def edge(self, kind: str, operand: ck.Checked, time: ck.Checked | None) -> int:
        """The slot in which the result of this RISING, FALLING or HELD will stand."""
