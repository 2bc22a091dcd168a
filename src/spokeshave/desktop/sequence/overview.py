"""The whole chart in a corner: where one is, what is active; a click goes there."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QWidget

from spokeshave.chart.layout import Layout
from spokeshave.desktop.theme import theme

if TYPE_CHECKING:
    from spokeshave.desktop.sequence.chart_view import ChartView

ROOM = (150, 200)
LEAST_VIEW = 640
"""A narrower view needs its room for the chart itself."""


class Overview(QWidget):
    """Lies over the chart's lower right corner while the chart is larger than its view."""

    def __init__(self, view: ChartView) -> None:
        super().__init__(view)
        self.view = view
        self.plan = Layout((), (), (), 0, 0)
        self._picture: QPixmap | None = None
        self.wanted = True
        self.setAccessibleName("Overview of the chart")
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_plan(self, plan: Layout) -> None:
        self.plan, self._picture = plan, None
        self.place()
        self.update()

    @property
    def factor(self) -> float:
        return min(ROOM[0] / max(1.0, self.plan.width), ROOM[1] / max(1.0, self.plan.height), 0.12)

    def place(self) -> None:
        """Shows itself if something of the chart is out of sight."""
        port = self.view.viewport()
        seen = self._seen()
        larger = seen.width() < self.plan.width * 0.98 or seen.height() < self.plan.height * 0.98
        self.setVisible(self.wanted and larger and self.plan.width > 0 and port.width() >= LEAST_VIEW)
        w, h = max(24, int(self.plan.width * self.factor)) + 8, max(24, int(self.plan.height * self.factor)) + 8
        self.setGeometry(port.width() - w - 8, port.height() - h - 8, w, h)

    def _seen(self) -> QRectF:
        return self.view.mapToScene(self.view.viewport().rect()).boundingRect()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        if self._picture is None:
            self._picture = self._drawn()
        painter.drawPixmap(0, 0, self._picture)
        f = self.factor
        painter.translate(4, 4)
        for name in self.view.live.waiting:
            item = self.view.items_by_step.get(self.view.folded.shown_as(name))
            if item is not None:
                b = item.box
                painter.fillRect(
                    QRectF(b.x * f - 1, b.y * f - 1, max(4, b.w * f) + 2, max(3, b.h * f) + 2), theme.colour("active")
                )
        seen = self._seen()
        painter.setPen(QPen(theme.colour("accent"), 1.5))
        painter.drawRect(QRectF(seen.x() * f, seen.y() * f, seen.width() * f, seen.height() * f).intersected(
            QRectF(-2, -2, self.width() - 5, self.height() - 5)
        ))  # fmt: skip

    def _drawn(self) -> QPixmap:
        picture = QPixmap(self.size())
        picture.fill(theme.colour("raised"))
        painter = QPainter(picture)
        painter.setPen(theme.colour("hairline"))
        painter.drawRect(picture.rect().adjusted(0, 0, -1, -1))
        painter.translate(4, 4)
        f = self.factor
        for b in self.plan.boxes:
            painter.fillRect(QRectF(b.x * f, b.y * f, max(2.0, b.w * f), max(1.0, b.h * f)), theme.colour("faint"))
        painter.end()
        return picture

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = (event.position() - QPointF(4, 4)) / self.factor
        self.view.centerOn(at)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.mousePressEvent(event)
