"""The command palette: type a few letters of a command or an item, Return does it or goes there."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

MOST = 40


def matches(wanted: str, text: str) -> bool:
    """Whether all letters of `wanted` stand in `text` in order, without case.

    >>> matches("irs", "Insert a step"), matches("xyz", "Insert a step")
    (False, False)
    >>> matches("inst", "Insert a step")
    True
    """
    rest = iter(text.lower())
    return all(c in rest for c in wanted.lower() if c != " ")


class Finder(QDialog):
    """`entries` are (text, hint, what to do)."""

    def __init__(self, parent: QWidget, entries: list[tuple[str, str, Callable[[], object]]]) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.entries = entries
        self.line = QLineEdit()
        self.line.setPlaceholderText("Type a command, a step, a signal ...")
        self.line.setAccessibleName("Command palette")
        self.list = QListWidget()
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        column.addWidget(self.line)
        column.addWidget(self.list)
        self.resize(520, 380)
        self.line.textChanged.connect(self.fill)
        self.line.installEventFilter(self)
        self.list.itemActivated.connect(lambda _: self.take())
        self.list.itemClicked.connect(lambda _: self.take())
        self.fill()

    def fill(self) -> None:
        self.list.clear()
        wanted = self.line.text()
        found = [i for i, (text, _, _) in enumerate(self.entries) if matches(wanted, text)]
        found.sort(key=lambda i: (wanted.lower() not in self.entries[i][0].lower(), i))
        for i in found[:MOST]:
            text, hint, _ = self.entries[i]
            item = QListWidgetItem(f"{text}    {hint}" if hint else text)
            item.setData(Qt.ItemDataRole.UserRole, i)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def take(self) -> None:
        item = self.list.currentItem()
        self.accept()
        if item is not None:
            self.entries[int(item.data(Qt.ItemDataRole.UserRole))][2]()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.line and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            row = self.list.currentRow()
            if event.key() == Qt.Key.Key_Down:
                self.list.setCurrentRow(min(row + 1, self.list.count() - 1))
                return True
            if event.key() == Qt.Key.Key_Up:
                self.list.setCurrentRow(max(row - 1, 0))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self.take()
                return True
        return super().eventFilter(watched, event)
