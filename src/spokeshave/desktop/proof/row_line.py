"""Typing a part of a scenario row, with completion of what the grammar allows there."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import cast

from PySide6.QtCore import QEvent, QStringListModel, Qt
from PySide6.QtGui import QFocusEvent, QKeyEvent
from PySide6.QtWidgets import QCompleter, QLineEdit, QListView, QWidget

from spokeshave.desktop.theme import code_font

MOST_OFFERED = 200
_STARTED = re.compile(r'"[^"]*$|[\w.]*$')

Offers = Callable[[str], list[str]]
"""From the text before the cursor to the words that can end it."""


class RowLine(QLineEdit):
    """A line that offers how it can go on. Ctrl+Space asks, Return and Tab take what is marked."""

    def __init__(self, offers: Offers, parent: QWidget) -> None:
        super().__init__(parent)
        self.offers = offers
        self.setFont(code_font(13))
        self.words = QCompleter(self)
        self.listed = QStringListModel(self)
        self.words.setModel(self.listed)
        self.words.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        self.words.setWidget(self)
        self.words.activated.connect(self.take)
        self.popup = QListView(self)
        self.words.setPopup(self.popup)
        self.textEdited.connect(lambda _: self.offer())

    def offer(self, asked: bool = False) -> None:
        """Shows the words that fit, if any; unasked only where a word or a place for one was begun."""
        before = self.text()[: self.cursorPosition()]
        found = self.offers(before)[:MOST_OFFERED] if asked or before else []
        if not found:
            self.popup.hide()
            return
        self.listed.setStringList(found)
        box = self.cursorRect()
        box.setWidth(260)
        self.words.complete(box)
        self.popup.setCurrentIndex(self.listed.index(0))

    def take(self, word: str) -> None:
        """Puts a word in the place of the started one."""
        at = self.cursorPosition()
        before, after = self.text()[:at], self.text()[at:]
        started = _STARTED.search(before)
        kept = before[: started.start()] if started else before
        if kept.endswith(".") and "." not in word:
            pass
        elif started and "." in started[0] and "." not in word:
            kept = before[: started.start() + started[0].rindex(".") + 1]
        self.setText(kept + word + after)
        self.setCursorPosition(len(kept) + len(word))

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        if not self.text():
            self.offer(asked=True)

    def event(self, event: QEvent) -> bool:
        """Tab belongs to the list of words while it is open: it comes from there, before it would move the focus."""
        tab = isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress and event.key() == Qt.Key.Key_Tab
        if tab and self.popup.isVisible():
            self.keyPressEvent(cast("QKeyEvent", event))
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.popup.isVisible() and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Tab):
            chosen = self.popup.currentIndex().data()
            self.popup.hide()
            if chosen:
                self.take(str(chosen))
                event.accept()
                return
        if event.key() == Qt.Key.Key_Space and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.offer(asked=True)
            return
        super().keyPressEvent(event)
