"""The signals stage: the list, positions, opening and closing logic, units."""

from __future__ import annotations

from PySide6.QtCore import QSize
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QStackedWidget, QToolButton, QVBoxLayout, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.signals.list import SignalList
from spokeshave.desktop.signals.logic import LogicPanel
from spokeshave.desktop.signals.positions import PositionsPanel
from spokeshave.desktop.signals.recipes import RecipesPanel
from spokeshave.desktop.signals.routines import RoutinesPanel
from spokeshave.desktop.signals.table_grid import TablesPanel
from spokeshave.desktop.signals.units import UnitsPanel
from spokeshave.desktop.stage_page import StagePage
from spokeshave.model.diagnostics import Place

PARTS = ("List", "Positions", "Opening logic", "Closing logic", "Tables", "Recipes", "Functions and blocks", "Units")


class SignalsPage(StagePage):
    """Parts as tabs above; the list is the first."""

    def minimumSizeHint(self) -> QSize:
        """The wide tables scroll; the other stages need not keep their width free."""
        return QSize(600, 300)

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.list = SignalList(document, selection)
        self.positions = PositionsPanel(document, selection)
        self.opening = LogicPanel(document, "opening")
        self.closing = LogicPanel(document, "closing")
        self.tables = TablesPanel(document, selection)
        self.recipes = RecipesPanel(document, selection)
        self.routines = RoutinesPanel(document, selection)
        self.units = UnitsPanel(document, selection)
        self.parts = (
            self.list,
            self.positions,
            self.opening,
            self.closing,
            self.tables,
            self.recipes,
            self.routines,
            self.units,
        )
        self.stack = QStackedWidget()
        self.group = QButtonGroup(self)
        bar = QHBoxLayout()
        bar.setContentsMargins(8, 4, 8, 0)
        bar.setSpacing(4)
        for i, (title, part) in enumerate(zip(PARTS, self.parts)):
            button = QToolButton()
            button.setText(title)
            button.setCheckable(True)
            button.clicked.connect(lambda _=False, i=i: self.show_part(i))
            self.group.addButton(button, i)
            bar.addWidget(button)
            self.stack.addWidget(part)
        self.summary = TextLabel()
        self.summary.setObjectName("hint")
        bar.addSpacing(12)
        bar.addWidget(self.summary, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(bar)
        column.addWidget(self.stack, 1)
        document.changed.connect(self._count)
        self._count()
        self.show_part(0)

    @property
    def view(self) -> QWidget:
        """What the keyboard goes to."""
        views = (
            self.list.view, self.positions.list, self.opening.text, self.closing.text, self.tables.grid, self.recipes.view, self.routines.text,
            self.units.tree,
        )  # fmt: skip
        return views[self.part]

    def first(self) -> QWidget:
        return self.view

    @property
    def part(self) -> int:
        return self.stack.currentIndex()

    def _count(self) -> None:
        self.summary.setText(self.list.summary())

    def show_part(self, index: int) -> None:
        self.stack.setCurrentIndex(index)
        button = self.group.button(index)
        if button is not None:
            button.setChecked(True)
        self.view.setFocus()

    def go_to(self, place: Place) -> None:
        part = {"signal": 0, "opening": 2, "closing": 3, "table": 4, "recipe": 5, "routine": 6}.get(place.kind)
        if place.kind == "table":
            self.tables.choose(place.item)
        elif place.kind == "recipe":
            self.recipes.choose(place.item)
        elif place.kind == "routine":
            self.routines.choose(place)
        elif place.kind == "signal":
            self.list.follow()
        if part is not None:
            self.show_part(part)
            if part in (2, 3) and place.line:
                (self.opening if part == 2 else self.closing).text.go_to(place.line, place.column or 1)
