"""Edits of recipes: one more, another name, another value."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import replace

from spokeshave.model.edits import EditError, change_item, free_name, put_items, remove_item
from spokeshave.model.project import Project
from spokeshave.model.recipes import Recipe, recipe_of
from spokeshave.model.signals import Signal, Value

_RECIPE_ROW = re.compile(
    r"^[ \t]*(?:for\s+each\b|given\s+recipe\b|.*:\s*use\s+recipe\b).*$", re.IGNORECASE | re.MULTILINE
)
"""Rows that may name a recipe, those of a list too."""


def new_recipe(project: Project, name: str = "Recipe", values: Iterable[tuple[Signal, Value]] = ()) -> Project:
    """One more recipe at the end; `name` gets a number if it is taken."""
    name = free_name(_legal(name), {r.name.lower() for r in project.recipes})
    return put_items(project, "recipes", (*project.recipes, Recipe(name, tuple((s.name, v) for s, v in values))))


def rename_recipe(project: Project, name: str, new: str) -> Project:
    """Another name; rows of scenarios that take the recipe follow. Raises `EditError` for a name that is taken or none."""
    index, new = _index(project, name), _legal(new)
    other = recipe_of(project, new)
    if other is not None and other is not project.recipes[index]:
        raise EditError(f"there is a recipe {other.name} already")
    old = re.compile(rf'"{re.escape(project.recipes[index].name)}"', re.IGNORECASE)
    scenarios = tuple(
        replace(s, text=_RECIPE_ROW.sub(lambda row: old.sub(lambda _: f'"{new}"', row[0]), s.text))
        if "recipe" in s.text.lower() else s
        for s in project.scenarios
    )  # fmt: skip
    project = project if scenarios == project.scenarios else put_items(project, "scenarios", scenarios)
    return change_item(project, "recipes", index, name=new)


def remove_recipe(project: Project, name: str) -> Project:
    """Without a recipe. Raises `EditError` if there is none of this name."""
    return remove_item(project, "recipes", _index(project, name))


def set_values(project: Project, name: str, values: Iterable[tuple[str, Value | None]]) -> Project:
    """Other values for settings, by name; None takes one out of the recipe. They stand in the order of the settings.

    Raises `EditError` for what is no setting.
    """
    index = _index(project, name)
    recipe = project.recipes[index]
    known = {s.name.lower(): s.name for s in project.settings}
    now: dict[str, Value] = {n.lower(): v for n, v in recipe.values}
    for setting, value in values:
        if setting.lower() not in known:
            raise EditError(f"{setting} is no setting; a recipe has values for settings and for cells of their tables")
        if value is None:
            now.pop(setting.lower(), None)
        else:
            now[setting.lower()] = value
    gone = [(n, now[n.lower()]) for n, _ in recipe.values if n.lower() not in known]
    here = [(known[n], now[n]) for n in known if n in now]
    return change_item(project, "recipes", index, values=(*here, *gone))


def _index(project: Project, name: str) -> int:
    found = recipe_of(project, name)
    if found is None:
        raise EditError(f"there is no recipe {name}")
    return project.recipes.index(found)


def _legal(name: str) -> str:
    name = " ".join(name.split())
    if not name or '"' in name:
        raise EditError('a recipe has a name, without quotes: scenarios take it as in  use recipe "Dark"')
    return name
