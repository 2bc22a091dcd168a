"""The line under the last step of a sheet: a name typed there makes the next step."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent
from PySide6.QtWidgets import QLineEdit, QWidget


class NextStep(QLineEdit):
    """`named` carries the name of a step to make. It is left upwards, or on to the cells of the step just made."""

    named = Signal(str)
    left_up = Signal()
    left_on = Signal()
    entered = Signal()
    """It has the keyboard, and is to be seen."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setFrame(False)
        self.setObjectName("next")
        self.setPlaceholderText("Next step")
        self.setAccessibleName("Name of the next step")
        self.setToolTip("Return makes a step of this name behind the last one; Tab goes on to its marks")

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.entered.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        typed, key = self.text().strip(), event.key()
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if typed:
                self.named.emit(typed)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Escape):
            self.clear()
            self.left_up.emit()
        else:
            super().keyPressEvent(event)

    def focusNextPrevChild(self, forward: bool) -> bool:
        """Tab takes what is typed and goes on to the cells of that step."""
        typed = self.text().strip()
        if forward and typed:
            self.named.emit(typed)
            if not self.text():
                self.left_on.emit()
            return True
        return super().focusNextPrevChild(forward)
