"""Tables as cells: CSV in the encodings people have, workbooks with their sheets, merged cells and colours."""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any

from spokeshave.formats.disk import bytes_of
from spokeshave.formats.errors import FormatError, reading
from spokeshave.language.literals import real_text, time_text
from spokeshave.model.diagnostics import quoted

MOST_ROWS, MOST_COLUMNS = 100_000, 500
LARGEST_UNPACKED = 100_000_000
"""Bytes of a workbook when it is unpacked."""
MOST_TAGS = 4_000_000
"""Beginnings and ends of elements in a workbook; a cell has about four."""
MOST_MERGED = 1_000_000
"""Cells of a sheet that merged cells cover together."""
LONGEST_CELL = 32_767
"""Characters of a cell, as spreadsheets have it."""
TEXTS, WORKBOOKS = (".csv", ".tsv", ".txt"), (".xlsx", ".xlsm", ".ods")
SUFFIXES = (*TEXTS, *WORKBOOKS)


@dataclass(frozen=True, slots=True)
class Sheet:
    """Rows of cells as text. Row `i` is row `i + 1` of the file; `filled` are cells that somebody has coloured. A merged cell
    stands in all the rows and columns that it covers.
    """

    name: str
    rows: tuple[tuple[str, ...], ...]
    filled: frozenset[tuple[int, int]] = field(default=frozenset())

    @property
    def width(self) -> int:
        return max(map(len, self.rows), default=0)

    def cell(self, row: int, column: int) -> str:
        """The text of a cell, empty for one that is not there."""
        cells = self.rows[row] if 0 <= row < len(self.rows) else ()
        return cells[column] if 0 <= column < len(cells) else ""

    def column(self, column: int, first: int) -> Iterator[tuple[int, str]]:
        """Cells of a column from row `first` on, with their rows."""
        for row in range(first, len(self.rows)):
            yield row, self.cell(row, column)


def read_sheets(path: Path) -> tuple[Sheet, ...]:
    """The sheets of a table file that have anything in them. Raises `FormatError`."""
    suffix = path.suffix.lower()
    with reading(path):
        if suffix == ".xls":
            raise FormatError("workbooks of the old binary kind (.xls) are not read", advice="save it as .xlsx")
        if suffix not in WORKBOOKS:
            return (sheet_of_text(decoded(bytes_of(path)), path.stem),)
        data = io.BytesIO(bytes_of(path))
        try:
            _look_at_size(data)
            sheets = _ods(data) if suffix == ".ods" else _xlsx(data)
        except FormatError:
            raise
        except Exception as error:  # whatever the package says of a damaged workbook: there are many ways to be damaged
            raise FormatError(
                f"this is no {suffix[1:].upper()} workbook, or a damaged one: {type(error).__name__} {quoted(error)}"
            ) from None
        found = tuple(s for s in sheets if any(any(row) for row in s.rows))
        return found or sheets[:1] or (Sheet("", ()),)


# -- texts


def decoded(data: bytes) -> str:
    """A text in UTF-8, in UTF-16 with a byte order mark, or in the encoding of western spreadsheets. Raises `FormatError`."""
    for mark, name in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig")):
        if data.startswith(mark):
            try:
                return data.decode(name)
            except UnicodeDecodeError:
                raise FormatError(
                    f"the text begins like {name.upper()} and is not", advice="save it as UTF-8"
                ) from None
    if b"\0" in data:
        raise FormatError("the text has zero bytes; it is no table", advice="save it as CSV in UTF-8")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("cp1252", errors="replace")


def sheet_of_text(text: str, name: str = "") -> Sheet:
    """The rows of a text with semicolons, commas, tabs or bars between the cells, quoted where needed; a first line `sep=;` says
    which. Raises `FormatError` with the line.
    """
    if "\0" in text:
        raise FormatError("the text has zero bytes; it is no table", advice="save it as CSV in UTF-8")
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    mark, skipped = "", 0
    if text[:4].lower() == "sep=" and "\n" in text:
        mark, text, skipped = text[4], text[text.index("\n") + 1 :], 1
    try:
        rows = [
            tuple(bare(c.strip()) for c in row) for row in csv.reader(io.StringIO(text), delimiter=mark or _mark(text))
        ]
    except csv.Error as error:
        raise FormatError(str(error)) from None
    if len(rows) > MOST_ROWS:
        raise FormatError(f"the table has {len(rows)} rows, more than {MOST_ROWS}")
    return Sheet(name, (*(((),) * skipped), *rows))


