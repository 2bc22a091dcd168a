"""Tables as they are handed on: a workbook with widths, frozen headings and frames, or CSV."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence as Items
from dataclasses import dataclass
from pathlib import Path

from spokeshave.formats.disk import write_bytes_atomically, write_text_atomically
from spokeshave.formats.tables.grid import csv_of


@dataclass(frozen=True, slots=True)
class Page:
    """A sheet as it is written: what stands above, the headings, the rows; how wide columns are and which hold marks."""

    title: str
    above: tuple[str, ...]
    groups: tuple[str, ...]
    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    marks: frozenset[int] = frozenset()


def book_bytes(pages: Items[Page]) -> bytes:
    """A workbook with a sheet for each page; every cell is a text, but numbers that lead a row."""
    from openpyxl import Workbook
    from openpyxl.styles import Alignment, Border, Font, PatternFill, Side
    from openpyxl.utils import get_column_letter

    book = Workbook()
    book.remove(book.worksheets[0])
    line = Side(style="thin", color="D0CEC6")
    box, head_fill, group_fill = (
        Border(line, line, line, line),
        PatternFill("solid", fgColor="E4EEEC"),
        PatternFill("solid", fgColor="F2F1EC"),
    )
    names: set[str] = set()
    for page in pages:
        name = re.sub(r"[\[\]:*?/\\]", " ", page.title)[:28]
        n = 2
        while name.lower() in names:
            name, n = f"{name[:25]} {n}", n + 1
        names.add(name.lower())
        sheet = book.create_sheet(name)
        row = 1
        for text in page.above:
            sheet.cell(row, 1, text).font = Font(bold=True, size=14)
            row += 2
        if any(page.groups):
            for c, text in enumerate(page.groups, 1):
                if text:
                    cell = sheet.cell(row, c, text if c == 1 or page.groups[c - 2] != text else None)
                    cell.font, cell.fill = Font(italic=True, color="5C6B69"), group_fill
            row += 1
        for c, text in enumerate(page.heads, 1):
            cell = sheet.cell(row, c, text)
            mark = c - 1 in page.marks
            cell.font, cell.fill, cell.border = Font(bold=True), head_fill, box
            cell.alignment = Alignment(
                horizontal="center" if mark else "left",
                vertical="bottom",
                text_rotation=90 if mark and len(text) > 4 else 0,
            )
        sheet.freeze_panes = sheet.cell(row + 1, 3 if page.marks else 1)
        for cells in page.rows:
            row += 1
            for c, text in enumerate(cells, 1):
                cell = sheet.cell(row, c)
                cell.border = box
                whole = page.marks and c == 1 and text.lstrip("-").isdigit()
                cell.value = int(text) if whole else text or None
                if text and not whole:
                    cell.data_type, cell.number_format = "s", "@"  # a text, whatever it begins with
                middle = c - 1 in page.marks
                cell.alignment = Alignment(
                    horizontal="center" if middle else None, vertical="top", wrap_text=not middle
                )
        for c, text in enumerate(page.heads, 1):
            widest = max((len(part) for r in page.rows for part in r[c - 1].split("\n")), default=0)
            width = max(4.5, min(60, widest + 2)) if c - 1 in page.marks else max(len(text) + 2, min(60, widest + 2))
            sheet.column_dimensions[get_column_letter(c)].width = width
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def write_pages(tables: Items[tuple[str, tuple[str, ...], Items[tuple[str, ...]]]], path: Path) -> None:
    """Titles, headings and rows as a workbook, or the first of them as CSV, by the suffix. Raises `FormatError`."""
    pages = [Page(title, (), (), heads, tuple(rows)) for title, heads, rows in tables]
    if path.suffix.lower() == ".xlsx":
        write_bytes_atomically(book_bytes(pages), path)
    else:
        write_text_atomically(csv_text(pages[0]), path)


def csv_text(page: Page) -> str:
    """A page as CSV that a spreadsheet takes as UTF-8, and in which no cell is a formula."""
    rows = [*([page.above] if page.above else []), *([page.groups] if any(page.groups) else []), page.heads, *page.rows]
    return csv_of(rows)
