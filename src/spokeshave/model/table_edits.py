"""Edits of tables, functions and blocks: rows, columns, values."""

from __future__ import annotations

import re
from dataclasses import replace

from spokeshave.model.edits import EditError, add_item, free_name, put_items, taken_names
from spokeshave.model.project import (
    Column,
    Instance,
    Member,
    Project,
    Routine,
    SignalClass,
    Table,
    Type,
    Value,
    zero_of,
)

MOST_ROWS = 1000
_COLUMN = re.compile(r"(?:(?P<name>[A-Za-z_]\w*)\s*:?\s+)?(?P<type>[A-Za-z]+)")


def new_table(project: Project) -> Project:
    """A table of settings more, with a column for an output and one for a time, and three rows."""
    taken = taken_names(project) | {t.row_type.lower() for t in project.tables}
    name = free_name("Table1", taken)
    columns = (Column("Out1"), Column("Lasts", Type.TIME))
    table = Table(name, SignalClass.SETTING, columns, ((False, 1000),) * 3, row_type=free_name("Row1", taken))
    return add_item(project, "tables", table)


def _put(project: Project, table: Table, after: Table) -> Project:
    return put_items(project, "tables", tuple(after if t is table else t for t in project.tables))


def _table(project: Project, name: str) -> Table:
    table = project.table(name)
    if table is None:
        raise EditError(f"there is no table {name}")
    return table


def set_cell(project: Project, name: str, row: int, column: int, value: Value) -> Project:
    """Another value in a cell; `row` and `column` count from 0."""
    t = _table(project, name)
    cells = tuple(value if c == column else old for c, old in enumerate(t.rows[row]))
    return _put(project, t, replace(t, rows=(*t.rows[:row], cells, *t.rows[row + 1 :])))


def set_rows(project: Project, name: str, count: int) -> Project:
    """So many rows: those at the end go, new ones are like the last. Raises EditError for fewer than one."""
    t = _table(project, name)
    if not 1 <= count <= MOST_ROWS:
        raise EditError(f"a table has 1 to {MOST_ROWS} rows, not {count}")
    if not t.indexed and count > 1:
        raise EditError(f"{t.name} is one row; give it a first row to make it a list of rows")
    last = t.rows[-1] if t.rows else tuple(zero_of(c.type) for c in t.columns)
    return _put(project, t, replace(t, rows=(t.rows + (last,) * count)[:count]))


def insert_row(project: Project, name: str, at: int) -> Project:
    """A row more before row `at` (from 0), like the one before it."""
    t = _table(project, name)
    row = t.rows[max(0, at - 1)]
    return _put(project, t, replace(t, rows=(*t.rows[:at], row, *t.rows[at:])))


def remove_row(project: Project, name: str, at: int) -> Project:
    """A table without row `at` (from 0). Raises EditError for the last one, which stays."""
    t = _table(project, name)
    if len(t.rows) == 1:
        raise EditError(f"the last row of {t.name} stays; delete the table instead")
    return _put(project, t, replace(t, rows=(*t.rows[:at], *t.rows[at + 1 :])))


def columns_text(t: Table) -> str:
    """The columns as they are typed.

    >>> columns_text(Table("P", columns=(Column("Out"), Column("Lasts", Type.TIME))))
    'Out BOOL, Lasts TIME'
    """
    return ", ".join(f"{c.name} {c.type}".strip() for c in t.columns)


