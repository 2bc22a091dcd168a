"""Signal lists as tables: CSV, text with tabs, XLSX; headings of others are mapped to ours before anything is taken in."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from spokeshave.formats.disk import write_bytes_atomically, write_text_atomically
from spokeshave.formats.tables.cells import address_of, identifier, time_of
from spokeshave.formats.tables.grid import Sheet, csv_of, read_sheets, sheet_of_text
from spokeshave.formats.tables.headings import SIGNAL_WORDS, find_heading, latin, roles_in
from spokeshave.language.literals import read_value, time_ms, value_text
from spokeshave.language.rename import name_problem
from spokeshave.model.diagnostics import quoted, several
from spokeshave.model.project import Project, Signal, SignalClass, Type, Value

FIELDS = ("name", "class", "type", "address", "contact", "initial", "home", "retain", "unit", "comment")
_CLASSES = {
    "input": ("input", "in", "i", "di", "ai", "var_input", "e", "eingang", "digitaleingang", "analogeingang", "de", "ae"),
    "output": ("output", "out", "q", "o", "do", "ao", "var_output", "a", "ausgang", "digitalausgang", "analogausgang", "da", "aa"),
    "internal": ("internal", "flag", "memory", "m", "var", "local", "merker", "marker", "mem", "intern", "variable"),
    "setting": (
        "setting", "constant", "const", "parameter", "param", "setpoint", "var constant", "p", "konstante", "sollwert", "einstellwert",
        "einstellung",
    ),
}  # fmt: skip
_TYPES = {Type.BOOL: ("bool", "bit", "boolean", "binary", "digital", "binaer"), Type.INT: ("int", "integer", "int16", "ganzzahl"),
          Type.DINT: ("dint", "int32", "long"), Type.REAL: ("real", "float", "double", "gleitkomma"),
          Type.TIME: ("time", "duration", "zeit")}  # fmt: skip
_WIDER = {"sint": Type.INT, "usint": Type.INT, "byte": Type.INT, "uint": Type.DINT, "word": Type.DINT, "uint16": Type.DINT, "udint": Type.DINT,
          "dword": Type.DINT, "uint32": Type.DINT, "lint": Type.DINT, "lreal": Type.REAL, "analog": Type.REAL, "s5time": Type.TIME}  # fmt: skip
"""Types that are taken as others, which is said."""
_POINTS = {
    word: (SignalClass(cls), kind)
    for cls, kind, words in (
        ("input", Type.BOOL, ("di", "de", "digital input", "digitaleingang")),
        ("output", Type.BOOL, ("do", "da", "digital output", "digitalausgang")),
        ("input", Type.REAL, ("ai", "ae", "analog input", "analogue input", "analogeingang")),
        ("output", Type.REAL, ("ao", "aa", "analog output", "analogue output", "analogausgang")),
    )
    for word in words
}
"""Points of input and output, which say class and type in one word."""
_NO_SIGNALS = frozenset(
    ("timer", "counter", "zaehler", "ton", "tof", "tp", "ctu", "ctd", "ctud", "r_trig", "f_trig", "fb", "fc", "ob", "db", "string", "wstring")
)  # fmt: skip
"""What lists have beside signals."""


def read_rows(path: Path) -> list[list[str]]:
    """All rows with anything in them of the first sheet of a table file, cells as text. Raises `FormatError`."""
    return [list(row) for row in read_sheets(path)[0].rows if any(row)]


def parse_rows(text: str) -> list[list[str]]:
    """Rows of a text with commas, semicolons or tabs between the cells, quoted where needed.

    Raises `FormatError` with the line.
    """
    return [list(row) for row in sheet_of_text(text).rows if any(row)]


def guess_mapping(heads: Sequence[str]) -> dict[int, str]:
    """Which column is which of `FIELDS`, by its heading; columns with other headings are left out.

    >>> guess_mapping(["Symbol", "Address", "Colour", "Description"])
    {0: 'name', 1: 'address', 3: 'comment'}
    >>> guess_mapping(["Klemme", "BMK", "SPS-Adresse"]), guess_mapping(["Terminal", "Tag"])
    ({1: 'name', 2: 'address'}, {0: 'address', 1: 'name'})
    """
    found = roles_in(heads, SIGNAL_WORDS)
    other = "" if "address" in found.values() else "address"  # a terminal is an address where there is no better one
    return {i: other if role == "terminal" else role for i, role in found.items() if other or role != "terminal"}


@dataclass(frozen=True, slots=True)
class Import:
    """What taking in a table does: the signals as they will be, names that are new or changed, rows that are wrong."""

    signals: tuple[Signal, ...]
    new: tuple[str, ...]
    changed: tuple[str, ...]
    problems: tuple[str, ...]
    told: tuple[str, ...] = ()
    """What was taken otherwise than it stands."""


def plan_import(
    project: Project, rows: Sequence[Sequence[str]], mapping: Mapping[int, str], first_row: int = 2, foreign: bool = False,
) -> Import:  # fmt: skip
    """Rows (without heads) taken into the list: known names are changed where the table has a value, others are added.

    In a `foreign` list a name that is no identifier, such as `Tür zu` or `10S1`, becomes one, and stands in the comment as it was.

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
    told: dict[str, int] = {}
    renamed: list[str] = []
    for n, row in enumerate(rows, first_row):
        cells = {field: row[i].strip() if i < len(row) else "" for i, field in mapping.items()}
        if not any(row):
            continue
        name, kind = cells["name"], latin(cells.get("type", "")).lower()
        if kind in _NO_SIGNALS:
            _tell(told, f"{cells['type'].upper()} is no signal: left out")
            continue
        point = _POINTS.get(kind) or (_POINTS.get(latin(cells.get("class", "")).lower()) if not kind else None)
        if point is not None:
            _tell(told, f"{cells['type' if kind else 'class']} is an {point[0]}, {point[1]}")
            cells |= {"class": point[0].value, "type": point[1].value}
        if cells.get("address", "").isdigit() and len(cells["address"]) < 3:
            _tell(told, "a channel alone is no address: left out")
            cells["address"] = ""
        try:
            if problem := name_problem(name):
                name = identifier(name, "_") if foreign else ""
                if not name:
                    raise ValueError(problem)
                spelt = " ".join(cells["name"].split())
                renamed.append(f"{quoted(spelt)} is called {name}")
                cells["comment"] = f"{spelt}: {cells['comment']}" if cells.get("comment") else spelt
            if name.lower() in seen:
                raise ValueError(f"{name} stands in row {seen[name.lower()]} too")
            if name.lower() in taken:
                raise ValueError(f"{name} is the name of a sequence or device")
            seen[name.lower()] = n
            before = signals.get(name.lower())
            after = _signal(before or Signal(name, _class(cells, before)), cells, told)
        except ValueError as error:
            problems.append(f"row {n}: {error}")
            continue
        if before is None:
            new.append(after.name)
        elif after != before:
            changed.append(after.name)
        signals[name.lower()] = after
    said = tuple(f"{text} ({count} signals)" if count > 1 else text for text, count in told.items())
    if renamed:
        said = (
            *said,
            f"names that are no identifiers: {several(renamed, 3)}; the comment has them as they stood",
        )
    return Import(tuple(signals.values()), tuple(new), tuple(changed), tuple(problems), said)


