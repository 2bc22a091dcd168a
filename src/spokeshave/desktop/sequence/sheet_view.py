"""The sheet on the screen: how each cell is drawn, live, and how it is edited from the keyboard."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QFontMetrics, QPainter, QPen
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QLineEdit,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.condition_editor import ConditionEdit
from spokeshave.desktop.sequence.flow_painter import flow_width, paint_flow
from spokeshave.desktop.sequence.sheet import FIRST_MARK, FLOW, NUMBER, STEP, Sheet
from spokeshave.desktop.tables import Index
from spokeshave.desktop.theme import code_font, text_font, theme
from spokeshave.engine.explain import Waiting

ROW_H = 27
HEAD_H = 92


class Live:
    """What the run says of one sequence, read once a tick: active steps, steps that were, what is waited on."""

    def __init__(self) -> None:
        self.waiting: dict[str, Waiting] = {}
        self.was: set[str] = set()
        self.on: set[str] = set()
        self.forced: set[str] = set()

    def read(self, runner: Runner, sequence: str) -> bool:
        """Takes the present state; TRUE if a view needs repainting."""
        session = runner.session
        waiting = {w.step: w for w in runner.waiting() if w.sequence.lower() == sequence.lower()}
        was: set[str] = set()
        on: set[str] = set()
        forced: set[str] = set()
        if session is not None and session.trace.scan_count:
            v, program = session.situation.v, session.program
            for q in program.sequences:
                if q.name.lower() == sequence.lower():
                    entered = session.situation.entered[q.index]
                    was = {s.name for s in q.steps if s.index in entered and s.name not in waiting}
            on = {r.name.lower() for r in program.recorded if r.kind == "output" and v[r.slot] is True}
            by_slot = {slot: name for name, slot in program.slots.items()}
            forced = {by_slot[slot] for slot in session.situation.forces}
        same = waiting == self.waiting and was == self.was and on == self.on and forced == self.forced
        self.waiting, self.was, self.on, self.forced = waiting, was, on, forced
        return not same


class SheetDelegate(QStyledItemDelegate):
    """Draws the cells of the sheet and gives them their editors."""

    def __init__(self, view: SheetView) -> None:
        super().__init__(view)
        self.view = view

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        sheet, row, column = self.view.sheet, index.row(), index.column()
        r = sheet.row(row)
        step = sheet.step_at(row)
        live = self.view.live
        waiting = live.waiting.get(step.name)
        box = QRectF(option.rect)
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        current = self.view.currentIndex().row() == row
        ground = theme.now.selection if selected else theme.now.raised if current else theme.now.surface
        painter.fillRect(box, QColor(ground))
        if column == FLOW:
            paint_flow(
                painter, box, sheet.flow, row, waiting is not None, r.first and step.name == sheet.sequence.initial
            )
        elif column == STEP and r.first:
            self._paint_step(painter, box, step.name, waiting, step.name in live.was)
        elif FIRST_MARK <= column < sheet.awaits:
            self._paint_mark(painter, box, sheet.text(row, column), sheet.targets[column - FIRST_MARK], waiting)
        elif column == sheet.awaits:
            self._paint_condition(painter, box, sheet.text(row, column), r.transition, waiting)
        elif column == sheet.bars:
            self.view.paint_bars(painter, box, row)
        else:
            self._paint_text(painter, box, index)
        if sheet.problem_at(row, column):
            self._paint_problem(painter, box)
        if option.state & QStyle.StateFlag.State_HasFocus:
            painter.setPen(QPen(theme.colour("accent"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(0.75, 0.75, -1.25, -1.25))

    def _paint_text(self, painter: QPainter, box: QRectF, index: Index) -> None:
        text = str(index.data() or "")
        right = index.column() in (NUMBER, self.view.sheet.longest)
        painter.setFont(text_font())
        painter.setPen(theme.colour("faint" if index.column() == NUMBER else "ink"))
        flags = Qt.AlignmentFlag.AlignVCenter | (Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft)
        inner = box.adjusted(7, 0, -7, 0)
        painter.drawText(inner, flags, _cut(text, painter, inner.width()))

    def _paint_step(self, painter: QPainter, box: QRectF, name: str, waiting: Waiting | None, was: bool) -> None:
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        pill = box.adjusted(3, 3, -3, -3)
        painter.setFont(text_font(13, bold=waiting is not None))
        if waiting is not None:
            colour = {"late": "late", "tripped": "late", "held": "held"}.get(waiting.state, "active")
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour(colour))
            painter.drawRoundedRect(pill, 4, 4)
            if waiting.state in ("late", "held"):
                painter.setBrush(QBrush(QColor(255, 255, 255, 70), Qt.BrushStyle.BDiagPattern))
                painter.drawRoundedRect(pill, 4, 4)
            if waiting.state == "tripped":
                painter.fillRect(QRectF(pill.left(), pill.center().y() - 1, pill.width(), 2), theme.colour("surface"))
            painter.setPen(theme.colour("on_active"))
        else:
            if was:
                painter.setPen(QPen(theme.colour("active"), 1.2))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(pill, 4, 4)
            painter.setPen(theme.colour("ink"))
        inner = pill.adjusted(6, 0, -4, 0)
        painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter, _cut(name, painter, inner.width()))
        painter.restore()

    def _paint_mark(self, painter: QPainter, box: QRectF, mark: str, target: str, waiting: Waiting | None) -> None:
        if not mark:
            return
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        on = waiting is not None and target.lower() in self.view.live.on
        colour = theme.colour("active" if on else "ink")
        if target.lower() in self.view.live.forced:
            colour = theme.colour("forced")
        if mark == "X":
            square = QRectF(0, 0, 11, 11)
            square.moveCenter(box.center())
            painter.setPen(QPen(colour, 1.5))
            painter.setBrush(colour if on else theme.colour("accent_soft"))
            painter.drawRoundedRect(square, 2.5, 2.5)
        else:
            painter.setFont(text_font(12, bold=True))
            painter.setPen(colour)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, mark)
        painter.restore()

    def _paint_condition(
        self, painter: QPainter, box: QRectF, text: str, way: int | None, waiting: Waiting | None
    ) -> None:
        painter.save()
        painter.setFont(code_font())
        inner = box.adjusted(7, 0, -7, 0)
        awaited = next((w for w in waiting.ways if w.transition == way), None) if waiting else None
        painter.setPen(theme.colour("ink"))
        if awaited is not None and not awaited.missing and not awaited.absent:
            painter.setPen(QPen(theme.colour("true"), 2))
            y, x = inner.center().y(), inner.right() - 12
            painter.drawLine(int(x), int(y), int(x + 4), int(y + 4))
            painter.drawLine(int(x + 4), int(y + 4), int(x + 11), int(y - 5))
            painter.setPen(theme.colour("ink"))
            inner.adjust(0, 0, -18, 0)
        shown = _cut(text, painter, inner.width())
        painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter, shown)
        if awaited is not None:
            metrics = QFontMetrics(painter.font())
            pen = QPen(theme.colour("false"), 2, Qt.PenStyle.DotLine)
            for term in awaited.missing:
                start = shown.find(term.text)
                if start >= 0:
                    x = inner.left() + metrics.horizontalAdvance(shown[:start])
                    y = inner.center().y() + metrics.height() / 2 + 1
                    painter.setPen(pen)
                    painter.drawLine(int(x), int(y), int(x + metrics.horizontalAdvance(term.text)), int(y))
        painter.restore()

    def _paint_problem(self, painter: QPainter, box: QRectF) -> None:
        """A wavy line under the cell and a mark at its right end; the tool tip says what is wrong."""
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("late"), 1.5))
        y, x, up = box.bottom() - 3, box.left() + 6, True
        while x < box.right() - 20:
            painter.drawLine(int(x), int(y - (2 if up else 0)), int(x + 3), int(y - (0 if up else 2)))
            x, up = x + 3, not up
        painter.setBrush(theme.colour("late"))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawEllipse(QRectF(box.right() - 18, box.center().y() - 7, 14, 14))
        painter.setPen(theme.colour("on_active"))
        painter.setFont(text_font(11, bold=True))
        painter.drawText(QRectF(box.right() - 18, box.center().y() - 7, 14, 14), Qt.AlignmentFlag.AlignCenter, "!")
        painter.restore()

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: Index) -> QWidget:
        sheet = self.view.sheet
        if index.column() == sheet.awaits:
            return ConditionEdit(sheet.document.project, sheet.sequence, parent)
        editor = QLineEdit(parent)
        editor.setFrame(False)
        editor.setAccessibleName(str(sheet.headerData(index.column(), Qt.Orientation.Horizontal)))
        return editor

    def setEditorData(self, editor: QWidget, index: Index) -> None:
        assert isinstance(editor, QLineEdit)
        editor.setText(str(index.data(Qt.ItemDataRole.EditRole)))
        editor.selectAll()

    def setModelData(self, editor: QWidget, model: Any, index: Index) -> None:
        assert isinstance(editor, QLineEdit)
        model.setData(index, editor.text())

    def updateEditorGeometry(self, editor: QWidget, option: QStyleOptionViewItem, index: Index) -> None:
        box = QRect(option.rect)
        if index.column() >= FIRST_MARK and index.column() < self.view.sheet.awaits:
            box.setWidth(max(box.width(), 64))
        editor.setGeometry(box)


def _cut(text: str, painter: QPainter, width: float) -> str:
    return QFontMetrics(painter.font()).elidedText(text, Qt.TextElideMode.ElideRight, int(width))


class SheetHeader(QHeaderView):
    """Heads of the matrix stand upright so that many outputs fit; a head that is on in the run is marked."""

    def __init__(self, view: SheetView) -> None:
        super().__init__(Qt.Orientation.Horizontal, view)
        self.view = view
        self.setSectionsClickable(True)
        self.setHighlightSections(False)

    def sizeHint(self) -> QSize:
        longest = max((len(t) for t in self.view.sheet.targets), default=0)
        return QSize(100, max(34, min(HEAD_H + 30, 18 + int(longest * 7.4))))

    def paintSection(self, painter: QPainter, rect: QRect, logical: int) -> None:
        sheet = self.view.sheet
        painter.save()
        painter.fillRect(rect, QColor(theme.now.raised))
        painter.setPen(QColor(theme.now.hairline))
        painter.drawLine(rect.topRight(), rect.bottomRight())
        painter.drawLine(rect.bottomLeft(), rect.bottomRight())
        text = str(sheet.headerData(logical, Qt.Orientation.Horizontal))
        if FIRST_MARK <= logical < sheet.awaits:
            on, forced = text.lower() in self.view.live.on, text.lower() in self.view.live.forced
            painter.setFont(text_font(12, bold=on))
            painter.setPen(theme.colour("forced" if forced else "active" if on else "ink"))
            if on or forced:
                painter.fillRect(QRect(rect.left() + 1, rect.bottom() - 3, rect.width() - 2, 3), painter.pen().color())
            painter.translate(rect.center().x() + 5, rect.bottom() - 8)
            painter.rotate(-90)
            painter.drawText(0, 0, _cut(text, painter, rect.height() - 14))
        else:
            painter.setFont(text_font(12, bold=True))
            painter.setPen(theme.colour("faint"))
            box = rect.adjusted(7, 0, -7, -7)
            if logical == sheet.bars and self.view.cycle_text:
                text += f", {self.view.cycle_text}"
            painter.drawText(box, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft, text)
        painter.restore()


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
