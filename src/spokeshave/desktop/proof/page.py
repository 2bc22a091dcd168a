"""The proof: coverage first, then scenarios, what protects, faults, and accepted runs, each on a page of its own."""

from __future__ import annotations

import datetime
from html import escape

from PySide6.QtCore import QSettings, Signal
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QTabWidget, QVBoxLayout, QWidget

from spokeshave.desktop.brief.about import COLOURS, SIGNS
from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import RichLabel, TextLabel
from spokeshave.desktop.proof.accepted import AcceptedPanel
from spokeshave.desktop.proof.alarms import AlarmsPanel
from spokeshave.desktop.proof.matrix import MatrixPanel
from spokeshave.desktop.proof.room import RoomPanel
from spokeshave.desktop.proof.scenarios import ScenariosPanel
from spokeshave.desktop.proof.strength import StrengthPanel
from spokeshave.desktop.proof.study import StudyPanel
from spokeshave.desktop.proof.sweep import SweepPanel
from spokeshave.desktop.proof.worker import ProofWorker
from spokeshave.desktop.record import Told
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.stage_page import StagePage
from spokeshave.desktop.tasks import Tasks
from spokeshave.desktop.theme import theme
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Scenario
from spokeshave.verify.batch import portable
from spokeshave.verify.record import NOT_RUN
from spokeshave.verify.scenarios import Result


