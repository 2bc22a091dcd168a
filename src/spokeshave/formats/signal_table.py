"""Signal lists as tables: CSV, text with tabs, XLSX; headings of others are mapped to ours before anything is taken in."""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from spokeshave.formats.disk import bytes_of, text_of_file, write_bytes_atomically, write_text_atomically
from spokeshave.formats.errors import FormatError, reading
from spokeshave.language.literals import read_value, value_text
from spokeshave.language.rename import name_problem
from spokeshave.model.diagnostics import quoted
from spokeshave.model.project import Project, Signal, SignalClass, Type

FIELDS = ("name", "class", "type", "address", "contact", "initial", "home", "retain", "unit", "comment")
_OTHERS = {
    "name": ("symbol", "tag", "signal", "variable", "identifier", "tag name", "signal name"),
    "class": ("direction", "i/o", "io", "kind", "usage", "scope"),
    "type": ("data type", "datatype", "format"),
    "address": ("addr", "location", "channel", "terminal", "absolute address"),
    "contact": ("contact form", "no/nc", "nc/no", "wiring"),
    "initial": ("initial value", "init", "default", "start value", "value"),
    "home": ("home value", "rest", "rest value"),
    "retain": ("retentive", "keep", "remanent"),
    "unit": ("eng. unit", "engineering unit", "units"),
    "comment": ("description", "remark", "note", "text", "remarks", "comments"),
}
_CLASSES = {
    "input": ("input", "in", "i", "di", "ai", "var_input"), "output": ("output", "out", "q", "o", "do", "ao", "var_output"),
    "internal": ("internal", "flag", "memory", "m", "var", "local"), "setting": ("setting", "constant", "parameter", "var constant", "p"),
}  # fmt: skip
_TYPES = {Type.BOOL: ("bool", "bit", "boolean"), Type.INT: ("int", "integer", "word", "int16"),
          Type.DINT: ("dint", "dword", "int32", "long"), Type.REAL: ("real", "float", "double", "lreal"),
          Type.TIME: ("time", "duration")}  # fmt: skip
MOST_ROWS = 100_000
MOST_COLUMNS = 500
LARGEST_UNPACKED = 100_000_000
"""Bytes of a workbook when it is unpacked."""


def read_rows(path: Path) -> list[list[str]]:
    """All rows of a table file, cells as text. Raises `FormatError`."""
    with reading(path):
        if path.suffix.lower() == ".xlsx":
            return _xlsx(path)
        return parse_rows(text_of_file(path))


def parse_rows(text: str) -> list[list[str]]:
    """Rows of a text with commas, semicolons or tabs between the cells, quoted where needed.

    Raises `FormatError` with the line.
    """
    if "\0" in text:
        raise FormatError("the text has zero bytes; it is no table", advice="save it as CSV in UTF-8")
    first = text.split("\n", 1)[0]
    mark = max("\t;,", key=first.count)
    try:
        rows = [[_bare(c.strip()) for c in row] for row in csv.reader(io.StringIO(text), delimiter=mark)]
    except csv.Error as error:
        raise FormatError(str(error)) from None
    if len(rows) > MOST_ROWS:
        raise FormatError(f"the table has {len(rows)} rows, more than {MOST_ROWS}")
    return [r for r in rows if any(r)]


_FORMULA = re.compile(r"'*[=+@\t\r-]")
_NUMBER = re.compile(r"-?[0-9][0-9_.,]*")


def guarded(cell: str) -> str:
    """A cell of a CSV file that a spreadsheet takes for no formula: an apostrophe stands before what could be one."""
    return f"'{cell}" if _FORMULA.match(cell) and not _NUMBER.fullmatch(cell) else cell


def _bare(cell: str) -> str:
    """`guarded` backwards."""
    return cell[1:] if cell.startswith("'") and _FORMULA.match(cell) else cell


def _xlsx(path: Path) -> list[list[str]]:
    from openpyxl import load_workbook  # only where it is needed: it takes a while to load

    data = io.BytesIO(bytes_of(path))
    try:
        _look_at_size(data)
        book = load_workbook(data, read_only=True, data_only=True)
        sheet = book.worksheets[0]
        rows = []
        for n, row in enumerate(sheet.iter_rows(values_only=True, max_row=MOST_ROWS + 1, max_col=MOST_COLUMNS)):
            if n >= MOST_ROWS:
                raise FormatError(f"the table has more than {MOST_ROWS} rows")
            rows.append([_cell(c) for c in row])
        book.close()
    except FormatError:
        raise
    except Exception as error:  # whatever the package says of a damaged workbook: there are many ways to be damaged
        raise FormatError(
            f"this is no XLSX workbook, or a damaged one: {type(error).__name__} {quoted(error)}"
        ) from None
    width = max((n + 1 for row in rows for n, cell in enumerate(row) if cell), default=0)
    return [r[:width] for r in rows if any(r)]


def _look_at_size(data: io.BytesIO) -> None:
    """Refuses a workbook that would take more room unpacked than any list does."""
    with zipfile.ZipFile(data) as packed:
        size = sum(part.file_size for part in packed.infolist())
    if size > LARGEST_UNPACKED:
        raise FormatError(f"the workbook has {size:,} bytes unpacked; at most {LARGEST_UNPACKED:,} are read")


def _cell(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value).strip()


def guess_mapping(heads: Sequence[str]) -> dict[int, str]:
    """Which column is which of `FIELDS`, by its heading; columns with other headings are left out.

    >>> guess_mapping(["Symbol", "Address", "Colour", "Description"])
    {0: 'name', 1: 'address', 3: 'comment'}
    """
    found: dict[int, str] = {}
    for i, head in enumerate(heads):
        wanted = head.strip().lower()
        for field, others in _OTHERS.items():
            if field not in found.values() and (wanted == field or wanted in others):
                found[i] = field
                break
    return found


