"""The sheet on the screen: how each cell is drawn, live, and how it is edited from the keyboard."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QFontMetrics, QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QTableView,
)

from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.flow_painter import flow_width
from spokeshave.desktop.sequence.live import Live
from spokeshave.desktop.sequence.sheet import FIRST_MARK, FLOW, NUMBER, STEP, Sheet
from spokeshave.desktop.sequence.sheet_cells import SheetDelegate, SheetHeader
from spokeshave.desktop.theme import code_font, text_font, theme

ROW_H = 27


class SheetView(QTableView):
    """The sheet of one sequence. Keys: Insert a step after, Delete, typing edits, Space toggles a mark."""

    insert_asked = Signal()
    delete_asked = Signal()

    def __init__(self, sheet: Sheet, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.sheet, self.runner, self.selection = sheet, runner, selection
        self.live = Live()
        self.cycle_text = ""
        self._bars: list[list[tuple[float, float]]] = []
        self._lasted: list[int] = []
        self.setModel(sheet)
        self.setAccessibleName(f"Sheet of {sheet.name}")
        self.setHorizontalHeader(SheetHeader(self))
        self.setItemDelegate(SheetDelegate(self))
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.AnyKeyPressed
            | QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(ROW_H)
        self.setWordWrap(False)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        sheet.modelReset.connect(self._arrange)
        self.selectionModel().currentChanged.connect(self._tell_selection)
        selection.changed.connect(self._follow_selection)
        runner.advanced.connect(self.follow_run)
        self._arrange()
        self.follow_run()

    def _arrange(self) -> None:
        sheet = self.sheet
        self.horizontalHeader().setMinimumSectionSize(24)
        metrics = QFontMetrics(text_font(13, bold=True))
        code = QFontMetrics(code_font())
        self.setColumnWidth(FLOW, flow_width(sheet.flow))
        self.setColumnWidth(NUMBER, 44)
        names = [metrics.horizontalAdvance(s.name) for s in sheet.sequence.steps]
        self.setColumnWidth(STEP, max(90, min(180, max(names, default=60) + 26)))
        for column in range(FIRST_MARK, sheet.awaits):
            marks = [metrics.horizontalAdvance(sheet.text(r, column)) for r in range(sheet.rowCount())]
            self.setColumnWidth(column, max(28, max(marks, default=0) + 14))
        conditions = [code.horizontalAdvance(t.condition) for t in sheet.sequence.transitions]
        self.setColumnWidth(sheet.awaits, max(160, min(380, max(conditions, default=100) + 24)))
        self.setColumnWidth(sheet.longest, 66)
        nexts = [metrics.horizontalAdvance(sheet.text(r, sheet.next)) for r in range(sheet.rowCount())]
        self.setColumnWidth(sheet.next, max(80, min(200, max(nexts, default=60) + 18)))
        self.horizontalHeader().setStretchLastSection(True)
        self._read_bars()

    # -- selection

    def _tell_selection(self) -> None:
        index = self.currentIndex()
        if index.isValid() and index.row() < self.sheet.rowCount():
            self.selection.set(self.sheet.place_at(index))
        self.viewport().update()

    def _follow_selection(self) -> None:
        p = self.selection.place
        if p.sequence.lower() != self.sheet.name.lower() or p.kind not in ("step", "transition", "action"):
            return
        index = self.currentIndex()
        if index.isValid() and index.row() < self.sheet.rowCount() and self.sheet.place_at(index) == p:
            return
        for i, row in enumerate(self.sheet.flow.rows):
            step = self.sheet.sequence.steps[row.step].name
            if p.kind == "transition" and row.transition == p.index:
                self.setCurrentIndex(self.sheet.index(i, self.sheet.awaits))
                return
            if p.kind != "transition" and row.first and step == p.step:
                self.setCurrentIndex(self.sheet.index(i, STEP))
                return

    def current_step(self) -> str:
        index = self.currentIndex()
        return self.sheet.step_at(index.row()).name if index.isValid() and self.sheet.rowCount() else ""

    def current_way(self) -> int | None:
        index = self.currentIndex()
        return self.sheet.row(index.row()).transition if index.isValid() else None

    # -- the run

    def follow_run(self) -> None:
        """Takes the run's present state; repaints only when it differs from what is shown."""
        if self.live.read(self.runner, self.sheet.name):
            self._read_bars()
            self.viewport().update()
            self.horizontalHeader().viewport().update()

    def _read_bars(self) -> None:
        session = self.runner.session
        self._bars, self._lasted = [], []
        self.cycle_text = ""
        if session is None or not session.trace.scan_count:
            return
        trace = session.trace
        end = max(1, trace.scan_count)
        known = {r.name.lower() for r in trace.recorded}
        for s in self.sheet.sequence.steps:
            name = f"{self.sheet.name}.{s.name}.X"
            windows = trace.windows(name) if name.lower() in known else []
            self._bars.append([(a / end, b / end) for a, b in windows])
            self._lasted.append((windows[-1][1] - windows[-1][0]) * trace.period_ms if windows else -1)
        self.cycle_text = f"{trace.end_ms / 1000:g} s"

    def paint_bars(self, painter: QPainter, box: QRectF, row: int) -> None:
        """When the row's step was active in the run, and how long it lasted last."""
        r = self.sheet.row(row)
        if not r.first or r.step >= len(self._bars):
            return
        painter.save()
        painter.setFont(text_font(11))
        room = box.adjusted(6, 6, -60, -6)
        for start, end in self._bars[r.step]:
            x = room.left() + start * room.width()
            w = max(2.0, (end - start) * room.width())
            painter.fillRect(QRectF(x, room.top(), w, room.height()), theme.colour("active"))
        if self._lasted[r.step] >= 0:
            painter.setPen(theme.colour("faint"))
            text = f"{self._lasted[r.step] / 1000:.2f} s"
            painter.drawText(
                box.adjusted(0, 0, -8, 0), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, text
            )
        painter.restore()

    # -- keys

    def keyPressEvent(self, event: Any) -> None:
        index = self.currentIndex()
        sheet = self.sheet
        if event.key() == Qt.Key.Key_Insert:
            self.insert_asked.emit()
        elif event.key() == Qt.Key.Key_Delete and index.isValid():
            if FIRST_MARK <= index.column() < sheet.awaits or index.column() == sheet.longest:
                sheet.setData(index, "")
            else:
                self.delete_asked.emit()
        elif event.key() == Qt.Key.Key_Space and FIRST_MARK <= index.column() < sheet.awaits:
            sheet.setData(index, "" if sheet.text(index.row(), index.column()) else "X")
        else:
            super().keyPressEvent(event)
