"""Find and replace in the sequence in view, the same for all faces."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QLineEdit, QPushButton, QWidget

from spokeshave.desktop.sequence.editor import SequenceEditor
from spokeshave.verify.find import Hit, find, replace_all


class FindBar(QWidget):
    """Return goes to the next place, Shift+Return to the one before, Escape closes."""

    def __init__(self, editor: SequenceEditor) -> None:
        super().__init__()
        self.editor = editor
        self.hits: list[Hit] = []
        self.at = -1
        self.text, self.new = QLineEdit(), QLineEdit()
        self.text.setPlaceholderText("Find in this sequence")
        self.text.setAccessibleName("Find")
        self.new.setPlaceholderText("Replace with")
        self.new.setAccessibleName("Replace with")
        self.whole = QCheckBox("Whole names")
        self.count = QLabel()
        self.count.setObjectName("hint")
        self.count.setMinimumWidth(90)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 4, 8, 4)
        row.addWidget(self.text, 2)
        row.addWidget(self.count)
        for title, run in (("Previous", lambda: self.go(-1)), ("Next", lambda: self.go(1))):
            self._button(row, title, run)
        row.addWidget(self.whole)
        row.addWidget(self.new, 2)
        for title, run in (("Replace", self.replace_one), ("Replace all", self.replace_everything)):
            self._button(row, title, run)
        self._button(row, "Close", self.close_bar)
        self.text.textChanged.connect(self.look)
        self.whole.toggled.connect(self.look)
        editor.document.changed.connect(self._refresh)
        self.hide()

    def _button(self, row: QHBoxLayout, title: str, run: object) -> None:
        button = QPushButton(title)
        button.clicked.connect(run)
        row.addWidget(button)

    def open_bar(self) -> None:
        self.show()
        self.text.setFocus()
        self.text.selectAll()
        self.look()

    def close_bar(self) -> None:
        self.hide()
        parent = self.parentWidget()
        if parent is not None:
            parent.setFocus()

    def _refresh(self) -> None:
        if self.isVisible():
            at = self.at
            self.look()
            self.at = min(at, len(self.hits) - 1)

    def look(self) -> None:
        q = self.editor.sequence
        self.hits = find(q, self.text.text(), self.whole.isChecked()) if q is not None else []
        self.at = -1
        self._tell()

    def _tell(self) -> None:
        if not self.text.text():
            self.count.setText("")
        elif not self.hits:
            self.count.setText("nothing found")
        else:
            self.count.setText(f"{self.at + 1} of {len(self.hits)}" if self.at >= 0 else f"{len(self.hits)} found")

    def go(self, by: int) -> None:
        if self.hits:
            self.at = (self.at + by) % len(self.hits) if self.at >= 0 or by > 0 else len(self.hits) - 1
            self.editor.selection.set(self.hits[self.at].place)
        self._tell()

    def replace_one(self) -> None:
        """Replaces at the place that was gone to, then goes to the next."""
        if self.at < 0:
            self.go(1)
            return
        place, at = self.hits[self.at].place, self.at
        self._replace(place)
        self.look()
        if self.hits:
            self.at = min(at, len(self.hits)) - 1
            self.go(1)

    def replace_everything(self) -> None:
        self._replace(None)

    def _replace(self, only: object) -> None:
        wanted, new, whole, name = self.text.text(), self.new.text(), self.whole.isChecked(), self.editor.current
        if not wanted:
            return
        before = self.editor.document.project
        where = "" if only is None else "at one place "
        self.editor.document.edit(
            f"Replace {wanted} {where}by {new}".replace("  ", " "),
            lambda p: replace_all(p, name, wanted, new, whole, only),  # type: ignore[arg-type]
        )
        if self.editor.document.project is before:
            self.editor.document.refused.emit(
                f"nothing was replaced: {wanted} stands in names only; rename those where they stand"
            )

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.close_bar()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.go(-1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1)
        else:
            super().keyPressEvent(event)
