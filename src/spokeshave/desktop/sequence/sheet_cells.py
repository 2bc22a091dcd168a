"""How the cells and heads of the sheet are drawn, live, and which editor a cell gets."""

from __future__ import annotations

import re
from functools import partial
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QPointF, QRect, QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QColor, QContextMenuEvent, QFontMetrics, QPainter, QPen
from PySide6.QtWidgets import QHeaderView, QLineEdit, QMenu, QStyle, QStyleOptionViewItem, QWidget

from spokeshave.desktop.cell_editors import Index, TypedDelegate
from spokeshave.desktop.measured_room import SCARCE, used
from spokeshave.desktop.sequence.condition_editor import ConditionEdit
from spokeshave.desktop.sequence.flow_painter import paint_flow
from spokeshave.desktop.sequence.sheet import FIRST_MARK, FLOW, NUMBER, STEP
from spokeshave.desktop.theme import code_font, state_colour, text_font, theme
from spokeshave.engine.explain import Waiting
from spokeshave.model.project import Qualifier

if TYPE_CHECKING:
    from spokeshave.desktop.sequence.sheet_view import SheetView

HEAD_H = 92


def _cut(text: str, painter: QPainter, width: float) -> str:
    return QFontMetrics(painter.font()).elidedText(text, Qt.TextElideMode.ElideRight, int(width))


def two_lines(text: str, room: int) -> list[str]:
    """A long condition in two lines, cut in front of an operator where the first fits into `room` letters.

    >>> two_lines("GateClosed AND NOT GateOpened AND Go", 30)
    ['GateClosed AND NOT GateOpened', 'AND Go']
    """
    if len(text) <= room:
        return [text]
    cuts = [m.start() for m in re.finditer(r" (?=AND |OR |XOR |& |>|<|=)", text) if m.start() <= room]
    return [text[: cuts[-1]], text[cuts[-1] + 1 :]] if cuts else [text]


class SheetDelegate(TypedDelegate):
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
        problem = sheet.problem_at(row, column)
        free = box.adjusted(0, 0, -14, 0) if problem else box  # the sign of a problem stands at the right
        if column == FLOW:
            paint_flow(
                painter, box, sheet.flow, row, waiting is not None, r.first and step.name == sheet.sequence.initial
            )
        elif column == STEP and r.first:
            self._paint_step(painter, free, step.name, waiting, step.name in live.was)
        elif sheet.is_mark(column):
            self._paint_mark(painter, box, sheet.text(row, column), sheet.targets[column - FIRST_MARK], waiting)
        elif column == sheet.awaits:
            self._paint_condition(painter, free, sheet.text(row, column), r.transition, waiting)
        elif column == sheet.bars:
            self.view.paint_bars(painter, box, row)
        else:
            self._paint_text(painter, free, index)
            if column == sheet.window and r.first:
                self._paint_room(painter, box, step.name)
        if problem:
            self._paint_problem(painter, box)
        if option.state & QStyle.StateFlag.State_HasFocus:
            painter.setPen(QPen(theme.colour("accent"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(0.75, 0.75, -1.25, -1.25))

    def _paint_room(self, painter: QPainter, box: QRectF, step: str) -> None:
        """How much of the window was used in the runs in which room was measured."""
        room = self.view.sheet.document.room
        for w in room.of_step(self.view.sheet.name, step)[:1] if room is not None else ():
            bar = QRectF(box.left() + 6, box.bottom() - 5, box.width() - 12, 3)
            painter.fillRect(bar, theme.colour("hairline"))
            bar.setWidth(bar.width() * used(w))
            painter.fillRect(bar, theme.colour("late" if w.share < SCARCE else "active"))

    def _paint_text(self, painter: QPainter, box: QRectF, index: Index) -> None:
        text = str(index.data() or "")
        right = index.column() in self.view.sheet.figures
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
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(state_colour(waiting.state))
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
        on = waiting is not None and (mark == Qualifier.RUN or target.lower() in self.view.live.on)
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
        lines = [text]
        if QFontMetrics(painter.font()).horizontalAdvance(text) > inner.width():
            painter.setFont(code_font(11))
            lines = two_lines(text, int(inner.width() / QFontMetrics(painter.font()).horizontalAdvance("0")))
        metrics = QFontMetrics(painter.font())
        height = metrics.height() - 1
        top = inner.center().y() - height * len(lines) / 2
        for n, line in enumerate(lines):
            area = QRectF(inner.left(), top + n * height, inner.width(), height)
            painter.setPen(theme.colour("ink"))
            shown = _cut(line, painter, inner.width())
            painter.drawText(area, Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextDontClip, shown)
            painter.setPen(QPen(theme.colour("forced"), 1.6))
            for start, word in self.view.live.forced_words(shown):
                place = area.adjusted(metrics.horizontalAdvance(shown[:start]), 0, 0, 0)
                painter.drawText(place, Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextDontClip, word)
                end = place.topLeft() + QPointF(metrics.horizontalAdvance(word), 1)
                painter.drawLine(place.topLeft() + QPointF(0, 1), end)
            painter.setPen(QPen(theme.colour("false"), 2, Qt.PenStyle.DotLine))
            for term in awaited.missing if awaited is not None else ():
                start = shown.find(term.text)
                if start >= 0:
                    x, y = area.left() + metrics.horizontalAdvance(shown[:start]), area.bottom()
                    painter.drawLine(int(x), int(y), int(x + metrics.horizontalAdvance(term.text)), int(y))
        painter.restore()

    def _paint_problem(self, painter: QPainter, box: QRectF) -> None:
        """A wavy line under the cell and a mark at its right end; the tool tip says what is wrong."""
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("late"), 1.5))
        y, x, up = box.bottom() - 1, box.left() + 6, True
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

    def fill(self, editor: QWidget, index: Index) -> None:
        assert isinstance(editor, QLineEdit)
        editor.setText(str(index.data(Qt.ItemDataRole.EditRole)))
        editor.selectAll()

    def setModelData(self, editor: QWidget, model: Any, index: Index) -> None:
        assert isinstance(editor, QLineEdit)
        model.setData(index, editor.text())

    def updateEditorGeometry(self, editor: QWidget, option: QStyleOptionViewItem, index: Index) -> None:
        box = QRect(option.rect)
        if self.view.sheet.is_mark(index.column()):
            box.setWidth(max(box.width(), 64))
        editor.setGeometry(box)