def _tell(told: dict[str, int], said: str) -> None:
    """Counts the rows of which something is to be said."""
    told[said] = told.get(said, 0) + 1


def plan_sheet(
    project: Project, sheet: Sheet, mapping: Mapping[int, str] | None = None, heading: int | None = None
) -> Import:
    """As `plan_import`, of a sheet whose headings stand in row `heading` (from 0), where they seem to stand for None; rows are told
    with their numbers in the file.
    """
    if heading is None:
        found = find_heading(sheet, SIGNAL_WORDS, 1)
        if found is None:
            return Import(project.signals, (), (), ("no row has headings that are known, such as Name, Type, Address",))
        heading = found.row
    if mapping is None:
        mapping = guess_mapping(sheet.rows[heading])
    return plan_import(project, sheet.rows[heading + 1 :], mapping, heading + 2, foreign=True)


def _class(cells: Mapping[str, str], before: Signal | None) -> SignalClass:
    wanted = latin(cells.get("class", "")).lower()
    for cls, words in _CLASSES.items():
        if wanted in words:
            return SignalClass(cls)
    if wanted:
        raise ValueError(f"{cells['class']!r} is no class; a signal is input, output, internal or setting")
    address = address_of(cells.get("address", ""))
    if before is not None:
        return before.cls
    return (
        SignalClass.INPUT
        if address.startswith("%I")
        else SignalClass.OUTPUT
        if address.startswith("%Q")
        else SignalClass.INTERNAL
    )


