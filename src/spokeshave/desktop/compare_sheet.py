"""Both versions of a sequence as one sheet, with what is new, gone and changed marked by a sign, a colour and the text before."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem

from spokeshave.desktop.plain import plain
from spokeshave.desktop.sequence.chart_small import COLOURS, SIGNS
from spokeshave.desktop.theme import theme
from spokeshave.versions.sheets import BothCell, BothSheet


class SheetOfBoth(QTableWidget):
    """A table to look at; its first column says what became of the row."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Both sheets in one")
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.setWordWrap(True)
        self.verticalHeader().hide()
        self.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)

    def show_sheet(self, sheet: BothSheet) -> None:
        """The rows of both, from the first that differs."""
        self.clear()
        self.setRowCount(len(sheet.rows))
        self.setColumnCount(len(sheet.heads) + 1)
        self.setHorizontalHeaderLabels(["", *(plain(h) for h in sheet.heads)])
        first: QTableWidgetItem | None = None
        for n, row in enumerate(sheet.rows):
            sign = QTableWidgetItem(SIGNS.get(row.kind, ""))
            sign.setToolTip(row.kind)
            sign.setData(Qt.ItemDataRole.AccessibleTextRole, row.kind)
            self._colour(sign, row.kind)
            self.setItem(n, 0, sign)
            for c, cell in enumerate(row.cells):
                self.setItem(n, c + 1, self._item(cell, row.kind, c in sheet.marks))
            if row.kind and first is None:
                first = sign
        if first is not None:
            self.scrollToItem(first, QTableWidget.ScrollHint.PositionAtCenter)

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
