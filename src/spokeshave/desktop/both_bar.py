"""Under a text that is typed while the machine file changed beneath it: what the file says now, and which one to keep."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QTextCursor
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPlainTextEdit, QPushButton, QVBoxLayout

from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.theme import code_font

LINES = 5


class BothBar(QFrame):
    """Shows the other text. *Keep mine* takes what is typed over; *Take the file's* puts the other text in its place, and
    one undo in the editor brings back what was typed: neither is lost.
    """

    def __init__(self, text: QPlainTextEdit, keep_mine: Callable[[], object]) -> None:
        super().__init__()
        self.text = text
        self.setObjectName("card")
        self.says = TextLabel("The machine file has changed since this text was begun. It says now:")
        self.other = QPlainTextEdit()
        self.other.setReadOnly(True)
        self.other.setFont(code_font())
        self.other.setAccessibleName("What the machine file says")
        self.other.setFixedHeight(LINES * self.other.fontMetrics().lineSpacing() + 12)
        self.mine, self.theirs = QPushButton("Keep mine"), QPushButton("Take the file's")
        self.mine.clicked.connect(keep_mine)
        self.theirs.clicked.connect(self.take_theirs)
        row = QHBoxLayout()
        row.addWidget(self.says, 1)
        row.addWidget(self.theirs)
        row.addWidget(self.mine)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 6, 12, 6)
        column.addLayout(row)
        column.addWidget(self.other)
        self.hide()

    def show_other(self, text: str | None) -> None:
        """The text of the file where it is another one; None hides the bar."""
        if text is not None and self.other.toPlainText() != text:
            self.other.setPlainText(text)
        self.setVisible(text is not None)

    def take_theirs(self) -> None:
        cursor = self.text.textCursor()
        cursor.select(QTextCursor.SelectionType.Document)
        cursor.insertText(self.other.toPlainText())
