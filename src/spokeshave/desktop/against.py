"""Scenarios against a controller outside: a window with the address, the scenarios with their verdicts, and the first difference."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QFormLayout,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QSpinBox,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.controller.against import Measured, Way
from spokeshave.controller.elsewhere import Address, Judged, judge, measure
from spokeshave.controller.line import OPC, LineError, host_of
from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.process_work import Elsewhere
from spokeshave.desktop.proof.rows import SIGNS, sign_colour
from spokeshave.desktop.theme import theme
from spokeshave.engine.link import link_problems
from spokeshave.fieldbus.access import is_open
from spokeshave.language.literals import duration_ms
from spokeshave.model.diagnostics import errors
from spokeshave.model.project import Scenario
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.junit import lines_of

NAME, VERDICT, BECAUSE = range(3)
LOOK_MS = 200


class AgainstWindow(QWidget):
    """`show_asked` carries a run, the model's own beside it or None, the name of the scenario and a time in ms, to be looked at on the
    bench.
    """

    show_asked = Signal(object, object, str, int)

    def __init__(self, document: Document, serve: Callable[[], object], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("manual", "controller")
        self.setWindowFlag(Qt.WindowType.Window)
        self.setWindowTitle("Against a controller")
        self.document = document
        self.way: Way | None = None
        self.judged: dict[str, Judged] = {}
        """By the name of the scenario."""
        self.measured = Measured()
        self._to_run: list[Scenario] = []
        self._count = 0
        self._at = Address("")
        self._elsewhere = Elsewhere(self)
        says = TextLabel("The machine stand-in is the machine, the controller outside has the controls. Inputs are written into it, "
                         "its outputs are read, and each is held against what the model does at that time.")  # fmt: skip
        says.setObjectName("hint")
        says.setWordWrap(True)
        self.address = QLineEdit("127.0.0.1:5020")
        self.address.setAccessibleName("Address of the controller")
        self.address.textChanged.connect(self._warn)
        self.unit = QSpinBox()
        self.unit.setAccessibleName("Modbus unit")
        self.unit.setRange(0, 255)
        self.unit.setValue(1)
        self.open = TextLabel(
            "⚠ This is another machine. Inputs are written into its controller: unplug what its outputs move."
        )
        self.open.setWordWrap(True)
        self.unplugged = QCheckBox("Nothing that could move is connected to it")
        self.their_scan = QLineEdit()
        self.their_scan.setAccessibleName("Scan of the controller")
        self.their_scan.setPlaceholderText(f"as ours, {document.project.period_ms} ms")
        self.tolerance = QLineEdit()
        self.tolerance.setAccessibleName("How late is taken as the same")
        self.tolerance.setPlaceholderText(
            "late by what is measured: twice there and back, a scan of theirs, one of ours"
        )
        self.by_clock = QCheckBox("By the clock, also where it counts our scans")
        self.start_button = QPushButton("Run all")
        self.start_button.setObjectName("primary")
        self.start_button.clicked.connect(self.run_all)
        self.one_button = QPushButton("Run the chosen")
        self.one_button.clicked.connect(self.run_chosen)
        self.cancel_button = QPushButton("Cancel")
        self.cancel_button.clicked.connect(self.cancel)
        self.map_button = QPushButton("Address map ...")
        self.map_button.clicked.connect(lambda: serve())
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.state = TextLabel("")
        self.state.setWordWrap(True)
        self.list = QTreeWidget()
        self.list.setAccessibleName("Scenarios against the controller")
        self.list.setHeaderLabels(["Scenario", "Verdict", "Because"])
        self.list.setRootIsDecorated(False)
        self.list.header().setSectionResizeMode(NAME, QHeaderView.ResizeMode.ResizeToContents)
        self.list.setColumnWidth(VERDICT, 110)
        self.list.currentItemChanged.connect(lambda *_: self._show_chosen())
        self.about = TextLabel("")
        self.about.setWordWrap(True)
        self.about.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.show_button = QPushButton("Show on the bench")
        self.show_button.clicked.connect(self.ask_bench)
        self._arrange(says)
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._show_part)
        document.changed.connect(self.refresh)
        self.refresh()

    def _arrange(self, says: QWidget) -> None:
        where = QHBoxLayout()
        where.addWidget(self.address, 1)
        where.addWidget(TextLabel("unit"))
        where.addWidget(self.unit)
        where.addWidget(self.map_button)
        form = QFormLayout()
        form.addRow(says)
        form.addRow("Controller at", where)
        form.addRow(self.open)
        form.addRow(self.unplugged)
        form.addRow("Its scan takes", self.their_scan)
        form.addRow("The same up to", self.tolerance)
        form.addRow("", self.by_clock)
        buttons = QHBoxLayout()
        for button in (self.start_button, self.one_button, self.cancel_button):
            buttons.addWidget(button)
        buttons.addWidget(self.bar, 1)
        low = QHBoxLayout()
        low.addWidget(self.about, 1)
        low.addWidget(self.show_button, 0, Qt.AlignmentFlag.AlignTop)
        column = QVBoxLayout(self)
        column.addLayout(form)
        column.addLayout(buttons)
        column.addWidget(self.state)
        column.addWidget(self.list, 1)
        column.addLayout(low)
        self.resize(860, 680)

    # -- what is shown

    def refresh(self) -> None:
        """The scenarios of the file, with the verdicts that still are about them."""
        self._warn()
        project = self.document.project
        kept = {s.name for s in project.scenarios}
        self.judged = {n: j for n, j in self.judged.items() if n in kept and j.result.project.runs_like(project)}
        name = self._chosen_name()
        self.list.clear()
        for s in project.scenarios:
            item = QTreeWidgetItem([s.name, "", ""])
            self.list.addTopLevelItem(item)
            self._show_verdict(item)
            if s.name == name:
                self.list.setCurrentItem(item)
        if not project.scenarios:
            self.state.setText("There are no scenarios yet; they are written in Proof.")
        self._enable()

    def _chosen_name(self) -> str:
        item = self.list.currentItem()
        return item.text(NAME) if item is not None else ""

    def _chosen(self) -> Judged | None:
        """What came of the chosen scenario."""
        return self.judged.get(self._chosen_name())

    def _show_verdict(self, item: QTreeWidgetItem) -> None:
        found = self.judged.get(item.text(NAME))
        if found is None:
            return
        outcome = found.result.outcome
        words = "not run" if found.left_out else f"{SIGNS[outcome]} {outcome.value}"
        item.setText(VERDICT, words)
        item.setForeground(VERDICT, theme.colour("faint") if found.left_out else sign_colour(outcome))
        lines = self._lines(found)
        item.setText(BECAUSE, lines[0] if lines else found.measured.text())
        item.setToolTip(BECAUSE, plain(item.text(BECAUSE)))

    @staticmethod
    def _lines(found: Judged) -> list[str]:
        """What did not pass of it, the first difference before all."""
        if found.left_out:
            return [found.left_out]
        stopped = [r.stopped for r in found.result.runs if r.stopped]
        return [*stopped, *(x for x in lines_of(found.result, bad_only=True) if x not in stopped)]

    def _show_chosen(self) -> None:
        found = self._chosen()
        self.about.setText("\n".join(self._lines(found)[:6]) if found is not None else "")
        self._enable()

    def _enable(self) -> None:
        busy, found = self._elsewhere.busy, self._chosen()
        for part in (self.address, self.unit, self.unplugged, self.their_scan, self.tolerance, self.by_clock):
            part.setEnabled(not busy)
        self.start_button.setEnabled(not busy and bool(self.document.project.scenarios))
        self.one_button.setEnabled(not busy and bool(self._chosen_name()))
        self.cancel_button.setEnabled(busy)
        self.bar.setVisible(busy)
        self.show_button.setEnabled(found is not None and bool(found.result.runs))

    def _warn(self) -> None:
        host = self.address.text().strip().removeprefix(OPC).rpartition(":")[0]
        outside = bool(host) and is_open(host)
        self.open.setVisible(outside)
        self.unplugged.setVisible(outside)

    # -- running

    def run_all(self) -> None:
        self._begin(list(self.document.project.scenarios))

    def run_chosen(self) -> None:
        self._begin([s for s in self.document.project.scenarios if s.name == self._chosen_name()])

    def _begin(self, scenarios: list[Scenario]) -> None:
        """Measures the line, then runs one after the other."""
        try:
            times = [
                duration_ms(t) if (t := field.text().strip()) else 0 for field in (self.their_scan, self.tolerance)
            ]
        except ValueError as error:
            self.state.setText(f"✕ Write a time such as 50 ms: {error}")
            return
        try:
            host, _ = host_of(self.address.text())
        except LineError as error:
            self.state.setText(f"✕ {str(error)[:1].upper()}{str(error)[1:]}.")
            return
        if is_open(host) and not self.unplugged.isChecked():
            self.state.setText("✕ Say that nothing that could move is connected to it.")
            return
        project = self.document.project
        if bad := errors(link_problems(project)):
            self.state.setText(f"✕ The machine file cannot run: {bad[0]}")
            return
        self._at = Address(self.address.text().strip(), self.unit.value())
        self._to_run, self._count, self.measured, self.way = scenarios, len(scenarios), Measured(), None
        for s in scenarios:
            self.judged.pop(s.name, None)
        self.refresh()
        self.state.setText("Measures the way there and back ...")
        self._elsewhere.ask(self._take_way, measure, project, self._at, *times, self.by_clock.isChecked())
        self._timer.start()
        self._enable()

    def _take_way(self, found: Way | str) -> None:
        if isinstance(found, str):
            self._end(f"✕ {found}")
            return
        self.way = found
        self._next()

    def _next(self) -> None:
        if not self._to_run or self.way is None:
            self._end(self._summary())
            return
        self._elsewhere.ask(self._take, judge, self.document.project, self._to_run[0], self._at, self.way)
        self._show_part()
        self._enable()

    def _take(self, found: Judged | str) -> None:
        if isinstance(found, str):
            self._end(f"✕ {found}")
            return
        name = self._to_run.pop(0).name
        self.judged[name] = found
        self.measured = self.measured.with_more(found.measured)
        for item in self.list.findItems(name, Qt.MatchFlag.MatchExactly, NAME):
            self._show_verdict(item)
        self._show_chosen()
        if found.result.outcome is Outcome.LINE_LOST:
            self._end(f"✕ {found.result.stopped}")
            return
        self._next()

    def _show_part(self) -> None:
        if self.way is None or not self._to_run:
            return
        done = self._count - len(self._to_run)
        self.bar.setValue(round(1000 * (done + self._elsewhere.part) / max(1, self._count)))
        self.state.setText(f"{self._to_run[0].name}, {done + 1} of {self._count}: {self.way.text()}")

    def _summary(self) -> str:
        judged = [j for j in self.judged.values() if not j.left_out]
        passed = sum(j.result.outcome is Outcome.PASS for j in judged)
        left = len(self.judged) - len(judged)
        way = f" {self.way.text().capitalize()}." if self.way is not None else ""
        not_run = f", {left} not run" if left else ""
        return f"{passed} of {len(judged)} passed{not_run}; {self.measured.text()}.{way}"

    def _end(self, says: str) -> None:
        self._timer.stop()
        self._to_run = []
        self.state.setText(says)
        self._enable()

    def cancel(self) -> None:
        """Ends what runs; what is judged stays."""
        self._elsewhere.forget()
        self._end("Cancelled.")

    def ask_bench(self) -> None:
        """The run of the chosen scenario, where it was otherwise first."""
        found = self._chosen()
        run = found.result.worst_run if found is not None else None
        if run is not None and found is not None:
            worst = next((v.time_ms for v in run.verdicts if v.outcome is Outcome.FAIL), run.start_ms)
            end_ms = max(0, (run.scans - 1) * run.project.period_ms - run.start_ms)
            self.show_asked.emit(run, found.alone, self._chosen_name(), end_ms if run.stopped else worst)

    def closeEvent(self, event: QCloseEvent) -> None:
        if self._elsewhere.busy:
            self.cancel()
        event.accept()
