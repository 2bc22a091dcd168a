"""What takes longer than a moment: a line that says what is done and how far it is, and a button that ends it.

Work either runs in slices between the events of the window, or in a process of the proof. There is one at a time; another one
waits for its turn.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from time import perf_counter
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QWidget

from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.process_work import Elsewhere, Fault

SLICE_S = 0.02
"""Computing time between two looks at the events."""


@dataclass
class _Task:
    title: str
    then: Callable[[Any], None]
    steps: Iterator[float] | None = None
    work: tuple[Any, ...] = ()
    part: float = 0.0


class Tasks(QObject):
    """`changed` comes when one begins, gets on, or ends; `failed` with what kept one from its end."""

    changed = Signal()
    failed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._now: _Task | None = None
        self._queue: deque[_Task] = deque()
        self._elsewhere = Elsewhere(self)
        self._timer = QTimer(self)
        self._timer.setInterval(0)
        self._timer.timeout.connect(self._go_on)

    @property
    def busy(self) -> bool:
        return self._now is not None

    @property
    def title(self) -> str:
        return self._now.title if self._now is not None else ""

    @property
    def part(self) -> float:
        """How much of what is under way is done, 0 to 1."""
        if self._now is None:
            return 0.0
        return self._now.part if self._now.steps is not None else self._elsewhere.part

    def in_slices(self, title: str, steps: Iterator[float], then: Callable[[], None]) -> None:
        """Steps through `steps`, which say how much is done; then calls `then`. The first slice is run at once."""
        self._add(_Task(title, lambda _: then(), steps))

    def in_process(self, title: str, then: Callable[[Any], None], work: Callable[..., Any], *arguments: Any) -> None:
        """Runs `work` in a process and hands `then` what comes of it; a fault of it is told by `failed`."""
        self._add(_Task(title, then, None, (work, *arguments)))

    def cancel(self) -> None:
        """Ends what is under way, and what waits behind it."""
        self._queue.clear()
        self._end()
        self.changed.emit()

    def finish(self) -> None:
        """Runs what is in slices to its end now."""
        while self._now is not None and self._now.steps is not None:
            self._slice(perf_counter() + 3600)

    def _add(self, task: _Task) -> None:
        self._queue.append(task)
        if self._now is None:
            self._begin()

    def _begin(self) -> None:
        if not self._queue:
            self.changed.emit()
            return
        self._now = task = self._queue.popleft()
        if task.steps is None:
            self._elsewhere.ask(self._take, *task.work)
            self._timer.setInterval(100)
            self._timer.start()
            self.changed.emit()
        else:
            self._timer.setInterval(0)
            self._timer.start()
            self._slice(perf_counter() + SLICE_S)

    def _go_on(self) -> None:
        if self._now is not None and self._now.steps is not None:
            self._slice(perf_counter() + SLICE_S)
        else:
            self.changed.emit()

    def _slice(self, until: float) -> None:
        task = self._now
        assert task is not None and task.steps is not None
        for part in task.steps:
            task.part = part
            if perf_counter() >= until:
                self.changed.emit()
                return
            if self._now is not task:  # its own step has cancelled it
                return
        self._take(None)

    def _take(self, found: Any) -> None:
        task = self._now
        self._end()
        if task is not None:
            if isinstance(found, Fault):
                self.failed.emit(f"{task.title}: {found}")
            else:
                task.then(found)
        if self._now is None:
            self._begin()

    def _end(self) -> None:
        self._timer.stop()
        self._elsewhere.forget()
        self._now = None


class TaskLine(QWidget):
    """Lies in the status line while something is under way."""

    def __init__(self, tasks: Tasks) -> None:
        super().__init__()
        self.tasks = tasks
        self.says = TextLabel()
        self.bar = QProgressBar()
        self.bar.setRange(0, 100)
        self.bar.setFixedWidth(140)
        self.bar.setTextVisible(False)
        self.button = QPushButton("Cancel")
        self.button.setAccessibleName("Cancel what is under way")
        self.button.clicked.connect(tasks.cancel)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 0, 8, 0)
        row.addWidget(self.says)
        row.addWidget(self.bar)
        row.addWidget(self.button)
        tasks.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        self.setVisible(self.tasks.busy)
        self.says.setText(self.tasks.title)
        self.bar.setValue(int(100 * self.tasks.part))
