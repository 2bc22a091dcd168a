"""The checked tree: every node has a type and a slot where its value lives. Only this is compiled and explained."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from spokeshave.language.syntax import Span
from spokeshave.model.project import Type, Value


@dataclass(frozen=True, slots=True)
class Const:
    """`free` marks an integer literal that may still take another numeric type."""

    type: Type
    value: Value
    span: Span
    free: bool = False


@dataclass(frozen=True, slots=True)
class Load:
    """The value of a variable: `slot` in the list of values."""

    type: Type
    slot: int
    name: str
    span: Span


@dataclass(frozen=True, slots=True)
class Apply:
    """An operation on checked operands. `op` is a key of the compiler's table, such as `and`, `add` or `lt`."""

    type: Type
    op: str
    args: tuple[Checked, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class Edge:
    """RISING, FALLING or HELD: evaluated once a scan in phase 4 (semantics section 7), kept in `slot`."""

    type: Type
    kind: str
    slot: int
    operand: Checked
    time: Checked | None
    span: Span


Checked = Const | Load | Apply | Edge


@dataclass(frozen=True, slots=True)
class Store:
    """Assigns `value` to the variable in `slot`."""

    slot: int
    name: str
    type: Type
    value: Checked
    span: Span


@dataclass(frozen=True, slots=True)
class Choose:
    branches: tuple[tuple[Checked, tuple[CheckedStatement, ...]], ...]
    otherwise: tuple[CheckedStatement, ...]


CheckedStatement = Store | Choose


def loads(node: Checked) -> Iterator[Load]:
    """All variables an expression reads, those inside RISING, FALLING and HELD too."""
    match node:
        case Load():
            yield node
        case Apply():
            for a in node.args:
                yield from loads(a)
        case Edge():
            yield from loads(node.operand)
            if node.time is not None:
                yield from loads(node.time)


def stores(statements: tuple[CheckedStatement, ...]) -> Iterator[Store]:
    """All assignments, those in branches too."""
    for s in statements:
        match s:
            case Store():
                yield s
            case Choose():
                for _, block in s.branches:
                    yield from stores(block)
                yield from stores(s.otherwise)


def reads(statements: tuple[CheckedStatement, ...]) -> Iterator[Load]:
    """All variables that statements read."""
    for s in statements:
        match s:
            case Store():
                yield from loads(s.value)
            case Choose():
                for condition, block in s.branches:
                    yield from loads(condition)
                    yield from reads(block)
                yield from reads(s.otherwise)
