"""Tables and their columns, functions and blocks and their variables under other names: every text follows."""

from __future__ import annotations

from dataclasses import replace
from typing import TypeVar

from spokeshave.language.references import Target
from spokeshave.language.rename import check_new_name, name_problem, renamed, with_externals
from spokeshave.model.edits import EditError
from spokeshave.model.project import Column, Member, Project, Routine, Table

_Named = TypeVar("_Named", Table, Column, Routine, Member)


def rename_table(project: Project, old: str, new: str) -> Project:
    """A table under another name in every text."""
    check_new_name(project, old, new)
    project = with_externals(renamed(project, Target("table", old.lower()), new), old, new)
    return replace(project, tables=_put_name(project.tables, old, new))


def rename_column(project: Project, table: str, old: str, new: str) -> Project:
    """A column under another name, in all tables that have rows of the same kind, and in every text. Raises EditError for a name
    that is none or that another column has.
    """
    t = project.table(table)
    if t is None:
        raise EditError(f"there is no table {table}")
    if problem := name_problem(new):
        raise EditError(problem)
    if new.lower() != old.lower() and any(c.name.lower() == new.lower() for c in t.columns):
        raise EditError(f"{new} is already a column of {t.name}")
    project = renamed(project, Target("column", old.lower(), (t.row_type or t.name).lower()), new)
    tables = tuple(
        replace(x, columns=_put_name(x.columns, old, new)) if x.row_type.lower() == t.row_type.lower() and (t.row_type or x is t) else x
        for x in project.tables
    )  # fmt: skip
    return replace(project, tables=tables)


def rename_routine(project: Project, old: str, new: str) -> Project:
    """A function or a block under another name: its calls, its instances, and what a function gives in its body."""
    check_new_name(project, old, new)
    project = renamed(project, Target("routine", old.lower()), new)

    def kind(name: str) -> str:
        return new if name.lower() == old.lower() else name

    routines = tuple(
        replace(r, members=tuple(replace(m, type=kind(m.type)) for m in r.members)) for r in project.routines
    )
    instances = tuple(replace(i, kind=kind(i.kind)) for i in project.instances)
    return replace(project, routines=_put_name(routines, old, new), instances=instances)


def rename_member(project: Project, routine: str, old: str, new: str) -> Project:
    """A variable of a function or a block under another name, in its body, in calls and wherever it is read. Raises EditError
    for a name that is none or that another variable has.
    """
    r = project.routine(routine)
    if r is None:
        raise EditError(f"there is no block {routine}")
    if problem := name_problem(new):
        raise EditError(problem)
    if new.lower() != old.lower() and new.lower() in {m.name.lower() for m in r.members} | {r.name.lower()}:
        raise EditError(f"{new} is already a name in {r.name}")
    project = renamed(project, Target("member", old.lower(), r.name.lower()), new)
    return replace(
        project,
        routines=tuple(
            replace(x, members=_put_name(x.members, old, new)) if x.name.lower() == r.name.lower() else x
            for x in project.routines
        ),
    )


def _put_name(items: tuple[_Named, ...], old: str, new: str) -> tuple[_Named, ...]:
    return tuple(replace(x, name=new) if x.name.lower() == old.lower() else x for x in items)
