"""Find and replace in the sequence in view, the same for all faces."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLineEdit, QPushButton, QWidget

from spokeshave.desktop.code_editor import CodeEditor
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.sequence.editor import SequenceEditor
from spokeshave.verify.find import Hit, find, replace_all, spots


class FindBar(QWidget):
    """Return goes to the next place, Shift+Return to the one before, Escape closes."""

    def __init__(self, editor: SequenceEditor) -> None:
        super().__init__()
        self.editor = editor
        self.text_in_view: Callable[[], CodeEditor | None] = lambda: None
        """The code on the screen: then its own text is looked through."""
        self.hits: list[Hit] = []
        self.spots: list[tuple[int, int]] = []
        """Where it stands in the code: begin and end."""
        self.at = -1
        self.text, self.new = QLineEdit(), QLineEdit()
        self.text.setPlaceholderText("Find in this sequence")
        self.text.setAccessibleName("Find")
        self.new.setPlaceholderText("Replace with")
        self.new.setAccessibleName("Replace with")
        self.whole = QCheckBox("Whole names")
        self.count = TextLabel()
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
        self.replaces = [
            self._button(row, title, run)
            for title, run in (("Replace", self.replace_one), ("Replace all", self.replace_everything))
        ]
        self._button(row, "Close", self.close_bar)
        self.text.textChanged.connect(self.look)
        self.whole.toggled.connect(self.look)
        editor.document.changed.connect(self._refresh)
        self.hide()

    @staticmethod
    def _button(row: QHBoxLayout, title: str, run: Callable[[], object]) -> QPushButton:
        button = QPushButton(title)
        button.clicked.connect(lambda _=False: run())
        row.addWidget(button)
        return button

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
        q, code, wanted = self.editor.sequence, self.text_in_view(), self.text.text()
        self.hits = find(q, wanted, self.whole.isChecked()) if q is not None and code is None else []
        self.spots = spots(code.toPlainText(), wanted, self.whole.isChecked()) if code is not None else []
        self.at = -1
        for button in self.replaces:
            button.setEnabled(code is None)
            button.setToolTip(plain("" if code is None else "In the code, type over what was found and apply it"))
        self._tell()

    def _tell(self) -> None:
        if not self.text.text():
            self.count.setText("")
        elif not self.found:
            self.count.setText("nothing found")
        else:
            self.count.setText(f"{self.at + 1} of {self.found}" if self.at >= 0 else f"{self.found} found")

    @property
    def found(self) -> int:
        return len(self.hits) or len(self.spots)

    def go(self, by: int) -> None:
        """To the next place, or the one before."""
        if self.found:
            self.at = (self.at + by) % self.found if self.at >= 0 or by > 0 else self.found - 1
            code = self.text_in_view()
            if code is not None and self.spots:
                code.mark(*self.spots[self.at])
            else:
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
