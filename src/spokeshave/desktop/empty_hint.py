"""What an empty view says: the next step, and a button that takes it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtWidgets import QAbstractScrollArea, QApplication, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from spokeshave.desktop.plain_text import TextLabel

Steps = tuple[tuple[str, Callable[[], object]], ...]


class EmptyHint(QWidget):
    """Lies over a view in the middle of what is free behind `left` pixels. `show_while` tells whether the view is empty; the first button
    is the usual step.
    """

    def __init__(
        self, over: QAbstractScrollArea | QWidget, text: str, steps: Steps, left: Callable[[], int] = lambda: 0
    ) -> None:
        self.over, self.left = over, left
        self.area = over.viewport() if isinstance(over, QAbstractScrollArea) else over
        super().__init__(self.area)
        self.says = TextLabel(text)
        self.says.setObjectName("hint")
        self.says.setWordWrap(True)
        self.says.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.buttons: list[QPushButton] = []
        row = QHBoxLayout()
        row.addStretch(1)
        for n, (title, act) in enumerate(steps):
            button = QPushButton(title)
            button.setObjectName("" if n else "primary")
            button.clicked.connect(act)
            self.buttons.append(button)
            row.addWidget(button)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.addWidget(self.says)
        column.addLayout(row)
        self.area.installEventFilter(self)
        self.hide()

    def show_while(self, empty: bool) -> None:
        self._place()
        focus = QApplication.focusWidget()
        if not empty and focus is not None and self.isAncestorOf(focus):
            self.over.setFocus()  # else it goes to whatever comes first in the window
        self.setVisible(empty)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize:
            self._place()
        return False

    def _place(self) -> None:
        left = self.left()
        room = self.area.width() - left
        width = max(200, min(460, room - 40))
        self.setGeometry(left + (room - width) // 2, max(24, self.area.height() // 2 - 80), width, 120)
