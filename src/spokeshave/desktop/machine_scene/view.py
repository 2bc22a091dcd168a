"""The scene of a run: as large as it fits, and painted again when something in it moves."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QTransform
from PySide6.QtWidgets import QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.machine_board.cards import Sight
from spokeshave.desktop.machine_scene.painting import Seen, box_of, fitting, paint_scene, seen, transform_of
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.model.diagnostics import Place
from spokeshave.model.scene import Shape


class SceneView(QWidget):
    """A click selects the device that a shape follows."""

    def __init__(self, document: Document, runner: Runner, selection: Selection | None = None) -> None:
        super().__init__()
        self.document, self.runner, self.selection = document, runner, selection
        self._seen: dict[str, Seen] = {}
        self.setAccessibleName("Scene of the machine")
        self.setMinimumSize(200, 120)
        runner.advanced.connect(self.follow_run)
        runner.restarted.connect(self.update)
        document.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(600, 360)

    def sight(self) -> Sight | None:
        shown = self.runner.shown()
        return None if shown is None else Sight(*shown, self.runner.part_of_scan())

    def now(self) -> dict[str, Seen]:
        """What every shape shows."""
        return seen(self.sight(), self.document.project.scene)

    def follow_run(self) -> None:
        """Paints again if a shape is otherwise."""
        if self.isVisible() and self.document.project.scene and self.now() != self._seen:
            self.update()

    def placed(self) -> QTransform:
        """From grid lines to pixels: all of it, in the middle."""
        return fitting(QRectF(self.rect()), self.document.project.scene)

    def shape_at(self, at: QPointF) -> Shape | None:
        """The foremost shape at a place of the widget."""
        scene, now, placed = self.document.project.scene, self.now(), self.placed()
        for shape in reversed(scene):
            back, can = (transform_of(scene, shape, now) * placed).inverted()
            if can and box_of(shape).adjusted(-0.4, -0.4, 0.4, 0.4).contains(back.map(at)):
                return shape
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        shape = self.shape_at(event.position())
        if shape is not None and self.selection is not None and event.button() == Qt.MouseButton.LeftButton:
            kind = "device" if self.document.project.device(shape.follows) is not None else "signal"
            if shape.follows:
                self.selection.set(Place(kind, item=shape.follows))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("surface"))
        self._seen = self.now()
        painter.setTransform(self.placed(), True)
        paint_scene(painter, self.document.project, self._seen)
