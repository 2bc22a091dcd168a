"""The document on the screen: its history, its file, its findings and the last results. Widgets ask it for edits."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from time import perf_counter

from PySide6.QtCore import QObject, QTimer, Signal

from spokeshave.formats.files import read_project, write_project
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.edits import EditError
from spokeshave.model.history import History
from spokeshave.model.project import Project
from spokeshave.verify.check import look_over
from spokeshave.verify.scenarios import Result

CHECK_AFTER_MS = 120
CHECK_AT_LAST_MS = 3000


class Document(QObject):
    """Holds the present machine file. `changed` comes after every edit, undo, redo and opening."""

    changed = Signal()
    checked = Signal()
    refused = Signal(str)
    proven = Signal()

    def __init__(self, project: Project, path: Path | None = None) -> None:
        super().__init__()
        self.history = History.of(project)
        self.path = path
        self.saved: Project | None = project if path else None
        self.findings: list[Diagnostic] = []
        self.waived: list[tuple[Diagnostic, str]] = []
        """Findings that may stand, with the reasons."""
        self.results: dict[str, Result] = {}
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(CHECK_AFTER_MS)
        self._timer.timeout.connect(self.check)
        self.check()

    @property
    def project(self) -> Project:
        return self.history.project

    @property
    def dirty(self) -> bool:
        return self.saved is not self.project

    def edit(self, name: str, change: Callable[[Project], Project]) -> bool:
        """Applies a named edit; an illegal one is refused with its reason and changes nothing."""
        try:
            self._set(self.history.do(name, change(self.project)))
        except EditError as error:
            self.refused.emit(str(error))
            return False
        return True

    def undo(self) -> None:
        self._set(self.history.undo())

    def redo(self) -> None:
        self._set(self.history.redo())

    def _set(self, history: History) -> None:
        if history is self.history:
            return
        self.history = history
        self.results = {n: r for n, r in self.results.items() if self._still_true(r)}
        self._timer.start()
        self.changed.emit()

    def _still_true(self, result: Result) -> bool:
        """Results belong to what ran: the machine file but for its words, and the rows of the scenario."""
        scenario = self.project.scenario(result.scenario.name)
        same_rows = scenario is not None and scenario.text == result.scenario.text
        return same_rows and result.session is not None and self.project.runs_like(result.session.program.project)

    def check(self) -> None:
        """Runs the static check now."""
        self._timer.stop()
        start = perf_counter()
        sorted_out = look_over(self.project)
        self.findings, self.waived = list(sorted_out.open), list(sorted_out.waived)
        # A check that is felt waits until the typing pauses.
        took_ms = int(1000 * (perf_counter() - start))
        self._timer.setInterval(min(CHECK_AT_LAST_MS, max(CHECK_AFTER_MS, 4 * took_ms)))
        self.checked.emit()

    def take_results(self, results: list[Result]) -> None:
        self.results |= {r.scenario.name: r for r in results}
        self.proven.emit()

    def open(self, path: Path) -> None:
        """Opens another file. Raises `FormatError`, and keeps the present one then."""
        self.replace(read_project(path), path)

    def replace(self, project: Project, path: Path | None) -> None:
        """Puts another machine file in the place of the present one, with a history of its own."""
        self.history, self.path = History.of(project), path
        self.saved = project
        self.results = {}
        self.check()
        self.changed.emit()

    def save(self, path: Path) -> None:
        """Writes the file. Raises `FormatError`."""
        write_project(self.project, path)
        self.path, self.saved = path, self.project
        self.changed.emit()
