"""The lines of a chart, as one item that draws those in sight."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPainterPath, QPen, QPolygonF
from PySide6.QtWidgets import QGraphicsItem, QStyleOptionGraphicsItem, QWidget

from spokeshave.chart.layout import Line
from spokeshave.desktop.theme import theme


class LinesItem(QGraphicsItem):
    """All lines of a chart; only those in the exposed part are drawn."""

    BAND = 300

    def __init__(self) -> None:
        super().__init__()
        self.setZValue(-1)
        self.setFlag(QGraphicsItem.GraphicsItemFlag.ItemUsesExtendedStyleOption)
        self._area = QRectF()
        self._bands: dict[int, list[Line]] = {}
        self._gap = (0.0, 0.0)
        """Everything below the first height is drawn further down by the second, until the lines are made anew."""

    def open_gap(self, y: float, more: float) -> None:
        self.prepareGeometryChange()
        self._area = self._area.adjusted(0, 0, 0, more)
        self._gap = (y, more)
        self.update()

    def show_lines(self, lines: tuple[Line, ...], area: QRectF) -> None:
        self.prepareGeometryChange()
        self._area = area
        self._bands, self._gap = {}, (0.0, 0.0)
        for line in lines:
            self.add(line)
        self.update()

    def add(self, line: Line) -> None:
        ys = [y for _, y in line.points]
        for band in range(int(min(ys)) // self.BAND, int(max(ys)) // self.BAND + 1):
            self._bands.setdefault(band, []).append(line)

    def boundingRect(self) -> QRectF:
        return self._area

    def shape(self) -> QPainterPath:
        return QPainterPath()

    def paint(self, painter: QPainter, option: QStyleOptionGraphicsItem, widget: QWidget | None = None) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        seen: dict[int, Line] = {}
        area = option.exposedRect
        y0, more = self._gap
        for band in range(int(area.top() - more) // self.BAND, int(area.bottom()) // self.BAND + 1):
            for line in self._bands.get(band, ()):
                seen[id(line)] = line
        painter.setPen(QPen(theme.colour("ink"), 1.3))
        painter.setBrush(theme.colour("ink"))
        for line in seen.values():
            if more:
                line = Line(tuple((x, y + more if y > y0 else y) for x, y in line.points), line.doubled, line.arrow)
            for dy in (-2.0, 2.0) if line.doubled else (0.0,):
                painter.drawPolyline(QPolygonF([QPointF(x, y + dy) for x, y in line.points]))
            if line.arrow:
                self._paint_arrows(painter, line)

    @staticmethod
    def _paint_arrows(painter: QPainter, line: Line) -> None:
        """One where it arrives, one half way up."""
        (px, _), (x, y) = line.points[-2:]
        to = 6.0 if px < x else -6.0
        painter.drawPolygon(QPolygonF([QPointF(x, y), QPointF(x - to, y - 3.5), QPointF(x - to, y + 3.5)]))
        (ax, ay), (_, by) = line.points[2:4]
        if abs(ay - by) > 80:
            middle = (ay + by) / 2
            painter.drawPolygon(
                QPolygonF([QPointF(ax, middle - 6), QPointF(ax - 3.5, middle), QPointF(ax + 3.5, middle)])
            )
