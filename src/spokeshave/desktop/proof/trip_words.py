"""A trip in words, each gap a choice, and a small timing picture of what its effects come to."""

from __future__ import annotations

import itertools
from dataclasses import replace
from functools import lru_cache

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLineEdit, QSpinBox, QVBoxLayout, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.sequence.condition_editor import ConditionEdit
from spokeshave.desktop.theme import text_font, theme
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project, Trip
from spokeshave.verify.cause_effect_edits import change_trip
from spokeshave.verify.trip_story import StoryLane, trip_story

LATCHED = ("reset", "no longer than its cause")
STEPS = {"freeze": "freeze", "restart": "go to the initial situation", "go to": "go to the steps in the matrix"}
SCOPE = ("all sequences, those to come too", "the sequences marked in the matrix")
STORED = {"clear": "are cleared", "keep": "are kept"}
TIMES = {"freeze": "stand still", "zero": "go to zero"}


@lru_cache(maxsize=64)
def _story(steps: str, stored: str, times: str, zeroed: bool, latching: bool) -> tuple[tuple[StoryLane, ...], int]:
    """The picture depends on the effects only, not on where the trip stands."""
    effects = Trip("Trip", 1, "Cause", latching=latching, steps=steps, stored=stored, times=times,
                   zeroed=("Number",) if zeroed else ())  # fmt: skip
    lanes, period_ms = trip_story(effects)
    return tuple(lanes), period_ms


class StoryPicture(QWidget):
    """The lanes of a run with the trip's effects: cause, trip, reset, steps, outputs."""

    NAMES_W, LANE_H = 96, 15

    def __init__(self) -> None:
        super().__init__()
        self.lanes: tuple[StoryLane, ...] = ()
        self.setMinimumWidth(330)
        self.setAccessibleName("What the trip does in time")

    def show_trip(self, trip: Trip) -> None:
        self.lanes, _ = _story(trip.steps, trip.stored, trip.times, bool(trip.zeroed), trip.latching)
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(360, 8 + self.LANE_H * max(8, len(self.lanes)))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setFont(text_font(11))
        width = self.width() - self.NAMES_W - 8
        for i, lane in enumerate(self.lanes):
            y = 4 + i * self.LANE_H
            painter.setPen(theme.colour("ink"))
            painter.drawText(QRectF(0, y, self.NAMES_W - 8, self.LANE_H),
                             Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, lane.name)  # fmt: skip
            self._lane(painter, lane, y, width)

    def _lane(self, painter: QPainter, lane: StoryLane, y: int, width: int) -> None:
        """BOOL lanes as bars, numbers as a curve over their range."""
        count, top, height = len(lane.values), y + 3, self.LANE_H - 5
        each = width / max(1, count)
        painter.setPen(QPen(theme.colour("hairline"), 1))
        painter.drawLine(self.NAMES_W, y + self.LANE_H - 2, self.NAMES_W + width, y + self.LANE_H - 2)
        if lane.number:
            most = max(1.0, *lane.values)
            painter.setPen(QPen(theme.colour("accent"), 1.4))
            points = [(self.NAMES_W + i * each, top + height * (1 - v / most)) for i, v in enumerate(lane.values)]
            for (x0, y0), (x1, y1) in itertools.pairwise(points):
                painter.drawLine(int(x0), int(y0), int(x1), int(y1))
            return
        colour = theme.colour({"Cause": "false", "Trip": "late", "Reset": "true"}.get(lane.name, "active"))
        start = None
        for i, value in enumerate((*lane.values, 0.0)):
            if value and start is None:
                start = i
            elif not value and start is not None:
                painter.fillRect(QRectF(self.NAMES_W + start * each, top, (i - start) * each, height), colour)
                start = None


