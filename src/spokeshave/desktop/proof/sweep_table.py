"""The matrix of a fault sweep as a table: a row a fault, a column a step, a sign and a colour for each verdict."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QStyledItemDelegate, QStyleOptionViewItem, QTableView

from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.theme import text_font, theme
from spokeshave.desktop.upright_header import UprightHeader
from spokeshave.verify.sweep.matrix import Changed, Matrix
from spokeshave.verify.sweep.verdicts import Cell, Verdict

Index = QModelIndex | QPersistentModelIndex
NO_PARENT = QModelIndex()
LOOKS = {
    Verdict.HARMLESS: ("·", "faint"),
    Verdict.RECOVERED: ("✓", "true"),
    Verdict.CAUGHT: ("◑", "active"),
    Verdict.SILENT: ("○", "false"),
    Verdict.STUCK: ("■", "forced"),
    Verdict.HAZARD: ("!", "late"),
}
"""Sign and colour of a verdict."""

MEANS = {
    Verdict.HARMLESS: "the cycle ends right",
    Verdict.RECOVERED: "told, and clean after reset",
    Verdict.CAUGHT: "told, but not clean after it",
    Verdict.SILENT: "ended wrong, nobody told",
    Verdict.STUCK: "stands still, nobody told",
    Verdict.HAZARD: "harm, or a rule broken",
}

SIDE = 26
FILTERS = (
    "every fault",
    "what made a difference",
    "what is bad",
    "what is bad and not explained",
    "what is otherwise than accepted",
)


class SweepModel(QAbstractTableModel):
    """`rows` are the faults that the filter lets through, the worst first where that is asked for."""

    def __init__(self) -> None:
        super().__init__()
        self.matrix = Matrix("", (), ())
        self.rows: tuple[str, ...] = ()
        self.filter = 0
        self.worst_first = False
        self._changed: dict[tuple[str, str], Changed] = {}

    def show_matrix(self, matrix: Matrix) -> None:
        """Another matrix, or the same with other cells or explanations."""
        self.beginResetModel()
        self.matrix = matrix
        self._changed = {(c.cell.fault, c.cell.step): c for c in matrix.changed()}
        self.rows = tuple(f for f in matrix.faults if self.filter == 0 or any(map(self.counts, self._cells(f))))
        if self.worst_first:
            order = list(Verdict)
            self.rows = tuple(sorted(self.rows, key=lambda f: -order.index(matrix.worst_of(f) or Verdict.HARMLESS)))
        self.endResetModel()

    def cells_came(self) -> None:
        """While a sweep goes on: the cells there are."""
        if self.rows:
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))

    def _cells(self, fault: str) -> list[Cell]:
        cells = self.matrix.cells
        return [cells[fault, s] for s in self.matrix.steps if (fault, s) in cells]

    def counts(self, cell: Cell) -> bool:
        """Whether the filter asks for a cell."""
        bad = cell.verdict.is_bad
        return (
            True, cell.verdict is not Verdict.HARMLESS, bad, bad and self.matrix.explained(cell) is None,
            (cell.fault, cell.step) in self._changed,
        )[self.filter]  # fmt: skip

    def cell(self, index: Index) -> Cell | None:
        if not index.isValid():
            return None
        return self.matrix.cells.get((self.rows[index.row()], self.matrix.steps[index.column()]))

    def changed(self, cell: Cell) -> Changed | None:
        """What was accepted in its place, if that is otherwise."""
        return self._changed.get((cell.fault, cell.step))

    def rowCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.matrix.steps)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole:
            return self.matrix.steps[section] if orientation == Qt.Orientation.Horizontal else self.rows[section]
        if role == Qt.ItemDataRole.TextAlignmentRole and orientation == Qt.Orientation.Vertical:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        cell = self.cell(index)
        if cell is None:
            return None
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return cell.verdict.value
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(f"{cell.fault}, in {cell.step}\n{cell.verdict.value}: {cell.because}")
        return None


class CellPainter(QStyledItemDelegate):
    """A filled square with a sign; pale where it is explained, with a notched corner where it was accepted otherwise."""

    def __init__(self, model: SweepModel, parent: QTableView) -> None:
        super().__init__(parent)
        self.model, self.view = model, parent

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index) -> None:
        box = QRectF(option.rect).adjusted(1.5, 1.5, -1.5, -1.5)
        cell = self.model.cell(index)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if cell is None:
            painter.setPen(QPen(theme.colour("hairline"), 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(box, 4, 4)
        else:
            self._draw(painter, box, cell)
        if index == self.view.currentIndex():
            painter.setPen(QPen(theme.colour("ink"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box, 4, 4)
        painter.restore()

    def _draw(self, painter: QPainter, box: QRectF, cell: Cell) -> None:
        sign, name = LOOKS[cell.verdict]
        wanted = self.model.counts(cell)
        explained = cell.verdict.is_bad and self.model.matrix.explained(cell) is not None
        solid = cell.verdict.is_bad and not explained and wanted
        fill = QColor(theme.colour(name))
        if not solid:
            fill.setAlpha(0 if cell.verdict is Verdict.HARMLESS else 40 if wanted else 14)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(fill)
        painter.drawRoundedRect(box, 4, 4)
        ink = theme.colour("on_active" if solid else name if wanted else "hairline")
        painter.setPen(ink)
        painter.setFont(text_font(12, bold=cell.verdict.is_bad))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, sign)
        if self.model.changed(cell) is not None:
            corner = [box.topRight(), box.topRight() - QPointF(8, 0), box.topRight() + QPointF(0, 8)]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("ink"))
            painter.drawPolygon(QPolygonF(corner))


class SweepView(QTableView):
    """The table of faults and steps, with upright heads."""

    def __init__(self, model: SweepModel) -> None:
        super().__init__()
        self.setHorizontalHeader(UprightHeader(self))
        self.setModel(model)
        self.setItemDelegate(CellPainter(model, self))
        self.setAccessibleName("Fault sweep")
        self.setShowGrid(False)
        self.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.setMouseTracking(True)
        for header in (self.horizontalHeader(), self.verticalHeader()):
            header.setMinimumSectionSize(SIDE)
            header.setDefaultSectionSize(SIDE)
            header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self.verticalHeader().setStyleSheet("QHeaderView::section { padding: 0 8px; }")