def _mark(text: str) -> str:
    """What stands between the cells: of the usual marks the one that most of the first lines have equally often."""
    lines = [line for line in text.split("\n", 40)[:40] if line.strip()]
    best, most = ",", (0, 0)
    for mark in ("\t", ";", ",", "|"):
        counts = [line.count(mark) for line in lines if mark in line]
        usual = max(set(counts), key=lambda n: (counts.count(n), n), default=0)
        if (counts.count(usual), usual) > most and usual:
            best, most = mark, (counts.count(usual), usual)
    return best


FORMULA_STARTS = "=+@\t\r-"


def bare(cell: str) -> str:
    """A cell without the apostrophe that keeps a spreadsheet from taking it for a formula."""
    return cell[1:] if cell.startswith("'") and cell.lstrip("'")[:1] in FORMULA_STARTS and cell.lstrip("'") else cell


_FORMULA = re.compile(rf"'*[{FORMULA_STARTS}]")
_NUMBER = re.compile(r"-?[0-9][0-9_.,]*")


def guarded(cell: str) -> str:
    """A cell of a CSV file that a spreadsheet takes for no formula: an apostrophe stands before what could be one."""
    return f"'{cell}" if _FORMULA.match(cell) and not _NUMBER.fullmatch(cell) else cell


def csv_of(rows: Iterable[Sequence[str]]) -> str:
    """Rows as CSV with commas, in which no cell is a formula; by the mark at its beginning a spreadsheet knows that it is UTF-8."""
    out = io.StringIO()
    out.write("\ufeff")
    csv.writer(out, lineterminator="\n").writerows([guarded(c) for c in row] for row in rows)
    return out.getvalue()


# -- workbooks


def _look_at_size(data: io.BytesIO) -> None:
    """Refuses a workbook that would take more room unpacked than any list does."""
    with zipfile.ZipFile(data) as packed:
        size = sum(part.file_size for part in packed.infolist())
        if size > LARGEST_UNPACKED:
            raise FormatError(f"the workbook has {size:,} bytes unpacked; at most {LARGEST_UNPACKED:,} are read")
        tags = 0
        for part in packed.infolist():
            if part.filename.endswith(".xml"):
                text = packed.read(part)
                tags += text.count(b"<")
                _merged(sum(_cells_of(m[1].decode()) for m in _MERGE.finditer(text)))
    if tags > MOST_TAGS:
        raise FormatError(f"the workbook has {tags:,} tags; at most {MOST_TAGS:,} are read, about a million cells")


_MERGE = re.compile(rb'<(?:\w+:)?mergeCell\s[^>]*?ref="([A-Z]{1,3}[0-9]{1,7}:[A-Z]{1,3}[0-9]{1,7})"')


def _cells_of(area: str) -> int:
    """How many cells stand in an area such as `A1:C2`; the package makes each of them."""
    from openpyxl.utils import range_boundaries

    left, top, right, bottom = range_boundaries(area)
    return max(0, int(right) - int(left) + 1) * max(0, int(bottom) - int(top) + 1)


def _merged(cells: int) -> None:
    """Refuses a sheet in which merged cells cover more than any list has."""
    if cells > MOST_MERGED:
        raise FormatError(f"merged cells cover {cells:,} cells of a sheet; at most {MOST_MERGED:,} are read")


def _xlsx(data: io.BytesIO) -> tuple[Sheet, ...]:
    from openpyxl import load_workbook  # only where it is needed: it takes a while to load

    book = load_workbook(data, data_only=True)
    sheets = []
    for page in book.worksheets:
        if page.max_row > MOST_ROWS:
            raise FormatError(f"the sheet {quoted(page.title)} has more than {MOST_ROWS} rows")
        width = min(page.max_column, MOST_COLUMNS)
        rows: list[list[str]] = [[] for _ in range(page.max_row)]
        filled: set[tuple[int, int]] = set()
        # The cells that the file has: going through rows and columns makes one of each place between them.
        for (r, c), cell in sorted(page._cells.items()):
            if c > width:
                continue
            text = shown(cell.value)
            if len(text) > LONGEST_CELL:
                raise FormatError(
                    f"the cell {cell.coordinate} of {quoted(page.title)} has {len(text):,} characters",
                    advice=f"a cell has at most {LONGEST_CELL:,}",
                )
            rows[r - 1] += [""] * (c - 1 - len(rows[r - 1]))
            rows[r - 1].append(text)
            if _is_filled(cell):
                filled.add((r - 1, c - 1))
        for area in page.merged_cells.ranges:
            top, left = area.min_row - 1, area.min_col - 1
            right = min(area.max_col, width)
            for r in range(top, min(area.max_row, len(rows))):
                rows[r] += [""] * (right - len(rows[r]))
                for c in range(left, right):
                    rows[r][c] = rows[top][left]
                    if (top, left) in filled:
                        filled.add((r, c))
        sheets.append(_sheet(page.title, rows, filled))
    return tuple(sheets)


