"""Recipes beside each other, for people: a row a setting, a column a recipe."""

from __future__ import annotations

import csv
import io

from spokeshave.language.literals import value_text
from spokeshave.model.project import Project, Type, Value

HEADS = ("setting", "unit", "in the file")


def shown_value(value: Value, of: Type) -> str:
    """A value as a cell shows it: a time without its prefix."""
    return value_text(value, of).removeprefix("T#")


def recipe_table(project: Project) -> list[list[str]]:
    """The heads, then a row for each setting that any recipe speaks of; an empty cell stays as it was before."""
    rows = [[*HEADS, *(r.name for r in project.recipes)]]
    spoken = {n.lower() for r in project.recipes for n, _ in r.values}
    for s in project.settings:
        if s.name.lower() in spoken:
            said = (r.value(s.name) for r in project.recipes)
            cells = ["" if v is None else shown_value(v, s.type) for v in said]
            rows.append([s.name, s.unit, shown_value(s.start, s.type), *cells])
    return rows


def as_csv(table: list[list[str]]) -> str:
    """The table as comma-separated values."""
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows(table)
    return out.getvalue()
