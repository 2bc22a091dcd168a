"""How a record falls into pages: no heading alone, no row cut, page numbers in the contents, bookmarks."""

from __future__ import annotations

import io
from typing import Any

from PySide6.QtGui import (
    QAbstractTextDocumentLayout,
    QTextBlock,
    QTextCursor,
    QTextDocument,
    QTextFormat,
    QTextTable,
    QTextTableCell,
)

OBJECT = "\ufffc"
"""The character that stands for a picture."""
LOWEST = 0.88
"""The part of a page below which no heading stands."""
CELL = 6
"""What a cell has around its text."""
Heading = tuple[int, str, int]
"""Level, text, page from 0."""


def headings_of(document: QTextDocument, height: float) -> list[Heading]:
    """The headings of a document that is laid out on pages of a height."""
    layout, found, block = document.documentLayout(), list[Heading](), document.begin()
    while block.isValid():
        if level := block.blockFormat().headingLevel():
            found.append((level, block.text(), int(layout.blockBoundingRect(block).top() // height)))
        block = block.next()
    return found


def keep_together(document: QTextDocument, height: float, first: bool = True) -> None:
    """No heading at the foot of a page, away from what it is the heading of, and no row of a table cut; the `first` part begins a
    page, if that is wanted. A row that would be cut goes to the next page: the one above it is made higher by what is left of the page.
    """
    layout, block = document.documentLayout(), document.begin()
    above: QTextBlock | None = None  # the heading that stands directly above
    while block.isValid():
        rect = layout.blockBoundingRect(block)
        page = int(rect.top() // height)
        table = QTextCursor(block).currentTable()
        if level := block.blockFormat().headingLevel():
            follows = block.next()
            there = layout.blockBoundingRect(follows) if follows.isValid() else rect
            picture = OBJECT in follows.text()  # which goes to the next page within its block
            below = there.bottom() if picture and there.height() < height else there.top()
            low = int(below // height) != page or rect.top() % height > LOWEST * height
            if (first and level == 2) or (level > 1 and low):
                _break_before(document, block)
            first = first and level != 2
            above = block if level > 1 and not block.blockFormat().pageBreakPolicy() else None
        elif table is not None:
            cell = table.cellAt(block.position())
            if cell.column() == 0 and cell.firstPosition() == block.position():
                bottom, _ = _lowest(document, table, cell.row())
                if int((bottom + CELL) // height) != page and bottom - rect.top() < 0.8 * height:
                    if cell.row() > table.format().headerRowCount():
                        _make_higher(
                            document,
                            _lowest(document, table, cell.row() - 1)[1],
                            (page + 1) * height - rect.top() - CELL,
                        )
                    else:  # with its heading, or the line above it
                        _break_before(document, above or document.findBlock(table.firstPosition()).previous())
                        above = None
                if cell.row() > 1:
                    above = None
        elif _is_alone(layout, block, page, height):
            high = above is None or layout.blockBoundingRect(above).top() % height < height / 2
            _break_before(document, block if high or above is None else above)
            above = None
        block = block.next()


def _is_alone(layout: QAbstractTextDocumentLayout, block: QTextBlock, page: int, height: float) -> bool:
    """Whether a line stands at the foot of a page and the table it belongs to on the next."""
    follows = block.next()
    beneath = follows.isValid() and QTextCursor(follows).currentTable() is not None
    return beneath and int(layout.blockBoundingRect(follows).top() // height) != page


def _lowest(document: QTextDocument, table: QTextTable, row: int) -> tuple[float, QTextTableCell]:
    """Where a row ends, and the cell that makes it so high."""
    cells = [table.cellAt(row, c) for c in range(table.columns())]
    layout = document.documentLayout()
    ends = [layout.blockBoundingRect(document.findBlock(c.lastPosition())).bottom() for c in cells]
    return max(ends), cells[ends.index(max(ends))]


def _break_before(document: QTextDocument, block: QTextBlock) -> None:
    while block.previous().blockFormat().headingLevel() > 1 and not block.blockFormat().pageBreakPolicy():
        block = block.previous()  # a heading that stands above another goes with it
    form = block.blockFormat()
    form.setPageBreakPolicy(QTextFormat.PageBreakFlag.PageBreak_AlwaysBefore)
    QTextCursor(block).setBlockFormat(form)
    _lay_out_from(document, block.position())


def _make_higher(document: QTextDocument, cell: QTextTableCell, by: float) -> None:
    form = cell.format().toTableCellFormat()
    form.setBottomPadding(form.bottomPadding() + by)
    cell.setFormat(form)
    _lay_out_from(document, cell.firstPosition())


def _lay_out_from(document: QTextDocument, position: int) -> None:
    """All behind a change anew: by itself the document moves the tables that follow and not what stands between them."""
    document.markContentsDirty(position, document.characterCount() - position)


def number_contents(document: QTextDocument, headings: list[Heading], paged: str) -> None:
    """Puts the page of the n-th part where `<paged><n>.` stands."""
    for n, (_, _, page) in enumerate(h for h in headings if h[0] == 2):
        cursor = document.find(f"{paged}{n}.")
        if not cursor.isNull():
            cursor.insertText(str(page + 1))


def with_bookmarks(data: bytes, headings: list[Heading]) -> bytes:
    """A PDF with its headings beside it, to go to."""
    from pypdf import PdfWriter

    made = PdfWriter(clone_from=io.BytesIO(data))
    above: dict[int, Any] = {}
    for level, text, page in headings:
        parent = next((above[n] for n in range(level - 1, 0, -1) if n in above), None)
        above = {n: item for n, item in above.items() if n < level}
        above[level] = made.add_outline_item(text, page, parent)
    made.page_mode = "/UseOutlines"
    out = io.BytesIO()
    made.write(out)
    return out.getvalue()
