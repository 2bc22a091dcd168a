"""The chart on the screen: the same model as the sheet, laid out from its structure, live."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPainterPath, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QGraphicsItem, QGraphicsScene, QGraphicsView, QStyleOptionGraphicsItem, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.live import Live
from spokeshave.desktop.theme import code_font, state_colour, text_font, theme
from spokeshave.engine.explain import Awaited
from spokeshave.engine.link_sequence import transition_place
from spokeshave.model.diagnostics import Place
from spokeshave.model.layout import BLOCK_H, Bar, Layout, StepBox, block_text, condition_lines, layout
from spokeshave.model.project import Sequence

HALF_BAR = 15


class StepItem(QGraphicsItem):
    """A step with its action blocks: one item, so that recolouring a step repaints only it."""

    def __init__(self, view: ChartView, box: StepBox) -> None:
        super().__init__()
        self.view, self.box = view, box
        self.setPos(box.x, box.y)
        self.setFlag(QGraphicsItem.GraphicsItemFlag.ItemIsSelectable)
        step = view.sequence.steps[box.step]
        self.setToolTip(step.comment or step.name)

    def boundingRect(self) -> QRectF:
        b = self.box
        step = self.view.sequence.steps[b.step]
        width = b.actions_x - b.x + b.actions_w if b.actions_w else b.w
        return QRectF(-4, -4, width + 8, max(b.h, BLOCK_H * len(step.actions)) + 18)

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        b, view = self.box, self.view
        step = view.sequence.steps[b.step]
        waiting = view.live.waiting.get(step.name)
        box = QRectF(0, 0, b.w, b.h)
        ink = theme.colour("ink")
        fill, text = theme.colour("surface"), ink
        if waiting is not None:
            fill = state_colour(waiting.state)
            text = theme.colour("on_active")
        outline = theme.colour("active") if step.name in view.live.was or waiting else ink
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(outline, 2.0 if step.name in view.live.was else 1.3))
        painter.setBrush(fill)
        painter.drawRect(box)
        if waiting is not None and waiting.state in ("late", "held"):
            painter.setBrush(QBrush(QColor(255, 255, 255, 70), Qt.BrushStyle.BDiagPattern))
            painter.drawRect(box)
        if step.name == view.sequence.initial:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(text if waiting else outline, 1.0))
            painter.drawRect(box.adjusted(3.5, 3.5, -3.5, -3.5))
        painter.setPen(text)
        painter.setFont(text_font(12))
        painter.drawText(box.adjusted(9, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, str(step.number))
        painter.setFont(text_font(13, bold=True))
        indent = 14 + 7.2 * len(str(step.number)) + 4
        painter.drawText(box.adjusted(indent, 0, -4, 0), Qt.AlignmentFlag.AlignVCenter, step.name)
        self._paint_actions(painter, step.actions, waiting is not None)
        self._paint_time(painter, box, waiting, step.longest)
        if self.isSelected():
            painter.setPen(QPen(theme.colour("accent"), 2, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(-2.5, -2.5, 2.5, 2.5))

    def _paint_actions(self, painter: QPainter, actions: tuple[Any, ...], active: bool) -> None:
        b = self.box
        left = b.actions_x - b.x
        painter.setFont(text_font(12))
        for i, a in enumerate(actions):
            cell = QRectF(left, i * BLOCK_H + 0.5, b.actions_w, BLOCK_H)
            on = active and a.target.lower() in self.view.live.on
            painter.setPen(QPen(theme.colour("active" if on else "faint"), 1.0))
            painter.setBrush(theme.colour("active_soft" if on else "surface"))
            painter.drawRect(cell)
            painter.setPen(theme.colour("ink"))
            painter.drawText(cell.adjusted(8, 0, -4, 0), Qt.AlignmentFlag.AlignVCenter, block_text(a))
        if actions:
            painter.setPen(QPen(theme.colour("faint"), 1.0))
            painter.drawLine(QPointF(b.w, BLOCK_H / 2), QPointF(left, BLOCK_H / 2))

    def _paint_time(self, painter: QPainter, box: QRectF, waiting: Any, longest: str) -> None:
        """A small chip below the right edge: the time so far, against the longest one."""
        text = f"≤ {longest.removeprefix('T#')}" if longest else ""
        if waiting is not None:
            text = f"{waiting.time_ms / 1000:.1f} s {text}"
        if not text:
            return
        painter.setFont(text_font(10))
        painter.setPen(theme.colour("late" if waiting and waiting.state == "late" else "faint"))
        room = QRectF(box.center().x() + 5, box.bottom() + 1, 110, 12)
        painter.drawText(room, Qt.AlignmentFlag.AlignLeft, text)


class BarItem(QGraphicsItem):
    """A transition: its bar, its condition beside it, and a jump by name where it runs back."""

    def __init__(self, view: ChartView, bar: Bar) -> None:
        super().__init__()
        self.view, self.bar = view, bar
        self.setPos(bar.x, bar.y)
        self.setFlag(QGraphicsItem.GraphicsItemFlag.ItemIsSelectable)
        self.setToolTip(view.sequence.transitions[bar.transition].condition)

    def boundingRect(self) -> QRectF:
        return QRectF(-HALF_BAR - 4, -12, 360, 60)

    def shape(self) -> QPainterPath:
        path = QPainterPath()
        text = self.view.sequence.transitions[self.bar.transition].condition
        path.addRect(QRectF(-HALF_BAR - 4, -10, 40 + 7.5 * min(44, len(text)), 20))
        return path

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        way = self.view.sequence.transitions[self.bar.transition]
        awaited = self.view.awaited(self.bar.transition)
        ink = theme.colour("ink")
        colour = ink
        if awaited is not None and not awaited.absent:
            colour = theme.colour("false" if awaited.missing else "true")
        painter.setPen(QPen(colour, 3))
        painter.drawLine(QPointF(-HALF_BAR, 0), QPointF(HALF_BAR, 0))
        painter.setFont(code_font())
        metrics = painter.fontMetrics()
        lines = condition_lines(way.condition)
        for n, line in enumerate(lines):
            y = 4 + 15 * n
            painter.setPen(ink)
            painter.drawText(QPointF(HALF_BAR + 7, y), line)
            painter.setPen(QPen(theme.colour("false"), 2, Qt.PenStyle.DotLine))
            for term in awaited.missing if awaited is not None else ():
                start = line.find(term.text)
                if start >= 0:
                    x = HALF_BAR + 7 + metrics.horizontalAdvance(line[:start])
                    painter.drawLine(QPointF(x, y + 4), QPointF(x + metrics.horizontalAdvance(term.text), y + 4))
        if self.bar.jump is not None:
            self._paint_jump(painter, ink)
        if self.isSelected():
            painter.setPen(QPen(theme.colour("accent"), 2, Qt.PenStyle.DashLine))
            painter.drawRect(QRectF(-HALF_BAR - 2, -5, 2 * HALF_BAR + 4, 10))

    def _paint_jump(self, painter: QPainter, ink: QColor) -> None:
        assert self.bar.jump is not None
        step = self.view.sequence.steps[self.bar.jump]
        painter.setPen(QPen(ink, 1.3))
        painter.drawLine(QPointF(0, 0), QPointF(0, 22))
        painter.setBrush(ink)
        painter.drawPolygon(QPolygonF([QPointF(-4, 20), QPointF(4, 20), QPointF(0, 28)]))
        painter.setFont(text_font(12, bold=True))
        painter.drawText(QPointF(-12, 42), f"{step.number} {step.name}")


class ChartView(QGraphicsView):
    """The chart of one sequence. The wheel zooms, a click selects."""

    def __init__(self, document: Document, name: str, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.document, self.name, self.runner, self.selection = document, name, runner, selection
        self.live = Live()
        self.sequence = Sequence(name, "", ())
        self._fitted = False
        self.items_by_step: dict[str, StepItem] = {}
        self.bar_items: dict[int, BarItem] = {}
        self.setScene(QGraphicsScene(self))
        self.setAccessibleName(f"Chart of {name}")
        self.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop)
        self.setDragMode(QGraphicsView.DragMode.ScrollHandDrag)
        self.setTransformationAnchor(QGraphicsView.ViewportAnchor.AnchorUnderMouse)
        self.scene().selectionChanged.connect(self._tell_selection)
        document.changed.connect(self.rebuild)
        selection.changed.connect(self._follow_selection)
        runner.advanced.connect(self.follow_run)
        self.rebuild()
        self.follow_run()

    def rebuild(self) -> None:
        sequence = self.document.project.sequence(self.name)
        if sequence is None or sequence is self.sequence:
            return
        self.sequence = sequence
        plan = layout(sequence)
        scene = self.scene()
        scene.blockSignals(True)
        scene.clear()
        self.items_by_step, self.bar_items = {}, {}
        self._add_lines(plan)
        for bar in plan.bars:
            self.bar_items[bar.transition] = BarItem(self, bar)
            scene.addItem(self.bar_items[bar.transition])
        for box in plan.boxes:
            item = StepItem(self, box)
            self.items_by_step[sequence.steps[box.step].name] = item
            scene.addItem(item)
        scene.blockSignals(False)
        scene.setSceneRect(0, 0, plan.width + 40, plan.height + 40)
        self._follow_selection()

    def redraw(self) -> None:
        """Draws everything anew, for another theme."""
        self.sequence = Sequence(self.name, "", ())
        self.rebuild()

    def _add_lines(self, plan: Layout) -> None:
        single, double = QPainterPath(), QPainterPath()
        for line in plan.lines:
            for dy in (-2.0, 2.0) if line.doubled else (0.0,):
                path = double if line.doubled else single
                path.moveTo(line.points[0][0], line.points[0][1] + dy)
                for x, y in line.points[1:]:
                    path.lineTo(x, y + dy)
        self.scene().addPath(single, QPen(theme.colour("ink"), 1.3))
        self.scene().addPath(double, QPen(theme.colour("ink"), 1.3))

    def awaited(self, transition: int) -> Awaited | None:
        """What a transition waits on, if one of its predecessors is active."""
        for w in self.live.waiting.values():
            for a in w.ways:
                if a.transition == transition:
                    return a
        return None

    def follow_run(self) -> None:
        before, was = set(self.live.waiting), self.live.was
        if not self.isVisible() or not self.live.read(self.runner, self.name):
            return
        for name in before | set(self.live.waiting) | (was ^ self.live.was):
            if name in self.items_by_step:
                self.items_by_step[name].update()
        for item in self.bar_items.values():
            item.update()
        come = [n for n in self.live.waiting if n not in before]
        if come and come[0] in self.items_by_step:
            self.ensureVisible(self.items_by_step[come[0]], 30, 60)

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.live.read(self.runner, self.name)
        self.scene().update()
        if not self._fitted:
            self._fitted = True
            self.fit_width()
        for name in self.live.waiting:
            if name in self.items_by_step:
                self.ensureVisible(self.items_by_step[name], 30, 60)
                break

    def fit_width(self) -> None:
        """Makes the chart as wide as the view, but not smaller than one can read."""
        room = self.viewport().width() / max(1.0, self.sceneRect().width())
        self.resetTransform()
        factor = max(0.85, min(1.0, room))
        self.scale(factor, factor)

    def wheelEvent(self, event: QWheelEvent) -> None:
        factor = 1.0015 ** event.angleDelta().y()
        if 0.15 < self.transform().m11() * factor < 4:
            self.scale(factor, factor)

    # -- selection

    def _tell_selection(self) -> None:
        for item in self.scene().selectedItems():
            if isinstance(item, StepItem):
                self.selection.set(Place("step", self.sequence.name, self.sequence.steps[item.box.step].name))
            elif isinstance(item, BarItem):
                self.selection.set(transition_place(self.sequence, item.bar.transition))

    def _follow_selection(self) -> None:
        p = self.selection.place
        if p.sequence.lower() != self.name.lower():
            return
        item: QGraphicsItem | None = None
        if p.kind == "transition":
            item = self.bar_items.get(p.index)
        elif p.kind in ("step", "action"):
            item = self.items_by_step.get(p.step)
        if item is None or item.isSelected():
            return
        self.scene().blockSignals(True)
        self.scene().clearSelection()
        item.setSelected(True)
        self.scene().blockSignals(False)
        self.ensureVisible(item, 40, 40)
