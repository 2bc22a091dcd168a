"""Recipes: named sets of values for settings and for cells of tables of settings.

A recipe is taken by a person on the bench, or by a scenario (`use recipe "Dark"`): its values are then set as if somebody had typed
them, all in one scan. What it does not speak of stays as it is.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from spokeshave.model.signals import Signal, SignalClass, Value

if TYPE_CHECKING:
    from spokeshave.model.project import Project


@dataclass(frozen=True, slots=True)
class Recipe:
    """Values by the name of a setting or of a cell (`Dips[2].Lasts`), as `Signal.initial` has them."""

    name: str
    values: tuple[tuple[str, Value], ...] = ()

    def value(self, name: str) -> Value | None:
        """What it says of a setting; None where it says nothing."""
        return next((v for n, v in self.values if n.lower() == name.lower()), None)


def recipe_of(project: Project, name: str) -> Recipe | None:
    """The recipe of this name."""
    return next((r for r in project.recipes if r.name.lower() == name.lower()), None)


def taken(project: Project, recipe: Recipe) -> list[tuple[Signal, Value]]:
    """The settings that a recipe sets, with their values, in its order; what it says of things that are not there is left out."""
    found = ((project.signal(n), v) for n, v in recipe.values)
    return [(s, v) for s, v in found if s is not None and s.cls is SignalClass.SETTING]


def by_the_file(project: Project, values: Iterable[tuple[Signal, Value]]) -> Project:
    """The machine file in which settings and cells begin with these values."""
    wanted = {s.name.lower(): v for s, v in values}
    signals = tuple(
        replace(s, initial=wanted[s.name.lower()])
        if s.name.lower() in wanted and s.start != wanted[s.name.lower()]
        else s
        for s in project.signals
    )
    tables = []
    for t in project.tables:
        rows = tuple(
            tuple(wanted.get(t.cell(r, c).lower(), old) for c, old in enumerate(row)) for r, row in enumerate(t.rows)
        )
        tables.append(t if rows == t.rows else replace(t, rows=rows))
    return replace(project, signals=signals, tables=tuple(tables))
