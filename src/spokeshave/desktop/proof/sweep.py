"""The fault sweep in the desktop: its matrix as it comes, a cell in words, and the run behind it on the bench."""

from __future__ import annotations

import datetime
import os
from dataclasses import replace
from html import escape

from PySide6.QtCore import QModelIndex, QTimer, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.plain_text import RichLabel, StatusLabel, TextLabel
from spokeshave.desktop.process_work import LOOK_MS, Elsewhere
from spokeshave.desktop.proof.sweep_table import FILTERS, LOOKS, MEANS, SweepModel, SweepView
from spokeshave.desktop.theme import theme
from spokeshave.engine.session import Session
from spokeshave.model.project import Project
from spokeshave.verify.accepted import accept
from spokeshave.verify.processes import executor
from spokeshave.verify.scenarios import Run
from spokeshave.verify.standing import Work, changed, sweep_basis, told
from spokeshave.verify.sweep.advice import Advice, advice
from spokeshave.verify.sweep.cycle import cycles_of, fullest, likely_cycle
from spokeshave.verify.sweep.matrix import Matrix, accept_sweep, explain
from spokeshave.verify.sweep.verdicts import Cell
from spokeshave.verify.sweep.work import Played, Sent, Sweep, play

ASKS = "Every failure of every device, each button and the loss of power, in every step of the cycle: what comes of it?"