def set_columns(project: Project, name: str, text: str) -> Project:
    """Other columns, as `Out BOOL, Lasts TIME`, or `INT` for a list of plain values; values of columns that stay by name and
    type are kept. Raises EditError for a text that says no columns.
    """
    t = _table(project, name)
    columns = tuple(_column(part.strip()) for part in text.split(",") if part.strip())
    if not columns or (len(columns) > 1 and not all(c.name for c in columns)):
        raise EditError("columns are written as Out BOOL, Lasts TIME; one column alone may be a type, such as INT")
    if len({c.name.lower() for c in columns}) < len(columns):
        raise EditError("two columns have one name")
    old = {(c.name.lower(), c.type): n for n, c in enumerate(t.columns)}

    def moved(row: tuple[Value, ...]) -> tuple[Value, ...]:
        return tuple(
            row[old[c.name.lower(), c.type]] if (c.name.lower(), c.type) in old else zero_of(c.type) for c in columns
        )

    taken = taken_names(project) | {x.row_type.lower() for x in project.tables}
    row_type = "" if not columns[0].name else t.row_type or free_name(f"{t.name}Row", taken)
    after = replace(t, columns=columns, rows=tuple(map(moved, t.rows)), row_type=row_type)
    project = _put(project, t, after)
    others = [x for x in project.tables if x is not after and row_type and x.row_type.lower() == row_type.lower()]
    for other in others:  # a kind of row has the same columns everywhere
        project = _put(project, other, replace(other, columns=columns, rows=tuple(map(moved, other.rows))))
    return project


def set_row_type(project: Project, name: str, row_type: str) -> Project:
    """Another name for the kind of its rows, in all tables that have rows of this kind. Raises EditError for a name that is taken."""
    t = _table(project, name)
    others = {x.row_type.lower() for x in project.tables} - {t.row_type.lower()}
    if not t.row_type or row_type == t.row_type:
        return project
    if row_type.lower() in taken_names(project) | others or not row_type.isidentifier():
        raise EditError(f"{row_type!r} is no free name for a kind of rows")
    kept = tuple(
        replace(x, row_type=row_type) if x.row_type.lower() == t.row_type.lower() else x for x in project.tables
    )
    return put_items(project, "tables", kept)


def set_indexed(project: Project, name: str, indexed: bool) -> Project:
    """Whether it is a list of rows, or one row without an index. Raises EditError where rows or a name would be lost."""
    t = _table(project, name)
    if not indexed and (len(t.rows) > 1 or not t.row_type):
        raise EditError(f"{t.name} has {len(t.rows)} rows; one row with named columns may do without an index")
    return _put(project, t, replace(t, indexed=indexed))


def _column(text: str) -> Column:
    found = _COLUMN.fullmatch(text)
    kind = found["type"].upper() if found else ""
    if found is None or kind not in Type.__members__:
        raise EditError(f"{text!r} is no column; write a name and one of {', '.join(Type)}")
    return Column(found["name"] or "", Type(kind))


def new_routine(project: Project, block: bool) -> Project:
    """A block more, or a function."""
    if block:
        members = (Member("Wanted", "input"), Member("On", "output"))
        made = Routine(free_name("Block1", taken_names(project)), members, "On := Wanted;")
    else:
        name = free_name("Function1", taken_names(project))
        made = Routine(name, (Member("Raw", "input", "INT"),), f"{name} := Raw;", "INT")
    return add_item(project, "routines", made)


def put_routine(project: Project, name: str, routine: Routine) -> Project:
    """A function or a block as it is now declared. Raises EditError for a name that something else has."""
    if routine.name.lower() != name.lower() and routine.name.lower() in taken_names(project):
        raise EditError(f"{routine.name} is already the name of something else")
    kept = tuple(routine if r.name.lower() == name.lower() else r for r in project.routines)
    return put_items(project, "routines", kept)


def remove_routine(project: Project, name: str) -> Project:
    """Without a function or a block. Raises EditError while there are instances of it."""
    used = [i.name for i in project.instances if i.kind.lower() == name.lower()]
    used += [r.name for r in project.routines if any(m.type.lower() == name.lower() for m in r.members)]
    if used:
        raise EditError(f"{', '.join(used[:3])} is of the kind {name}; delete that first")
    return put_items(project, "routines", tuple(r for r in project.routines if r.name.lower() != name.lower()))


def new_instance(project: Project, kind: str) -> Project:
    """An instance more of a block."""
    return add_item(project, "instances", Instance(free_name(f"{kind}1", taken_names(project)), kind))
