"""Accepted runs: which are kept, whether the last runs agree with them, and every difference."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QDoubleSpinBox,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSpinBox,
    QSplitter,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.tasks import Tasks
from spokeshave.desktop.theme import theme
from spokeshave.model import edits
from spokeshave.model.project import Accepted, Project
from spokeshave.verify.accepted import Difference, accept, compare, keep, label_of
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import Run


class AcceptedPanel(QWidget):
    """`show_asked` carries a run, the name of its scenario and a time in ms of the run to look at on the bench."""

    show_asked = Signal(object, str, int)

    run_asked = Signal()

    def __init__(self, document: Document, tasks: Tasks) -> None:
        super().__init__()
        self.setProperty("manual", "scenarios#Accepted runs")
        self.document, self.tasks = document, tasks
        self._comparing = False
        self._compared: dict[tuple[int, int], list[Difference]] = {}
        self._loading = False
        self._stale = True
        self.list = QListWidget()
        self.list.setAccessibleName("Accepted runs")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentRowChanged.connect(self._chosen)
        self.accept_all = QPushButton("Accept the passed runs")
        self.accept_all.setToolTip(
            "Keeps the last run of every scenario that passed, in the place of what was kept before"
        )
        self.accept_all.clicked.connect(self.accept_passed)
        self.accept_one = QPushButton("Accept this run")
        self.accept_one.clicked.connect(self.accept_chosen)
        self.forget = QPushButton("Forget")
        self.forget.clicked.connect(self.remove)
        self.within_ms = QSpinBox()
        self.within_ms.setRange(0, 600_000)
        self.within_ms.setSuffix(" ms")
        self.within_ms.setAccessibleName("Tolerance of times")
        self.within_ms.editingFinished.connect(self._tolerance)
        self.within = QDoubleSpinBox()
        self.within.setRange(0, 1e6)
        self.within.setAccessibleName("Tolerance of numbers")
        self.within.editingFinished.connect(self._tolerance)
        self.status = TextLabel()
        self.table = QTreeWidget()
        self.table.setAccessibleName("Differences")
        self.table.setHeaderLabels(["At", "Accepted at", "What", "Difference"])
        self.table.setRootIsDecorated(False)
        self.table.setUniformRowHeights(True)
        for i, width in enumerate((90, 100, 200, 300)):
            self.table.setColumnWidth(i, width)
        self.table.itemDoubleClicked.connect(lambda item, _: self.show_difference(self.table.indexOfTopLevelItem(item)))
        steps = (("Accept the passed runs", self.accept_passed), ("Run all scenarios", self.run_asked.emit))
        self.empty = EmptyHint(
            self.table, "Later runs are compared with one that was accepted, step by step and edge by edge.", steps
        )
        self._arrange()
        document.changed.connect(self.refresh)
        document.proven.connect(self.refresh)
        self.refresh()

    def _arrange(self) -> None:
        row = QHBoxLayout()
        row.setContentsMargins(12, 6, 12, 4)
        row.setSpacing(6)
        for button in (self.accept_all, self.accept_one, self.forget):
            row.addWidget(button)
        row.addSpacing(12)
        for w in (TextLabel("Times within"), self.within_ms, TextLabel("numbers within"), self.within):
            row.addWidget(w)
        row.addStretch(1)
        show = QPushButton("Show on the bench")
        show.clicked.connect(self._show_chosen)
        row.addWidget(show)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(0, 0, 0, 0)
        self.status.setMargin(6)
        column.addWidget(self.status)
        column.addWidget(self.table, 1)
        both = QSplitter()
        both.addWidget(self.list)
        both.addWidget(right)
        both.setSizes([360, 760])
        both.setStretchFactor(1, 1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(row)
        whole.addWidget(both, 1)

    # -- what is shown

    @property
    def accepted(self) -> Accepted | None:
        row = self.list.currentRow()
        known = self.document.project.accepted
        return known[row] if 0 <= row < len(known) else None

    def run_of(self, accepted: Accepted) -> Run | None:
        """The last run of the same scenario and choice."""
        result = self.document.results.get(accepted.scenario)
        return next((r for r in result.runs if r.label == accepted.label), None) if result is not None else None

    def differences(self, accepted: Accepted) -> list[Difference] | None:
        """None where the scenario was not run."""
        run = self.run_of(accepted)
        if run is None or accepted.stored:
            return None
        key = (id(accepted), id(run))
        if key not in self._compared:
            self._compared[key] = compare(accepted, run)
        return self._compared[key]

    def _show_state(self, row: int, accepted: Accepted) -> None:
        item = self.list.item(row)
        if item is None:
            return
        found = self._compared.get((id(accepted), id(self.run_of(accepted))))
        sign, colour = ("◔", "faint") if found is None else ("✕", "late") if found else ("✓", "true")
        item.setText(f"{sign}  {label_of(accepted)}")
        item.setToolTip(plain(label_of(accepted)))
        item.setForeground(theme.colour(colour))

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        if self._stale:
            self.refresh()

    def refresh(self) -> None:
        """Follows the document and the results; out of sight only when it is looked at again."""
        self.accept_all.setEnabled(self.document.has_passed)
        self.empty.buttons[0].setVisible(self.document.has_passed)
        self.empty.show_while(not self.document.project.accepted)
        self._stale = not self.isVisible()
        if self._stale:
            return
        project = self.document.project
        row = max(0, self.list.currentRow())
        alive = {id(a) for a in project.accepted}
        runs = {id(r) for result in self.document.results.values() for r in result.runs}
        self._compared = {k: v for k, v in self._compared.items() if k[0] in alive and k[1] in runs}
        self._loading = True
        self.list.clear()
        for at, a in enumerate(project.accepted):
            self.list.addItem(QListWidgetItem())
            self._show_state(at, a)
        self._loading = False
        self.list.setCurrentRow(min(row, len(project.accepted) - 1))
        self._chosen()
        if not self._comparing and self._next() is not None:
            self._comparing = True
            self.tasks.in_slices("Compares with the accepted runs", self._compare(), lambda: None)

    def _next(self) -> tuple[int, Accepted] | None:
        """The next accepted run that is to be compared with the last one of its scenario."""
        for at, a in enumerate(self.document.project.accepted):
            run = self.run_of(a)
            if run is not None and not a.stored and (id(a), id(run)) not in self._compared:
                return at, a
        return None

    def _compare(self) -> Iterator[float]:
        """One after the other, with the state of each shown at once."""
        try:
            while (following := self._next()) is not None:
                self.differences(following[1])
                self._show_state(*following)
                yield following[0] / max(1, len(self.document.project.accepted))
        finally:
            self._comparing = False

    def _chosen(self) -> None:
        if self._loading:
            return
        accepted = self.accepted
        found = self.differences(accepted) if accepted is not None else None
        if accepted is not None:
            self._show_state(self.list.currentRow(), accepted)
        self.table.clear()
        for d in found or ():
            item = QTreeWidgetItem([_time(d.time_ms), _time(d.accepted_ms), d.lane, d.text])
            for column in (0, 1):
                item.setTextAlignment(column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.table.addTopLevelItem(item)
        first = self.table.topLevelItem(0)
        if first is not None:
            self.table.setCurrentItem(first)
        self.status.setText(self._status(accepted, found))
        self.accept_one.setEnabled(accepted is not None and self.run_of(accepted) is not None)
        self.forget.setEnabled(accepted is not None)
        for box in (self.within_ms, self.within):
            box.setEnabled(accepted is not None)
        if accepted is not None:
            self.within_ms.setValue(accepted.within_ms)
            self.within.setValue(accepted.within)

    @staticmethod
    def _status(accepted: Accepted | None, found: list[Difference] | None) -> str:
        if accepted is None:
            return "No run is accepted yet: run the scenarios, then accept those that passed. Later runs are compared with them."
        if accepted.stored:
            return f"Accepted {accepted.note}. The run is not beside the machine file: put its .accepted there, or accept anew."
        if found is None:
            return f"Accepted {accepted.note}. Run {accepted.scenario} to compare."
        if not found:
            return (
                f"Accepted {accepted.note}. The last run agrees within {accepted.within_ms} ms and {accepted.within:g}."
            )
        return f"Accepted {accepted.note}. The last run differs in {len(found)} place{'s' if len(found) > 1 else ''}."

    # -- edits

    def accept_passed(self) -> bool:
        """Keeps the last run of every scenario that passed, in one edit."""
        passed = [r for r in self.document.results.values() if r.outcome is Outcome.PASS]
        note = datetime.date.today().isoformat()

        def change(p: Project) -> Project:
            for result in passed:
                for run in result.runs:
                    p = keep(p, self._tolerant(accept(result.scenario, run, note=note)))
            return p

        return bool(passed) and self.document.edit("Accept the passed runs", change)

    def accept_chosen(self) -> bool:
        accepted = self.accepted
        run = self.run_of(accepted) if accepted is not None else None
        result = self.document.results.get(accepted.scenario) if accepted is not None else None
        if accepted is None or run is None or result is None:
            return False
        new = self._tolerant(accept(result.scenario, run, note=datetime.date.today().isoformat()))
        return self.document.edit(f"Accept {label_of(accepted)}", lambda p: keep(p, new))

    def _tolerant(self, new: Accepted) -> Accepted:
        """With the tolerances of the one before."""
        for a in self.document.project.accepted:
            if (a.scenario, a.label) == (new.scenario, new.label):
                return replace(new, within_ms=a.within_ms, within=a.within)
        return new

    def remove(self) -> None:
        row = self.list.currentRow()
        if self.accepted is not None:
            self.document.edit(f"Forget {label_of(self.accepted)}", lambda p: edits.remove_item(p, "accepted", row))

    def _tolerance(self) -> None:
        accepted, row = self.accepted, self.list.currentRow()
        values = (self.within_ms.value(), self.within.value())
        if accepted is not None and values != (accepted.within_ms, accepted.within):
            self.document.edit(
                "Change the tolerance",
                lambda p: edits.change_item(p, "accepted", row, within_ms=values[0], within=values[1]),
            )

    def _show_chosen(self) -> None:
        item = self.table.currentItem()
        self.show_difference(0 if item is None else self.table.indexOfTopLevelItem(item))

    def show_difference(self, row: int) -> None:
        """The run at a difference, with the accepted one drawn beside it."""
        accepted = self.accepted
        run, found = (self.run_of(accepted), self.differences(accepted)) if accepted is not None else (None, None)
        if accepted is None or run is None:
            return
        d = found[row] if found and 0 <= row < len(found) else None
        at = 0 if d is None else d.time_ms if d.time_ms >= 0 else d.accepted_ms
        self.show_asked.emit(run, accepted.scenario, run.start_ms + at)


def _time(ms: int) -> str:
    return f"{ms / 1000:.2f} s" if ms >= 0 else "-"
