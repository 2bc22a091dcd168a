"""What was worked out of the last few machine files: a machine file is a value, so the same one has the same answer."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, TypeVar

from spokeshave.model.project import Project

T = TypeVar("T")


class Answers(Generic[T]):
    """Remembers the answers of the last `most` machine files that were asked for, each known by being the same object.

    Edits keep their files in the history: an undo has its answers at once.
    """

    def __init__(self, work: Callable[[Project], T], most: int) -> None:
        self._work, self._most = work, most
        self._known: list[tuple[Project, T]] = []

    def known(self) -> list[T]:
        """The answers that are remembered, those first that were asked for last."""
        return [answer for _, answer in self._known]

    def __call__(self, project: Project) -> T:
        """The answer, worked out if it is not known. Raises what the work raises, and remembers nothing then."""
        for i, (known, answer) in enumerate(self._known):
            if known is project:
                self._known.insert(0, self._known.pop(i))
                return answer
        answer = self._work(project)
        self._known[:] = [(project, answer), *self._known[: self._most - 1]]
        return answer