class SweepPanel(QWidget):
    """`show_asked` carries a run, the reference to draw beside it, what it is, and a time in ms to look at."""

    show_asked = Signal(object, object, str, int)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.setProperty("manual", "proof#Fault sweep")
        self.document = document
        self.sweep: Sweep | None = None
        self._swept: Project | None = None
        """What the matrix is of."""
        self.player = Elsewhere(self)
        self._stale = True
        self._warm = False
        self.cycle = QComboBox()
        self.cycle.setAccessibleName("Cycle to sweep")
        self.cycle.setToolTip("The scenario that is run again under every fault in every step")
        self.cycle.activated.connect(self._take_cycle)
        self.start_button = QPushButton("Sweep")
        self.start_button.setObjectName("primary")
        self.start_button.clicked.connect(self.start)
        self.cancel_button = QPushButton("Cancel")
        self.cancel_button.clicked.connect(self.stop)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setMaximumWidth(160)
        self.filter = QComboBox()
        self.filter.setAccessibleName("What is shown")
        self.filter.addItems(FILTERS)
        self.filter.currentIndexChanged.connect(self._show_matrix)
        self.worst_first = QCheckBox("worst first")
        self.worst_first.toggled.connect(self._show_matrix)
        self.accept_button = QPushButton("Accept this matrix")
        self.accept_button.setToolTip("Later sweeps are compared with it, cell by cell")
        self.accept_button.clicked.connect(self.accept)
        self.status = StatusLabel()
        self.status.setMargin(4)
        self.status.setWordWrap(True)
        self.model = SweepModel()
        self.view = SweepView(self.model)
        self.view.selectionModel().currentChanged.connect(self._chosen)
        self.view.doubleClicked.connect(self.show_cell)
        self.empty = EmptyHint(self.view, ASKS, (("Sweep", self.start),))
        self.about = RichLabel()
        self.about.setWordWrap(True)
        self.reason = QPlainTextEdit()
        self.reason.setMaximumHeight(84)
        self.reason.setTabChangesFocus(True)
        self.reason.setAccessibleName("Why the verdict is as it should be")
        self.reason.setPlaceholderText("why this is as it should be")
        self.every_step = QCheckBox("in every step")
        self.explain_button = QPushButton("Explain")
        self.explain_button.clicked.connect(self.explain)
        self.mend_button = QPushButton()
        self.mend_button.setToolTip("Makes the edit that would tell of this fault; sweep again to see it")
        self.mend_button.clicked.connect(self.mend)
        self.show_button = QPushButton("Show on the bench")
        self.show_button.clicked.connect(self.show_cell)
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)
        self._arrange()
        document.changed.connect(self.refresh)
        self.refresh()

    def _arrange(self) -> None:
        def line(*widgets: QWidget, margins: tuple[int, int, int, int], stretch: QWidget | None = None) -> QHBoxLayout:
            row = QHBoxLayout()
            row.setContentsMargins(*margins)
            row.setSpacing(8)
            for w in widgets:
                row.addWidget(w, 1 if w is stretch else 0)
            return row

        gap = QWidget()
        run = (TextLabel("Cycle"), self.cycle, self.start_button, self.cancel_button, self.progress, gap)
        shown = (TextLabel("Show"), self.filter, self.worst_first, self.accept_button)
        self.legend = RichLabel()
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(line(*run, *shown, margins=(12, 6, 12, 2), stretch=gap))
        whole.addLayout(line(self.status, margins=(10, 0, 12, 2), stretch=self.status))
        side = QWidget()
        column = QVBoxLayout(side)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(8)
        column.addWidget(self.about)
        for w in (self.reason, self.every_step):
            column.addWidget(w)
        column.addLayout(line(self.explain_button, self.show_button, margins=(0, 0, 0, 0)))
        column.addWidget(self.mend_button)
        column.addStretch(1)
        column.addWidget(self.legend)
        both = QSplitter()
        both.addWidget(self.view)
        both.addWidget(side)
        both.setSizes([900, 360])
        both.setStretchFactor(0, 1)
        whole.addWidget(both, 1)

    # -- what is shown

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        if self._stale:
            self.refresh()

    def refresh(self) -> None:
        """Follows the document; out of sight only when it is looked at again."""
        self._stale = not self.isVisible()
        if self._stale:
            return
        if not self._warm:
            self._warm = True
            executor().submit(os.getpid)  # processes take a while to start: they are there when a sweep is asked for
        project = self.document.project
        possible = cycles_of(project)
        names = [s.name for s in possible]
        if names != [self.cycle.itemText(i) for i in range(self.cycle.count())]:
            self.cycle.clear()
            self.cycle.addItems(names)
        likely = likely_cycle(possible) or fullest(possible)
        usual = possible.index(likely) if likely is not None else 0
        planned = self.cycle.findText(project.sweep.cycle) if project.sweep.cycle else -1
        self.cycle.setCurrentIndex(planned if planned >= 0 else usual if names else -1)
        if self._swept is not None and not self.of_present():
            self.status.say(f"Swept before the change of {told(self._changed())}: sweep again.", "false")
        self.model.matrix.plan = project.sweep
        self._show_matrix()

    def of_present(self) -> bool:
        """Whether the matrix is of the machine file as it is."""
        return self._swept is not None and not self._changed()

    def _changed(self) -> tuple[str, ...]:
        """What the matrix depends on and has changed since."""
        cycle = self.model.matrix.cycle
        if self._swept is None or self._swept is self.document.project:
            return ()
        return changed(sweep_basis(self._swept, cycle), sweep_basis(self.document.project, cycle))

    def _legend(self) -> None:
        """Signs and counts of the verdicts."""
        counts = self.model.matrix.counts()
        rows = [
            f"<tr><td style='color:{theme.colour(colour).name()}' align='center' width='22'><b>{sign}</b></td>"
            f"<td align='right' width='52'>{counts[v]:,}&nbsp;</td><td>{v.value}: {MEANS[v]}</td></tr>"
            for v, (sign, colour) in LOOKS.items()
        ]
        self.legend.setText(f"<table cellspacing='2'>{''.join(rows)}</table>")

    def _show_matrix(self) -> None:
        before = self.chosen()
        self.model.filter, self.model.worst_first = self.filter.currentIndex(), self.worst_first.isChecked()
        self.model.show_matrix(self.model.matrix)
        if before is not None and before.fault in self.model.rows:
            at = self.model.index(self.model.rows.index(before.fault), self.model.matrix.steps.index(before.step))
            self.view.setCurrentIndex(at)
        self._sum_up()
        self._chosen()

    def _sum_up(self) -> None:
        matrix = self.model.matrix
        if self.sweep is None and matrix.cells and self.of_present():
            left, changed = len(matrix.open()), self.model.matrix.changed()
            worse = sum(c.is_worse for c in changed)
            text = f"{len(matrix.cells):,} cells; of those that made a difference {100 * matrix.coverage:.1f} % noticed"
            text += f"; {left} bad and not explained" if left else "; nothing bad that is not explained"
            if changed:
                text += f"; {len(changed)} otherwise than accepted, {worse} of them worse"
            first = "".join(f"{said}. " for said in matrix.said_first)
            self.status.say(f"{first}{text}", "late" if left or worse else "true")
        elif self.sweep is None and self._swept is None:
            known = self.document.ledger.work.get("sweep")
            self.status.say(ASKS if known is None else known.words(self.document.project), "ink")
        self._legend()
        running = self.sweep is not None
        self.empty.show_while(not running and not matrix.cells and self.cycle.count() > 0)
        self.start_button.setEnabled(not running and self.cycle.count() > 0)
        self.cancel_button.setVisible(running)
        self.progress.setVisible(running)
        self.accept_button.setEnabled(not running and matrix.whole and self.of_present())

    def chosen(self) -> Cell | None:
        return self.model.cell(self.view.currentIndex())

    def _chosen(self) -> None:
        cell = self.chosen()
        for w in (self.reason, self.every_step, self.explain_button):
            w.setEnabled(cell is not None and cell.verdict.is_bad)
        self.show_button.setEnabled(cell is not None and not self.player.busy and self.of_present())
        known = self.model.matrix.explained(cell) if cell is not None else None
        self.reason.setPlainText(known.reason if known is not None else "")
        self.every_step.setChecked(known is not None and not known.step)
        told = self._advice(cell)
        self.mend_button.setVisible(told is not None and told.mend is not None)
        self.mend_button.setText(told.title if told is not None else "")
        self.about.setText(
            "Choose a cell; a double click shows its run beside the reference."
            if cell is None
            else self._words(cell, told)
        )

    def _advice(self, cell: Cell | None) -> Advice | None:
        """What would tell of the fault of a bad cell that nobody has explained, while the matrix is of the machine file as it is."""
        if (
            cell is None
            or not cell.verdict.is_bad
            or not self.of_present()
            or self.model.matrix.explained(cell) is not None
        ):
            return None
        return advice(self.document.project, cell)

    def mend(self) -> None:
        """Makes the edit that is offered for the chosen cell."""
        told = self._advice(self.chosen())
        if told is not None and told.mend is not None:
            self.document.edit(told.title, told.mend)

    def _words(self, cell: Cell, told: Advice | None) -> str:
        sign, colour = LOOKS[cell.verdict]
        times = [f"injected at {_s(cell.injected_ms)}"]
        if cell.noticed_ms >= 0:
            times.append(f"noticed after {_s(cell.noticed_ms - cell.injected_ms)}")
        times.append(f"cleared at {_s(cell.cleared_ms)}")
        times.append(f"clean cycle from {_s(cell.again_ms)}" if cell.again_ms >= 0 else "no clean cycle could begin")
        changed = self.model.changed(cell)
        if changed is not None:
            times.append(
                f"accepted was {changed.accepted.value}"
                if changed.accepted is not None
                else "not in the accepted matrix"
            )
        name = f"<span style='color:{theme.colour(colour).name()}'><b>{sign} {cell.verdict.value}</b></span>"
        lines = "<br>".join(t[0].upper() + t[1:] for t in times)
        mended = f"<p><b>What would tell:</b> {escape(told.text)}.</p>" if told is not None else ""
        return (
            f"<p><b>{escape(cell.fault)}</b><br>in {escape(cell.step)}</p><p style='font-size:16px'>{name}</p>"
            f"<p>{escape(cell.because[0].upper() + cell.because[1:])}.</p>{mended}<p>{lines}</p>"
        )

    # -- the sweep

    def start(self) -> None:
        """Begins a sweep of the machine file as it is, in processes."""
        if self.sweep is not None or not self.cycle.count():
            return
        self._swept = self.document.project
        self.sweep = Sweep(self._swept, self.cycle.currentText(), "", executor())
        self._timer.start()
        self.status.say("the reference cycle runs", "ink")
        self._sum_up()

    def take(self, matrix: Matrix, project: Project) -> None:
        """Shows a matrix that was made elsewhere of this machine file."""
        self._swept, self.model.matrix = project, matrix
        self._keep(matrix, project)
        self._show_matrix()

    def _keep(self, matrix: Matrix, project: Project) -> None:
        """What came of it goes beside the file when that is saved."""
        if matrix.whole:
            basis, today = sweep_basis(project, matrix.cycle), datetime.date.today().isoformat()
            self.document.ledger.work["sweep"] = Work(
                "sweep", matrix.summary(), tuple(basis.items()), matrix.cycle, today
            )

    def stop(self) -> None:
        """Cancels what runs; the cells there are stay."""
        if self.sweep is not None:
            self.sweep.cancel()
            self._look()

    def _look(self) -> None:
        sweep = self.sweep
        if sweep is not None:
            new = sweep.poll()
            self.progress.setValue(int(100 * sweep.part))
            if sweep.matrix is not self.model.matrix and sweep.matrix.faults:
                self.model.matrix = replace(sweep.matrix, plan=self.document.project.sweep)
                self.model.matrix.cells = sweep.matrix.cells
                self._show_matrix()
            elif new:
                self.model.cells_came()
            if new:
                self.status.say(f"{len(sweep.matrix.cells):,} cells", "ink")
            if sweep.done:
                self.model.matrix.said_first = sweep.matrix.said_first
                self.sweep = None
                self._show_matrix()
                if sweep.problem:
                    self.status.say(f"Cannot be swept. {sweep.problem}", "late")
                elif self._swept is not None:
                    self._keep(self.model.matrix, self._swept)
        if self.sweep is None:
            self._timer.stop()

    # -- edits

    def _take_cycle(self) -> None:
        name = self.cycle.currentText()
        if name != self.document.project.sweep.cycle:
            self.document.edit(f"Sweep {name}", lambda p: replace(p, sweep=replace(p.sweep, cycle=name)))

    def explain(self) -> bool:
        """Takes the reason typed for the chosen cell; none takes it away."""
        cell, reason, every = self.chosen(), self.reason.toPlainText().strip(), self.every_step.isChecked()
        if cell is None or not cell.verdict.is_bad:
            return False
        return self.document.edit(f"Explain {cell.fault}", lambda p: explain(p, cell, reason, every))

    def accept(self) -> bool:
        matrix, today = self.model.matrix, datetime.date.today().isoformat()
        return matrix.whole and self.document.edit("Accept the fault sweep", lambda p: accept_sweep(p, matrix, today))

    # -- the way to the bench

    def show_cell(self, index: QModelIndex | None = None) -> None:
        """The run behind the chosen cell, played again elsewhere and then shown beside the reference."""
        cell = self.chosen()
        if cell is None or self.player.busy or not self.of_present():
            return
        asked = (Sent(self.document.project), self.model.matrix.cycle, "", cell.fault, cell.step)
        self.player.ask(lambda played: self._show_played(cell, played), play, *asked)

    def _show_played(self, cell: Cell, played: Played | str) -> None:
        if isinstance(played, str):
            self.status.say(f"It cannot be shown. {played}", "late")
            return
        reference = Session(played.project, played.reference_done)
        reference.run_scans(played.reference_scans)
        run = Session(played.project, played.done)
        run.run_scans(played.scans)
        then = Run("", (), played.project, played.reference_done, played.reference_scans, live=reference)
        now = Run("", (), played.project, played.done, played.scans, live=run)
        name = f"{cell.fault}, in {cell.step}"
        self.show_asked.emit(now, accept(played.scenario, then, 0, 0.0), name, cell.injected_ms)
        self._chosen()


def _s(ms: int) -> str:
    return f"{ms / 1000:.2f} s"
