"""What nobody sees waits: a part of the window that follows something, but only while it is on the screen."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, SignalInstance
from PySide6.QtWidgets import QWidget


class Waiting(QObject):
    """Keeps one call back while its widget is hidden, and makes it up when that is shown."""

    def __init__(self, widget: QWidget, follow: Callable[[], object]) -> None:
        super().__init__(widget)
        self.widget, self.follow, self.late = widget, follow, False
        widget.installEventFilter(self)

    def come(self) -> None:
        """What is followed has changed."""
        if self.widget.isVisible():
            self.follow()
        else:
            self.late = True

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show and self.late:
            self.late = False
            self.follow()
        return False


def while_seen(widget: QWidget, signal: SignalInstance, follow: Callable[[], object]) -> None:
    """Calls `follow` at each `signal` while `widget` is visible, and once when it is shown after it has missed some."""
    signal.connect(Waiting(widget, follow).come)
