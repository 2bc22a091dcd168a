"""Work in pieces, here or in any `concurrent.futures` executor: what was sent, what has come, how it is cancelled."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable
from concurrent.futures import Executor, Future
from concurrent.futures.process import BrokenProcessPool
from typing import Any

from spokeshave.verify import processes
from spokeshave.verify.progress import EndedError

Piece = tuple[Any, ...]
"""A function and its arguments."""


class Pieces(ABC):
    """`poll` from time to time until `done`; without an `executor` each poll does one piece here."""

    def __init__(self, executor: Executor | None) -> None:
        self.executor = executor
        self.problem = ""
        """Why there is nothing to tell."""
        self._left: list[Piece] = []
        self._waiting: list[Future[Any]] = []

    @abstractmethod
    def take(self, found: Any) -> None:
        """Takes in what came of a piece."""

    def add(self, pieces: Iterable[Piece]) -> None:
        """More to do."""
        if self.executor is None:
            self._left += pieces
            return
        try:
            self._waiting += [self.executor.submit(*piece) for piece in pieces]
        except (BrokenProcessPool, RuntimeError) as error:
            self.problem = str(error)

    @property
    def waiting(self) -> int:
        """Pieces that have not come."""
        return len(self._left) + len(self._waiting)

    @property
    def done(self) -> bool:
        return bool(self.problem) or not self.waiting

    def poll(self) -> int:
        """Takes in what has come; gives how many pieces that were."""
        came = 0
        if self.executor is None and self._left:
            work, *arguments = self._left.pop(0)
            self.take(work(*arguments))
            came = 1
        for future in [f for f in self._waiting if f.done()]:
            if future not in self._waiting:  # cancelled meanwhile
                continue
            self._waiting.remove(future)
            try:
                self.take(future.result())
                came += 1
            except EndedError:
                continue
            except (BrokenProcessPool, RuntimeError, OSError) as error:
                self.problem = f"a process has ended: {error}"
        return came

    def cancel(self) -> None:
        """Ends what is under way; what has come stays."""
        for future in self._waiting:
            processes.end(future)
        self._waiting, self._left = [], []
