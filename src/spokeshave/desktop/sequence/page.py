"""The sequence stage: a sheet and a chart for each sequence, one selection for both."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QSizePolicy,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.icons import icon
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.chart_view import ChartView
from spokeshave.desktop.sequence.sheet import Sheet
from spokeshave.desktop.sequence.sheet_view import SheetView
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Step


class SequencePage(QWidget):
    """Sequences side by side as tabs, and the face of choice below."""

    def __init__(self, document: Document, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.document, self.runner, self.selection = document, runner, selection
        self.face = "sheet"
        self.names: list[str] = []
        self.current = ""
        self.sheets: dict[str, SheetView] = {}
        self.charts: dict[str, ChartView] = {}
        self.stack = QStackedWidget()
        self.tabs = QHBoxLayout()
        self.tabs.setSpacing(4)
        self.group = QButtonGroup(self)
        self.faces = QButtonGroup(self)
        self.hint = QLabel()
        self.hint.setObjectName("hint")
        self.hint.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        bar = QHBoxLayout()
        bar.setContentsMargins(8, 4, 8, 4)
        bar.addLayout(self.tabs)
        bar.addSpacing(12)
        bar.addWidget(self.hint, 1)
        for name, title, keys in (("sheet", "Sheet", "F6"), ("chart", "Chart", "F7")):
            button = QToolButton()
            button.setText(title)
            button.setIcon(icon(name))
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            button.setCheckable(True)
            button.setChecked(name == self.face)
            button.setToolTip(f"Show the {title.lower()} ({keys})")
            button.clicked.connect(lambda _=False, n=name: self.show_face(n))
            self.faces.addButton(button)
            button.setObjectName(f"face_{name}")
            bar.addWidget(button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(bar)
        column.addWidget(self.stack, 1)
        document.changed.connect(self.refresh)
        selection.asked.connect(self._follow)
        self.refresh()

    def refresh(self) -> None:
        """Makes tabs for the document's sequences."""
        names = [q.name for q in self.document.project.sequences]
        if names == self.names and names:
            return
        self.names = names
        for button in self.group.buttons():
            self.group.removeButton(button)
            self.tabs.removeWidget(button)
            button.deleteLater()
        for views in (self.sheets, self.charts):
            for view in views.values():
                self.stack.removeWidget(view)
                view.deleteLater()
        self.sheets, self.charts = {}, {}
        for name in names:
            button = QToolButton()
            button.setText(name)
            button.setCheckable(True)
            button.setObjectName(f"sequence_{name}")
            button.clicked.connect(lambda _=False, n=name: self.show_sequence(n))
            self.group.addButton(button)
            self.tabs.addWidget(button)
            sheet = SheetView(Sheet(self.document, name), self.runner, self.selection)
            sheet.insert_asked.connect(self.insert_step)
            sheet.delete_asked.connect(self.delete)
            self.sheets[name] = sheet
            self.charts[name] = ChartView(self.document, name, self.runner, self.selection)
            self.stack.addWidget(sheet)
            self.stack.addWidget(self.charts[name])
        if not names:
            empty = QLabel("No sequence yet. Add one with Sequence, New sequence.")
            empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
            self.stack.addWidget(empty)
        self.show_sequence(self.current if self.current in names else names[0] if names else "")

    def refresh_icons(self) -> None:
        for button in self.faces.buttons():
            button.setIcon(icon(button.objectName().removeprefix("face_")))

    def show_sequence(self, name: str) -> None:
        self.current = name
        for button in self.group.buttons():
            button.setChecked(button.text() == name)
        self.show_face(self.face)

    def show_face(self, face: str) -> None:
        self.face = face
        for button in self.faces.buttons():
            button.setChecked(button.objectName() == f"face_{face}")
        self.hint.setText("Type to edit; Insert, Delete, Space" if face == "sheet" else "Wheel zooms, click selects")
        if self.current in self.names:
            view = self.sheets[self.current] if face == "sheet" else self.charts[self.current]
            self.stack.setCurrentWidget(view)
            view.setFocus()

    def _follow(self) -> None:
        name = self.selection.place.sequence
        for known in self.names:
            if known.lower() == name.lower() and known != self.current:
                self.show_sequence(known)

    # -- edits, all on the current sheet

    @property
    def sheet(self) -> SheetView | None:
        return self.sheets.get(self.current)

    def step(self) -> str:
        """The step that edits are about: the selected one."""
        p = self.selection.place
        if p.sequence.lower() == self.current.lower() and p.kind in ("step", "action"):
            return p.step
        return self.sheet.current_step() if self.sheet else ""

    def insert_step(self) -> None:
        step = self.step()
        if not step:
            return
        before = {s.name for s in self._steps()}
        if self.document.edit(f"Insert a step after {step}", lambda p: edits.insert_step(p, self.current, step)):
            new = next((s.name for s in self._steps() if s.name not in before), step)
            self.selection.set(Place("step", self.current, new))

    def _steps(self) -> tuple[Step, ...]:
        q = self.document.project.sequence(self.current)
        return q.steps if q else ()

    def delete(self) -> None:
        """Deletes the selected way out, where a step has several, or the selected step."""
        sheet, step = self.sheet, self.step()
        if sheet is None or not step:
            return
        way, index = sheet.current_way(), sheet.currentIndex()
        if way is not None and index.column() in (sheet.sheet.awaits, sheet.sheet.next):
            self.document.edit(f"Delete a way out of {step}", lambda p: edits.remove_transition(p, self.current, way))
        else:
            self.document.edit(f"Delete {step}", lambda p: edits.delete_step(p, self.current, step))

    def add_way(self) -> None:
        """Another way out of the selected step, to the initial step, with a condition to be written."""
        step, q = self.step(), self.document.project.sequence(self.current)
        if step and q is not None:
            self.document.edit(
                f"Add a way out of {step}", lambda p: edits.add_transition(p, self.current, step, q.initial)
            )

    def move_row(self, by: int) -> None:
        step = self.step()
        if step and self.document.edit(f"Move {step}", lambda p: edits.move_step(p, self.current, step, by)):
            self.selection.set(Place())
            self.selection.set(Place("step", self.current, step))
