"""Recipes in one table: a row a setting, a column a recipe. What differs from the file stands out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QHeaderView,
    QInputDialog,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.cell_editors import Index
from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.field_words import RECIPES
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.signals.table_grid import typed
from spokeshave.desktop.tables import Column, ItemTable, ItemView
from spokeshave.desktop.theme import theme
from spokeshave.model import recipe_edits as edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project
from spokeshave.model.project import Signal as Setting
from spokeshave.model.recipes import by_the_file, recipe_of, taken
from spokeshave.verify.recipe_chooser import choose_by, choosers
from spokeshave.verify.recipe_table import shown_value

HEADS = ("Setting", "Unit", "In the file")
EMPTY = (
    "No recipes yet. A recipe is a named set of values for settings and tables: the bench takes one by a click, "
    'a scenario with the row  given recipe "Dark".'
)
NOTHING = "A recipe needs settings: declare the numbers and times that change from one product to the next as settings, in the list."


class RecipeTable(ItemTable):
    """A value that differs from the file is bold in colour; a setting that a recipe leaves alone shows nothing."""

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        at = index.column() - len(HEADS)
        if at >= 0 and role == Qt.ItemDataRole.ForegroundRole:
            setting: Setting = self.rows[index.row()]
            value = self.document.project.recipes[at].value(setting.name)
            return theme.colour("ink" if value == setting.start else "accent")
        return super().data(index, role)


class RecipesPanel(QWidget):
    """`bench_asked` carries the name of a recipe to be taken on the bench."""

    bench_asked = Signal(str)

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.setProperty("manual", "recipes")
        self.only = QCheckBox("Only what recipes speak of")
        self.model: RecipeTable = RecipeTable(document, self._settings, self._columns())
        self.only.toggled.connect(lambda _: self.model.refresh())
        self.view = ItemView(self.model, "Recipes beside each other")
        self.view.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.view.selectionModel().currentColumnChanged.connect(lambda *_: self._follow())
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the recipe")
        self.name.setPlaceholderText("Name")
        self.name.setFixedWidth(150)
        self.name.editingFinished.connect(self._rename)
        self.add, self.copy, self.drop = QPushButton("New recipe"), QPushButton("Copy"), QPushButton("Delete")
        self.file, self.bench = QPushButton("Put into the file"), QPushButton("Take it on the bench")
        self.by = QPushButton("Chosen by ...")
        self.by.setToolTip("Lets an input of the machine choose: the recipes become rows of a table that it names")
        self.add.setObjectName("primary")
        self.copy.setToolTip("One more recipe with the values of the chosen one")
        self.file.setToolTip("Its values become those that the file begins with")
        self.bench.setToolTip("Sets its values in the run, as if they had been typed")
        top = QHBoxLayout()
        top.setContentsMargins(12, 8, 12, 6)
        top.setSpacing(8)
        top.addWidget(self.add)
        top.addWidget(self.name)
        for button, act in (
            (self.add, self.new), (self.copy, self.new_like), (self.drop, self.remove), (self.file, self.to_file),
            (self.bench, lambda: self.bench_asked.emit(self.chosen)), (self.by, self.ask_chooser),
        ):  # fmt: skip
            button.clicked.connect(act)
            if button is not self.add:
                top.addWidget(button)
        top.addWidget(self.only)
        self.says = TextLabel()
        self.says.setObjectName("hint")
        self.says.setMargin(6)
        top.addStretch(1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(top)
        whole.addWidget(self.view, 1)
        whole.addWidget(self.says)
        self.empty = EmptyHint(self.view, EMPTY, (("New recipe", self.new),), self.view.horizontalHeader().length)
        self.nothing = EmptyHint(self.view, NOTHING, (("Go to the list", lambda: selection.go(Place("signal"))),))
        self.model.typing.connect(self.says.setText)
        self._shown: tuple[str, ...] = ()
        document.changed.connect(self.refresh)
        self.refresh()

    def ask_chooser(self) -> None:
        """Which signal is to choose among the recipes."""
        names = choosers(self.document.project)
        if not names:
            self.says.setText("There is no whole number yet that could choose: declare an input, or a setting")
            return
        dialog = QInputDialog(self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.setWindowTitle("Recipes chosen by the machine")
        dialog.setLabelText("The recipes become rows of a table, and the logic takes the row that this names, from 1:")
        dialog.setComboBoxItems(names)
        dialog.textValueSelected.connect(self.choose_by)
        dialog.open()

    def choose_by(self, name: str) -> None:
        """Makes the table and the logic, in one edit."""
        self.document.edit(f"Recipes chosen by {name}", lambda p: choose_by(p, name))

    # -- what is shown

    def _settings(self, project: Project) -> Sequence[Setting]:
        found = project.settings
        if not self.only.isChecked():
            return found
        spoken = {n.lower() for r in project.recipes for n, _ in r.values}
        return [s for s in found if s.name.lower() in spoken]

    def _columns(self) -> list[Column]:
        def file_value(project: Project, row: int, text: str) -> Project:
            s = self._settings(project)[row]
            return by_the_file(project, [(s, typed(text, s.type))])

        def of(name: str) -> Column:
            def get(s: Setting) -> str:
                recipe = recipe_of(self.document.project, name)
                value = recipe.value(s.name) if recipe is not None else None
                return "" if value is None else shown_value(value, s.type)

            def put(project: Project, row: int, text: str) -> Project:
                s = self._settings(project)[row]
                return edits.set_values(project, name, [(s.name, typed(text, s.type) if text else None)])

            return Column(
                name, get, put, 120, right=True, edit_name=f"Recipe {name}", says=RECIPES["Recipe"], check=wrong
            )

        def wrong(project: Project, row: int, text: str) -> str:
            try:
                typed(text, self._settings(project)[row].type)
            except ValueError as error:
                return str(error)
            return ""

        def start(s: Setting) -> str:
            return shown_value(s.start, s.type)

        says = RECIPES
        fixed = [
            Column("Setting", lambda s: s.name, None, 200, says=says["Setting"]),
            Column("Unit", lambda s: s.unit or str(s.type), None, 70, says=says["Unit"]),
            Column(
                "In the file", start, file_value, 120, right=True, says=says["In the file"], check=wrong, clears=False
            ),
        ]
        return [*fixed, *(of(r.name) for r in self.document.project.recipes)]

    def refresh(self) -> None:
        """Follows the document."""
        project = self.document.project
        names = tuple(r.name for r in project.recipes)
        if names != self._shown:
            chosen = self.view.currentIndex()
            self._shown = names
            self.view.take_columns(self._columns())
            if chosen.isValid():
                at = min(chosen.column(), self.model.columnCount() - 1)
                self.view.setCurrentIndex(self.model.index(chosen.row(), at))
        self.nothing.show_while(not project.settings)
        self.empty.show_while(bool(project.settings) and not names)
        self._follow()

    @property
    def chosen(self) -> str:
        """The recipe in whose column one is; else the last one."""
        at = self.view.currentIndex().column() - len(HEADS)
        return self._shown[at if at >= 0 else -1] if self._shown else ""

    def choose(self, name: str) -> None:
        """Goes to a recipe."""
        at = next((i for i, n in enumerate(self._shown) if n.lower() == name.lower()), -1)
        if at >= 0:
            row = max(0, self.view.currentIndex().row())
            self.view.setCurrentIndex(self.model.index(row, len(HEADS) + at))

    def _follow(self) -> None:
        name = self.chosen
        for part in (self.name, self.copy, self.drop, self.file, self.bench):
            part.setEnabled(bool(name))
        if self.name.text() != name:
            self.name.setText(name)
        recipe = recipe_of(self.document.project, name)
        if recipe is not None:
            n = len([1 for s, v in taken(self.document.project, recipe) if v != s.start])
            self.says.setText(plain(f"{name}: {n} value{'s' * (n != 1)} other than in the file"))
        self.add.setEnabled(bool(self.document.project.settings))
        self.by.setEnabled(len(self.document.project.recipes) > 1)

    # -- what is done

    def new(self) -> None:
        """A recipe that says nothing yet."""
        self.view.end_typing()
        if self.document.edit("New recipe", edits.new_recipe):
            self.choose(self.document.project.recipes[-1].name)
            self.name.setFocus()
            self.name.selectAll()

    def new_like(self) -> None:
        """One more with the values of the chosen one."""
        recipe = recipe_of(self.document.project, self.chosen)
        if recipe is not None and self.document.edit(
            "Copy the recipe", lambda p: edits.new_recipe(p, recipe.name, taken(p, recipe))
        ):
            self.choose(self.document.project.recipes[-1].name)

    def remove(self) -> None:
        name = self.chosen
        self.document.edit(f"Delete recipe {name}", lambda p: edits.remove_recipe(p, name))

    def to_file(self) -> None:
        """The values of the chosen recipe become those of the file."""
        name = self.chosen

        def put(p: Project) -> Project:
            recipe = recipe_of(p, name)
            return p if recipe is None else by_the_file(p, taken(p, recipe))

        self.document.edit(f"Recipe {name} into the file", put)

    def _rename(self) -> None:
        old, new = self.chosen, self.name.text().strip()
        if (
            old
            and new != old
            and not self.document.edit("Rename the recipe", lambda p: edits.rename_recipe(p, old, new))
        ):
            self.name.setText(old)
