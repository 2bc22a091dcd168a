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


@dataclass(frozen=True, slots=True)
class Element:
    """A cell of a column of a table, in the row that `index` says: the slots from `slot` on in steps of `stride` are those of
    the rows `first` to `last`.
    """

    type: Type
    slot: int
    stride: int
    first: int
    last: int
    index: Checked
    names: tuple[str, str]
    """What stands before and behind the index in its name."""
    span: Span

    def loads(self) -> Iterator[Load]:
        """Its cells, row by row."""
        before, behind = self.names
        for n in range(self.first, self.last + 1):
            slot = self.slot + self.stride * (n - self.first)
            yield Load(self.type, slot, f"{before}[{n}]{behind}", self.span)


@dataclass(frozen=True, slots=True)
class Function:
    """A FUNCTION of the file, checked. It runs on values of its own from slot `FIRST` on: inputs, result, variables."""

    name: str
    inputs: tuple[tuple[str, Type], ...]
    type: Type
    start: tuple[Value, ...]
    """Initial values of its result and its variables."""
    body: tuple[CheckedStatement, ...]
    place: int
    """Number of the place of its text."""


FIRST = 4
"""Slot of the first input of a function; those before are what they are in every list of values."""


@dataclass(frozen=True, slots=True)
class Invoke:
    """A call of a function with all its inputs, in their order."""

    type: Type
    function: Function
    args: tuple[Checked, ...]
    span: Span


Checked = Const | Load | Apply | Edge | Element | Invoke


def operands(node: Checked) -> tuple[Checked, ...]:
    """The expressions an expression is made of, but for what RISING, FALLING and HELD look at."""
    match node:
        case Apply() | Invoke():
            return node.args
        case Element():
            return (node.index,)
        case _:
            return ()


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
    """IF, ELSIF and ELSE, or a CASE as conditions."""

    branches: tuple[tuple[Checked, tuple[CheckedStatement, ...]], ...]
    otherwise: tuple[CheckedStatement, ...]


@dataclass(frozen=True, slots=True)
class Repeat:
    """A loop: `condition` is read before the body where `first`, else after it; it goes on while it is TRUE."""

    condition: Checked
    body: tuple[CheckedStatement, ...]
    first: bool
    span: Span


@dataclass(frozen=True, slots=True)
class Count:
    """FOR: `variable` runs from start to end by step; end and step are read once."""

    variable: Store
    end: Checked
    step: Checked
    body: tuple[CheckedStatement, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class Leave:
    """EXIT or RETURN."""

    kind: str


@dataclass(frozen=True, slots=True)
class Run:
    """A block instance does its work on the slots from `base` on; `kind` names its function."""

    kind: str
    base: int
    name: str
    span: Span


@dataclass(frozen=True, slots=True)
class StoreAt:
    """Assigns `value` to a cell whose row is worked out."""

    cell: Element
    value: Checked
    span: Span


@dataclass(frozen=True, slots=True)
class Perform:
    """An instance of a block of the file's own does its work: its body on its own slots. RETURN ends it."""

    name: str
    body: tuple[CheckedStatement, ...]
    place: int
    """Number of the place of its text."""
    span: Span


CheckedStatement = Store | StoreAt | Choose | Repeat | Count | Leave | Run | Perform


def inner(s: CheckedStatement) -> tuple[tuple[Checked, ...], tuple[tuple[CheckedStatement, ...], ...]]:
    """The expressions a statement reads and the blocks of statements inside it."""
    match s:
        case Store():
            return (s.value,), ()
        case StoreAt():
            return (s.value, s.cell.index), ()
        case Perform():
            return (), (s.body,)
        case Choose():
            return tuple(c for c, _ in s.branches), (*(b for _, b in s.branches), s.otherwise)
        case Repeat():
            return (s.condition,), (s.body,)
        case Count():
            return (s.variable.value, s.end, s.step), (s.body,)
        case _:
            return (), ()


def form(node: Checked) -> str:
    """An expression by names and values, without slots and places: equal for the same text in two programs."""
    match node:
        case Const():
            return repr(node.value)
        case Load():
            return node.name.lower()
        case Apply():
            return f"{node.op}({','.join(map(form, node.args))})"
        case Element():
            return f"{node.names[0].lower()}[{form(node.index)}]{node.names[1].lower()}"
        case Invoke():
            return f"{node.function.name.lower()}({','.join(map(form, node.args))})"
        case Edge():
            return f"{node.kind}({form(node.operand)},{'' if node.time is None else form(node.time)})"


def edges(node: Checked) -> Iterator[Edge]:
    """Every RISING, FALLING and HELD in an expression, outer ones first."""
    if isinstance(node, Edge):
        yield node
        yield from edges(node.operand)
        if node.time is not None:
            yield from edges(node.time)
    else:
        for a in operands(node):
            yield from edges(a)


def loads(node: Checked) -> Iterator[Load]:
    """All variables an expression reads, those inside RISING, FALLING and HELD too."""
    match node:
        case Load():
            yield node
        case Apply() | Invoke() | Element():
            if isinstance(node, Element):
                yield from node.loads()
            for a in operands(node):
                yield from loads(a)
        case Edge():
            yield from loads(node.operand)
            if node.time is not None:
                yield from loads(node.time)


def stores(statements: tuple[CheckedStatement, ...]) -> Iterator[Store]:
    """All assignments, those in branches and loops too."""
    for s in statements:
        if isinstance(s, Store):
            yield s
        elif isinstance(s, StoreAt):
            for cell in s.cell.loads():
                yield Store(cell.slot, cell.name, cell.type, s.value, s.span)
        elif isinstance(s, Count):
            yield s.variable
        for block in inner(s)[1]:
            yield from stores(block)


def reads(statements: tuple[CheckedStatement, ...]) -> Iterator[Load]:
    """All variables that statements read."""
    for s in statements:
        expressions, blocks = inner(s)
        for e in expressions:
            yield from loads(e)
        for block in blocks:
            yield from reads(block)
