"""The proof: coverage first, scenarios with verdicts, what decided them, and the way to that place in the run."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QColor
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QSplitter,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.proof.worker import ProofWorker
from spokeshave.desktop.theme import code_font, theme
from spokeshave.model import edits
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.coverage import coverage
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenario_language import scenario_problems
from spokeshave.verify.scenarios import Result

SIGNS = {Outcome.PASS: "✓", Outcome.FAIL: "✕", Outcome.NOT_REACHED: "◔"}
NEW_TEXT = "// What is done, then what is expected\nat 500 ms: press Start\nrun for 30 s\nexpect no alarms\n"


COLOURS = {Outcome.PASS: "true", Outcome.FAIL: "late", Outcome.NOT_REACHED: "false"}


def sign_colour(outcome: Outcome) -> QColor:
    return theme.colour(COLOURS[outcome])


class ProofPage(QWidget):
    """`show_asked` carries a result and a time in ms to look at on the bench."""

    show_asked = Signal(object, int)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.worker: ProofWorker | None = None
        self._loading = False
        self.cover = QLabel()
        self.cover.setTextFormat(Qt.TextFormat.RichText)
        self.cover.setWordWrap(True)
        self.cover.setMargin(4)
        self.progress = QProgressBar()
        self.progress.setMaximumWidth(220)
        self.progress.setTextVisible(False)
        self.progress.hide()
        self.run_all = QPushButton("Run all scenarios")
        self.run_all.setObjectName("primary")
        self.run_all.clicked.connect(self.run_everything)
        self.run_one = QPushButton("Run this one")
        self.run_one.clicked.connect(self.run_selected)
        self.cancel = QPushButton("Cancel")
        self.cancel.clicked.connect(self.stop)
        self.cancel.hide()
        self.status = QLabel()
        self.list = QListWidget()
        self.list.setAccessibleName("Scenarios")
        self.list.currentRowChanged.connect(self._show_current)
        self.text = QPlainTextEdit()
        self.text.setFont(code_font(13))
        self.text.setAccessibleName("Rows of the scenario")
        self.text.textChanged.connect(self._look_at_text)
        self.fault = QLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.apply = QPushButton("Apply")
        self.apply.clicked.connect(self.apply_text)
        self.verdicts = QTableWidget(0, 4)
        self._arrange()
        document.changed.connect(self.refresh)
        document.proven.connect(self.refresh)
        self.refresh()
        self.list.setCurrentRow(0)

    def _arrange(self) -> None:
        table = self.verdicts
        table.setHorizontalHeaderLabels(["Verdict", "At", "Expectation", "Because"])
        table.verticalHeader().hide()
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setAccessibleName("Verdicts")
        table.setWordWrap(True)
        for section, width in enumerate((104, 84, 300, 200)):
            table.setColumnWidth(section, width)
        table.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        table.horizontalHeader().setSectionResizeMode(3, QHeaderView.ResizeMode.Stretch)
        table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        table.horizontalHeader().setHighlightSections(False)
        table.horizontalHeader().sectionResized.connect(lambda *_: table.resizeRowsToContents())
        table.cellDoubleClicked.connect(lambda row, _: self.show_row(row))
        top = QHBoxLayout()
        top.setSpacing(8)
        top.setContentsMargins(12, 8, 12, 4)
        top.addWidget(self.run_all)
        top.addWidget(self.run_one)
        top.addWidget(self.cancel)
        top.addWidget(self.progress)
        top.addWidget(self.status, 1)
        add, remove = QPushButton("Add a scenario"), QPushButton("Delete")
        add.clicked.connect(self.add)
        remove.clicked.connect(self.remove)
        self.show_button = QPushButton("Show on the bench")
        self.show_button.clicked.connect(lambda: self.show_row(self.verdicts.currentRow()))
        top.addWidget(self.show_button)
        top.addWidget(add)
        top.addWidget(remove)
        editor = QWidget()
        column = QVBoxLayout(editor)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.text, 1)
        row = QHBoxLayout()
        row.addWidget(self.fault, 1)
        row.addWidget(self.apply)
        row.setContentsMargins(8, 0, 8, 4)
        column.addLayout(row)
        right = QSplitter(Qt.Orientation.Vertical)
        right.addWidget(self.verdicts)
        right.addWidget(editor)
        right.setSizes([320, 240])
        both = QSplitter()
        both.addWidget(self.list)
        both.addWidget(right)
        both.setSizes([230, 800])
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(top)
        cover = QHBoxLayout()
        cover.setContentsMargins(8, 2, 8, 6)
        cover.addWidget(self.cover)
        whole.addLayout(cover)
        whole.addWidget(both, 1)

    # -- what is shown

    @property
    def scenario(self) -> Scenario | None:
        row = self.list.currentRow()
        known = self.document.project.scenarios
        return known[row] if 0 <= row < len(known) else None

    def result(self) -> Result | None:
        return self.document.results.get(self.scenario.name) if self.scenario else None

    def refresh(self) -> None:
        """Follows the document and the results."""
        project, results = self.document.project, self.document.results
        row = max(0, self.list.currentRow())
        self._loading = True
        self.list.clear()
        for s in project.scenarios:
            outcome = results[s.name].outcome if s.name in results else None
            item = QListWidgetItem(f"{SIGNS[outcome] if outcome else '○'}  {s.name}")
            item.setForeground(sign_colour(outcome) if outcome else theme.colour("ink"))
            item.setToolTip(f"shows {', '.join(s.shows) or 'no requirement'}")
            self.list.addItem(item)
        self._loading = False
        self.list.setCurrentRow(min(row, len(project.scenarios) - 1))
        self._show_cover()
        self._show_current()
        if not self.worker:
            passed = sum(r.outcome is Outcome.PASS for r in results.values())
            self.status.setText(f"{passed} of {len(project.scenarios)} passed" if results else "not run yet")

    def _show_cover(self) -> None:
        names = {"proven": "true", "failed": "late", "not run": "faint", "open": "false"}
        signs = {"proven": "✓", "failed": "✕", "not run": "◔", "open": "○"}
        parts = [
            f"<span style='color:{theme.colour(names[c.state]).name()}'>{signs[c.state]}&nbsp;{c.requirement.ident}</span>"
            for c in coverage(self.document.project, self.document.results)
        ]
        self.cover.setText(
            "<b>Requirements</b>&nbsp;&nbsp; " + " &nbsp; ".join(parts) if parts else "No requirements yet."
        )

    def _show_current(self) -> None:
        if self._loading:
            return
        scenario, result = self.scenario, self.result()
        wanted = scenario.text if scenario else ""
        if self.text.toPlainText() != wanted:
            self._loading = True
            self.text.setPlainText(wanted)
            self._loading = False
        self._look_at_text()
        verdicts = result.verdicts if result else ()
        self.verdicts.setRowCount(len(verdicts))
        for row, v in enumerate(verdicts):
            cells = (
                f"{SIGNS[v.outcome]} {v.outcome.value}",
                f"{v.time_ms / 1000:.2f} s",
                v.text.removeprefix("expect "),
                v.because,
            )
            for column, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                if column == 0:
                    item.setForeground(sign_colour(v.outcome))
                if column == 1:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.verdicts.setItem(row, column, item)
        self.verdicts.resizeRowsToContents()
        bad = next((i for i, v in enumerate(verdicts) if v.outcome is not Outcome.PASS), 0)
        if verdicts:
            self.verdicts.selectRow(bad)
        self.show_button.setEnabled(bool(verdicts))
        self.run_one.setEnabled(scenario is not None and self.worker is None)

    def _look_at_text(self) -> None:
        """Says at once what is wrong with the rows as typed."""
        scenario = self.scenario
        if scenario is None or self._loading:
            return
        text = self.text.toPlainText()
        problems = scenario_problems(self.document.project, Scenario(scenario.name, text, scenario.shows))
        self.fault.setText(
            "\n".join(f"Row {p.line}: {p.message}" + (f"; {p.advice}" if p.advice else "") for p in problems[:3])
        )
        self.apply.setEnabled(text != scenario.text)

    # -- edits

    def apply_text(self) -> None:
        row, text = self.list.currentRow(), self.text.toPlainText()
        if self.scenario:
            name = self.scenario.name
            self.document.edit(f"Change {name}", lambda p: edits.change_item(p, "scenarios", row, text=text))

    def add(self) -> None:
        taken = {s.name.lower() for s in self.document.project.scenarios}
        new = Scenario(edits.free_name("Scenario", taken), NEW_TEXT)

        def change(p: Project) -> Project:
            return edits.add_item(p, "scenarios", new)

        if self.document.edit(f"Add {new.name}", change):
            self.list.setCurrentRow(self.list.count() - 1)

    def remove(self) -> None:
        row = self.list.currentRow()
        if self.scenario:
            name = self.scenario.name
            self.document.edit(f"Delete {name}", lambda p: edits.remove_item(p, "scenarios", row))

    # -- runs

    def run_everything(self) -> None:
        self._run(list(self.document.project.scenarios))

    def run_selected(self) -> None:
        if self.scenario:
            self._run([self.scenario])

    def _run(self, scenarios: list[Scenario]) -> None:
        if self.worker is not None or not scenarios:
            return
        if self.text.toPlainText() != (self.scenario.text if self.scenario else ""):
            self.apply_text()
            scenarios = [s for s in self.document.project.scenarios if any(s.name == o.name for o in scenarios)]
        self.worker = ProofWorker(self.document.project, scenarios)
        self.worker.progressed.connect(self._progress)
        self.worker.finished.connect(self._finished)
        self.worker.failed.connect(self._failed)
        self._busy(True)
        self.worker.start()

    def _busy(self, busy: bool) -> None:
        self.run_all.setEnabled(not busy)
        self.run_one.setEnabled(not busy)
        self.cancel.setVisible(busy)
        self.progress.setVisible(busy)

    def _progress(self, part: float, name: str) -> None:
        self.progress.setValue(int(100 * part))
        self.status.setText(f"runs {name}")

    def _failed(self, why: str) -> None:
        self.status.setText(f"Cannot run yet. {why}")

    def _finished(self, results: list[Result]) -> None:
        worker, self.worker = self.worker, None
        self._busy(False)
        if worker is None:
            return
        worker.deleteLater()
        if not worker.project.runs_like(self.document.project):
            self.status.setText("the machine file was edited meanwhile: run again")
        elif results:
            self.document.take_results(results)
        elif self.status.text().startswith("runs"):
            self.status.setText("cancelled")

    def stop(self) -> None:
        """Cancels what runs."""
        if self.worker is not None:
            self.worker.cancel()

    def show_row(self, row: int) -> None:
        result = self.result()
        if result is not None and 0 <= row < len(result.verdicts):
            self.show_asked.emit(result, result.verdicts[row].time_ms)
