"""Both versions of a sequence as one sheet, with what is new, gone and changed marked by a sign, a colour and the text before."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem

from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.sequence.chart_small import COLOURS, SIGNS
from spokeshave.desktop.theme import theme
from spokeshave.versions.sheets import BothCell, BothRow, BothSheet

NAMES = 2
"""Columns that stand in the heads of rows: number and name."""


class SheetOfBoth(QTableWidget):
    """A table to look at; the head of a row says what became of it, and stays in sight."""

    def __init__(self) -> None:
        super().__init__()
        self._first: QTableWidgetItem | None = None
        self.setAccessibleName("Both sheets in one")
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.setWordWrap(True)
        self.verticalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)

    def show_sheet(self, sheet: BothSheet) -> None:
        """The rows of both, from the first that differs."""
        self._first = None
        self.clear()
        self.setRowCount(len(sheet.rows))
        self.setColumnCount(len(sheet.heads) - NAMES)
        self.setHorizontalHeaderLabels([plain(h) for h in sheet.heads[NAMES:]])
        first: QTableWidgetItem | None = None
        for n, row in enumerate(sheet.rows):
            self.setVerticalHeaderItem(n, self._head(row))
            for c, cell in enumerate(row.cells[NAMES:]):
                item = self._item(cell, row.kind, c + NAMES in sheet.marks)
                self.setItem(n, c, item)
                if first is None and (cell.was is not None or row.kind in ("new", "gone")):
                    first = item
        self._first = first
        self._go_to_first()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._go_to_first()

    def _go_to_first(self) -> None:
        """To the first cell that is otherwise, once there is something to scroll in."""
        if self._first is not None and self.isVisible():
            self.scrollToItem(self._first, QTableWidget.ScrollHint.PositionAtCenter)

    def _head(self, row: BothRow) -> QTableWidgetItem:
        """What became of a row, the number and the name of its step."""
        now = " ".join(c.text for c in row.cells[:NAMES]).strip()
        was = " ".join(c.text if c.was is None else c.was for c in row.cells[:NAMES]).strip()
        item = QTableWidgetItem(f"{SIGNS.get(row.kind, '  ')} {now}" + (f", was {was}" if was != now else ""))
        item.setToolTip(row.kind)
        self._colour(item, row.kind)
        return item

    def _item(self, cell: BothCell, kind: str, centred: bool) -> QTableWidgetItem:
        changed = cell.was is not None
        item = QTableWidgetItem(f"{cell.text or '-'}\nwas {cell.was or '-'}" if changed else cell.text)
        if centred:
            item.setTextAlignment(Qt.AlignmentFlag.AlignCenter)
        font = item.font()
        font.setBold(changed)
        font.setStrikeOut(kind == "gone")
        item.setFont(font)
        self._colour(item, "changed" if changed else kind if kind != "changed" else "")
        return item

    @staticmethod
    def _colour(item: QTableWidgetItem, kind: str) -> None:
        if kind in COLOURS:
            item.setForeground(theme.colour(COLOURS[kind]))
