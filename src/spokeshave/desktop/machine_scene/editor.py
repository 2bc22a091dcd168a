"""The scene laid out: shapes are chosen, dragged and made larger on the grid, by mouse and by keys."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QTransform

from spokeshave.desktop.document import Document
from spokeshave.desktop.machine_scene.painting import MARGIN, box_of, extent, paint_scene
from spokeshave.desktop.machine_scene.view import SceneView
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.model.scene import HIGH, WIDE, Shape, change_shape, remove_shapes, shape_of

LEAST_PX, MOST_PX = 6.0, 11.0
"""Pixels from one grid line to the next, as far as there is room for all."""
ROOM = (64, 42)
"""Grid lines that are there at least."""
HANDLE_PX = 9
ARROWS = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}


class SceneEditor(SceneView):
    """`chosen_changed` comes when another shape is chosen, with the keyboard too: Tab goes on, arrows move, with Shift they make larger
    or smaller, Delete takes away.
    """

    chosen_changed = Signal()

    def __init__(self, document: Document, runner: Runner, selection: Selection) -> None:
        super().__init__(document, runner, selection)
        self.chosen = ""
        self._dragged: tuple[Shape, QPointF, bool] | None = None
        self._to = (0, 0)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Scene to be laid out")
        document.changed.connect(self._follow)
        self._follow()

    def _follow(self) -> None:
        if self.chosen and shape_of(self.document.project.scene, self.chosen) is None:
            self.choose("")
        self.setMinimumSize(self.sizeHint())
        self.updateGeometry()

    def sizeHint(self) -> QSize:
        wide, high = self._needed()
        return QSize(int(wide * LEAST_PX), int(high * LEAST_PX))

    def _needed(self) -> tuple[float, float]:
        """Grid lines that are there, with room for one more shape."""
        whole = extent(self.document.project.scene)
        return max(ROOM[0], whole.right() + 4) + MARGIN, max(ROOM[1], whole.bottom() + 4) + MARGIN

    @property
    def grid(self) -> float:
        """Pixels from one grid line to the next."""
        wide, high = self._needed()
        return max(LEAST_PX, min(MOST_PX, self.width() / wide, self.height() / high))

    def placed(self) -> QTransform:
        """From grid lines to pixels: a line is a line."""
        change = QTransform()
        change.scale(self.grid, self.grid)
        change.translate(MARGIN, MARGIN)
        return change

    def shape_at(self, at: QPointF) -> Shape | None:
        """The foremost shape where it stands, not where it has moved to."""
        back, _ = self.placed().inverted()
        spot = back.map(at)
        return next((s for s in reversed(self.document.project.scene) if box_of(s).contains(spot)), None)

    def choose(self, name: str) -> None:
        """Another shape, or none."""
        if name != self.chosen:
            self.chosen = name
            self.update()
            self.chosen_changed.emit()

    def keep_chosen(self, name: str) -> None:
        """The chosen shape is about to have another name."""
        self.chosen = name

    def shape(self) -> Shape | None:
        """The chosen one."""
        return shape_of(self.document.project.scene, self.chosen) if self.chosen else None

    # -- hands

    def _handle(self, shape: Shape) -> QRectF:
        corner = self.placed().map(box_of(shape).bottomRight())
        return QRectF(corner.x() - HANDLE_PX / 2, corner.y() - HANDLE_PX / 2, HANDLE_PX, HANDLE_PX)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton:
            return
        shape = self.shape()
        grown = shape is not None and self._handle(shape).adjusted(-3, -3, 3, 3).contains(event.position())
        if not grown:
            shape = self.shape_at(event.position())
            self.choose(shape.name if shape is not None else "")
        self._to = (0, 0)
        self._dragged = (shape, event.position(), grown) if shape is not None else None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragged is None:
            return
        way = (event.position() - self._dragged[1]) / self.grid
        to = (round(way.x()), round(way.y()))
        if to != self._to:
            self._to = to
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        dragged, self._dragged = self._dragged, None
        if dragged is not None and self._to != (0, 0):
            self._put(self._as_dragged(dragged[0], dragged[2]))
        self._to = (0, 0)

    def _as_dragged(self, shape: Shape, grown: bool) -> tuple[tuple[int, int], tuple[int, int]]:
        """Place and size of a shape that is dragged, or made larger, by `_to`."""
        dx, dy = self._to
        if grown:
            return shape.at, (max(1, shape.size[0] + dx), max(1, shape.size[1] + dy))
        at = (max(0, min(WIDE - 1, shape.at[0] + dx)), max(0, min(HIGH - 1, shape.at[1] + dy)))
        return at, shape.size

    def _put(self, to: tuple[tuple[int, int], tuple[int, int]]) -> None:
        name = self.chosen
        self.document.edit(f"Place {name}", lambda p: change_shape(p, name, at=to[0], size=to[1]))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        scene, shape = self.document.project.scene, self.shape()
        if event.key() in ARROWS and shape is not None:
            self._to = ARROWS[Qt.Key(event.key())]
            to = self._as_dragged(shape, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
            self._to = (0, 0)
            self._put(to)
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and shape is not None:
            self.document.edit(f"Delete {shape.name}", lambda p: remove_shapes(p, [shape.name]))
        elif event.key() == Qt.Key.Key_Escape and shape is not None:
            self.choose("")
        elif event.key() in (Qt.Key.Key_PageDown, Qt.Key.Key_PageUp) and scene:
            at = scene.index(shape) if shape is not None else -1
            self.choose(scene[(at + (1 if event.key() == Qt.Key.Key_PageDown else -1)) % len(scene)].name)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.colour("surface"))
        painter.setPen(QPen(theme.colour("hairline"), 1))
        grid = self.grid
        for x in range(MARGIN, int(self.width() / grid) + 1):
            for y in range(MARGIN, int(self.height() / grid) + 1):
                painter.drawPoint(QPointF(x * grid, y * grid))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._seen = self.now()
        painter.save()
        painter.setTransform(self.placed(), True)
        paint_scene(painter, self.document.project, self._seen)
        painter.restore()
        shape = self.shape()
        if shape is None:
            return
        at, size = self._as_dragged(shape, self._dragged is not None and self._dragged[2])
        painter.setPen(QPen(theme.colour("accent"), 1.6, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(self.placed().mapRect(QRectF(at[0], at[1], size[0], size[1])))
        painter.setPen(QPen(theme.colour("surface"), 1))
        painter.setBrush(theme.colour("accent"))
        painter.drawRect(self._handle(shape))
