"""Room in the desktop: how near each window, device, setting and hand is to failing, all tolerances drawn, the path of a cycle."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRect, QRectF, Qt, QTimer
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QSpinBox,
    QSplitter,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.plain_text import StatusLabel, TextLabel, plain
from spokeshave.desktop.process_work import LOOK_MS
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import text_font, theme
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project
from spokeshave.verify.processes import executor
from spokeshave.verify.room.limits import Limit
from spokeshave.verify.room.tolerances import ToleranceError, read_tolerances, tolerances_text
from spokeshave.verify.room.windows import Window
from spokeshave.verify.room.work import Room, RoomReport

ASKS = "Scenarios pass on the stand-in as it is: how much slower, longer or later may the real machine be before the first thing fails?"
HEADS = ("What", "Usual", "Holds", "Room", "Fails first, or measured in")
SHARE, ABOUT = int(Qt.ItemDataRole.UserRole), int(Qt.ItemDataRole.UserRole) + 1
MOST = 4.0
"""Room of this many times the usual value fills the bar."""


class _Bars(QStyledItemDelegate):
    """Room as a bar: short and in colour where it is tight."""

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        super().paint(painter, option, index)
        share = index.data(SHARE)
        if share is None:
            return
        box: QRect = option.rect.adjusted(6, 7, -76, -7)
        painter.fillRect(box, theme.colour("hairline"))
        box.setWidth(max(2, round(box.width() * min(1.0, max(0.0, float(share))))))
        painter.fillRect(box, theme.colour("late" if share < 0.05 else "false" if share < 0.2 else "accent"))


class CycleBars(QWidget):
    """Cycle times of the draws that passed, as a histogram."""

    def __init__(self) -> None:
        super().__init__()
        self.times: list[int] = []
        self.setMinimumHeight(92)
        self.setAccessibleName("Cycle times with all devices off by chance")

    def show_times(self, times: list[int]) -> None:
        self.times = times
        self.setVisible(len(times) > 1)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if len(self.times) < 2:
            return
        painter = QPainter(self)
        low, high = self.times[0], max(self.times[-1], self.times[0] + 1)
        columns = min(24, max(5, len(self.times) // 4))
        counts = [0] * columns
        for t in self.times:
            counts[min(columns - 1, (t - low) * columns // (high - low))] += 1
        box = QRectF(8, 6, self.width() - 16, self.height() - 26)
        width = box.width() / columns
        for i, n in enumerate(counts):
            height = box.height() * n / max(counts)
            painter.fillRect(
                QRectF(box.left() + i * width + 1, box.bottom() - height, width - 2, height), theme.colour("accent")
            )
        painter.setPen(theme.colour("faint"))
        painter.setFont(text_font(11))
        below = QRectF(box.left(), box.bottom() + 2, box.width(), 16)
        painter.drawText(below, Qt.AlignmentFlag.AlignLeft, f"{low / 1000:g} s")
        painter.drawText(below, Qt.AlignmentFlag.AlignRight, f"{high / 1000:g} s")


class RoomPanel(QWidget):
    """Measured by a press of a button, in processes; what has come is shown at once."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.setProperty("manual", "room#")
        self.document, self.selection = document, selection
        self.room: Room | None = None
        self.report: RoomReport | None = None
        self._of: Project | None = None
        self.start_button, self.cancel_button = QPushButton("Measure room"), QPushButton("Cancel")
        self.start_button.setObjectName("primary")
        self.start_button.clicked.connect(self.start)
        self.cancel_button.clicked.connect(self.stop)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setMaximumWidth(140)
        self.turn = QCheckBox("Turn devices, settings, hands")
        self.turn.setToolTip(
            "Looks for where the first thing fails; without it only times are measured and tolerances drawn"
        )
        self.turn.setChecked(True)
        self.tolerance, self.draws = QSpinBox(), QSpinBox()
        self.tolerance.setRange(0, 90)
        self.tolerance.setValue(10)
        self.tolerance.setSuffix(" %")
        self.tolerance.setAccessibleName("Tolerance of devices")
        self.tolerance.setToolTip("How far each device is off by chance in the draws")
        self.own = QLineEdit()
        self.own.setAccessibleName("Devices and settings with tolerances of their own")
        self.own.setPlaceholderText("but Gate 20 %, ...")
        self.own.setMinimumWidth(150)
        self.own.setToolTip(
            "Kept in the machine file: devices that are off by something else, and settings that are off at all"
        )
        self.own.setText(tolerances_text(document.project.tolerances))
        self.own.editingFinished.connect(self.take_own)
        self.draws.setRange(0, 10_000)
        self.draws.setValue(100)
        self.draws.setSuffix(" cycles")
        self.draws.setAccessibleName("Cycles that are drawn")
        self.status = StatusLabel()
        self.status.setWordWrap(True)
        self.list = QTreeWidget()
        self.list.setAccessibleName("Room of windows, devices, settings and hands")
        self.list.setHeaderLabels(list(HEADS))
        self.list.setRootIsDecorated(False)
        self.list.setUniformRowHeights(True)
        self.list.setItemDelegateForColumn(3, _Bars(self.list))
        for i, width in enumerate((230, 80, 80, 190, 300)):
            self.list.setColumnWidth(i, width)
        self.list.header().setSectionResizeMode(4, QHeaderView.ResizeMode.Stretch)
        self.list.itemDoubleClicked.connect(lambda item, _: self._go(item))
        self.bars = CycleBars()
        self.says = QPlainTextEdit()
        self.says.setReadOnly(True)
        self.says.setAccessibleName("Tolerances and the path of the cycle")
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._look)
        top = QHBoxLayout()
        top.setContentsMargins(12, 6, 12, 4)
        top.setSpacing(8)
        for w in (
            self.start_button,
            self.cancel_button,
            self.progress,
            self.turn,
            self.tolerance,
            self.own,
            self.draws,
        ):
            top.addWidget(w)
        top.addWidget(self.status, 1)
        self.side = side = QWidget()
        column = QVBoxLayout(side)
        column.setContentsMargins(6, 4, 12, 8)
        column.addWidget(TextLabel("All tolerances together, and what a cycle waits on"))
        column.addWidget(self.bars)
        column.addWidget(self.says, 1)
        self.both = both = QSplitter()
        both.addWidget(self.list)
        both.addWidget(side)
        both.setSizes([880, 380])
        both.setStretchFactor(0, 1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(top)
        whole.addWidget(both, 1)
        self.empty = EmptyHint(self.list, ASKS, (("Measure room", self.start),))
        document.changed.connect(self._sum_up)
        document.changed.connect(self._follow_own)
        self._show()

    # -- what is shown

    def _sum_up(self) -> None:
        running, report = self.room is not None, self.report
        text, colour = "", "ink"
        if report is not None and self.room is not None:
            text = (
                "measuring ..."
                if not report.windows
                else f"{len(report.limits)} limits, {len(report.draws)} cycles drawn"
            )
        elif report is not None:
            nearest = report.nearest
            text = f"nearest: {nearest[0].said()}" if nearest else "nothing was found that fails"
            if self._of is not None and not self.document.project.runs_like(self._of):
                text = f"the file has changed since; {text}"
        if self._problem:
            text, colour = self._problem, "late"
        self.status.say(text, colour)
        for w in (self.start_button, self.turn, self.tolerance, self.own, self.draws):
            w.setEnabled(not running)
        self.cancel_button.setVisible(running)
        self.progress.setVisible(running)

    _problem = ""

    def take_own(self) -> None:
        """Takes the tolerances that are typed into the file; what is none is told, and stays to be changed."""
        try:
            made = read_tolerances(self.document.project, self.own.text())
        except ToleranceError as error:
            self._problem = str(error)
            self._sum_up()
            return
        self._problem = ""
        if made != self.document.project.tolerances:
            self.document.edit("Tolerances", lambda p: replace(p, tolerances=made))
        self._sum_up()

    def _follow_own(self) -> None:
        if not self.own.hasFocus():
            self.own.setText(tolerances_text(self.document.project.tolerances))

    def _show(self) -> None:
        report = self.report
        self.empty.show_while(report is None)
        self.list.clear()
        if report is not None:
            for x in report.nearest:
                self._add_limit(x)
            for w in report.windows:
                self._add_window(w)
            self.document.take_room(report)
        self.side.setVisible(report is not None)
        self.bars.show_times(report.drawn.cycles if report is not None else [])
        self.says.setPlainText("\n".join(_told(report)) if report is not None else "")
        self._sum_up()

    def _add(self, texts: tuple[str, ...], share: float, place: Place | None) -> None:
        item = QTreeWidgetItem(list(texts))
        item.setData(3, SHARE, share)
        item.setData(0, ABOUT, place)
        for i in (1, 2, 3):
            item.setTextAlignment(i, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        item.setToolTip(4, plain(texts[4]))
        item.setToolTip(0, plain(texts[0]))
        self.list.addTopLevelItem(item)

    def _add_limit(self, x: Limit) -> None:
        k = x.knob
        if k.kind == "device":
            what, factor = f"{k.name} {'slower' if x.up else 'faster'}", x.holds if x.up else 1 / x.holds
            texts = (what, "×1", f"×{factor:.3g}", f"{100 * (factor - 1):.0f} %", x.what)
            self._add(texts, (factor - 1) / MOST, Place("device", item=k.name))
        elif k.kind == "setting":
            what = f"{k.name} {'longer' if x.up else 'shorter'}"
            texts = (what, _s(k.usual), _s(x.holds), f"{100 * x.room:.0f} %", x.what)
            self._add(texts, x.room / MOST if x.up else x.room, Place("signal", item=k.name))
        else:
            texts = (f"{k.name} later", "0 s", _s(x.holds), _s(x.holds), x.what)
            self._add(texts, x.holds / 60_000, Place("device", item=k.name))

    def _add_window(self, w: Window) -> None:
        step = f"{w.place.sequence}.{w.place.item}"
        words = {"longest": f"{step} at most", "shortest": f"{step} at least", "wait": f"{step} waits a fixed time"}[
            w.kind
        ]
        where = f"{w.what}; {w.scenario}" if w.kind == "wait" else w.scenario
        self._add((words, _s(w.limit), _s(w.measured), _s(w.left), where), w.share, w.place)

    def _go(self, item: QTreeWidgetItem) -> None:
        place = item.data(0, ABOUT)
        if isinstance(place, Place):
            self.selection.go(place)

    # -- measuring

    def start(self) -> None:
        """Measures the machine file as it is."""
        if self.room is not None:
            return
        self._of, self._problem = self.document.project, ""
        self.room = Room(
            self._of, executor(), self.tolerance.value() / 100, self.draws.value(), turn=self.turn.isChecked()
        )  # fmt: skip
        self.report = self.room.report
        self._timer.start()
        self._show()
        self.list.setFocus()  # the button that was pressed cannot keep it

    def take(self, report: RoomReport, project: Project) -> None:
        """Shows what was measured of this machine file."""
        self.report, self._of = report, project
        self._show()

    def whole(self) -> RoomReport | None:
        """What was measured of the machine file as it is, once nothing is under way."""
        of_now = self._of is not None and self.document.project.runs_like(self._of)
        same = of_now and self._of is not None and self.document.project.scenarios == self._of.scenarios
        return self.report if same and self.room is None else None

    def stop(self) -> None:
        """Cancels what runs; what has come stays."""
        if self.room is not None:
            self.room.cancel()
            self._look()

    def _look(self) -> None:
        room = self.room
        if room is None:
            return
        came = room.poll()
        self.progress.setValue(round(100 * room.part))
        if room.done:
            self._timer.stop()
            self._problem, self.room = room.problem, None
            if room.problem:
                self.report = None
        if came or self.room is None:
            self._show()


def _told(report: RoomReport) -> list[str]:
    """The draws and the path in lines; windows and limits stand in the table."""
    alone = RoomReport(
        report.project, [], [], report.draws, report.path, report.cycle, report.tolerance, report.failing
    )
    whole = [x.knob.words for x in report.limits if x.fails is None and x.up]
    more = [f"As far as was looked nothing fails with: {', '.join(whole)}"] if whole else []
    return [*alone.lines(), *more]


def _s(ms: float) -> str:
    return f"{ms / 1000:g} s"
