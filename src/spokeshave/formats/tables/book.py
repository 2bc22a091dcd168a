"""A whole table file: which of its sheets are sequences, which one lists the signals, which holds our own texts."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from spokeshave.formats.errors import FormatError
from spokeshave.formats.signal_table import plan_sheet
from spokeshave.formats.tables.grid import Sheet, read_sheets
from spokeshave.formats.tables.headings import SIGNAL_WORDS, STEP_WORDS, find_heading, find_step_heading, role_of
from spokeshave.formats.tables.plan import Note, Plan
from spokeshave.formats.tables.steps import plan_sequence, taken
from spokeshave.formats.tables.write import TEXTS
from spokeshave.model.diagnostics import several
from spokeshave.model.edits import EditError
from spokeshave.model.project import Body, Project, Sequence

_OWN_TITLE = re.compile(r"(\w+), sequence of (.*)")
_ROW_WORDS = ("condition", "duration", "end", "next", "longest")


@dataclass(slots=True)
class Book:
    """A table file. `signals` is the file with the signals of its lists, `steps` the sheets that look like sequences."""

    path: Path
    sheets: tuple[Sheet, ...]
    steps: tuple[Sheet, ...] = ()
    lists: tuple[Sheet, ...] = ()
    texts: dict[str, dict[str, str]] = field(default_factory=dict)
    """Of each sequence, by its name in lower case, texts by what they are."""
    own: bool = False
    """Whether it was written here: then all its sequences belong together."""


def read_book(path: Path) -> Book:
    """A table file with what its sheets seem to be. Raises `FormatError`."""
    sheets = read_sheets(path)
    book = Book(path, sheets)
    steps, lists = [], []
    for s in sheets:
        if s.rows and tuple(s.rows[0][:3]) == TEXTS:
            for row in s.rows[1:]:
                name, what, text = (*row, "", "", "")[:3]
                book.texts.setdefault(name.lower(), {})[what] = text
            continue
        as_list, as_steps = find_heading(s, SIGNAL_WORDS), find_heading(s, STEP_WORDS)
        listed = (
            as_list is not None
            and {"name"} < set(as_list.roles.values())
            and bool({"class", "type", "address"} & set(as_list.roles.values()))
        )
        stepped = as_steps is not None and (
            bool(set(as_steps.roles.values()) & set(_ROW_WORDS)) or (set(as_steps.roles.values()) >= {"number", "name"})
        )
        if listed and as_list is not None and (not stepped or as_steps is None or as_list.score >= as_steps.score):
            lists.append(s)
        elif stepped:
            steps.append(s)
            book.own = book.own or any(role_of(h, {"flow": ("flow",)}) for h in s.rows[as_steps.row])  # type: ignore[union-attr]
    if not steps and not lists:
        steps = [s for s in sheets if find_step_heading(s) is not None]
    book.steps, book.lists = tuple(steps), tuple(lists)
    return book


def with_signals(book: Book, project: Project) -> tuple[Project, list[Note], list[Note]]:
    """The file with the signals of the lists of a book, what was taken as what, and rows that are wrong."""
    notes, problems = [], []
    for sheet in book.lists:
        plan = plan_sheet(project, sheet)
        project = replace(project, signals=plan.signals)
        problems += [Note(0, f"{sheet.name}, {p}") for p in plan.problems]
        notes += [Note(0, f"{sheet.name}: {len(plan.new)} new signals, {len(plan.changed)} changed")]
        notes += [Note(0, f"{sheet.name}, {said}") for said in plan.told]
    return project, notes, problems


def plan_of(
    book: Book,
    sheet: Sheet,
    project: Project,
    chosen: Mapping[int, str] | None = None,
    heading: int | None = None,
    name: str = "",
) -> Plan:
    """The plan of a sheet of a book, with the texts that belong to it."""
    title = _OWN_TITLE.fullmatch(sheet.cell(0, 0))
    own = title[1] if title else name or ("" if _titled(sheet) else book.path.stem)
    texts = book.texts.get(own.lower(), {})
    bodies = {what[5:]: text for what, text in texts.items() if what.startswith("body ")}
    plan = plan_sequence(sheet, project, chosen, heading, own, bodies)
    if plan.sequence is not None:
        plan.sequence = _with_texts(plan.sequence, texts, bodies)
    return plan


def _titled(sheet: Sheet) -> bool:
    """Whether something stands above the headings, after which a sequence may be called."""
    heading = find_step_heading(sheet)
    return heading is not None and any(any(row) for row in sheet.rows[: heading.row])


def _with_texts(q: Sequence, texts: Mapping[str, str], bodies: Mapping[str, str]) -> Sequence:
    kept = tuple(Body(name, text) for name, text in bodies.items())
    made = {b.name.lower() for b in kept}
    return replace(
        q,
        bodies=(*kept, *(b for b in q.bodies if b.name.lower() not in made)),
        initial=texts.get("initial") or q.initial,
        hold_when=texts.get("hold when", ""),
        hold_outputs=texts.get("hold outputs") or "keep",
        restart_when=texts.get("restart when", ""),
        retain=bool(texts.get("retain")),
        comment=texts.get("comment", ""),
    )


@dataclass(frozen=True, slots=True)
class Read:
    """A machine file that a table file became, and what was taken as what; with `questions` somebody has to say what is."""

    project: Project
    notes: tuple[Note, ...]
    questions: tuple[Note, ...]


def read_tables(path: Path, wanted: str = "") -> Read:
    """The machine file of a table file; `wanted` is the sheet to take, where there are several sequences. Raises `FormatError`
    with sheet, row and column of what is wrong.
    """
    book = read_book(path)
    sheets = [s for s in book.sheets if s.name.lower() == wanted.lower()] if wanted else list(book.steps)
    if wanted and not sheets:
        raise _fault(path, f"there is no sheet {wanted}", f"there are {several(s.name for s in book.sheets)}")
    if not sheets and not book.lists:
        what = "no sheet" if len(book.sheets) > 1 else "no row"
        raise _fault(
            path, f"{what} has headings that are known", "a table of steps has headings such as Step, Condition, Next"
        )
    titles = [m for s in sheets if (m := _OWN_TITLE.fullmatch(s.cell(0, 0)))]
    project, notes, problems = with_signals(book, Project(titles[0][2] if titles else path.stem))
    questions: list[Note] = []
    if len(sheets) > 1 and not book.own and not wanted:
        questions.append(
            Note(
                0,
                f"the sheets {', '.join(s.name for s in sheets)} look like sequences: all are taken; choose one by its name",
            )
        )
    for sheet in sheets:
        plan = plan_of(book, sheet, project, name=sheet.name if len(book.sheets) > 1 else "")
        where = f"{sheet.name}, " if len(book.sheets) > 1 else ""
        problems += plan.problems
        if problems:
            more = f" ({len(problems) - 1} more)" if len(problems) > 1 else ""
            raise _fault(path, f"{where}{problems[0]}{more}", "")
        notes += plan.notes
        questions += plan.questions
        try:
            project = taken(project, plan)
        except EditError as error:
            raise _fault(path, f"{where}{error}", "") from None
    if problems:
        raise _fault(path, str(problems[0]), "")
    return Read(project, tuple(notes), tuple(questions))


def _fault(path: Path, message: str, advice: str) -> FormatError:
    error = FormatError(message, advice=advice)
    error.file = str(path)
    return error
