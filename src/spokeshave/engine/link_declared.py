"""Tables, functions and function blocks of a machine file: names, types and sizes, before any text is read (semantics 2)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.functions import CONVERSIONS, FUNCTIONS
from spokeshave.language.literals import value_problem
from spokeshave.language.rename import name_problem
from spokeshave.model.diagnostics import Place, did_you_mean
from spokeshave.model.project import Project, Routine, SignalClass, Table, Type
from spokeshave.model.signals import MOST_CELLS, ROLES

Note = Callable[..., None]
"""note(code, place, message, advice)."""


def check_declared(project: Project, note: Note) -> list[tuple[str, Place]]:
    """Notes what is wrong with tables, functions and blocks; gives their names, which are names of the project."""
    types: dict[str, Table] = {}
    for t in project.tables:
        _check_table(t, note)
        if t.row_type and types.setdefault(t.row_type.lower(), t).columns != t.columns:
            first = types[t.row_type.lower()].name
            note("table", Place("table", item=t.name), f"{t.row_type} has other columns here than in {first}",
                 "give one of the two another name for its rows")  # fmt: skip
    for r in project.routines:
        _check_routine(project, r, note)
    for i in project.instances:
        place = Place("instance", item=i.name)
        _check_kind(project, i.kind, place, note)
    if len(project.variables) - len(project.signals) >= MOST_CELLS:
        note("table", Place(), f"tables and blocks have more than {MOST_CELLS:_} values", "a file has room for fewer")
    named = [(t.name, Place("table", item=t.name)) for t in project.tables]
    return named + [(r.name, Place("routine", item=r.name)) for r in project.routines]


def _check_table(t: Table, note: Note) -> None:
    place = Place("table", item=t.name)
    if t.cls not in (SignalClass.INTERNAL, SignalClass.SETTING):
        note("table", place, f"a table is no {t.cls}", "make it internals or settings")
    if not t.rows or not t.columns:
        note("table", place, "the table has no values", "give it a row and a column")
    if not t.indexed and len(t.rows) > 1:
        note("table", place, "a table without an index has one row")
    if t.row_type and (problem := name_problem(t.row_type)):
        note("name", place, problem)
    if bool(t.row_type) is not all(c.name for c in t.columns) or (not t.row_type and len(t.columns) != 1):
        note("table", place, "columns without names", "one column of plain values has no name, others have one each")
    _check_each([c.name for c in t.columns if c.name], place, note)
    for n, row in enumerate(t.rows):
        if len(row) != len(t.columns):
            note("table", place, f"row {t.first + n} has {len(row)} values, there are {len(t.columns)} columns")
            continue
        for column, value in zip(t.columns, row):
            if problem := value_problem(value, column.type):
                what = f"{column.name} of " * bool(column.name)
                note("initial", place, f"{what}row {t.first + n}: {problem}")


def _check_routine(project: Project, r: Routine, note: Note) -> None:
    place = Place("routine", item=r.name)
    if r.result and r.result not in Type.__members__:
        note("routine", place, f"{r.name} gives {r.result}", f"a function gives one of {', '.join(Type)}")
    if r.name.upper() in {*BLOCKS, *FUNCTIONS, *CONVERSIONS}:
        note("name", place, f"{r.name} is a standard {'block' if r.name.upper() in BLOCKS else 'function'}")
    _check_each([m.name for m in r.members] + [r.name] * bool(r.result), place, note)
    for m in r.members:
        if m.role not in ROLES:
            note("routine", place, f"{m.name} is {m.role}", f"there are {', '.join(ROLES)}")
        elif m.role == "external":
            if not r.is_block:
                note("routine", place, f"{m.name} is external", "a function sees its inputs only")
        elif m.type in Type.__members__:
            if m.initial is not None and (problem := value_problem(m.initial, Type(m.type))):
                note("initial", place, f"{m.name}: {problem}")
        elif not r.is_block or m.role != "variable":
            what = "a function remembers nothing" if not r.is_block else "blocks are variables"
            note("routine", place, f"{m.name} is of type {m.type}: {what}", f"use one of {', '.join(Type)}")
        else:
            _check_kind(project, m.type, place, note)
    if r.is_block and _is_inside_itself(project, r):
        note("routine", place, f"{r.name} has an instance of itself inside it", "a block cannot be inside itself")


def _check_kind(project: Project, kind: str, place: Place, note: Note) -> None:
    own = [r.name for r in project.routines if r.is_block]
    if kind.upper() not in BLOCKS and kind.lower() not in {n.lower() for n in own}:
        offer = did_you_mean(kind, [*own, *BLOCKS]) or f"one of {', '.join([*own, *BLOCKS])}"
        note("block-kind", place, f"there is no block {kind}", offer)


def _check_each(names: list[str], place: Place, note: Note) -> None:
    """Names that differ and are legal."""
    for name, count in Counter(n.lower() for n in names).items():
        if problem := name_problem(name):
            note("name", place, problem)
        elif count > 1:
            note("name-twice", place, f"{name} names {count} things", "give each its own name")


def _is_inside_itself(project: Project, r: Routine) -> bool:
    seen: set[str] = set()
    waiting = [i.kind.lower() for i in r.instances()]
    while waiting:
        kind = waiting.pop()
        if kind == r.name.lower():
            return True
        inner = project.routine(kind)
        if inner is not None and kind not in seen:
            seen.add(kind)
            waiting += [i.kind.lower() for i in inner.instances()]
    return False
