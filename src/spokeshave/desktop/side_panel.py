"""A panel that stands beside the work for a while and gives its room back: the manual, the tour."""

from __future__ import annotations

from PySide6.QtCore import QEvent, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QToolButton, QWidget

from spokeshave.desktop.icons import icon
from spokeshave.desktop.plain_text import THEME_CHANGES
from spokeshave.desktop.theme import theme


class SidePanel(QWidget):
    """Escape closes it, and so does `close_button`, to be put where the panel has room for it; `left` tells that it is closed."""

    left = Signal()
    _dark = False

    def __init__(self, name: str) -> None:
        super().__init__()
        self.close_button = QToolButton()
        self._dark = theme.dark
        self.close_button.setIcon(icon("remove"))
        self.close_button.setAccessibleName(f"Close the {name}")
        self.close_button.setToolTip("Close (Escape)")
        self.close_button.clicked.connect(self.leave)

    def leave(self) -> None:
        """Gives its room back."""
        self.hide()
        self.left.emit()

    def changeEvent(self, event: QEvent) -> None:
        super().changeEvent(event)
        if event.type() in THEME_CHANGES and self._dark != theme.dark:
            self._dark = theme.dark
            self.close_button.setIcon(icon("remove"))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)
