"""Text is text: what a person's file says reaches labels and tooltips as it is written, never as rich text."""

from __future__ import annotations

from html import escape

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QPaintEvent
from PySide6.QtWidgets import QLabel, QWidget

from spokeshave.desktop.theme import theme

THEME_CHANGES = (QEvent.Type.PaletteChange, QEvent.Type.StyleChange)
"""What a widget hears of when the theme becomes another."""


class TextLabel(QLabel):
    """A label that shows its text as it is; one that is to be rich says so, and escapes what is not its own."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self.setTextFormat(Qt.TextFormat.PlainText)


class RichLabel(TextLabel):
    """A label whose text is rich: it is made here, and every part of it that comes from a file is escaped."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self.setTextFormat(Qt.TextFormat.RichText)


class StatusLabel(TextLabel):
    """A label that says how things stand, in the colour of how they stand."""

    _colour = ""
    _dark = False

    def say(self, text: str, colour: str) -> None:
        """Shows a text; `colour` is one of the theme, also of the next one."""
        self.setText(text)
        self._colour, self._dark = colour, theme.dark
        self.setStyleSheet(f"color: {theme.colour(colour).name()}")

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() in THEME_CHANGES and self._colour and self._dark != theme.dark:
            self.say(self.text(), self._colour)


class FittingLabel(TextLabel):
    """A label that shows its text whole or not at all: a hint that is cut in the middle helps nobody."""

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.fontMetrics().horizontalAdvance(self.text()) <= self.contentsRect().width():
            super().paintEvent(event)


def plain(text: str) -> str:
    """A text for a tooltip or a message box, which would take what looks like HTML for it."""
    return f"<span style='white-space: pre-wrap'>{escape(text)}</span>" if "<" in text else text