def _is_filled(cell: Any) -> bool:
    """Whether a cell has a colour of its own; white is none."""
    fill = getattr(cell, "fill", None)
    if fill is None or fill.fill_type != "solid":
        return False
    colour = fill.fgColor
    return colour.type != "rgb" or str(colour.rgb)[-6:].upper() != "FFFFFF"


def _ods(data: io.BytesIO) -> tuple[Sheet, ...]:
    """Sheets of an OpenDocument spreadsheet (ISO/IEC 26300): rows and cells may stand for many alike."""
    from defusedxml.ElementTree import fromstring  # type: ignore[import-untyped]

    table, text, office = (
        f"{{urn:oasis:names:tc:opendocument:xmlns:{n}:1.0}}" for n in ("table", "text", "office")
    )  # fmt: skip
    with zipfile.ZipFile(data) as packed:
        root = fromstring(packed.read("content.xml"))
    sheets = []
    for page in root.iter(f"{table}table"):
        rows: list[list[str]] = []
        waiting: dict[tuple[int, int], str] = {}
        for row in page.iter(f"{table}table-row"):
            cells: list[str] = []
            for cell in row:
                again = int(cell.get(f"{table}number-columns-repeated", "1"))
                kind = cell.get(f"{office}value-type", "")
                value = "\n".join("".join(p.itertext()) for p in cell.iter(f"{text}p"))
                if kind in ("float", "percentage", "currency"):
                    value = shown(float(cell.get(f"{office}value", "0")))
                elif kind == "boolean":
                    value = "TRUE" if cell.get(f"{office}boolean-value") == "true" else "FALSE"
                elif kind == "time":
                    value = _duration(cell.get(f"{office}time-value", ""))
                if len(value) > LONGEST_CELL:
                    raise FormatError(f"a cell of row {len(rows) + 1} has {len(value):,} characters",
                                      advice=f"a cell has at most {LONGEST_CELL:,}")  # fmt: skip
                spans = [int(cell.get(f"{table}number-{n}-spanned", "1")) for n in ("rows", "columns")]
                _merged(len(waiting) + min(spans[0], 1000) * min(spans[1], MOST_COLUMNS))
                for r in range(min(spans[0], 1000)):
                    waiting |= {
                        (len(rows) + r, len(cells) + c): value.strip() for c in range(min(spans[1], MOST_COLUMNS))
                    }
                if len(cells) + again > MOST_COLUMNS:
                    again = max(0, MOST_COLUMNS - len(cells))
                cells += [value.strip()] * again
            for c in range(len(cells)):
                cells[c] = cells[c] or waiting.get((len(rows), c), "")
            count = int(row.get(f"{table}number-rows-repeated", "1"))
            if not any(cells):
                count = min(count, 1000)
            if len(rows) + count > MOST_ROWS:
                raise FormatError(f"the sheet has more than {MOST_ROWS} rows")
            rows += [cells] * count
        sheets.append(_sheet(page.get(f"{table}name", ""), rows, set()))
    return tuple(sheets)


def _duration(text: str) -> str:
    """`PT00H00M02S` as a TIME."""
    numbers = [
        float(part) for part in text.removeprefix("PT").replace("H", " ").replace("M", " ").replace("S", "").split()
    ]
    hours, minutes, seconds = (*numbers, 0.0, 0.0, 0.0)[:3]
    return time_text(round(1000 * (3600 * hours + 60 * minutes + seconds)))


def _sheet(name: str, rows: list[list[str]], filled: set[tuple[int, int]]) -> Sheet:
    """Without what is empty at the right and at the end."""
    width = max((n + 1 for row in rows for n, cell in enumerate(row) if cell), default=0)
    width = max(width, max((c + 1 for _, c in filled), default=0)) if width else 0
    kept = [tuple(r[:width]) for r in rows]
    while kept and not any(kept[-1]):
        kept.pop()
    return Sheet(name, tuple(kept), frozenset(f for f in filled if f[0] < len(kept)))


def shown(value: object) -> str:
    """The value of a cell as text: times as TIME, numbers with a point, whole ones without."""
    match value:
        case None:
            return ""
        case bool():
            return "TRUE" if value else "FALSE"
        case float():
            return str(int(value)) if value.is_integer() and abs(value) < 1e15 else real_text(value)
        case timedelta():
            return time_text(round(value.total_seconds() * 1000))
        case time():
            return time_text((value.hour * 3600 + value.minute * 60 + value.second) * 1000 + value.microsecond // 1000)
        case datetime() | date():
            return value.isoformat()
    return str(value).strip()
