"""Opening and closing logic: structured text that runs at the start and at the end of every scan."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QTimer
from PySide6.QtGui import QFocusEvent, QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from spokeshave.desktop.both_bar import BothBar
from spokeshave.desktop.code_editor import CodeEditor, Fault
from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.theme import theme
from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.engine.text_faults import statement_problems
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project

HINTS = {
    "opening": "Runs first in every scan: positions, mode bits, what all sequences read",
    "closing": "Runs last in every scan, before outputs go out: lamps, counters, what follows from steps",
}


class _Editor(CodeEditor):
    """Leaving it takes the text over."""

    def __init__(self, panel: LogicPanel) -> None:
        super().__init__(f"{panel.which} logic".capitalize())
        self.panel = panel

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.panel.leave()


class LogicPanel(QWidget):
    """The text, and what is wrong with it. It is taken over on Apply and when one leaves it; a text with a fault too,
    so that nothing is lost: the check tells it then.
    """

    def __init__(self, document: Document, which: str) -> None:
        super().__init__()
        self.setProperty("manual", "language#")
        self.document, self.which = document, which
        self.text = _Editor(self)
        self.note = TextLabel(HINTS[which])
        self.note.setObjectName("hint")
        self.note.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.button = QPushButton("Apply")
        self.button.setObjectName("primary")
        self.button.clicked.connect(self.apply)
        bar = QHBoxLayout()
        bar.setContentsMargins(8, 6, 8, 6)
        bar.addWidget(self.note, 1)
        bar.addWidget(self.button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(bar)
        column.addWidget(self.text, 1)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(300)
        self._later.timeout.connect(self.look)
        self.text.textChanged.connect(self._typed)
        self.both = BothBar(self.text, self._keep_mine)
        column.addWidget(self.both)
        self._follows = False
        document.changed.connect(self.refresh)
        document.drafts.changed.connect(self.refresh)
        self.refresh()

    @property
    def own(self) -> str:
        text: str = getattr(self.document.project, self.which)
        return text

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.text.set_words([*TextScope(SlotTable(self.document.project)).known()])
        self.look()

    def _typed(self) -> None:
        self._later.start()
        if not self._follows:
            self.document.drafts.put(self.which, self.own, self.text.toPlainText(), self.apply)

    def refresh(self) -> None:
        """Follows the document; what is typed stays, beside what the file says now where that is something else."""
        draft = self.document.drafts.of(self.which)
        wanted = self.own if draft is None else draft.text
        if self.text.toPlainText() != wanted:
            line = self.text.line
            self._follows = True
            self.text.setPlainText(wanted)
            self._follows = False
            self.text.go_to(line)
        self.both.show_other(self.own if draft is not None and draft.base != self.own else None)
        if self.isVisible():
            self.look()

    def _keep_mine(self) -> None:
        self.apply()

    def look(self) -> None:
        """Shows what is wrong with the text as it stands."""
        self._later.stop()
        text = self.text.toPlainText()
        found = statement_problems(self.document.project, None, text)
        self.text.show_faults([Fault(p.line, p.column, p.message) for p in found])
        self.button.setEnabled(text != self.own)
        self.note.setStyleSheet(f"color: {theme.now.late};" if found else "")
        if found:
            p = found[0]
            self.note.setText(f"line {p.line}, column {p.column}: {p.message}{'; ' if p.advice else ''}{p.advice}")
        else:
            self.note.setText(HINTS[self.which])

    def leave(self) -> None:
        """The focus goes elsewhere: the text is taken over, but where the file has changed under it."""
        draft = self.document.drafts.of(self.which)
        if draft is not None and draft.base == self.own:
            self.apply()

    def apply(self) -> None:
        text = self.text.toPlainText()
        self.document.drafts.drop(self.which)
        if text != self.own:

            def change(project: Project) -> Project:
                if "\0" in text:
                    raise EditError("the text has zero bytes")
                return replace(project, **{self.which: text})  # type: ignore[arg-type]

            self.document.edit(f"Change the {self.which} logic", change)
