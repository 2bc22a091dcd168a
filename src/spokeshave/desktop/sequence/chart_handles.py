"""Handles beside the selected step of a chart: where they stand, what they say, how they are drawn."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QGraphicsItem, QGraphicsSceneMouseEvent, QStyleOptionGraphicsItem, QWidget

from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.theme import theme

R = 9.0
HANDLES = {
    "before": (-26.0, -14.0, "Insert a step before (Shift+Insert)"),
    "after": (-26.0, 48.0, "Insert a step after (Insert)"),
    "alternative": (-26.0, 28.0, "Add an alternative branch (Ctrl+B)"),
    "simultaneous": (-26.0, 7.0, "Add a simultaneous branch (Ctrl+Shift+B)"),
}
"""Where the handles of a selected step stand, and what they say."""


class Handle(QGraphicsItem):
    """A small round button beside the selected step."""

    def __init__(self, kind: str, at: QPointF, press: Callable[[], object]) -> None:
        super().__init__()
        self.kind, self.press = kind, press
        self.setPos(at)
        self.setZValue(5)
        self.setToolTip(plain(HANDLES[kind][2]))
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def boundingRect(self) -> QRectF:
        return QRectF(-R - 1, -R - 1, 2 * R + 2, 2 * R + 2)

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("accent"), 1.4))
        painter.setBrush(theme.colour("accent_soft"))
        painter.drawEllipse(QPointF(0, 0), R, R)
        if self.kind == "before":
            painter.drawPolyline(QPolygonF([QPointF(-4, 1), QPointF(0, -4), QPointF(4, 1)]))
            painter.drawLine(QPointF(0, -4), QPointF(0, 5))
        elif self.kind == "after":
            painter.drawPolyline(QPolygonF([QPointF(-4, -1), QPointF(0, 4), QPointF(4, -1)]))
            painter.drawLine(QPointF(0, -5), QPointF(0, 4))
        elif self.kind == "alternative":
            painter.drawPolyline(QPolygonF([QPointF(-4, 5), QPointF(-4, -1), QPointF(4, -1), QPointF(4, 5)]))
            painter.drawLine(QPointF(0, -5), QPointF(0, -1))
        else:
            painter.drawLine(QPointF(-5, -3), QPointF(5, -3))
            painter.drawLine(QPointF(-5, 0), QPointF(5, 0))
            for x in (-3, 3):
                painter.drawLine(QPointF(x, 0), QPointF(x, 5))

    def mousePressEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        event.accept()

    def mouseReleaseEvent(self, event: QGraphicsSceneMouseEvent) -> None:
        if self.boundingRect().contains(event.pos()):
            self.press()