class TripWords(QWidget):
    """`when ..., rank ..., latched until ..., then: steps ..., stored actions ..., times ..., variables ...`"""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.trip: Trip | None = None
        self._loading = False
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the trip")
        self.name.editingFinished.connect(lambda: self._put(name=self.name.text().strip()))
        self.rank = QSpinBox()
        self.rank.setRange(1, 999)
        self.rank.setFixedWidth(76)
        self.rank.setAccessibleName("Rank")
        self.rank.valueChanged.connect(lambda value: self._put(rank=value))
        self.when = ConditionEdit(document.project, None, self)
        self.when.setAccessibleName("When")
        self.when.editingFinished.connect(lambda: self._put(condition=self.when.text().strip()))
        self.latched = self._choice("Latched until", LATCHED, lambda i: self._put(latching=i == 0))
        self.steps = self._choice("Steps", tuple(STEPS.values()), lambda i: self._put(steps=list(STEPS)[i]))
        self.stored = self._choice(
            "Stored actions", tuple(STORED.values()), lambda i: self._put(stored=list(STORED)[i])
        )
        self.times = self._choice("Times", tuple(TIMES.values()), lambda i: self._put(times=list(TIMES)[i]))
        self.scope = self._choice("Acts on", SCOPE, self._put_scope)
        self.stays = QLineEdit()
        self.stays.setPlaceholderText("none")
        self.stays.setAccessibleName("Outputs that may stay on")
        self.stays.setToolTip("Outputs that this trip need not turn off, because it is safe that they stay on")
        self.stays.editingFinished.connect(lambda: self._put_names("stays", self.stays))
        self.zeroed = QLineEdit()
        self.zeroed.setPlaceholderText("none")
        self.zeroed.setAccessibleName("Variables that go to zero")
        self.zeroed.editingFinished.connect(lambda: self._put_names("zeroed", self.zeroed))
        self.reset = ConditionEdit(document.project, None, self)
        self.reset.setAccessibleName("Reset of the machine")
        self.reset.setPlaceholderText("a button, such as ResetButton")
        self.reset.setToolTip("Ends every latching trip whose cause is gone: it is the same for the whole machine")
        self.reset.editingFinished.connect(self._put_reset)
        self.picture = StoryPicture()
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        rows = (("Trip", self._row(self.name, TextLabel("rank"), self.rank)), ("when", self.when),
                ("latched until", self.latched), ("acts on", self.scope), ("then: steps", self.steps), ("stored actions", self.stored),
                ("step times", self.times), ("variables to zero", self.zeroed),
                ("may stay on", self.stays), ("reset of the machine", self.reset))  # fmt: skip
        for i, (word, widget) in enumerate(rows):
            label = TextLabel(word)
            label.setObjectName("hint")
            down, across = divmod(i, 2)
            grid.addWidget(label, down, 2 * across, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            grid.addWidget(widget, down, 2 * across + 1)
        grid.setColumnStretch(1, 1)
        grid.setColumnStretch(3, 1)
        grid.setRowStretch(len(rows), 1)
        both = QHBoxLayout(self)
        both.setContentsMargins(12, 4, 12, 4)
        both.setSpacing(20)
        both.addLayout(grid, 2)
        column = QVBoxLayout()
        column.addWidget(self.picture)
        column.addStretch(1)
        both.addLayout(column, 1)

    def _row(self, *widgets: QWidget) -> QWidget:
        row = QWidget()
        layout = QHBoxLayout(row)
        layout.setContentsMargins(0, 0, 0, 0)
        for w in widgets:
            layout.addWidget(w)
        return row

    def _choice(self, name: str, words: tuple[str, ...], chosen: object) -> QComboBox:
        box = QComboBox()
        box.addItems(list(words))
        box.setAccessibleName(name)
        box.activated.connect(chosen)
        return box

    def show_trip(self, trip: Trip) -> None:
        self._loading = True
        self.trip = trip
        self.name.setText(trip.name)
        self.rank.setValue(trip.rank)
        self.when.project = self.document.project
        self.when.setText(trip.condition)
        reset = self.document.project.reset
        self.reset.project = self.document.project
        self.reset.setText(reset)
        self.latched.setItemText(0, f"the reset: {reset}" if reset else "the reset (the project has none)")
        self.latched.setCurrentIndex(0 if trip.latching else 1)
        self.steps.setCurrentIndex(list(STEPS).index(trip.steps))
        self.stored.setCurrentIndex(list(STORED).index(trip.stored))
        self.times.setCurrentIndex(list(TIMES).index(trip.times))
        self.zeroed.setText(", ".join(trip.zeroed))
        self.stays.setText(", ".join(trip.stays))
        self.scope.setCurrentIndex(0 if trip.scope is None else 1)
        self.picture.show_trip(trip)
        self.when.rest()
        self.reset.rest()
        self._loading = False

    def _put(self, **changes: object) -> None:
        trip = self.trip
        if self._loading or trip is None or all(getattr(trip, f) == v for f, v in changes.items()):
            return

        def change(p: Project) -> Project:
            if "name" in changes and not changes["name"]:
                raise EditError("a trip needs a name")
            return change_trip(p, trip.name, **changes)

        if self.document.edit(f"Change trip {trip.name}", change):
            name = str(changes.get("name", trip.name))
            self.show_trip(next(t for t in self.document.project.trips if t.name == name))
        else:
            self.show_trip(trip)

    def _put_reset(self) -> None:
        text = self.reset.text().strip()
        if not self._loading and self.trip is not None and text != self.document.project.reset:
            self.document.edit("Reset of the machine", lambda p: replace(p, reset=text))
            self.show_trip(self.trip)

    def _put_scope(self, index: int) -> None:
        names = tuple(q.name for q in self.document.project.sequences)
        kept = self.trip.scope if self.trip is not None else None
        self._put(scope=None if index == 0 else names if kept is None else kept)

    def _put_names(self, field: str, edit: QLineEdit) -> None:
        names = [n.strip() for n in edit.text().replace(";", ",").split(",") if n.strip()]
        wrong = [n for n in names if self.document.project.signal(n) is None]
        if wrong:
            self.document.refused.emit(f"there is no signal {wrong[0]}")
            return
        self._put(**{field: tuple(names)})
