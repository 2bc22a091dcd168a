"""What a machine file declares by name: signals, tables, functions and function blocks with their instances.

A cell of a table and a variable of an instance of a block of one's own is a variable like any other, named `Pattern[3].Time`
and `Motor2.RunTime` (semantics section 2).
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

Value = bool | int | float


class Type(StrEnum):
    """Types of semantics section 2: INT has 16 bits, DINT 32, REAL is an IEEE double, TIME whole milliseconds."""

    BOOL = "BOOL"
    INT = "INT"
    DINT = "DINT"
    REAL = "REAL"
    TIME = "TIME"


class SignalClass(StrEnum):
    """Where a signal comes from and who may write it (semantics section 2)."""

    INPUT = "input"
    OUTPUT = "output"
    INTERNAL = "internal"
    SETTING = "setting"


def zero_of(kind: Type) -> Value:
    """The value a variable of this type has when nobody says another."""
    return False if kind is Type.BOOL else 0.0 if kind is Type.REAL else 0


@dataclass(frozen=True, slots=True)
class Signal:
    """A named variable of the project. `contact` is `no` or `nc`: how the device behind an input is wired."""

    name: str
    cls: SignalClass
    type: Type = Type.BOOL
    address: str = ""
    comment: str = ""
    initial: Value | None = None
    home: Value | None = None
    contact: str = "no"
    retain: bool = False
    unit: str = ""

    @property
    def start(self) -> Value:
        """The value before the first scan: `initial`, or the zero of the type."""
        return zero_of(self.type) if self.initial is None else self.initial


@dataclass(frozen=True, slots=True)
class Instance:
    """A declared instance of a function block, a standard one such as a TON or one of the file's own."""

    name: str
    kind: str


@dataclass(frozen=True, slots=True)
class Column:
    """A member of a STRUCT; without a name the only one of a list of plain values."""

    name: str = ""
    type: Type = Type.BOOL


@dataclass(frozen=True, slots=True)
class Table:
    """A variable of many values, `internal` or `setting`: an ARRAY whose first row has the index `first`, of the STRUCT
    `row_type` or of plain values; not `indexed` it is one STRUCT. `rows` are its initial values.
    """

    name: str
    cls: SignalClass = SignalClass.SETTING
    columns: tuple[Column, ...] = (Column(),)
    rows: tuple[tuple[Value, ...], ...] = ()
    first: int = 1
    row_type: str = ""
    indexed: bool = True
    retain: bool = False
    comment: str = ""

    @property
    def last(self) -> int:
        """The index of the last row."""
        return self.first + len(self.rows) - 1

    def cell(self, row: int, column: int) -> str:
        """The name of a cell: `Pattern[3].Time`; `row` counts from 0."""
        member = self.columns[column].name
        return f"{self.name}{f'[{self.first + row}]' * self.indexed}{f'.{member}' * bool(member)}"

    def cells(self) -> list[Signal]:
        """Its variables, row by row. What a row has too little of or too much is told when the file is linked."""
        return [
            Signal(self.cell(r, c), self.cls, of.type, initial=value, retain=self.retain)
            for r, row in enumerate(self.rows)
            for c, (of, value) in enumerate(zip(self.columns, row))
        ]

    @property
    def first_cell(self) -> str:
        """The name of its first cell, or its own where it has none."""
        return self.cell(0, 0) if self.rows and self.columns else self.name


@dataclass(frozen=True, slots=True)
class Member:
    """A variable of a function or a function block: an `input`, an `output`, a `variable` that it remembers, a `temporary` one
    that begins anew in each call, a `constant`, or an `external` one, which is the machine's variable of this name. `type` is one
    of `Type`, or the kind of a block, of which it is an instance.
    """

    name: str
    role: str = "variable"
    type: str = "BOOL"
    initial: Value | None = None
    retain: bool = False
    comment: str = ""


@dataclass(frozen=True, slots=True)
class Routine:
    """A FUNCTION, which has the type of its `result`, or a FUNCTION_BLOCK, which has none (IEC 61131-3, 6.6). `text` is its body
    in structured text.
    """

    name: str
    members: tuple[Member, ...] = ()
    text: str = ""
    result: str = ""
    comment: str = ""

    @property
    def is_block(self) -> bool:
        """Whether it is a FUNCTION_BLOCK."""
        return not self.result

    def plain(self, *roles: str) -> list[Member]:
        """Members of these roles that are no instances."""
        return [m for m in self.members if m.role in roles and m.type in Type.__members__]

    def instances(self) -> list[Instance]:
        """Members that are instances of blocks."""
        mine = (m for m in self.members if m.role != "external")
        return [Instance(m.name, m.type) for m in mine if m.type not in Type.__members__]


VALUES = ("input", "output", "variable", "temporary", "constant")
"""Roles of the variables of a routine that have a value of their own; inputs come first."""
ROLES = (*VALUES, "external")
MOST_CELLS = 20_000
"""Variables that tables and instances of blocks may have together."""
Declarations = tuple[
    tuple[Signal, ...], tuple[Table, ...], tuple[Instance, ...], tuple[Routine, ...]
]  # fmt: skip


def variables_of(declared: Declarations) -> tuple[Signal, ...]:
    """Signals, cells of tables and variables of instances of own blocks, in this order. What goes beyond `MOST_CELLS`, or is an
    instance of itself, is left out: linking refuses it.
    """
    signals, tables, instances, routines = declared
    own = {r.name.lower(): r for r in routines if r.is_block}
    if not tables and not any(i.kind.lower() in own for i in instances):
        return signals
    out = [cell for t in tables for cell in t.cells()]
    waiting: list[tuple[str, str, tuple[str, ...]]] = [(i.name, i.kind, ()) for i in reversed(instances)]
    while waiting and len(out) <= MOST_CELLS:
        name, kind, path = waiting.pop()
        block = own.get(kind.lower())
        if block is None or kind.lower() in path:
            continue
        out += [
            Signal(f"{name}.{m.name}", SignalClass.INTERNAL, Type(m.type), initial=m.initial, retain=m.retain, comment=m.comment)
            for m in block.plain(*VALUES)
        ]  # fmt: skip
        waiting += [(f"{name}.{i.name}", i.kind, (*path, kind.lower())) for i in reversed(block.instances())]
    return (*signals, *out[:MOST_CELLS])


def standard_instances(declared: Declarations) -> tuple[Instance, ...]:
    """Instances of blocks that are not the file's own, those inside own blocks too, by their whole names: `Motor2.Delay`."""
    _, _, instances, routines = declared
    own = {r.name.lower(): r for r in routines if r.is_block}
    if not any(i.kind.lower() in own for i in instances):
        return instances
    out: list[Instance] = []
    waiting: list[tuple[Instance, tuple[str, ...]]] = [(i, ()) for i in reversed(instances)]
    while waiting and len(out) <= MOST_CELLS:
        i, path = waiting.pop()
        block = own.get(i.kind.lower())
        if block is None:
            out.append(i)
        elif i.kind.lower() not in path:
            below = (Instance(f"{i.name}.{x.name}", x.kind) for x in reversed(block.instances()))
            waiting += [(x, (*path, i.kind.lower())) for x in below]
    return tuple(out)