class SheetHeader(QHeaderView):
    """Heads of the matrix stand upright so that many outputs fit; a head that is on in the run is marked."""

    def __init__(self, view: SheetView) -> None:
        super().__init__(Qt.Orientation.Horizontal, view)
        self.view = view
        self.setSectionsClickable(True)
        self.setHighlightSections(False)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """What else can be a column."""
        menu, sheet = QMenu(self), self.view.sheet
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        asked, names = {n.lower() for n in sheet.asked}, sheet.can_be_asked()
        if names:
            menu.addAction("Columns for").setEnabled(False)
        for name in names:
            entry = menu.addAction(name.replace("&", "&&"), partial(sheet.ask_column, name))
            entry.setCheckable(True)
            entry.setChecked(name.lower() in asked)
        if menu.isEmpty():
            menu.addAction("All outputs, internals and other sequences are columns").setEnabled(False)
        menu.popup(event.globalPos())

    def sizeHint(self) -> QSize:
        longest = max((len(t) for t in self.view.sheet.targets), default=0)
        return QSize(100, max(40, min(HEAD_H + 40, 26 + int(longest * 7.3))))

    def paintSection(self, painter: QPainter, rect: QRect, logical: int) -> None:
        sheet = self.view.sheet
        painter.save()
        within = painter.worldTransform()
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
            painter.translate(rect.center().x() + 5, rect.bottom() - 12)
            painter.rotate(-90)
            painter.drawText(0, 0, _cut(text, painter, rect.height() - 16))
            painter.setWorldTransform(within)
            self._paint_windows(painter, rect, text)
        else:
            painter.setFont(text_font(12, bold=True))
            painter.setPen(theme.colour("faint"))
            box = rect.adjusted(7, 0, -7, -7)
            if logical == sheet.bars and self.view.cycle_text:
                text += f", {self.view.cycle_text}"
            painter.drawText(box, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft, text)
        painter.restore()

    def _paint_windows(self, painter: QPainter, rect: QRect, name: str) -> None:
        """When the output was on in the last cycle, along the lower edge of its head."""
        m = self.view.measured
        if m is None or not m.cycle_ms:
            return
        room = QRectF(rect.left() + 2, rect.bottom() - 8, rect.width() - 5, 4)
        painter.fillRect(room, theme.colour("hairline"))
        for start, stop in m.on.get(name, ()):
            x = room.left() + start / m.cycle_ms * room.width()
            w = max(1.0, (stop - start) / m.cycle_ms * room.width())
            painter.fillRect(QRectF(x, room.top(), min(w, room.right() - x), room.height()), theme.colour("active"))
