"""What the chart draws: one item for each step with its actions, chips and ways out, and one for all lines."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QFontMetricsF, QPainter, QPainterPath, QPen
from PySide6.QtWidgets import QGraphicsItem, QStyleOptionGraphicsItem, QWidget

from spokeshave.chart.labels import (
    BLOCK_H,
    CHAR_W,
    CHIP_H,
    LINE_H,
    block_text,
    chip_width,
    chips,
    chips_top,
    condition_lines,
)
from spokeshave.chart.layout import Bar, StepBox
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.theme import code_font, state_colour, text_font, theme
from spokeshave.engine.explain import Waiting
from spokeshave.model.project import Step, Transition

if TYPE_CHECKING:
    from spokeshave.desktop.sequence.chart_paper import ChartPaper

HALF_BAR = 15
READABLE = 0.4
"""Below this scale texts are left out."""


class Part(NamedTuple):
    """What is at a point of a step's item: `step`, `action`, `chip` or `way`, which of them, and where it is."""

    kind: str
    which: int
    area: QRectF


class StepItem(QGraphicsItem):
    """A step with its action blocks, and the bars of the transitions that it carries: recolouring repaints only this."""

    def __init__(
        self, view: ChartPaper, step: Step, box: StepBox, bars: tuple[Bar, ...], ways: tuple[Transition, ...]
    ) -> None:
        super().__init__()
        self.view = view
        self.setFlag(QGraphicsItem.GraphicsItemFlag.ItemIsSelectable)
        self.setFlag(QGraphicsItem.GraphicsItemFlag.ItemUsesExtendedStyleOption)
        self.step, self.box, self.bars, self.ways = step, box, bars, ways
        self._area = QRectF()
        self.place(step, box, bars, ways)

    def place(self, step: Step, box: StepBox, bars: tuple[Bar, ...], ways: tuple[Transition, ...]) -> None:
        """Shows another state of the step; repaints only if it differs."""
        same_form = self.step is step and self.ways == ways
        self.step, self.ways = step, ways
        if same_form and (self.box is not box or self.bars != bars):
            shifts = [(b.x - box.x, b.y - box.y) for b in bars]
            same_form = shifts == [(b.x - self.box.x, b.y - self.box.y) for b in self.bars] and self.box.w == box.w
        same_form = same_form and not self._area.isNull()
        self.box, self.bars = box, bars
        if not same_form:
            self.prepareGeometryChange()
            self._area = self._reach()
            self.setToolTip(plain(step.comment or f"{step.number} {step.name}"))
            self.update()
        if self.x() != box.x or self.y() != box.y:
            self.setPos(box.x, box.y)

    def _reach(self) -> QRectF:
        b = self.box
        right = max(b.w, b.actions_x - b.x + b.actions_w if b.actions_w else 0)
        area = QRectF(0, 0, right, chips_top(self.step) + CHIP_H)
        for _, chip in self._chips():
            area = area.united(chip)
        for n in range(len(self.bars)):
            area = area.united(self.way_area(n))
        return area.adjusted(-8, -8, 8, 8)

    def boundingRect(self) -> QRectF:
        return self._area

    def areas(self) -> list[QRectF]:
        """Where the step, its actions and its ways out stand on the paper."""
        parts = [QRectF(0, 0, self.box.w, self.box.h), *([self._actions()] if self.box.actions_w else [])]
        return [self.mapRectToScene(r) for r in (*parts, *(self.way_area(n) for n in range(len(self.bars))))]

    def shape(self) -> QPainterPath:
        path = QPainterPath()
        b = self.box
        path.addRect(QRectF(0, 0, b.w, b.h))
        if b.actions_w:
            path.addRect(self._actions())
        for n in range(len(self.bars)):
            path.addRect(self.way_area(n))
        return path

    # -- parts

    def box_area(self) -> QRectF:
        return QRectF(0, 0, self.box.w, self.box.h)

    def _actions(self) -> QRectF:
        b = self.box
        return QRectF(b.actions_x - b.x, 0, b.actions_w, BLOCK_H * len(self.step.actions))

    def action_area(self, n: int) -> QRectF:
        area = self._actions()
        left = area.left() if self.step.actions else self.box.w + 12
        return QRectF(left, n * BLOCK_H, max(area.width(), 150.0 if n >= len(self.step.actions) else 0), BLOCK_H)

    def _chips(self) -> list[tuple[str, QRectF]]:
        x, top, found = self.box.w / 2 + 5, chips_top(self.step), []
        for text in chips(self.step):
            found.append((text, QRectF(x, top, chip_width(text), CHIP_H - 2)))
            x += chip_width(text) + 4
        return found

    def way_area(self, n: int) -> QRectF:
        """The bar and its condition."""
        bar, lines = self.bars[n], condition_lines(self.ways[n].condition)
        x, y = bar.x - self.box.x, bar.y - self.box.y
        return QRectF(
            x - HALF_BAR - 2, y - 9, 2 * HALF_BAR + 12 + CHAR_W * max(map(len, lines)), 6 + LINE_H * len(lines)
        )

    def part_at(self, at: QPointF) -> Part:
        """What is at a point in the item's own coordinates."""
        for n, bar in enumerate(self.bars):
            if self.way_area(n).contains(at):
                return Part("way", bar.transition, self.way_area(n))
        for n, (_, chip) in enumerate(self._chips()):
            if chip.contains(at):
                return Part("chip", n, chip)
        if self.box.actions_w and self._actions().contains(at):
            n = min(int(at.y() // BLOCK_H), len(self.step.actions) - 1)
            return Part("action", n, self.action_area(n))
        return Part("step", 0, self.box_area())

    # -- painting

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        view, step = self.view, self.step
        waiting = view.live.waiting.get(step.name)
        was = step.name in view.live.was
        near = option.levelOfDetailFromTransform(painter.worldTransform()) >= READABLE
        box, ink = self.box_area(), theme.colour("ink")
        fill = state_colour(waiting.state) if waiting is not None else theme.colour("surface")
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, near)
        painter.setPen(QPen(theme.colour("active") if was or waiting else ink, 2.0 if was else 1.3))
        painter.setBrush(fill)
        painter.drawRect(box)
        hidden = view.hidden_in(step.name)
        if hidden:
            painter.drawRect(box.adjusted(3, 3, 3, 3))
            painter.drawRect(box)
        if waiting is not None and waiting.state in ("late", "held"):
            painter.setBrush(QBrush(QColor(255, 255, 255, 70), Qt.BrushStyle.BDiagPattern))
            painter.drawRect(box)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if waiting is not None and waiting.state == "tripped":
            painter.fillRect(QRectF(0, box.center().y() - 1, box.width(), 2), theme.colour("surface"))
        text = theme.colour("on_active") if waiting else ink
        if step.name == view.initial:
            painter.setPen(QPen(text if waiting else ink, 1.0))
            painter.drawRect(box.adjusted(3.5, 3.5, -3.5, -3.5))
        for n in range(len(self.bars)):
            self._paint_way(painter, n, near)
        if near:
            self._paint_texts(painter, waiting, text, hidden)
        if self.isSelected():
            self._paint_selection(painter)
        if view.drop is not None and view.drop[0] == step.name:
            painter.setPen(QPen(theme.colour("late" if view.drop[1] else "accent"), 3))
            painter.drawLine(QPointF(-6, box.height() + 5), QPointF(box.width() + 6, box.height() + 5))

    def _paint_selection(self, painter: QPainter) -> None:
        painter.setPen(QPen(theme.colour("accent"), 2, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        way = self.view.selected_way()
        for n, bar in enumerate(self.bars):
            if bar.transition == way:
                painter.drawRect(self.way_area(n))
                return
        painter.drawRect(self.box_area().adjusted(-3, -3, 3, 3))

    def _paint_texts(self, painter: QPainter, waiting: Waiting | None, colour: QColor, hidden: int) -> None:
        step, b = self.step, self.box
        painter.setPen(colour)
        painter.setFont(text_font(13, bold=True))
        number = str(step.number)
        painter.drawText(QRectF(10, 0, b.w - 16, b.h), Qt.AlignmentFlag.AlignVCenter, number)
        x = 10 + QFontMetricsF(painter.font()).horizontalAdvance(number) + 7
        painter.setFont(text_font(13))
        painter.drawText(QRectF(x, 0, b.w - x - 4, b.h), Qt.AlignmentFlag.AlignVCenter, step.name)
        if hidden:
            painter.setFont(text_font(11))
            painter.setPen(theme.colour("faint"))
            painter.drawText(QPointF(b.w / 2 + 8, b.h + 16), f"{hidden} steps folded")
        self._paint_actions(painter, waiting is not None)
        problem = self.view.problem_of(step.name)
        if problem:
            self._paint_problem(painter, QPointF(b.w - 2, 2))
        painter.setFont(text_font(10))
        for text, area in self._chips():
            painter.setPen(
                QPen(theme.colour("late" if waiting is not None and waiting.state == "late" else "hairline"), 1)
            )
            painter.setBrush(theme.colour("raised"))
            painter.drawRoundedRect(area, 6, 6)
            painter.setPen(theme.colour("faint"))
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter, text)
        if waiting is not None:
            painter.setFont(text_font(11, bold=True))
            painter.setPen(state_colour(waiting.state))
            time = QRectF(0, b.h + 2, b.w / 2 - 6, 14)
            painter.drawText(time, Qt.AlignmentFlag.AlignRight, f"{waiting.time_ms / 1000:.1f} s")

    def _paint_problem(self, painter: QPainter, at: QPointF) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("late"))
        painter.drawEllipse(at, 6.5, 6.5)
        painter.setPen(theme.colour("on_active"))
        painter.setFont(text_font(10, bold=True))
        painter.drawText(QRectF(at.x() - 7, at.y() - 7, 14, 14), Qt.AlignmentFlag.AlignCenter, "!")

    def _paint_actions(self, painter: QPainter, active: bool) -> None:
        area = self._actions()
        painter.setFont(text_font(12))
        for n, a in enumerate(self.step.actions):
            cell = QRectF(area.left(), n * BLOCK_H + 0.5, area.width(), BLOCK_H)
            on = active and (a.qualifier.runs or a.target.lower() in self.view.live.on)
            forced = a.target.lower() in self.view.live.forced
            painter.setPen(QPen(theme.colour("forced" if forced else "active" if on else "faint"), 1.0))
            painter.setBrush(theme.colour("active_soft" if on else "surface"))
            painter.drawRect(cell)
            painter.setPen(theme.colour("ink"))
            painter.drawText(cell.adjusted(8, 0, -4, 0), Qt.AlignmentFlag.AlignVCenter, block_text(a))
        if self.step.actions:
            painter.setPen(QPen(theme.colour("faint"), 1.0))
            painter.drawLine(QPointF(self.box.w, BLOCK_H / 2), QPointF(area.left(), BLOCK_H / 2))

    def _paint_way(self, painter: QPainter, n: int, near: bool) -> None:
        bar, way = self.bars[n], self.ways[n]
        x, y = bar.x - self.box.x, bar.y - self.box.y
        awaited = self.view.awaited(bar.transition)
        ink = theme.colour("ink")
        waits = awaited is not None and not awaited.absent
        painter.setPen(QPen(theme.colour("false" if awaited and awaited.missing else "true") if waits else ink, 3))
        painter.drawLine(QPointF(x - HALF_BAR, y), QPointF(x + HALF_BAR, y))
        if not near:
            return
        painter.setFont(code_font())
        metrics = QFontMetricsF(painter.font())
        if self.view.problem_of_way(bar.transition):
            self._paint_problem(painter, QPointF(x - HALF_BAR - 6, y))
            painter.setFont(code_font())
        for row, line in enumerate(condition_lines(way.condition)):
            at = QPointF(x + HALF_BAR + 7, y + 4 + LINE_H * row)
            painter.setPen(ink)
            painter.drawText(at, line)
            painter.setPen(QPen(theme.colour("forced"), 1.6))
            for start, word in self.view.live.forced_words(line):
                place = QPointF(at.x() + metrics.horizontalAdvance(line[:start]), at.y())
                painter.drawText(place, word)
                painter.drawLine(place + QPointF(0, -11), place + QPointF(metrics.horizontalAdvance(word), -11))
            painter.setPen(QPen(theme.colour("false"), 2, Qt.PenStyle.DotLine))
            for term in awaited.missing if awaited is not None else ():
                start = line.find(term.text)
                if start >= 0:
                    left = at.x() + metrics.horizontalAdvance(line[:start])
                    painter.drawLine(
                        QPointF(left, at.y() + 3), QPointF(left + metrics.horizontalAdvance(term.text), at.y() + 3)
                    )
