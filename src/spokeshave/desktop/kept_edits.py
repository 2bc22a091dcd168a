"""Keeps edits that are not saved, and offers what an earlier run of the program has kept."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.formats.errors import FormatError
from spokeshave.formats.recovery import Kept, Recovery, discard

KEEP_AFTER_MS = 100
LARGE, KEEP_LARGE_AFTER_MS = 300, 1500
"""Steps of a machine file that takes longer to write."""


class Keeper(QObject):
    """Writes the machine file away soon after each edit, until it is saved or closed."""

    def __init__(self, document: Document, recovery: Recovery) -> None:
        super().__init__()
        self.document, self.recovery = document, recovery
        self.problem = ""
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self.keep)
        document.changed.connect(self._changed)
        document.drafts.changed.connect(self._changed)

    def _changed(self) -> None:
        if not self.document.dirty:
            self._stop()
            self.recovery.forget()
            return
        self.wait()

    def wait(self) -> None:
        """Something was edited or typed: it is kept soon, also while typing goes on."""
        if not self._soon.isActive():
            large = sum(len(q.steps) for q in self.document.project.sequences) > LARGE
            self._soon.start(KEEP_LARGE_AFTER_MS if large else KEEP_AFTER_MS)

    def _stop(self) -> None:
        self._soon.stop()

    def keep(self) -> None:
        self._stop()
        try:
            document = self.document
            self.recovery.keep(document.project, document.path, document.drafts.all(), document.stamp)
            self.problem = ""
        except FormatError as error:
            if not self.problem:
                self.document.refused.emit(f"Edits are not kept safe: {error}")
            self.problem = str(error)

    def close(self) -> None:
        """The document was closed on purpose."""
        self._stop()
        self.recovery.forget()


class RecoveryBar(QFrame):
    """Offers what was left over, one file after the other. Nothing is thrown away but on request."""

    def __init__(self, left: list[Kept], take: Callable[[Kept], object]) -> None:
        super().__init__()
        self.left, self.take = left, take
        self.setObjectName("card")
        self.says = TextLabel()
        self.recover, self.discard, self.later = QPushButton("Recover"), QPushButton("Discard"), QPushButton("Later")
        self.recover.setObjectName("primary")
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 6, 12, 6)
        row.addWidget(self.says, 1)
        for button, run in ((self.later, self.hide), (self.discard, self._discard), (self.recover, self._recover)):
            button.clicked.connect(run)
            row.addWidget(button)
        self._show()

    def _show(self) -> None:
        self.setVisible(bool(self.left))
        if self.left:
            kept = self.left[0]
            when = time.strftime("%d %b %H:%M", time.localtime(kept.written))
            of = f" ({Path(kept.origin).name})" if kept.origin else ""
            more = f", and {len(self.left) - 1} more" if len(self.left) > 1 else ""
            self.says.setText(f"Edits of {kept.project.name}{of} from {when} were not saved{more}.")

    def _recover(self) -> None:
        """`take` has kept the edits anew before what was left goes."""
        if self.take(self.left[0]):
            self._gone()

    def _discard(self) -> None:
        self._gone()

    def _gone(self) -> None:
        discard(self.left[0].at)
        self.left = self.left[1:]
        self._show()
