"""What each column of a sequence table is: by its heading, by the signals that are known, by a heading above it, by its cells."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace

from spokeshave.formats.tables.cells import DOTS, OFF, ON, SPOKEN, address_of, identifier, time_of
from spokeshave.formats.tables.grid import Sheet
from spokeshave.formats.tables.headings import GROUPS, STEP_WORDS, groups_above, latin, role_of
from spokeshave.model.project import Signal, SignalClass, Type

ROLES = (
    "number", "name", "condition", "duration", "end", "longest", "shortest", "late", "permissive", "priority", "way", "next", "comment",
    "output", "outputs", "input", "counter", "value", "body", "run",
)  # fmt: skip
"""What a column can be; one that is none of them is left out."""
SIGNALS = frozenset(("output", "input", "counter", "value", "body"))
TIMES = frozenset(("duration", "start", "end", "longest", "shortest"))
QUALIFIER = re.compile(r"(?:N|S|R|P|P0|P1|(?:L|D|SD|DS|SL)[ ,]\s*\S.*)(?:\s*/\s*\S.*)?", re.IGNORECASE)
COUNTS = re.compile(r"\s*(?P<op>\+|:=|>=|<=|<>|>|<|=)\s*(?P<value>-?[0-9]+)\s*")
_RARE = frozenset(("name", "start", "late", "permissive", "priority", "way", "flow"))
"""Headings that are those of a signal where they stand below *Inputs* or *Outputs*."""
_CLASSED = re.compile(r"(?P<name>[^()\[\]]+)[(\[](?P<of>[^()\[\]]+)[)\]]")
_ADDRESSED = re.compile(r"%?(?P<area>[IEQA])[XB]?\s*(?P<at>[0-9]+\.[0-7])[\s:/,-]+(?P<name>[^\W\d].*)", re.IGNORECASE)
"""`Q0.1 Fan`, `E 0.3 - Guard`: the address before the name."""
_AWAITED = re.compile(
    r"(?:exit|leave|next|continue|advance|go on|wait|waits|weiter)\s+(?:if|when|for|until|on|wenn|bei)\s+(?P<name>.+)",
    re.IGNORECASE,
)
"""*Exit if Full*: what is awaited of one signal."""
_WHOLE = re.compile(r"-?[0-9]+")
_NUMBER = re.compile(r"-?[0-9]+(?:[.,][0-9]+)?")


@dataclass(frozen=True, slots=True)
class Column:
    """A column with its heading: `role` is one of `ROLES` or empty for one that is left out; `signal` is the name of its signal,
    `guessed` whether somebody should say what it is.
    """

    index: int
    head: str
    role: str = ""
    signal: str = ""
    guessed: bool = False
    why: str = ""
    """Why it is left out."""
    address: str = ""
    """The address that the heading gives its signal."""


def columns_of(
    sheet: Sheet, row: int, known: Mapping[str, Signal], chosen: Mapping[int, str] | None = None
) -> tuple[Column, ...]:
    """The columns of a sheet whose headings stand in `row`. `known` are signals by their names and headings in lower case;
    `chosen` are roles that somebody has chosen.
    """
    above = groups_above(sheet, row)
    group = ""
    found: list[Column] = []
    used: set[str] = set()
    for i in range(sheet.width):
        head = sheet.cell(row, i)
        group = above.get(i, group)
        cells = [text for _, text in sheet.column(i, row + 1) if text]
        filled = any((r, i) in sheet.filled for r in range(row + 1, len(sheet.rows)))
        if chosen is not None and i in chosen:
            role = chosen[i]
            found.append(Column(i, head, role, _signal_name(_with_class(head)[0], known) if role in SIGNALS else ""))
            continue
        role = "" if head.lower() in known else _usual(head, cells, used)
        if group and role in _RARE:
            role = ""
        if role:
            used.add(role)
            group = above.get(i, "")  # what stands over the signals ends where the rest of the row begins
            found.append(Column(i, head, "" if role in ("start", "flow") else role))
        elif head.strip():
            own, of_class = _with_class(head)
            own, awaited = (m["name"], "input") if (m := _AWAITED.fullmatch(own.strip())) else (own, "")
            own, address = _with_address(own)
            of_address = {"%I": "input", "%Q": "output"}.get(address[:2], "")
            column = _signal_column(i, head, cells, filled, known, of_class or awaited or of_address or group, own)
            found.append(replace(column, address=address) if column.role in ("input", "output") else column)
        elif cells or filled:
            found.append(Column(i, head, why="it has no heading"))
    first = next((c for c in found if c.role or c.index == 0), None)
    if (
        first is not None
        and not {"number", "name"} & {c.role for c in found}
        and first.index == 0
        and not first.head.strip()
    ):
        cells = [text for _, text in sheet.column(0, row + 1) if text]
        if cells and not all(map(_is_mark, cells)):
            found[found.index(first)] = Column(0, "", "name")
    return tuple(found)


def _usual(head: str, cells: list[str], used: set[str]) -> str:
    """The known column that a heading and its cells agree on. *Step* over numbers is the number; a second description is a
    comment.
    """
    role = "" if head.startswith("<") and head.endswith(">") else role_of(head, STEP_WORDS)
    whole = sum(bool(_WHOLE.fullmatch(c)) for c in cells)
    if role == "name" and cells and 2 * whole > len(cells) and "number" not in used:
        return "number"
    if role == "name" and "name" in used:
        return "comment" if "comment" not in used else ""
    if role == "number" and 2 * whole < len(cells):
        return ""
    if role == "outputs" and (not cells or all(map(_is_mark, cells))):
        return ""
    cells = [c for c in cells if c not in ("-", "–", "—", "/")]
    if role in TIMES and cells and 2 * sum(map(_is_time, cells)) < len(cells):
        return "condition" if role == "end" and "condition" not in used and not all(map(_is_mark, cells)) else ""
    return "" if role in used else role


def _is_time(cell: str) -> bool:
    try:
        time_of(cell)
    except ValueError:
        return bool(re.fullmatch(r"[A-Za-z]\w*", cell)) and cell.lower() not in ON | OFF
    return True


def _is_mark(cell: str) -> bool:
    return cell.lower() in ON | OFF | DOTS or QUALIFIER.fullmatch(cell) is not None


def _signal_name(head: str, known: Mapping[str, Signal]) -> str:
    head = head.strip().removeprefix("<").removesuffix(">")
    signal = known.get(head.lower())
    return signal.name if signal is not None else identifier(head, "In")


def _with_class(head: str) -> tuple[str, str]:
    """A heading without the class that stands in brackets behind it, and that class.

    >>> _with_class("Knife (output)"), _with_class("Speed (rpm)")
    (('Knife', 'output'), ('Speed (rpm)', ''))
    """
    found = _CLASSED.fullmatch(head.strip())
    words = latin(found["of"]).lower().strip() if found is not None else ""
    of_class = next((group for group, known in GROUPS.items() if words in known), "")
    return (found["name"].strip(), of_class) if found is not None and of_class else (head, "")


def _with_address(head: str) -> tuple[str, str]:
    """A heading without the address of a bit before it, and that address as it is written here.

    >>> _with_address("Q0.1 Fan"), _with_address("E 0.3 - Guard"), _with_address("Y1")
    (('Fan', '%QX0.1'), ('Guard', '%IX0.3'), ('Y1', ''))
    """
    found = _ADDRESSED.fullmatch(head.strip())
    if found is None:
        return head, ""
    return found["name"].strip(), address_of(f"{found['area']}{found['at']}")


def _signal_column(
    i: int, head: str, cells: list[str], filled: bool, known: Mapping[str, Signal], group: str, own: str
) -> Column:
    """`own` is what of the heading names the signal."""
    name = _signal_name(own, known)
    signal = known.get(name.lower())
    counts = any(COUNTS.fullmatch(c) for c in cells)
    numbers = bool(cells) and all(_NUMBER.fullmatch(c) for c in cells) and any(c not in ("0", "1") for c in cells)
    if not name:
        return Column(i, head, why="its heading is no name")
    if group in ("body", "run"):
        return Column(i, head, group, name)
    if signal is not None:
        if signal.type is not Type.BOOL:
            return Column(i, head, "counter" if counts or signal.cls is SignalClass.INPUT else "value", signal.name)
        return Column(i, head, "input" if signal.cls is SignalClass.INPUT else "output", signal.name)
    if group == "counter" or counts:
        return Column(i, head, "counter", name)
    if numbers and group != "input":
        return Column(i, head, "value", name)
    if group:
        return Column(i, head, group, name)
    if not cells and not filled:
        return Column(i, head, why="it is empty")
    if cells and all(c.lower() in SPOKEN for c in cells):
        return Column(i, head, "output", name, guessed=True)
    clear = filled or any(
        c.lower() in ("x", "●", "•", "■", "✓", "✔", "☒", "☑") or QUALIFIER.fullmatch(c) for c in cells
    )
    if clear or all(map(_is_mark, cells)):
        return Column(i, head, "output", name, guessed=not clear)
    return Column(i, head, why="its cells are no marks")
