"""A large machine file is made ready to run in a thread beside the window, which goes on meanwhile."""

from __future__ import annotations

from contextlib import suppress
from threading import Thread

from PySide6.QtCore import QObject, QTimer, Signal

from spokeshave.engine.link import LinkError, link
from spokeshave.model.project import Project

LOOK_MS = 20


def _link(project: Project) -> None:
    """Links a machine file, so that it is known (see `link`). What is wrong with it is told to whoever takes it."""
    with suppress(LinkError):
        link(project)


class LinkBeside(QObject):
    """`linked` comes when the file that was asked for last is ready, or known not to be."""

    linked = Signal()

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._wanted: Project | None = None
        self._in_hand: tuple[Project, Thread] | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)

    @property
    def waits(self) -> bool:
        return self._wanted is not None

    def ask(self, project: Project) -> None:
        self._wanted = project
        self._timer.start()
        self._look()

    def forget(self) -> None:
        """Nobody waits any more; what is in hand comes to its end by itself."""
        self._wanted = None

    def _look(self) -> None:
        if self._in_hand is not None:
            done, thread = self._in_hand
            if thread.is_alive():
                return
            self._in_hand = None
            if done is self._wanted:
                self._wanted = None
                self._timer.stop()
                self.linked.emit()
                return
        if self._wanted is None:
            self._timer.stop()
            return
        thread = Thread(target=_link, args=(self._wanted,), name="link", daemon=True)
        self._in_hand = (self._wanted, thread)
        thread.start()
