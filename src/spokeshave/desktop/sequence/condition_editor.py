"""Typing a condition: completion of names, and the error in place while typing."""

from __future__ import annotations

from functools import lru_cache
from typing import cast

from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QHideEvent, QKeyEvent
from PySide6.QtWidgets import QCompleter, QLineEdit, QWidget

from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.theme import code_font, theme
from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.engine.text_faults import condition_problems
from spokeshave.language.syntax import Problem
from spokeshave.model.project import Project, Sequence

_FUNCTIONS = ("RISING(", "FALLING(", "HELD(", "NOT ", "AND ", "OR ", "ABS(", "MIN(", "MAX(", "LIMIT(", "TRUE", "FALSE")


def condition_problem(project: Project, sequence: Sequence | None, text: str) -> Problem | None:
    """The first problem of a condition in its sequence, or None."""
    return next(iter(condition_problems(project, sequence, text)), None)


@lru_cache(maxsize=8)
def _words(known: tuple[str, ...]) -> list[str]:
    return sorted({*known, *_FUNCTIONS}, key=str.lower)


class ConditionEdit(QLineEdit):
    """A line for a condition. What is wrong shows below it while one types; Return takes it all the same."""

    def __init__(self, project: Project, sequence: Sequence | None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.project, self.sequence = project, sequence
        self.setFont(code_font(13))
        self.setAccessibleName("Condition")
        self.note = TextLabel("", self.window() if parent is None else parent)
        self.note.setObjectName("conditionNote")
        self.note.hide()
        known = tuple(TextScope(SlotTable(project), sequence).known())
        self.words = QCompleter(_words(known), self)
        self.words.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.words.setWidget(self)
        self.words.activated.connect(self._complete)
        self.textEdited.connect(self._edited)
        self.textChanged.connect(self.look)
        self.destroyed.connect(self.note.deleteLater)

    def look(self) -> None:
        """Shows what is wrong with the text below the line, or nothing."""
        problem = condition_problem(self.project, self.sequence, self.text())
        colour = theme.now.late if problem else theme.now.accent
        self.setStyleSheet(f"QLineEdit {{ border: 2px solid {colour}; border-radius: 3px; padding: 0 4px; }}")
        popup = self.words.popup()
        if problem is None or (popup is not None and popup.isVisible()):  # no word is wrong that is being completed
            self.note.hide()
            return
        where = f"column {problem.column}: " if problem.column > 1 else ""
        tail = f"; {problem.advice}" if problem.advice else ""
        self.note.setText(f"{where}{problem.message}{tail}")
        self.note.setStyleSheet(
            f"background: {theme.now.surface}; color: {theme.now.late}; border: 1px solid {theme.now.late};"
            " border-radius: 3px; padding: 3px 6px;"
        )
        self.note.ensurePolished()
        self.note.resize(self.note.sizeHint())
        self.note.move(self._note_place())
        self.note.show()
        self.note.raise_()

    def rest(self) -> None:
        """Looks like other fields until somebody types: what is wrong is told then, and by the check."""
        self.setStyleSheet("")
        self.note.hide()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        self.note.hide()

    def _note_place(self) -> QPoint:
        host = self.note.parentWidget()
        below = self.mapTo(host, QPoint(0, self.height() + 1)) if host else QPoint(0, 0)
        if host is not None and below.y() + self.note.height() > host.height():
            below = self.mapTo(host, QPoint(0, -self.note.height() - 1))
        if host is not None:
            below.setX(max(0, min(below.x(), host.width() - self.note.width())))
        return below

    # -- completion of the word before the cursor

    def _word(self) -> str:
        before = self.text()[: self.cursorPosition()]
        start = len(before)
        while start and (before[start - 1].isalnum() or before[start - 1] in "_."):
            start -= 1
        return before[start:]

    def _edited(self) -> None:
        self._offer()
        self.look()

    def _offer(self) -> None:
        word = self._word()
        if len(word) < 2:
            self._hide_words()
            return
        self.words.setCompletionPrefix(word)
        if self.words.completionCount() and self.words.currentCompletion().lower() != word.lower():
            box = self.cursorRect()
            box.setWidth(260)
            self.words.complete(box)
        else:
            self._hide_words()

    def _hide_words(self) -> None:
        popup = self.words.popup()
        if popup is not None:
            popup.hide()

    def _complete(self, word: str) -> None:
        at, typed = self.cursorPosition(), len(self._word())
        self.setText(self.text()[: at - typed] + word + self.text()[at:])
        self.setCursorPosition(at - typed + len(word))

    def event(self, event: QEvent) -> bool:
        """Tab belongs to the list of words while it is open: it comes from there, before it would move the focus."""
        tab = isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and event.key() == Qt.Key.Key_Tab
        popup = self.words.popup() if tab else None
        if popup is not None and popup.isVisible():
            self.keyPressEvent(cast("QKeyEvent", event))
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        popup = self.words.popup()
        if (
            popup is not None
            and popup.isVisible()
            and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Tab)
        ):
            chosen = popup.currentIndex().data() or self.words.currentCompletion()
            popup.hide()
            self._complete(chosen)
            event.accept()
            return
        super().keyPressEvent(event)
