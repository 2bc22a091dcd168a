"""What a table of steps would become: the plan that is shown before anything is taken in, with what is told of its rows."""

from __future__ import annotations

from dataclasses import dataclass, field

from spokeshave.formats.tables.columns import Column
from spokeshave.formats.tables.grid import Sheet
from spokeshave.model.project import Project, Sequence, Signal


@dataclass(frozen=True, slots=True)
class Note:
    """Something about a row of the file (from 1; 0 for the whole table), and about a column by its heading."""

    row: int
    text: str
    head: str = ""

    def __str__(self) -> str:
        where = f"row {self.row}" if self.row else ""
        where += f"{', ' if where else ''}{self.head}" if self.head else ""
        return f"{where}: {self.text}" if where else self.text


@dataclass(slots=True)
class Plan:
    """What a table would become. `questions` are what somebody should say, `problems` what keeps it from being taken in."""

    sheet: Sheet
    heading: int = -1
    columns: tuple[Column, ...] = ()
    sequence: Sequence | None = None
    signals: list[Signal] = field(default_factory=list)
    """Signals that are not known yet."""
    notes: list[Note] = field(default_factory=list)
    questions: list[Note] = field(default_factory=list)
    problems: list[Note] = field(default_factory=list)

    def note(self, row: int, text: str, column: str = "") -> None:
        """Tells something about a row (from 0) of the sheet."""
        self.notes.append(Note(row + 1, text, column))

    def wrong(self, row: int, text: str, column: str = "") -> None:
        """Tells what is wrong in a row (from 0) of the sheet."""
        self.problems.append(Note(row + 1, text, column))


def known_names(project: Project) -> dict[str, Signal]:
    """Signals by their names in lower case, and by their comments, which are what people head a column with."""
    comments = [s.comment.strip().lower() for s in project.signals]
    found = {c: s for s, c in zip(project.signals, comments) if 0 < len(c) <= 60 and comments.count(c) == 1}
    return found | {s.name.lower(): s for s in project.signals}
