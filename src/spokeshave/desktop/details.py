"""The details of what is selected, edited in place. Each field asks for one named edit.

A form is a list of rows, made anew from the machine file after every edit. Where its rows are the same as before, the
fields on the screen get the new values and stay: the focus, and what is being typed, are not disturbed.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Qt
from PySide6.QtGui import QFocusEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QFrame,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.detail_forms import rows_of, title_of
from spokeshave.desktop.detail_rows import Button, Check, Choice, Fold, Line, Note, Row, Rows, Text
from spokeshave.desktop.document import Document
from spokeshave.desktop.field_words import FIELDS
from spokeshave.desktop.manual import place_of_device
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.condition_editor import ConditionEdit
from spokeshave.desktop.theme import code_font
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project

CONDITION_W = 190
"""A field for a condition has the whole line: its label stands above it."""


class _Text(QPlainTextEdit):
    """Asks for its edit when it is left."""

    def __init__(self, rows: int) -> None:
        super().__init__()
        self.setFont(code_font())
        self.setFixedHeight(rows * 18 + 12)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.left: Callable[[], object] = list

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        if event.reason() != Qt.FocusReason.PopupFocusReason:
            self.left()


@dataclass(slots=True)
class _Shown:
    """A row on the screen: what it was made from, and its widget."""

    row: Row
    widget: QWidget


class Details(QWidget):
    """Shows the file, a sequence, a step, a transition, a signal, a block, a device: whatever is selected."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.title = TextLabel()
        self.title.setObjectName("heading")
        self.title.setWordWrap(True)
        self.fields: dict[str, QWidget] = {}
        self._rows: list[_Shown] = []
        self._of: object = None
        self.opened: set[str] = set()
        """The folds that are open."""
        self.area = QScrollArea()
        self.area.setAccessibleName("Details")
        self.area.setWidgetResizable(True)
        self.area.setFrameShape(QFrame.Shape.NoFrame)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 8, 10, 8)
        column.addWidget(self.title)
        column.addWidget(self.area, 1)
        selection.changed.connect(self.refresh)
        document.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Shows the present values; makes the form anew only where it has other rows."""
        place, project = self.selection.place, self.document.project
        self.title.setText(title_of(project, place))
        device = project.device(place.item) if place.kind == "device" else None
        self.setProperty("manual", place_of_device(device.kind) if device is not None else "")
        rows = rows_of(project, place, self._follow)
        of = (place.kind, place.sequence.lower(), place.item.lower(), place.index)
        shape = [(type(r), r.label) for r in rows]
        if shape == [(type(s.row), s.row.label) for s in self._rows] and (of == self._of or self._renames(of)):
            for shown, row in zip(self._rows, rows):
                shown.row = row
                self._put(shown)
        else:
            self._make(rows)
        self._of = of

    def _renames(self, of: tuple[str, str, str, int]) -> bool:
        """Whether a field of the form has just given its item another name: it stays the same form."""
        old = self._of
        return isinstance(old, tuple) and old[0] == of[0] and self._renaming

    _renaming = False

    def _follow(self, kind: str, sequence: str, item: str) -> None:
        """What the form is of has another name from now on."""
        self._renaming = True
        self.selection.place = type(self.selection.place)(kind, sequence, item)

    def _make(self, rows: Rows) -> None:
        form_widget = QWidget()
        form = QFormLayout(form_widget)
        form.setContentsMargins(0, 4, 4, 0)
        form.setRowWrapPolicy(QFormLayout.RowWrapPolicy.WrapLongRows)
        form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        self.fields, self._rows = {}, []
        for row in rows:
            shown = _Shown(row, self._widget(row))
            self._rows.append(shown)
            self._connect(shown)
            self._put(shown)
            if isinstance(row, (Note, Text, Button, Fold)):
                form.addRow(shown.widget)
            else:
                form.addRow(row.label, shown.widget)
            if not isinstance(row, (Note, Fold)):
                self.fields[row.label] = shown.widget
        self.form = form
        self._fold()
        old = self.area.takeWidget()
        if old is not None:
            # Its fields may be in the middle of an event; they go when that is over.
            old.hide()
            old.deleteLater()
        self.area.setWidget(form_widget)

    def _fold(self) -> None:
        """Shows the rows behind a fold where it is open, and says on it how many there are."""
        fold: _Shown | None = None
        behind: dict[int, list[QWidget]] = {}
        for shown in self._rows:
            if isinstance(shown.row, (Note, Fold)):
                fold = shown if isinstance(shown.row, Fold) else None
            elif fold is not None:
                behind.setdefault(id(fold), []).append(shown.widget)
        for shown in self._rows:
            if isinstance(shown.row, Fold) and isinstance(shown.widget, QPushButton):
                opened, widgets = shown.row.label in self.opened, behind.get(id(shown), [])
                shown.widget.setText(f"{'▾' if opened else '▸'} {shown.row.label} ({len(widgets)})")
                for widget in widgets:
                    self.form.setRowVisible(widget, opened)

    def _open(self, label: str) -> None:
        """Opens or folds the rows behind a fold, here and in the forms that come."""
        self.opened ^= {label}
        self._fold()

    # -- widgets

    def _widget(self, row: Row) -> QWidget:
        match row:
            case Line():
                line = ConditionEdit(self.document.project, None, self) if row.condition else QLineEdit()
                line.setMinimumWidth(CONDITION_W if row.condition else 48)
                if isinstance(line, ConditionEdit):
                    line.rest()
                    line.editingFinished.connect(line.note.hide)
                made: QWidget = line
            case Choice():
                box = QComboBox()
                box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
                box.setMinimumContentsLength(6)
                made = box
            case Check():
                made = QCheckBox()
            case Text():
                made = _Text(row.lines)
            case Button() | Fold():
                made = QPushButton(row.label)
            case _:
                note = TextLabel()
                note.setObjectName("hint")
                note.setWordWrap(True)
                made = note
        made.setAccessibleName(row.label)
        if isinstance(row, Fold):
            made.setObjectName("fold")
        elif not isinstance(row, Note):
            made.setAccessibleDescription(FIELDS.get(row.reaches, ""))
        return made

    def _connect(self, shown: _Shown) -> None:
        """Each field asks for the edit of the row it shows at the time."""
        widget = shown.widget
        if isinstance(widget, QLineEdit):
            widget.editingFinished.connect(lambda: self._line_done(shown, widget))
        elif isinstance(widget, QComboBox):
            widget.activated.connect(lambda _: self._ask(shown, widget.currentText()))
        elif isinstance(widget, QCheckBox):
            widget.clicked.connect(lambda on: self._ask(shown, "1" if on else "0"))
        elif isinstance(widget, _Text):
            widget.left = lambda: self._text_done(shown, widget)
        elif isinstance(shown.row, Fold) and isinstance(widget, QPushButton):
            label = shown.row.label
            widget.clicked.connect(lambda: self._open(label))
        elif isinstance(widget, QPushButton):
            widget.clicked.connect(lambda: self._ask(shown, ""))

    def _put(self, shown: _Shown) -> None:
        """Shows the row's value, but never over what is being typed."""
        row, widget = shown.row, shown.widget
        if isinstance(row, Note) and isinstance(widget, QLabel):
            widget.setText(row.label if not row.text else row.text)
        elif isinstance(row, Line) and isinstance(widget, QLineEdit):
            widget.setPlaceholderText(row.hint)
            if isinstance(widget, ConditionEdit):
                widget.project = self.document.project
                widget.sequence = self.document.project.sequence(row.condition) if row.condition != "-" else None
            if not widget.isModified() and widget.text() != row.value:
                widget.setText(row.value)
                widget.setCursorPosition(0)
                if isinstance(widget, ConditionEdit):  # what is wrong is told while one types, and by the check
                    widget.rest()
            widget.setModified(widget.isModified() and widget.text() != row.value)
        elif isinstance(row, Choice) and isinstance(widget, QComboBox):
            choices = list(row.choices if row.value in row.choices else (row.value, *row.choices))
            if choices != [widget.itemText(i) for i in range(widget.count())]:
                widget.clear()
                widget.addItems(choices)
            widget.setCurrentText(row.value)
        elif isinstance(row, Check) and isinstance(widget, QCheckBox):
            widget.setChecked(row.value)
        elif isinstance(row, Text) and isinstance(widget, QPlainTextEdit):
            widget.setPlaceholderText(row.hint)
            if not widget.document().isModified() and widget.toPlainText() != row.value:
                widget.setPlainText(row.value)
        if not isinstance(row, (Note, Fold)):
            widget.setToolTip(plain(row.tip or FIELDS.get(row.reaches, "")))

    # -- edits

    def _line_done(self, shown: _Shown, widget: QLineEdit) -> None:
        if widget.isModified():
            widget.setModified(False)
            if not self._ask(shown, widget.text().strip()) and isinstance(shown.row, Line):
                widget.setText(shown.row.value)

    def _text_done(self, shown: _Shown, widget: QPlainTextEdit) -> None:
        if widget.document().isModified():
            widget.document().setModified(False)
            self._ask(shown, widget.toPlainText())

    def _ask(self, shown: _Shown, text: str) -> bool:
        row = shown.row
        if isinstance(row, (Note, Fold)):
            return False

        def guarded(project: Project) -> Project:
            try:
                return row.change(project, text)
            except ValueError as error:
                raise EditError(str(error)) from None

        before = self.selection.place
        done = self.document.edit(row.name, guarded)
        self._renaming = False
        if not done:
            self.selection.place = before
            self.refresh()
        return done
