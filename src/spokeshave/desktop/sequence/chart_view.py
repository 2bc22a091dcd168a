"""The chart on the screen: zoom, selection, the mouse and the keys; what is drawn is in `chart_paper`."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QPointF, Qt, QTimer
from PySide6.QtGui import QKeyEvent, QMouseEvent, QResizeEvent, QShowEvent, QWheelEvent
from PySide6.QtWidgets import QGraphicsView

from spokeshave.desktop.runner import Runner
from spokeshave.desktop.sequence.chart_editing import ChartEditing
from spokeshave.desktop.sequence.chart_items import StepItem
from spokeshave.desktop.sequence.chart_paper import LARGE, ChartPaper
from spokeshave.desktop.sequence.editor import SequenceEditor
from spokeshave.desktop.sequence.overview import Overview
from spokeshave.engine.link_sequence import transition_place
from spokeshave.model.diagnostics import Place

LEAST, MOST = 0.08, 4.0


class ChartView(ChartPaper):
    """The chart of one sequence. The wheel zooms, dragging the paper moves it, dragging a step puts it elsewhere."""

    def __init__(self, editor: SequenceEditor, name: str, runner: Runner) -> None:
        super().__init__(editor, name, runner)
        self.selection = editor.selection
        self._fitted = False
        self._pressed: tuple[StepItem, QPointF] | None = None
        self.setAccessibleName(f"Chart of {name}")
        self.viewport().setAccessibleName(f"Chart of {name}")
        self.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop)
        self.setDragMode(QGraphicsView.DragMode.ScrollHandDrag)
        self.viewport().setCursor(Qt.CursorShape.ArrowCursor)
        self.setTransformationAnchor(QGraphicsView.ViewportAnchor.AnchorUnderMouse)
        self.overview = Overview(self)
        self.editing = ChartEditing(self)
        self._handles_later = QTimer(self)
        self._handles_later.setSingleShot(True)
        self._handles_later.timeout.connect(self.editing.show_handles)
        self.scene().selectionChanged.connect(self._tell_selection)
        self.selection.changed.connect(self._follow_selection)
        runner.advanced.connect(self.follow_run)

    def drawn(self) -> None:
        self.overview.show_plan(self.plan)
        self._handles_later.setInterval(200 if len(self.items_by_step) > LARGE else 0)
        self._follow_selection()
        self._handles_later.start()

    # -- the run

    def follow_run(self) -> None:
        if not self.isVisible():
            return
        before, was, forced = set(self.live.waiting), self.live.was, self.live.forced
        if not self.live.read(self.runner, self.name):
            return
        self._awaited = {a.transition: a for w in self.live.waiting.values() for a in w.ways}
        for name in before | set(self.live.waiting) | (was ^ self.live.was):
            shown = self.folded.shown_as(name)
            if shown in self.items_by_step:
                self.items_by_step[shown].update()
        if forced != self.live.forced:
            for item in self.items_by_step.values():
                item.update()
        self.overview.update()
        come = [n for n in self.live.waiting if n not in before]
        if come and self.follows:
            self._bring(come[0])

    def _bring(self, step: str) -> None:
        item = self.items_by_step.get(self.folded.shown_as(step))
        if item is not None:
            box = item.mapRectToScene(item.box_area())
            self.ensureVisible(box, 40, 80)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        first, self._fitted = not self._fitted, True
        self.rebuild()
        self.follow_run()
        self.scene().update()
        if first:
            self.fit_width()
        self._follow_selection()
        active = next(iter(self.live.waiting), "")
        if active and first:
            self._bring(active)

    # -- zoom

    def fit_width(self) -> None:
        """Makes the chart as wide as the view, but not smaller than one can read."""
        room = self.viewport().width() / max(1.0, self.sceneRect().width())
        self.set_scale(max(0.8, min(1.0, room)))

    def fit_all(self) -> None:
        room = self.viewport().rect()
        area = self.sceneRect()
        self.set_scale(min(room.width() / max(1.0, area.width()), room.height() / max(1.0, area.height()), 1.0))

    def set_scale(self, factor: float) -> None:
        factor = max(LEAST, min(MOST, factor))
        self.resetTransform()
        self.scale(factor, factor)
        self.overview.place()

    def zoom(self, by: float) -> None:
        self.set_scale(self.transform().m11() * by)

    def wheelEvent(self, event: QWheelEvent) -> None:
        factor = 1.0015 ** event.angleDelta().y()
        if LEAST < self.transform().m11() * factor < MOST:
            self.scale(factor, factor)
            self.overview.place()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.overview.place()

    def scrollContentsBy(self, dx: int, dy: int) -> None:
        super().scrollContentsBy(dx, dy)
        self.overview.update()
        self.editing.close()

    # -- selection

    def _tell_selection(self) -> None:
        items = [i for i in self.scene().selectedItems() if isinstance(i, StepItem)]
        if not items:
            return
        names = {i.step.name for i in items}
        if self.editor.step() in names and len(names) == 1:
            self._handles_later.start()
            return
        listed = tuple(s.name for s in self.sequence.steps if s.name in names)
        self.selection.set(Place("step", self.sequence.name, listed[0]), listed)

    def _follow_selection(self) -> None:
        p = self.selection.place
        if p.sequence.lower() != self.name.lower() or not self._fitted:
            return
        item: StepItem | None = None
        if p.kind == "transition":
            item = self.carrier.get(p.index)
        elif p.kind in ("step", "action"):
            item = self.items_by_step.get(self.folded.shown_as(p.step))
        wanted = {self.folded.shown_as(n) for n in self.selection.steps} or ({item.step.name} if item else set())
        self.scene().blockSignals(True)
        for other in self.scene().selectedItems():
            if not isinstance(other, StepItem) or other.step.name not in wanted:
                other.setSelected(False)
        for name in wanted:
            if name in self.items_by_step:
                self.items_by_step[name].setSelected(True)
                self.items_by_step[name].update()
        self.scene().blockSignals(False)
        if item is not None and self.isVisible() and not self._pressed:
            self.ensureVisible(item.mapRectToScene(item.box_area()), 60, 60)
        self._handles_later.start()

    def item_under(self, at: QPointF) -> StepItem | None:
        """The step whose box is at a point of the scene."""
        for item in self.scene().items(at):
            if isinstance(item, StepItem):
                return item
        return None

    # -- the mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.finish()
        at = self.mapToScene(event.position().toPoint())
        item = self.item_under(at)
        if item is None or event.button() != Qt.MouseButton.LeftButton or self.editing.is_handle(at):
            super().mousePressEvent(event)
            return
        part = item.part_at(item.mapFromScene(at))
        self._pressed = (item, at)
        if part.kind == "way" and not event.modifiers():
            self.selection.set(transition_place(self.sequence, part.which))
        else:
            self.select(item, event.modifiers())

    def select(self, item: StepItem, keys: Qt.KeyboardModifier) -> None:
        """A click selects; with Ctrl it adds or takes away, with Shift it selects up to the step."""
        listed = [s.name for s in self.sequence.steps]
        name, chosen = item.step.name, list(self.editor.steps())
        if keys & Qt.KeyboardModifier.ControlModifier:
            chosen = [n for n in chosen if n != name] if name in chosen else [*chosen, name]
        elif keys & Qt.KeyboardModifier.ShiftModifier and chosen:
            ends = sorted((listed.index(chosen[0]), listed.index(name)))
            chosen = listed[ends[0] : ends[1] + 1]
        else:
            chosen = [name]
        steps = tuple(n for n in listed if n in chosen)
        self.selection.set(Place("step", self.sequence.name, steps[0] if steps else name), steps)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._pressed is None:
            super().mouseMoveEvent(event)
            self.viewport().setCursor(Qt.CursorShape.ArrowCursor)
            return
        item, start = self._pressed
        at = self.mapToScene(event.position().toPoint())
        if self.drop is None and (at - start).manhattanLength() * self.transform().m11() < 12:
            return
        over = self.item_under(at)
        name = over.step.name if over is not None and over is not item else ""
        if self.drop is None or self.drop[0] != name:
            self.drop = (name, self.editor.why_not_behind(item.step.name, name) if name else "")
            self.viewport().setCursor(Qt.CursorShape.ForbiddenCursor if self.drop[1] else Qt.CursorShape.DragMoveCursor)
            self.viewport().update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        super().mouseReleaseEvent(event)
        pressed, drop = self._pressed, self.drop
        self._pressed, self.drop = None, None
        self.viewport().setCursor(Qt.CursorShape.ArrowCursor)
        if pressed is not None and drop is not None:
            self.viewport().update()
            if drop[0]:
                self.editor.place_behind(pressed[0].step.name, drop[0])

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        at = self.mapToScene(event.position().toPoint())
        item = self.item_under(at)
        if item is None:
            super().mouseDoubleClickEvent(event)
            return
        self._pressed = None
        part = item.part_at(item.mapFromScene(at))
        if part.kind == "step" and self.hidden_in(item.step.name):
            self.fold(item.step.name)
        else:
            self.editing.edit(item, part)

    def contextMenuEvent(self, event: Any) -> None:
        item = self.item_under(self.mapToScene(event.pos()))
        if item is not None:
            if item.step.name not in self.editor.steps():
                self.select(item, Qt.KeyboardModifier.NoModifier)
            self.editing.menu(item).popup(event.globalPos())

    # -- keys

    def keyPressEvent(self, event: QKeyEvent) -> None:
        self.finish()
        if not self.editing.key(event) and not self._walk(event):
            super().keyPressEvent(event)

    def _walk(self, event: QKeyEvent) -> bool:
        """Arrow keys go from step to step: down and up along the flow, left and right to what stands beside."""
        item = self.items_by_step.get(self.folded.shown_as(self.editor.step()))
        ways = {Qt.Key.Key_Down: (0, 1), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Left: (-1, 0)}
        way = ways.get(Qt.Key(event.key()))
        if item is None or way is None or event.modifiers():
            return False
        here = item.box
        best: tuple[float, StepItem] | None = None
        for other in self.items_by_step.values():
            dx, dy = other.box.cx - here.cx, other.box.y - here.y
            along, aside = (dy * way[1], abs(dx)) if way[1] else (dx * way[0], abs(dy))
            if along > 1 and (best is None or along + 2 * aside < best[0]):
                best = (along + 2 * aside, other)
        if best is not None:
            self.select(best[1], Qt.KeyboardModifier.NoModifier)
        return True
