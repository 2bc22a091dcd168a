"""Cause and effect: the matrix, rules added in words, and what belongs to the chosen row."""

from __future__ import annotations

from html import escape

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.cell_editors import select_when_entered
from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import RichLabel, TextLabel
from spokeshave.desktop.proof.matrix_table import MatrixModel, MatrixView
from spokeshave.desktop.proof.trip_words import TripWords
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.language.parse import parse_expression
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project
from spokeshave.verify.cause_effect import Cause
from spokeshave.verify.cause_effect_edits import KINDS, add, guards_of, remove
from spokeshave.verify.usage import names_in

HINTS = {"interlock": "must be TRUE, such as GateClosed", "opposed": "dead time, such as 500 ms", "permissive": "must be TRUE to enter",
         "window": "longest, such as 5 s", "hold": "holds while TRUE", "restart": "restarts on its rise", "trip": "trips when TRUE"}  # fmt: skip


class MatrixPanel(QWidget):
    """`show_asked` carries a run, the name of its scenario and a time in ms of the run to look at on the bench."""

    show_asked = Signal(object, str, int)

    def __init__(self, document: Document, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.setProperty("manual", "scenarios#Cause and effect")
        self.document, self.runner, self.selection = document, runner, selection
        self.model = MatrixModel(document)
        self.view = MatrixView(self.model)
        self.view.selectionModel().currentRowChanged.connect(lambda *_: self._chosen())
        self.kind = QComboBox()
        self.kind.addItems(list(KINDS))
        self.kind.setAccessibleName("Kind of the new rule")
        self.kind.currentTextChanged.connect(self._kind_chosen)
        self.guards = QComboBox()
        self.guards.setEditable(True)
        typed = self.guards.lineEdit()
        assert typed is not None
        typed.setAccessibleName("What the new rule guards")
        select_when_entered(self.guards)
        self.guards.setMinimumWidth(230)
        self.guards.setAccessibleName("What the new rule guards")
        self.text = QLineEdit()
        self.text.setAccessibleName("What the new rule looks at")
        typed.returnPressed.connect(self.text.setFocus)
        self.text.returnPressed.connect(self.add)
        add_button, self.delete = QPushButton("Add"), QPushButton("Delete the row")
        add_button.clicked.connect(self.add)
        self.delete.clicked.connect(self.remove)
        self.summary = TextLabel()
        self.about = RichLabel()
        self.about.setWordWrap(True)
        self.about.setMargin(10)
        self.about.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.about.linkActivated.connect(self._link)
        self.trip = TripWords(document)
        self.details = QStackedWidget()
        self.details.addWidget(self.about)
        self.details.addWidget(self.trip)
        row = QHBoxLayout()
        row.setContentsMargins(12, 6, 12, 4)
        row.setSpacing(6)
        row.addWidget(TextLabel("New"))
        row.addWidget(self.kind)
        row.addWidget(self.guards)
        row.addWidget(self.text, 1)
        row.addWidget(add_button)
        row.addSpacing(12)
        row.addWidget(self.delete)
        row.addSpacing(12)
        row.addWidget(self.summary)
        parts = QSplitter(Qt.Orientation.Vertical)
        parts.addWidget(self.view)
        parts.addWidget(self.details)
        parts.setSizes([440, 150])
        parts.setStretchFactor(0, 1)
        parts.setCollapsible(0, False)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(row)
        column.addWidget(parts, 1)
        document.changed.connect(self.refresh)
        document.proven.connect(self.refresh)
        runner.advanced.connect(self._see_acting)
        self._stale = True

    # -- what is shown

    def refresh(self) -> None:
        """Follows the document and the results; out of sight only when it is looked at again."""
        self._stale = not self.isVisible()
        if self._stale:
            return
        row = self.view.currentIndex().row()
        self.model.refresh()
        causes = self.model.matrix.causes
        if causes:
            self.view.setCurrentIndex(self.model.index(max(0, min(row, len(causes) - 1)), 1))
        missing = sum(not self.model.showings(c) for c in causes)
        text = f"{len(causes)} causes"
        if self.document.results and causes:
            text += f", {missing} shown by nothing yet" if missing else ", all shown"
        self.summary.setText(text if causes else "Nothing protects yet: add the first rule")
        self._kind_chosen(self.kind.currentText())
        self._chosen()

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        if self._stale:
            self.refresh()
        self._see_acting()

    def _see_acting(self) -> None:
        """Which causes act in the situation on the screen."""
        if not self.isVisible():
            return
        self.model.show_acting(self.runner.acting())

    def go_to(self, place: Place) -> None:
        """Chooses the row of an interlock, a pair or a trip."""
        item = place.item.lower().replace(", ", "/")
        for row, cause in enumerate(self.model.matrix.causes):
            if any(n.lower() == f"{place.kind} {item}" for n in cause.names):
                self.view.setCurrentIndex(self.model.index(row, 1))
                return

    def chosen(self) -> Cause | None:
        return self.model.cause(self.view.currentIndex().row())

    def _chosen(self) -> None:
        cause = self.chosen()
        self.delete.setEnabled(cause is not None)
        trip = None
        if cause is not None and cause.kind == "trip":
            trip = next((t for t in self.document.project.trips if t.name == cause.names[0].partition(" ")[2]), None)
        if trip is not None:
            self.trip.show_trip(trip)
            self.details.setCurrentWidget(self.trip)
        else:
            self.details.setCurrentWidget(self.about)
            self.about.setText(self._words(cause) if cause is not None else "")

    def _words(self, cause: Cause) -> str:
        """The row in sentences, with the signals it looks at and the runs that show it."""
        lines = [f"<b>{' and '.join(cause.names)}</b>"]
        lines += list(dict.fromkeys(escape(cell.sentence) + "." for cell in cause.cells.values()))
        signals = [s.name for n in _names(cause.condition) if (s := self.document.project.signal(n)) is not None]
        if signals:
            links = ", ".join(f"<a href='signal:{s}'>{s}</a>" for s in dict.fromkeys(signals))
            lines.append(f"Signals: {links}")
        found = self.model.showings(cause)
        if found:
            shows = ", ".join(
                f"<a href='show:{escape(s.scenario)}'>{escape(s.scenario)} at {s.time_ms / 1000:.2f} s</a>"
                for s in found
            )
            lines.append(f"Shown by: {shows}")
        elif self.document.results:
            unseen = [key[0] for key in cause.keys if key not in self.model.seen]
            lines.append(
                f"In no run that passes did {' or '.join(unseen)} come into play: write a scenario that does it."
            )
        else:
            lines.append("Run the scenarios to see which of them bring it into play.")
        return "<p style='line-height:130%'>" + "<br>".join(lines) + "</p>"

    def _link(self, target: str) -> None:
        kind, _, name = target.partition(":")
        if kind == "signal":
            self.selection.go(Place("signal", item=name))
        else:
            self.show_scenario(name)

    def show_scenario(self, name: str) -> None:
        """The run of a scenario at the place where the chosen row came into play."""
        cause, result = self.chosen(), self.document.results.get(name)
        found = next((s for s in self.model.showings(cause) if s.scenario == name), None) if cause is not None else None
        if found is not None and result is not None:
            run = result.runs[found.run]
            self.show_asked.emit(run, name, run.start_ms + found.time_ms)

    # -- edits

    def _kind_chosen(self, kind: str) -> None:
        self.text.setPlaceholderText(HINTS[kind])
        known = guards_of(self.document.project, kind)
        if known != [self.guards.itemText(i) for i in range(self.guards.count())]:
            self.guards.clear()
            self.guards.addItems(known)

    def add(self) -> bool:
        kind, guards, text = self.kind.currentText(), self.guards.currentText(), self.text.text()

        def change(p: Project) -> Project:
            try:
                return add(p, kind, guards, text)
            except ValueError as error:
                raise EditError(str(error)) from None

        done = self.document.edit(f"Add {kind} {guards}", change)
        if done:
            self.text.clear()
        return done

    def remove(self) -> bool:
        cause = self.chosen()
        return cause is not None and self.document.edit(f"Delete {cause.names[0]}", lambda p: remove(p, cause))


def _names(condition: str) -> list[str]:
    try:
        return [name for name, _ in names_in(parse_expression(condition))]
    except TextError:
        return []
