"""Watches the open file on the disk, and offers what can be done when another program has written it."""

from __future__ import annotations

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel

LOOK_EVERY_MS = 1500


class DiskBar(QFrame):
    """Says that another program has changed the open file, and offers what can be done. `reload_asked`, `beside_asked`."""

    reload_asked = Signal()
    beside_asked = Signal()

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.setObjectName("card")
        self.says = TextLabel()
        self.reload, self.beside = QPushButton("Reload"), QPushButton("Keep mine and save beside")
        self.reload.clicked.connect(self.reload_asked)
        self.beside.clicked.connect(self.beside_asked)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 6, 12, 6)
        row.addWidget(self.says, 1)
        row.addWidget(self.beside)
        row.addWidget(self.reload)
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_EVERY_MS)
        self._timer.timeout.connect(self.look)
        self._timer.start()
        self.hide()

    def look(self) -> None:
        """Compares the file with what was read or written last."""
        path, stamp = self.document.path, self.document.stamp
        if path is None or stamp is None or stamp.holds(path):
            self.hide()
            return
        there = path.exists()
        what = "was changed by another program" if there else "is not there any more"
        kept = " Reload keeps your edits beside it." if there and self.document.dirty else ""
        self.says.setText(f"{path.name} {what}.{kept}")
        self.reload.setVisible(there)
        self.show()