class ProofPage(StagePage):
    """`show_asked` carries a run, the name of its scenario and a time in ms of the run to look at on the bench."""

    show_asked = Signal(object, str, int)
    runs_changed = Signal()
    """Runs have begun, or are over."""

    def __init__(self, document: Document, runner: Runner, selection: Selection, tasks: Tasks) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.worker: ProofWorker | None = None
        self.cover = RichLabel()
        self.cover.setWordWrap(True)
        self.cover.setMargin(2)
        self.cover.linkActivated.connect(self._go_to_requirement)
        self.progress = QProgressBar()
        self.progress.setMaximumWidth(180)
        self.progress.setTextVisible(False)
        self.progress.hide()
        self.run_all = QPushButton("Run all")
        self.run_all.setObjectName("primary")
        self.run_all.clicked.connect(self.run_everything)
        self.run_changed = QPushButton()
        self.run_changed.setToolTip(
            "Runs the scenarios whose verdict no longer holds, or that were never run: the others depend on nothing that changed"
        )
        self.run_changed.clicked.connect(self.run_what_changed)
        self.run_group = QPushButton("Run the group")
        self.run_group.clicked.connect(self.run_of_group)
        self.run_one = QPushButton("Run this one")
        self.run_one.clicked.connect(self.run_selected)
        self.cancel = QPushButton("Cancel")
        self.cancel.clicked.connect(self.stop)
        self.cancel.hide()
        self.status = TextLabel()
        self.scenarios = ScenariosPanel(document)
        self.scenarios.show_asked.connect(self.show_asked)
        self.scenarios.chosen.connect(self._enable)
        self.list = self.scenarios.list
        self.matrix = MatrixPanel(document, runner, selection)
        self.matrix.show_asked.connect(self.show_asked)
        self.alarms = AlarmsPanel(document, selection)
        self.alarms.scenario_asked.connect(lambda name: selection.go_to("scenario", name))
        self.accepted = AcceptedPanel(document, tasks)
        self.accepted.show_asked.connect(self.show_asked)
        self.accepted.run_asked.connect(self.run_all.click)
        self.sweep = SweepPanel(document)
        self.study = StudyPanel(document)
        self.study.show_asked.connect(self.show_asked)
        self.strength = StrengthPanel(document, selection)
        self.room = RoomPanel(document, selection)
        self.parts = QTabWidget()
        self.parts.setDocumentMode(True)
        self.parts.tabBar().setDrawBase(False)  # white in the dark theme
        self.parts.setAccessibleName("Parts of the proof")
        self.parts.tabBar().setAccessibleName("Parts of the proof")
        for widget, title in (
            (self.scenarios, "Scenarios"),
            (self.matrix, "Cause and effect"),
            (self.alarms, "Alarms"),
            (self.sweep, "Fault sweep"),
            (self.study, "Reachability"),
            (self.strength, "Strength"),
            (self.room, "Room"),
            (self.accepted, "Accepted runs"),
        ):
            self.parts.addTab(widget, title)
        top = QHBoxLayout()
        top.setSpacing(8)
        top.setContentsMargins(12, 8, 12, 2)
        for button in (self.run_all, self.run_changed, self.run_group, self.run_one, self.cancel, self.progress):
            top.addWidget(button)
        top.addWidget(self.status, 1)
        cover = QHBoxLayout()
        cover.setContentsMargins(10, 0, 10, 2)
        cover.addWidget(self.cover)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(top)
        whole.addLayout(cover)
        whole.addWidget(self.parts, 1)
        document.changed.connect(self.refresh)
        document.proven.connect(self.refresh)
        document.checked.connect(self._show_cover)
        self.refresh()

    # -- what is shown

    def refresh(self) -> None:
        """Follows the document and the results."""
        self._show_cover()
        self._enable()
        if not self.worker:
            self.status.setText(self._standing())

    def _standing(self) -> str:
        """How many verdicts are passes that hold, and how many held before an edit."""
        known = self.document.ledger.standing
        count = len(self.document.project.scenarios)
        of_present = [known[s.name] for s in self.document.project.scenarios if s.name in known]
        if not of_present:
            return "not run yet"
        passed = sum(s.passed and s.holds for s in of_present)
        before = sum(not s.holds for s in of_present)
        return f"{passed} of {count} passed" + (f", {before} to run again" if before else "")

    def first(self) -> QWidget:
        return self.list

    def go_to(self, place: Place) -> None:
        if place.kind == "scenario":
            self.parts.setCurrentWidget(self.scenarios)
            names = [s.name for s in self.document.project.scenarios]
            self.list.setCurrentRow(names.index(place.item) if place.item in names else 0)
        elif place.kind in ("interlock", "trip", "opposed"):
            self.parts.setCurrentWidget(self.matrix)
            self.matrix.go_to(place)
        elif place.kind == "alarm":
            self.parts.setCurrentWidget(self.alarms)
            self.alarms.go_to(place)

    def leave(self, settings: QSettings | None) -> None:
        self.stop()

    def recolour(self) -> None:
        self.refresh()
        self.scenarios.refresh()
        self.matrix.refresh()
        self.sweep.refresh()
        self.study.refresh()
        self.strength.refresh()
        self.accepted.refresh()

    def _show_cover(self) -> None:
        parts = []
        for c in self.document.coverage():
            colour, ident = theme.colour(COLOURS[c.state]).name(), escape(c.requirement.ident)
            parts.append(
                f"<a href='{ident}' style='color:{colour};text-decoration:none'>{SIGNS[c.state]}&nbsp;{ident}</a>"
            )
        text = "<b>Requirements</b>&nbsp;&nbsp; " + " &nbsp; ".join(parts) if parts else "No requirements yet."
        if text != self.cover.text():
            self.cover.setText(text)

    def _go_to_requirement(self, ident: str) -> None:
        self.selection.go_to("requirement", ident)

    def _enable(self) -> None:
        idle = self.worker is None
        scenario = self.scenarios.scenario
        self.run_all.setEnabled(idle)
        left, count = len(self.document.ledger.to_run(self.document.project)), len(self.document.project.scenarios)
        self.run_changed.setText(f"Run what changed ({left})")
        self.run_changed.setVisible(0 < left < count)
        self.run_changed.setEnabled(idle)
        self.run_one.setEnabled(idle and scenario is not None)
        self.run_group.setEnabled(idle and scenario is not None)
        self.run_group.setVisible(any(s.group for s in self.document.project.scenarios))
        name = scenario.group if scenario is not None else ""
        self.run_group.setText(f"Run {name}" if name else "Run the ungrouped")
        self.cancel.setVisible(not idle)
        self.progress.setVisible(not idle)
        self.runs_changed.emit()

    # -- runs

    def run_everything(self) -> None:
        self._run(list(self.document.project.scenarios))

    def run_what_changed(self) -> None:
        """Runs what has no verdict that holds."""
        self._run(self.document.ledger.to_run(self.document.project))

    def run_of_group(self) -> None:
        self._run(self.scenarios.of_group())

    def run_selected(self) -> None:
        if self.scenarios.scenario:
            self._run([self.scenarios.scenario])

    def _run(self, scenarios: list[Scenario]) -> None:
        if self.worker is not None or not scenarios:
            return
        self.scenarios.apply_text()
        names = {s.name for s in scenarios}
        self.worker = ProofWorker(
            self.document.project, [s for s in self.document.project.scenarios if s.name in names]
        )
        self.worker.progressed.connect(self._progress)
        self.worker.finished.connect(self._finished)
        self.worker.failed.connect(self._failed)
        self.worker.start()
        self._enable()

    def _progress(self, part: float, name: str) -> None:
        self.progress.setValue(int(100 * part))
        self.status.setText(f"runs {name}")

    def _failed(self, why: str) -> None:
        self.status.setText(f"Cannot run yet. {why}")

    def _finished(self, results: list[Result]) -> None:
        worker, self.worker = self.worker, None
        self._enable()
        if worker is None:
            return
        worker.deleteLater()
        if results:
            self.document.take_results(results)
            if not any(r.scenario.name in self.document.results for r in results):
                self.status.setText("the machine file was edited meanwhile: run again")
        elif self.status.text().startswith("runs"):
            self.status.setText("cancelled")

    def told(self) -> tuple[Told, list[str]]:
        """What the acceptance record is made of, and what is missing in it."""
        document, results = self.document, self.document.results
        swept, studied = self.sweep.model.matrix, self.study.found
        missing = [] if len(results) == len(document.project.scenarios) else ["scenarios that were not run"]
        if not (swept.whole and self.sweep.of_present()):
            missing.append("the fault sweep")
        if studied is None or not self.study.of_present():
            studied = None
            missing.append("the reachability study")
        runs = [portable(results[s.name]) for s in document.project.scenarios if s.name in results]
        matrix = NOT_RUN if "the fault sweep" in missing else swept
        today = datetime.date.today().isoformat()
        return (
            document.project,
            runs,
            document.findings,
            today,
            matrix,
            studied or NOT_RUN,
            self.strength.whole(),
            self.room.whole(),
        ), missing

    def stop(self) -> None:
        """Cancels what runs."""
        self.sweep.stop()
        self.study.stop()
        self.strength.stop()
        self.room.stop()
        if self.worker is not None:
            self.worker.cancel()