@dataclass(frozen=True, slots=True)
class Import:
    """What taking in a table does: the signals as they will be, names that are new or changed, rows that are wrong."""

    signals: tuple[Signal, ...]
    new: tuple[str, ...]
    changed: tuple[str, ...]
    problems: tuple[str, ...]


def plan_import(
    project: Project, rows: Sequence[Sequence[str]], mapping: Mapping[int, str], first_row: int = 2
) -> Import:
    """Rows (without heads) taken into the list: known names are changed where the table has a value, others are added.

    A row with a problem is left out and told with its number, counted from `first_row`.

    What is wrong with a row stands in the plan; nothing is raised.
    """
    signals = {s.name.lower(): s for s in project.signals}
    taken = {q.name.lower() for q in project.sequences} | {d.name.lower() for d in project.devices}
    new: list[str] = []
    changed: list[str] = []
    problems: list[str] = []
    seen: dict[str, int] = {}
    if "name" not in mapping.values():
        return Import(project.signals, (), (), ("no column is the name of the signal; choose one",))
    for n, row in enumerate(rows, first_row):
        cells = {field: row[i].strip() if i < len(row) else "" for i, field in mapping.items()}
        name = cells["name"]
        try:
            if problem := name_problem(name):
                raise ValueError(problem)
            if name.lower() in seen:
                raise ValueError(f"{name} stands in row {seen[name.lower()]} too")
            if name.lower() in taken:
                raise ValueError(f"{name} is the name of a sequence or device")
            seen[name.lower()] = n
            before = signals.get(name.lower())
            after = _signal(before or Signal(name, _class(cells, before)), cells)
        except ValueError as error:
            problems.append(f"row {n}: {error}")
            continue
        if before is None:
            new.append(after.name)
        elif after != before:
            changed.append(after.name)
        signals[name.lower()] = after
    return Import(tuple(signals.values()), tuple(new), tuple(changed), tuple(problems))


def _class(cells: Mapping[str, str], before: Signal | None) -> SignalClass:
    wanted = cells.get("class", "").lower()
    for cls, words in _CLASSES.items():
        if wanted in words:
            return SignalClass(cls)
    if wanted:
        raise ValueError(f"{cells['class']!r} is no class; a signal is input, output, internal or setting")
    address = cells.get("address", "").upper()
    if before is not None:
        return before.cls
    return (
        SignalClass.INPUT
        if address.startswith("%I")
        else SignalClass.OUTPUT
        if address.startswith("%Q")
        else SignalClass.INTERNAL
    )


def _signal(s: Signal, cells: Mapping[str, str]) -> Signal:
    kind = s.type
    if cells.get("type"):
        wanted = cells["type"].lower()
        found = next((t for t, words in _TYPES.items() if wanted in words), None)
        if found is None:
            raise ValueError(f"{cells['type']!r} is no type; there are BOOL, INT, DINT, REAL and TIME")
        kind = found
    values = {f: read_value(cells[f], kind) for f in ("initial", "home") if cells.get(f)}
    if kind is not s.type:
        s = replace(s, initial=None, home=None)
    contact = cells.get("contact", "").lower()
    if contact and contact not in ("no", "nc"):
        raise ValueError(f"{cells['contact']!r} is no contact form; it is NO or NC")
    retain = cells.get("retain", "").lower()
    if retain and retain not in ("0", "1", "true", "false", "yes", "no", "x"):
        raise ValueError(f"{cells['retain']!r} does not say whether the value is kept; write TRUE or FALSE")
    return replace(
        s, cls=_class(cells, s), type=kind, initial=values.get("initial", s.initial), home=values.get("home", s.home),
        contact=contact or s.contact, retain=retain in ("1", "true", "yes", "x") if retain else s.retain,
        **{f: cells[f] for f in ("address", "unit", "comment") if cells.get(f)},
    )  # fmt: skip


def table_rows(signals: Sequence[Signal]) -> list[list[str]]:
    """Heads and a row for each signal, all of `FIELDS`."""
    rows = [list(FIELDS)]
    for s in signals:
        values = ["" if v is None else value_text(v, s.type) for v in (s.initial, s.home)]
        contact = s.contact.upper() if s.cls is SignalClass.INPUT and s.type is Type.BOOL else ""
        retain = "TRUE" if s.retain else ""
        rows.append([s.name, s.cls.value, s.type.value, s.address, contact, *values, retain, s.unit, s.comment])
    return rows


def write_table(signals: Sequence[Signal], path: Path) -> None:
    """A `.csv` or `.xlsx` file by the suffix. Raises `FormatError`."""
    rows = table_rows(signals)
    if path.suffix.lower() == ".xlsx":
        from openpyxl import Workbook

        book = Workbook()
        sheet = book.active
        assert sheet is not None
        sheet.title = "Signals"
        for n, row in enumerate(rows, 1):
            for m, text in enumerate(row, 1):
                cell = sheet.cell(n, m, text or None)
                cell.data_type, cell.number_format = "s" if text else "n", "@"  # a text, whatever it begins with
        sheet.freeze_panes = "A2"
        out = io.BytesIO()
        book.save(out)
        write_bytes_atomically(out.getvalue(), path)
    else:
        out_text = io.StringIO("\ufeff")  # by the mark a spreadsheet knows that it is UTF-8
        out_text.seek(0, io.SEEK_END)
        csv.writer(out_text, lineterminator="\n").writerows([guarded(c) for c in row] for row in rows)
        write_text_atomically(out_text.getvalue(), path)