def _signal(s: Signal, cells: Mapping[str, str], told: dict[str, int]) -> Signal:
    kind = s.type
    if cells.get("type"):
        wanted = latin(cells["type"]).lower()
        found = next((t for t, words in _TYPES.items() if wanted in words), None)
        if found is None and wanted in _WIDER:
            found = _WIDER[wanted]
            _tell(told, f"{cells['type'].upper()} is taken as {found}")
        if found is None:
            raise ValueError(f"{cells['type']!r} is no type; there are BOOL, INT, DINT, REAL and TIME")
        kind = found
    elif kind is Type.BOOL and cells.get("initial"):
        kind = _kind_of(cells["initial"])
    values = {f: _value(cells[f], kind) for f in ("initial", "home") if cells.get(f)}
    if kind is not s.type:
        s = replace(s, initial=None, home=None)
    contact = _CONTACTS.get(latin(cells.get("contact", "")).lower(), cells.get("contact", "").lower())
    if (
        not contact
        and kind is Type.BOOL
        and _class(cells, s) is SignalClass.INPUT
        and _OPENS.search(cells.get("comment", ""))
    ):
        contact = "nc"
        _tell(told, "what its text calls NC is a contact that opens")
    if contact and contact not in ("no", "nc"):
        raise ValueError(f"{cells['contact']!r} is no contact form; it is NO or NC")
    retain = cells.get("retain", "").lower()
    retain = {"ja": "yes", "nein": "no", "-": "no", "wahr": "yes", "falsch": "no"}.get(retain, retain)
    if retain and retain not in ("0", "1", "true", "false", "yes", "no", "x"):
        raise ValueError(f"{cells['retain']!r} does not say whether the value is kept; write TRUE or FALSE")
    return replace(
        s, cls=_class(cells, s), type=kind, initial=values.get("initial", s.initial), home=values.get("home", s.home),
        contact=contact or s.contact, retain=retain in ("1", "true", "yes", "x") if retain else s.retain,
        **{f: cells[f] for f in ("unit", "comment") if cells.get(f)},
        **({"address": address_of(cells["address"])} if cells.get("address") else {}),
    )  # fmt: skip


_OPENS = re.compile(r"\b(?:NC|n\.c\.|normally closed|Öffner|Oeffner|Ruhekontakt)(?!\w)|\((?:Ö|Oe)\)")
"""Words of a description by which a contact opens."""
_CONTACTS = {"schliesser": "no", "s": "no", "oeffner": "nc", "oe": "nc", "n.o.": "no", "n.c.": "nc", "normally open": "no", "normally closed": "nc",
             "ruhekontakt": "nc", "arbeitskontakt": "no"}  # fmt: skip


def _kind_of(text: str) -> Type:
    """The type of which a value is, where a list does not say it."""
    if re.match(r"(?:t|time)#|[0-9.,]+ *(?:ms|s|sec|sek|min|h)\b", text, re.IGNORECASE):
        return Type.TIME
    if re.fullmatch(r"[-+]?[0-9]*[.,][0-9]+", text):
        return Type.REAL
    return Type.INT if re.fullmatch(r"[-+]?(?:[2-9]|[0-9]{2,})", text) else Type.BOOL


def _value(text: str, kind: Type) -> Value:
    """A value as lists have it: words of two languages, decimal commas, times with or without a unit. Raises `ValueError`."""
    low = text.strip().lower()
    if kind is Type.BOOL:
        text = {"ein": "TRUE", "an": "TRUE", "on": "TRUE", "ja": "TRUE", "yes": "TRUE", "wahr": "TRUE", "x": "TRUE", "aus": "FALSE", "off": "FALSE",
                "nein": "FALSE", "no": "FALSE", "falsch": "FALSE", "-": "FALSE"}.get(low, text)  # fmt: skip
    elif kind is Type.REAL:
        text = text.replace(",", ".")
    elif kind is Type.TIME and not low.startswith(("t#", "time#")):
        return time_ms(time_of(text)[0])
    return read_value(text, kind)


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
        write_text_atomically(csv_of(rows), path)
