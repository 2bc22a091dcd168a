"""Draws the track plan of the sheet's margin, one row at a time.

Lines end at the middle of a row where a dot stands, and run through from edge to edge where they only pass.
"""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPainterPath, QPen

from spokeshave.desktop.theme import theme
from spokeshave.model.flow import Flow, Link

LANE = 16
LEFT = 14
DOT = 4.5


def flow_width(flow: Flow) -> int:
    """How wide the margin of a sheet is, in pixels."""
    return LEFT * 2 + LANE * (flow.lanes - 1) + 6


def lane_x(lane: int) -> float:
    """The middle of a lane of the margin, in pixels from its left."""
    return LEFT + LANE * lane


def paint_flow(painter: QPainter, area: QRectF, flow: Flow, row: int, active: bool, initial: bool) -> None:
    """Paints the margin of one row into `area`."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setClipRect(area)
    ink = theme.colour("faint")
    for link in flow.links:
        _paint_link(painter, area, link, row, ink)
    r = flow.rows[row]
    middle, x = area.center().y(), area.left() + lane_x(flow.lane[r.step])
    ways = [i for i, other in enumerate(flow.rows) if other.step == r.step]
    if len(ways) > 1:
        painter.setPen(QPen(ink, 1.6))
        top = middle if row == ways[0] else area.top()
        bottom = middle if row == ways[-1] else area.bottom()
        painter.drawLine(QPointF(x, top), QPointF(x, bottom))
    if r.first:
        _paint_dot(painter, QPointF(x, middle), active, initial)
    else:
        painter.setPen(QPen(ink, 1.6))
        painter.drawLine(QPointF(x - 4, middle), QPointF(x + 4, middle))
    painter.restore()


def _paint_dot(painter: QPainter, at: QPointF, active: bool, initial: bool) -> None:
    colour = theme.colour("active" if active else "ink")
    painter.setPen(QPen(colour, 1.8))
    painter.setBrush(QBrush(colour if active else theme.colour("surface")))
    painter.drawEllipse(at, DOT, DOT)
    if initial:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, DOT + 3, DOT + 3)


def _paint_link(painter: QPainter, area: QRectF, link: Link, row: int, ink: QColor) -> None:
    low, high = min(link.row, link.to_row), max(link.row, link.to_row)
    if not low <= row <= high:
        return
    a, via, b = (area.left() + lane_x(n) for n in (link.lane, link.via, link.to_lane))
    top, middle, bottom = area.top(), area.center().y(), area.bottom() + 1
    path = QPainterPath()
    arrow: QPointF | None = None
    if link.row == link.to_row:
        path.moveTo(a, middle)
        path.cubicTo(via + 8, middle + 10, via + 8, middle - 10, a + DOT + 2, middle - 2)
        arrow = QPointF(a + DOT + 1, middle - 2)
    elif row == link.row:
        end = bottom if link.to_row > link.row else top
        _bend(path, QPointF(a, middle), QPointF(via, end))
    elif row == link.to_row:
        start = top if link.to_row > link.row else bottom
        _bend_in(path, QPointF(via, start), QPointF(b, middle))
        if link.back or via != b:
            arrow = QPointF(b + DOT + 1, middle) if link.back else None
    else:
        path.moveTo(via, top)
        path.lineTo(via, bottom)
    _stroke(painter, path, link.doubled, ink)
    if arrow is not None:
        painter.setPen(QPen(ink, 1.6))
        painter.drawLine(arrow, arrow + QPointF(5, -4))
        painter.drawLine(arrow, arrow + QPointF(5, 4))


def _bend(path: QPainterPath, start: QPointF, end: QPointF) -> None:
    """Out of a dot sideways, then along the lane."""
    path.moveTo(start)
    if start.x() == end.x():
        path.lineTo(end)
    else:
        path.quadTo(QPointF(end.x(), start.y()), end)


def _bend_in(path: QPainterPath, start: QPointF, end: QPointF) -> None:
    path.moveTo(start)
    if start.x() == end.x():
        path.lineTo(end)
    else:
        path.quadTo(QPointF(start.x(), end.y()), end)


def _stroke(painter: QPainter, path: QPainterPath, doubled: bool, ink: QColor) -> None:
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if doubled:
        # A doubled track: a wide stroke with the paper's colour laid over its middle.
        painter.setPen(QPen(ink, 5.0))
        painter.drawPath(path)
        painter.setPen(QPen(theme.colour("surface"), 2.2))
        painter.drawPath(path)
    else:
        painter.setPen(QPen(ink, 1.6))
        painter.drawPath(path)
