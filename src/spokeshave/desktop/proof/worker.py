"""Runs scenarios in processes, and looks at how far they are between the events of the window."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from spokeshave.model.project import Project, Scenario
from spokeshave.verify.batch import Batch

LOOK_MS = 40


class ProofWorker(QObject):
    """Runs some scenarios of a machine file. `finished` comes once, with the results it got to."""

    progressed = Signal(float, str)
    finished = Signal(list)
    failed = Signal(str)

    def __init__(self, project: Project, scenarios: list[Scenario]) -> None:
        super().__init__()
        self.project, self.scenarios = project, scenarios
        self.batch: Batch | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)

    def start(self) -> None:
        self.batch = Batch(self.project, self.scenarios)
        self._timer.start()
        self.progressed.emit(0.0, self.scenarios[0].name)

    def cancel(self) -> None:
        """Ends after what is finished; a scenario half run gives no result."""
        if self.batch is not None and self._timer.isActive():
            self.batch.cancel()
            self._end()

    def _look(self) -> None:
        assert self.batch is not None
        self.batch.poll()
        if self.batch.done:
            if self.batch.problem:
                self.failed.emit(self.batch.problem)
            self._end()
        else:
            self.progressed.emit(self.batch.part, ", ".join(self.batch.names[:2]))

    def _end(self) -> None:
        assert self.batch is not None
        self._timer.stop()
        self.finished.emit([r for _, r in sorted(self.batch.results.items())])
