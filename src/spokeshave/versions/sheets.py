"""Two versions of a sequence as one sheet: every row of both, with what is new, gone or changed in each cell."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import zip_longest

from spokeshave.formats.tables.pages import Page
from spokeshave.formats.tables.write import page_of
from spokeshave.model.project import Project

Row = dict[str, str]
"""Texts by heading."""


@dataclass(frozen=True, slots=True)
class BothCell:
    """A text as it is afterwards, and as it `was` where that is another."""

    text: str
    was: str | None = None


@dataclass(frozen=True, slots=True)
class BothRow:
    """A row of one or both versions: `new`, `gone`, `changed` or nothing of these."""

    kind: str
    cells: tuple[BothCell, ...]


@dataclass(frozen=True, slots=True)
class BothSheet:
    """The columns and rows of both versions; `marks` are the columns that hold marks."""

    heads: tuple[str, ...]
    rows: tuple[BothRow, ...]
    marks: frozenset[int] = frozenset()


def sheet_of_both(before: Project, after: Project, name: str) -> BothSheet:
    """The sheets of a sequence in two versions, of which one may not have it. Steps are the same by number, else by name."""
    pages = [None if (q := p.sequence(name)) is None else page_of(p, q) for p in (before, after)]
    old, new = pages
    heads = _heads(old, new)
    was, now = _steps(old), _steps(new)
    numbers, names = ({key[n]: key for key in was} for n in (0, 1))
    pairs: list[tuple[list[Row], list[Row]]] = []
    met = set()
    for key, rows in now.items():
        other = numbers.get(key[0]) or names.get(key[1])
        if other in met:
            other = None
        met.add(other)
        pairs.append((was[other] if other is not None else [], rows))
    for i, (key, rows) in enumerate(was.items()):
        if key not in met:
            pairs.insert(min(i, len(pairs)), (rows, []))
    out = [row for a, b in pairs for row in _rows(a, b, heads)]
    held = {head for page in pages if page is not None for c, head in enumerate(page.heads) if c in page.marks}
    return BothSheet(heads, tuple(out), frozenset(i for i, head in enumerate(heads) if head in held))


def _heads(old: Page | None, new: Page | None) -> tuple[str, ...]:
    """The columns of the later version, and those that are gone behind the one they stood behind."""
    heads = list(new.heads) if new is not None else []
    for i, head in enumerate(old.heads if old is not None else ()):
        if head not in heads:
            above = old.heads[i - 1] if old is not None and i else ""
            heads.insert(heads.index(above) + 1 if above in heads else 0, head)
    return tuple(heads)


def _steps(page: Page | None) -> dict[tuple[str, str], list[Row]]:
    """The rows of each step, by its number and name."""
    found: dict[tuple[str, str], list[Row]] = {}
    key = ("", "")
    for cells in page.rows if page is not None else ():
        row = dict(zip(page.heads if page is not None else (), cells))
        if row["No."] or row["Step"]:
            key = (row["No."], row["Step"])
        found.setdefault(key, []).append(row)
    return found


def _rows(old: list[Row], new: list[Row], heads: tuple[str, ...]) -> Iterator[BothRow]:
    for a, b in zip_longest(old, new):
        if a is None or b is None:
            row = a or b or {}
            yield BothRow("new" if a is None else "gone", tuple(BothCell(row.get(h, "")) for h in heads))
            continue
        cells = [BothCell(b.get(h, ""), None if b.get(h, "") == a.get(h, "") else a.get(h, "")) for h in heads]
        yield BothRow("changed" if any(c.was is not None for c in cells) else "", tuple(cells))
