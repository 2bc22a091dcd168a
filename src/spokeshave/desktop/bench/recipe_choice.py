"""Recipes on the bench: which one is taken, what was typed beside it, and where that is kept."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QHBoxLayout, QMenu, QToolButton, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.runner import Runner
from spokeshave.model import recipe_edits as edits
from spokeshave.model.project import Project, Value
from spokeshave.model.project import Signal as Setting
from spokeshave.model.recipes import Recipe, by_the_file, recipe_of, taken
from spokeshave.verify.recipe_table import shown_value

Values = list[tuple[Setting, Value]]


def taken_now(project: Project, by_hand: Values) -> tuple[Recipe | None, Values]:
    """The recipe whose values are all there, the one with the most, and what is neither as in the file nor as it says."""
    now = {s.name.lower(): v for s, v in by_hand}
    best: Recipe | None = None
    most: Values = []
    for r in project.recipes:
        said = taken(project, r)
        there = all(now.get(s.name.lower(), s.start) == v for s, v in said)
        if there and any(v != s.start for s, v in said) and (best is None or len(said) > len(most)):
            best, most = r, said
    mine = {s.name.lower() for s, _ in most}
    return best, [(s, v) for s, v in by_hand if s.name.lower() not in mine]


class RecipeChoice(QWidget):
    """Two buttons with menus: one takes a recipe, one keeps or gives up what was typed. Each shows while there is something to do."""

    def __init__(self, document: Document, runner: Runner) -> None:
        super().__init__()
        self.document, self.runner = document, runner
        self.recipe, self.typed = QToolButton(), QToolButton()
        self.recipe.setAccessibleName("Recipe of the run")
        self.recipe.setToolTip("Takes a recipe: its values are set in the run, as if they had been typed")
        self.typed.setAccessibleName("Values by hand")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        for button in (self.recipe, self.typed):
            button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
            menu = QMenu(button)
            menu.setToolTipsVisible(True)
            button.setMenu(menu)
            row.addWidget(button)
        self.recipe.menu().aboutToShow.connect(self._offer_recipes)
        self.typed.menu().aboutToShow.connect(self._offer_keeping)
        self._shown: object = None
        runner.advanced.connect(self.refresh)
        document.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        project, by_hand = self.document.project, self.runner.by_hand()
        state = (project.recipes, project.signals, project.tables, [(s.name, v) for s, v in by_hand])
        if state == self._shown:
            return
        self._shown = state
        recipe, rest = taken_now(project, by_hand)
        self.recipe.setVisible(bool(project.recipes))
        self.recipe.setText(plain(f"Recipe {recipe.name}" if recipe is not None else "Recipe: none"))
        self.typed.setVisible(bool(rest))
        self.typed.setText(f"{len(rest)} value{'s' * (len(rest) != 1)} by hand")
        lines = [
            f"{s.name} = {shown_value(v, s.type)}, {shown_value(s.start, s.type)} in the file" for s, v in rest[:12]
        ]
        self.typed.setToolTip(plain("\n".join([*lines, "They stay through a reset until they are given up."])))

    # -- what the menus do

    def take(self, name: str) -> None:
        """Sets what a recipe says; what only the one before said goes back to the file's value."""
        project = self.document.project
        recipe = recipe_of(project, name)
        before, _ = taken_now(project, self.runner.by_hand())
        back = [] if before is None else [(s, s.start) for s, _ in taken(project, before)]
        new = [] if recipe is None else taken(project, recipe)
        said = {s.name for s, _ in new}
        self.runner.set_all([*((s, v) for s, v in back if s.name not in said), *new])

    def keep(self, name: str) -> None:
        """What was typed goes into a recipe of this name, a new one for none of the file's; into the file for no name."""
        _, values = taken_now(self.document.project, self.runner.by_hand())

        def put(p: Project) -> Project:
            if not name:
                return by_the_file(p, values)
            if recipe_of(p, name) is None:
                return edits.new_recipe(p, name, self.runner.by_hand())
            return edits.set_values(p, name, [(s.name, v) for s, v in values])

        self.document.edit(f"Keep values in {name or 'the file'}", put)

    def _offer_recipes(self) -> None:
        menu = self.recipe.menu()
        menu.clear()
        now, _ = taken_now(self.document.project, self.runner.by_hand())
        for name in ("", *(r.name for r in self.document.project.recipes)):
            action = menu.addAction(plain(name or "As in the file"), partial(self.take, name))
            action.setCheckable(True)
            action.setChecked(name == (now.name if now is not None else ""))

    def _offer_keeping(self) -> None:
        menu = self.typed.menu()
        menu.clear()
        menu.addAction("Keep these values in the &file", lambda: self.keep(""))
        now, _ = taken_now(self.document.project, self.runner.by_hand())
        for r in sorted(self.document.project.recipes, key=lambda r: now is None or r.name != now.name):
            menu.addAction(plain(f"Keep them in recipe {r.name}"), partial(self.keep, r.name))
        menu.addAction("Keep all as a &new recipe", lambda: self.keep("From the bench"))
        menu.addSeparator()
        menu.addAction("&Give them up", self.runner.give_up_values)
