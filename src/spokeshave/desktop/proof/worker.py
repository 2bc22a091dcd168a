"""Runs scenarios in slices of time between the events of the window, with progress and cancel.

Slices rather than a thread: a thread that computes in Python takes the interpreter from the window for milliseconds at
every call, which a person feels (see docs/decisions).
"""

from __future__ import annotations

from time import perf_counter

from PySide6.QtCore import QObject, QTimer, Signal

from spokeshave.engine.link import LinkError
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.scenarios import Result, ScenarioRun

SLICE_S = 0.02
SCANS = 50


class ProofWorker(QObject):
    """Runs some scenarios of a machine file. `finished` comes once, with the results it got to."""

    progressed = Signal(float, str)
    finished = Signal(list)
    failed = Signal(str)

    def __init__(self, project: Project, scenarios: list[Scenario]) -> None:
        super().__init__()
        self.project, self.scenarios = project, scenarios
        self.results: list[Result] = []
        self._run: ScenarioRun | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(0)
        self._timer.timeout.connect(self._slice)

    def start(self) -> None:
        self._timer.start()

    def cancel(self) -> None:
        """Ends after what is finished; a scenario half run gives no result."""
        if self._timer.isActive():
            self._timer.stop()
            self.finished.emit(self.results)

    def _slice(self) -> None:
        end = perf_counter() + SLICE_S
        while perf_counter() < end:
            if self._run is None:
                if len(self.results) == len(self.scenarios):
                    self.cancel()
                    return
                try:
                    self._run = ScenarioRun(self.project, self.scenarios[len(self.results)])
                except LinkError as error:
                    self.failed.emit(str(error.found[0]))
                    self.cancel()
                    return
            if not self._run.advance(SCANS):
                self.results.append(self._run.result())
                self._run = None
        part = self._run.part if self._run else 0.0
        name = self.scenarios[min(len(self.results), len(self.scenarios) - 1)].name
        self.progressed.emit((len(self.results) + part) / len(self.scenarios), name)
