"""Positions: made by a form, shown as readable rules, kept in the opening logic."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QCompleter,
    QFormLayout,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.selection import Selection
from spokeshave.model.diagnostics import Place
from spokeshave.model.positions import Position, positions, put_position, remove_position
from spokeshave.model.project import SignalClass, Type

EMPTY = (
    "No positions yet. A position is confirmed by its own switch, with the opposite switch off,\n"
    "the command as it should be, and some time to settle; without a switch it is inferred from the rest."
)


class PositionsPanel(QWidget):
    """Rules on the left, the form of the selected one on the right."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.rules: list[Position] = []
        self.old = ""
        self.list = QListWidget()
        self.list.setAccessibleName("Positions")
        self.list.setWordWrap(True)
        self.list.setSpacing(3)
        self.empty = TextLabel(EMPTY)
        self.empty.setObjectName("hint")
        self.empty.setMargin(16)
        self.name, self.switch, self.opposite, self.command, self.settle = (QLineEdit() for _ in range(5))
        self.on = QComboBox()
        self.on.addItems(["off", "on"])
        self.settle.setPlaceholderText("at once, or 200ms")
        self.switch.setPlaceholderText("none: the position is inferred")
        form = QFormLayout()
        for title, field in (
            ("Position", self.name), ("Own switch", self.switch), ("Opposite switch", self.opposite),
            ("Command", self.command), ("Command is", self.on), ("Settle time", self.settle),
        ):  # fmt: skip
            field.setAccessibleName(title)
            form.addRow(title, field)
        self.says = TextLabel()
        self.says.setWordWrap(True)
        self.says.setObjectName("hint")
        self.put, self.new, self.drop = QPushButton("Add"), QPushButton("New"), QPushButton("Delete")
        self.put.setObjectName("primary")
        buttons = QHBoxLayout()
        for button, run in ((self.new, self.begin), (self.drop, self.remove), (self.put, self.apply)):
            button.clicked.connect(run)
            buttons.addWidget(button)
        card = QFrame()
        card.setObjectName("card")
        card.setFixedWidth(320)
        inner = QVBoxLayout(card)
        inner.addLayout(form)
        inner.addWidget(self.says)
        inner.addStretch(1)
        inner.addLayout(buttons)
        left = QVBoxLayout()
        left.addWidget(self.empty)
        left.addWidget(self.list, 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 12)
        row.setSpacing(12)
        row.addLayout(left, 1)
        row.addWidget(card)
        self.list.currentRowChanged.connect(self._show)
        for field in (self.name, self.switch, self.opposite, self.command, self.settle):
            field.textChanged.connect(lambda _: self._say())
            field.returnPressed.connect(self.apply)
        self.on.currentTextChanged.connect(lambda _: self._say())
        document.changed.connect(self.refresh)
        self.refresh()
        self.begin()

    def refresh(self) -> None:
        p = self.document.project
        rules = positions(p)
        bits = [s for s in p.signals if s.type is Type.BOOL]
        for field, cls in (
            (self.switch, SignalClass.INPUT),
            (self.opposite, SignalClass.INPUT),
            (self.command, SignalClass.OUTPUT),
        ):
            words = QCompleter([s.name for s in bits if s.cls is cls], field)
            words.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
            words.setFilterMode(Qt.MatchFlag.MatchContains)
            field.setCompleter(words)
        if rules == self.rules and self.list.count():
            return
        self.rules = rules
        self.list.blockSignals(True)
        self.list.clear()
        for rule in rules:
            self.list.addItem(QListWidgetItem(rule.sentence))
        self.list.blockSignals(False)
        self.empty.setVisible(not rules)
        at = next((i for i, r in enumerate(rules) if r.name.lower() == self.old.lower()), -1)
        self.list.setCurrentRow(at)
        if at < 0 and self.old:
            self.begin()

    def begin(self) -> None:
        """An empty form for a new position."""
        self.old = ""
        self.list.setCurrentRow(-1)
        for field in (self.name, self.switch, self.opposite, self.command, self.settle):
            field.clear()
        self.on.setCurrentText("off")
        self._say()

    def _show(self, row: int) -> None:
        if 0 <= row < len(self.rules):
            r = self.rules[row]
            self.old = r.name
            for field, text in ((self.name, r.name), (self.switch, r.switch), (self.opposite, r.opposite),
                                (self.command, r.command), (self.settle, r.settle.removeprefix("T#"))):  # fmt: skip
                field.setText(text)
            self.on.setCurrentText("on" if r.commanded else "off")
            self.selection.set(Place("signal", item=r.name))
            self._say()

    def typed(self) -> Position:
        """The position as the form has it."""
        settle = self.settle.text().strip()
        return Position(
            self.name.text().strip(), self.switch.text().strip(), self.opposite.text().strip(), self.command.text().strip(),
            self.on.currentText() == "on", f"T#{settle}" if settle[:1].isdigit() else settle,
        )  # fmt: skip

    def _say(self) -> None:
        p = self.typed()
        self.says.setText(p.sentence if p.name and p.condition else "")
        self.put.setText("Change" if self.old else "Add")
        self.put.setEnabled(bool(p.name and (p.switch or p.opposite)))
        self.drop.setEnabled(bool(self.old))

    def apply(self) -> None:
        p, old = self.typed(), self.old
        if self.document.edit(
            f"{'Change' if old else 'Add'} position {p.name}", lambda project: put_position(project, p, old)
        ):
            self.old = p.name
            self.list.setCurrentRow(next(i for i, r in enumerate(self.rules) if r.name == p.name))
            self._say()

    def remove(self) -> None:
        old = self.old
        if old and self.document.edit(f"Delete position {old}", lambda project: remove_position(project, old)):
            self.begin()
