"""The bench: board, a sequence face of choice, the timing diagram, and values, alarms and waits beside it."""

from __future__ import annotations

from PySide6.QtCore import QByteArray, QSettings, QSize, Qt, Signal
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QScrollBar,
    QSplitter,
    QTabWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.bench.acting import ActingList
from spokeshave.desktop.bench.bar import BenchBar
from spokeshave.desktop.bench.snapshots import BoardFilm
from spokeshave.desktop.bench.timing_diagram import TimingStrip
from spokeshave.desktop.bench.values import ValuesPanel
from spokeshave.desktop.bench.waits import WaitsList
from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.machine_board.board import Board
from spokeshave.desktop.machine_scene.view import SceneView
from spokeshave.desktop.place_lists import AlarmList
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.page import SequencePage
from spokeshave.desktop.stage_page import StagePage
from spokeshave.model.diagnostics import Place


class BenchPage(StagePage):
    """Parts whose sizes are kept; the face is the same one as in the sequence stage, live."""

    machine_asked = Signal()
    """Somebody wants to place devices."""

    def __init__(self, document: Document, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.runner = runner
        self.board = Board(document, runner, selection)
        self.film = BoardFilm(self, self.watched)
        area = QScrollArea()
        area.setAccessibleName("Board of the run")
        area.setWidget(self.board)
        self.empty = EmptyHint(area, "Nothing answers yet: inputs can be set in the values. With devices on the board the "
                               "machine answers by itself.", (("Place devices", lambda: self.machine_asked.emit()),))  # fmt: skip
        document.changed.connect(lambda: self.empty.show_while(not document.project.devices))
        self.empty.show_while(not document.project.devices)
        area.setWidgetResizable(True)
        self.scene = SceneView(document, runner, selection)
        self.looks = QTabWidget()
        self.looks.setDocumentMode(True)
        self.looks.tabBar().setDrawBase(False)  # white in the dark theme
        self.looks.setAccessibleName("Board or scene")
        self.looks.tabBar().setAccessibleName("Board or scene")
        self.looks.addTab(area, "Board")
        self.looks.addTab(self.scene, "Scene")
        document.changed.connect(self._look)
        self._look()
        self.faces = SequencePage(document, runner, selection)
        self.faces.show_face("chart")
        self.bar = BenchBar(document, runner)
        self.strip = TimingStrip(runner)
        self.values = ValuesPanel(runner, selection)
        self.alarms = AlarmList(runner, selection)
        self.waits = WaitsList(runner)
        self.waits.moment_asked.connect(self.strip.show_moment)
        self.side = QTabWidget()
        self.side.setDocumentMode(True)
        self.side.tabBar().setDrawBase(False)
        self.side.setAccessibleName("Values, alarms, waits")
        self.side.tabBar().setAccessibleName("Values, alarms, waits")
        self.acting = ActingList(runner, selection)
        sides = ((self.values, "Values"), (self._alarms(), "Alarms"), (self.acting, "Acting"), (self.waits, "Waited"))
        for widget, title in sides:
            self.side.addTab(widget, title)
        upper = QSplitter(Qt.Orientation.Horizontal)
        upper.addWidget(self.looks)
        upper.addWidget(self.faces)
        upper.setSizes([690, 590])
        lower = QSplitter(Qt.Orientation.Horizontal)
        lower.addWidget(self._diagram())
        lower.addWidget(self.side)
        lower.setSizes([940, 340])
        lower.setStretchFactor(0, 1)
        whole = QSplitter(Qt.Orientation.Vertical)
        whole.addWidget(upper)
        whole.addWidget(lower)
        whole.setSizes([385, 265])
        self._splitters = {"upper": upper, "lower": lower, "whole": whole}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.bar)
        column.addWidget(whole, 1)

    def _look(self) -> None:
        """A scene is there to be looked at if something is drawn in it."""
        drawn = bool(self.runner.document.project.scene)
        self.looks.setTabVisible(1, drawn)
        self.looks.tabBar().setVisible(drawn)

    def watched(self) -> QWidget:
        """The board or the scene, whichever is looked at: what a film is made of."""
        return self.scene if self.looks.currentIndex() else self.board

    def _alarms(self) -> QWidget:
        """The alarms above the button that acknowledges them."""
        for i, width in enumerate((84, 70, 0, 0)):
            self.alarms.setColumnWidth(i, width)
            self.alarms.setColumnHidden(i, not width)
        self.alarms.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        row = QHBoxLayout()
        for text, tip, act in (
            ("Acknowledge all", "A double click acknowledges one", lambda: self.runner.do("ack")),
            (
                "Shelve",
                "Puts the chosen alarm aside, or takes it back: it comes and goes without being told",
                self.alarms.shelve,
            ),
        ):
            button = QPushButton(text)
            button.setToolTip(tip)
            button.clicked.connect(act)
            row.addWidget(button)
        frame = QWidget()
        column = QVBoxLayout(frame)
        column.setContentsMargins(0, 0, 0, 4)
        column.addWidget(self.alarms, 1)
        column.addLayout(row)
        return frame

    def _diagram(self) -> QWidget:
        """The timing diagram under its own line of tools."""
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search lanes")
        self.search.setAccessibleName("Search lanes")
        self.search.setClearButtonEnabled(True)
        self.search.setMaximumWidth(180)
        self.search.textChanged.connect(self._search)
        row = QHBoxLayout()
        row.setContentsMargins(8, 3, 8, 3)
        row.setSpacing(6)
        row.addWidget(self.search)
        for text, tip, act in (
            ("Whole run", "Shows the whole run (Home)", lambda: self.strip.show_span(0, max(1000, self.strip_end()))),
            ("Follow", "Back to the present, and along with it (Escape)", self.strip.follow),
            ("Keep interval", "Lets the interval between the cursors stay (M)", self.strip.keep_interval),
            ("Clear", "Takes the kept intervals away (Delete)", self.strip.forget_intervals),
        ):
            button = QToolButton()
            button.setText(text)
            button.setToolTip(plain(tip))
            button.clicked.connect(act)
            row.addWidget(button)
        row.addStretch(1)
        frame = QWidget()
        column = QVBoxLayout(frame)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(row)
        self.lane_scroll = QScrollBar(Qt.Orientation.Vertical)
        self.lane_scroll.valueChanged.connect(lambda top: self.strip.scroll_lanes(top - self.strip.top))
        self.strip.scrolled.connect(self._range)
        self.runner.advanced.connect(self._range)
        lanes = QHBoxLayout()
        lanes.setSpacing(0)
        lanes.addWidget(self.strip, 1)
        lanes.addWidget(self.lane_scroll)
        column.addLayout(lanes, 1)
        return frame

    def _range(self) -> None:
        """The scroll bar follows the lanes."""
        hidden, page = self.strip.hidden_height(), self.strip.height()
        if (self.lane_scroll.maximum(), self.lane_scroll.value(), self.lane_scroll.pageStep()) != (
            hidden,
            self.strip.top,
            page,
        ):
            self.lane_scroll.blockSignals(True)
            self.lane_scroll.setRange(0, hidden)
            self.lane_scroll.setPageStep(page)
            self.lane_scroll.setValue(self.strip.top)
            self.lane_scroll.blockSignals(False)

    def minimumSizeHint(self) -> QSize:
        """The bench has the whole width of the window; other stages need not keep it free."""
        return QSize(600, 300)

    def strip_end(self) -> int:
        return self.runner.session.trace.end_ms if self.runner.session is not None else 0

    def _search(self, text: str) -> None:
        self.strip.arrangement.matches(text)
        self.strip.top = 0
        self.strip.update()

    # -- sizes

    def first(self) -> QWidget:
        return self.board

    def go_to(self, place: Place) -> None:
        self.faces.go_to(place)

    def recolour(self) -> None:
        self.faces.recolour()

    def leave(self, settings: QSettings | None) -> None:
        self.film.stop()
        if settings is None:
            return
        for name, splitter in self._splitters.items():
            settings.setValue(f"bench/{name}", splitter.saveState())

    def take_sizes(self, settings: QSettings) -> None:
        for name, splitter in self._splitters.items():
            kept = settings.value(f"bench/{name}")
            if isinstance(kept, QByteArray):
                splitter.restoreState(kept)
