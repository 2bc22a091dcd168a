"""Runs scenarios off the interface thread, with progress and cancel."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QThread, Signal

from spokeshave.engine.link import LinkError
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.scenarios import Result, run_scenario


class ProofWorker(QThread):
    """Runs some scenarios of a machine file. `done` gives the results it got to; `failed` why it could not."""

    progressed = Signal(float, str)
    done = Signal(list)
    failed = Signal(str)

    def __init__(self, project: Project, scenarios: list[Scenario]) -> None:
        super().__init__()
        self.project, self.scenarios = project, scenarios
        self.cancelled = False

    def run(self) -> None:
        results: list[Result] = []
        try:
            for n, scenario in enumerate(self.scenarios):
                result = run_scenario(self.project, scenario, partial(self._go_on, n))
                if self.cancelled:
                    break
                results.append(result)
        except LinkError as error:
            self.failed.emit(str(error.found[0]))
            return
        self.done.emit(results)

    def _go_on(self, n: int, part: float) -> bool:
        self.progressed.emit((n + part) / len(self.scenarios), self.scenarios[n].name)
        return not self.cancelled
