"""A table's head whose words stand upright."""

from __future__ import annotations

from PySide6.QtCore import QRect, QSize, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QHeaderView, QWidget

from spokeshave.desktop.theme import text_font, theme


class UprightHeader(QHeaderView):
    """Heads stand upright from section `first` on, so that many fit."""

    def __init__(self, parent: QWidget, first: int = 0) -> None:
        super().__init__(Qt.Orientation.Horizontal, parent)
        self.first = first
        self.setHighlightSections(False)
        self.setSectionsClickable(False)
        self.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom)

    def sizeHint(self) -> QSize:
        metrics, model = self.fontMetrics(), self.model()
        texts = [
            str(model.headerData(i, Qt.Orientation.Horizontal) or "") for i in range(self.first, model.columnCount())
        ]
        widest = max((metrics.horizontalAdvance(t) for t in texts), default=40)
        return QSize(100, min(170, widest + 26))

    def paintSection(self, painter: QPainter, rect: QRect, section: int) -> None:
        text = str(self.model().headerData(section, Qt.Orientation.Horizontal) or "")
        painter.save()
        painter.fillRect(rect, theme.colour("raised"))
        painter.setPen(theme.colour("hairline"))
        painter.drawLine(rect.topRight(), rect.bottomRight())
        painter.drawLine(rect.bottomLeft(), rect.bottomRight())
        painter.setPen(theme.colour("faint" if section < self.first else "ink"))
        painter.setFont(text_font(12, bold=True))
        if section < self.first:
            painter.drawText(
                rect.adjusted(8, 0, 0, -6), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, text
            )
        else:
            painter.translate(rect.left(), rect.bottom() - 8)
            painter.rotate(-90)
            box = QRect(0, 0, rect.height() - 12, rect.width())
            painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)
        painter.restore()
