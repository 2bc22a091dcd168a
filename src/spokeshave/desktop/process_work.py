"""Work in the processes of the proof, whose result comes back between the events of the window."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future
from concurrent.futures.process import BrokenProcessPool
from typing import Any

from PySide6.QtCore import QObject, QTimer

from spokeshave.verify import processes

LOOK_MS = 40


class Fault(str):
    """Why work elsewhere has come to nothing: the fault is the program's."""


class Elsewhere(QObject):
    """One piece of work at a time. A fault of the program elsewhere is told as a text, not thrown at the window."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._future: Future[Any] | None = None
        self._then: Callable[[Any], None] = lambda _: None
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)

    @property
    def busy(self) -> bool:
        return self._future is not None

    def ask(self, then: Callable[[Any], None], work: Callable[..., Any], *arguments: Any) -> None:
        """Hands `then` what comes of the work, or why nothing did, as a text."""
        self.forget()
        self._then = then
        try:
            self._future = processes.executor().submit(work, *arguments)
        except BrokenProcessPool:  # one of them has died, for example for want of memory: others are started
            processes.let_go()
            self._future = processes.executor().submit(work, *arguments)
        self._timer.start()

    @property
    def part(self) -> float:
        """How much of the work is done, 0 to 1, if it says so."""
        return processes.part(self._future) if self._future is not None else 0.0

    def forget(self) -> None:
        """Ends the work: at its next look, if it has begun."""
        if self._future is not None:
            processes.end(self._future)
        self._future = None
        self._timer.stop()

    def _look(self) -> None:
        future = self._future
        if future is None or not future.done():
            return
        self._future = None
        self._timer.stop()
        try:
            found = future.result()
        except Exception as error:
            found = Fault(f"{type(error).__name__}: {error}")
        self._then(found)
