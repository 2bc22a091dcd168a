"""The sheet's rows and columns over the document, and the edit behind each cell."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from functools import partial
from typing import Any

from PySide6.QtCore import QAbstractTableModel, Qt, Signal

from spokeshave.chart.labels import block_text, window_text
from spokeshave.desktop.cell_editors import Index
from spokeshave.desktop.document import Document
from spokeshave.desktop.field_words import SHEET
from spokeshave.desktop.measured_room import told
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.tables import NO_PARENT
from spokeshave.engine.link_sequence import transition_place
from spokeshave.formats.sequencer_table import mark_text, next_text
from spokeshave.formats.tables.cells import awaited
from spokeshave.language.literals import time_ms, time_text
from spokeshave.language.rename import rename_step
from spokeshave.language.sub_sequences import set_marks
from spokeshave.language.timed import ends_ms, set_end, times_of
from spokeshave.model import edits, flow_edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.flow import Flow, Row, flow, same_flow
from spokeshave.model.numbers import number_in, number_of, number_targets, put_number
from spokeshave.model.project import Project, Sequence, SignalClass, Step, Transition, Type
from spokeshave.model.sections import sections
from spokeshave.verify.measure import Lasted

FLOW, NUMBER, STEP = 0, 1, 2
FIRST_MARK = 3
"""Columns from here to the conditions are outputs and bodies."""


def targets_of(project: Project, sequence: Sequence, more: Iterable[str] = ()) -> list[str]:
    """Columns of the matrix: what this sequence acts on, outputs that nothing else owns, and what is asked for (`more`)."""
    used = list(dict.fromkeys(a.target.lower() for s in sequence.steps for a in s.actions))
    bodies = {b.name.lower(): b.name for b in sequence.bodies}
    others = {a.target.lower() for q in project.sequences if q is not sequence for s in q.steps for a in s.actions}
    written = (project.opening + " " + project.closing).lower()
    numbers = number_targets(project, sequence)
    asked = {n.lower() for n in more}
    # In the order of the signal list, marked or not: a column keeps its place when something is marked in it.
    out = [
        s.name for s in project.signals
        if (s.cls is not SignalClass.INPUT and (s.name.lower() in used or s.name.lower() in asked)) or s.name.lower() in numbers
        or (s.cls is SignalClass.OUTPUT and s.name.lower() not in others and f"{s.name.lower()} :=" not in written)
    ]  # fmt: skip
    out += [q.name for q in project.sequences if q is not sequence and q.name.lower() in (*asked, *used)]
    out += [bodies[n] for n in used if n in bodies and number_of(project, sequence, bodies[n]) is None]
    known = {n.lower() for n in (*out, *bodies)}
    return out + [a.target for s in sequence.steps for a in s.actions if a.target.lower() not in known]


Change = Callable[[Project], Project]


class Sheet(QAbstractTableModel):
    """One row a step and way out: flow, number, step, marks, awaited condition, longest, next, bars of the run."""

    columns_changed = Signal()
    """Others are shown now, or need another width, while the rows are the same."""
    """Other columns are hidden than before: the sequence is purely timed now, or no longer."""

    def __init__(self, document: Document, sequence: str) -> None:
        super().__init__()
        self.document = document
        self.name = sequence
        self.problems: dict[tuple[str, Any], str] = {}
        self.lasted: dict[str, Lasted] = {}
        """Measured times of the last run."""
        self.shown: Callable[[], bool] = lambda: True
        """Whether anybody looks; a sheet that nobody looks at follows when it is shown again."""
        self.sequence = Sequence(sequence, "", ())
        self.flow = Flow((), (), (), 0)
        self.targets: list[str] = []
        self.asked: list[str] = []
        """Internals, and outputs of other sequences, that somebody wants to see as columns."""
        self.ends: dict[str, int] | None = None
        """The cycle clock of a purely timed sequence."""
        self._read()
        document.changed.connect(self.refresh)
        document.checked.connect(self.take_findings)
        document.measured.connect(self._room_came)
        self.take_findings()

    def _read(self) -> None:
        project = self.document.project
        before, found = self.sequence, project.sequence(self.name)
        self.sequence = found or Sequence(self.name, "", ())
        if before is not self.sequence and not (self.flow.rows and same_flow(before, self.sequence)):
            self.flow = flow(self.sequence)
        self.targets = list(dict.fromkeys(targets_of(project, self.sequence, self.asked)))
        self.ends = ends_ms(self.sequence, times_of(project))

    def refresh(self) -> None:
        """Follows the document: redraws cells when the shape is the same, starts anew when it is not."""
        if not self.shown():
            return
        shape, before, ends, lanes = (self.flow.rows, self.targets), self.sequence, self.ends, self.flow.lanes
        self._read()
        if self.sequence is before and self.targets == shape[1] and self.ends == ends:
            return
        if shape == (self.flow.rows, self.targets):
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))
            if (ends is None) != (self.ends is None) or lanes != self.flow.lanes:
                self.columns_changed.emit()
        else:
            self.beginResetModel()
            self.endResetModel()

    def take_findings(self) -> None:
        self.problems = {}
        for d in self.document.findings:
            p = d.place
            if p.sequence.lower() != self.name.lower() or d.severity == "advice":
                continue
            key: tuple[str, Any] = ("transition", p.index) if p.kind == "transition" else ("step", p.step)
            text = f"{d.message}; {d.advice}" if d.advice else d.message
            self.problems.setdefault(key, text)
        if self.rowCount() and self.shown():
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))

    def _room_came(self) -> None:
        if self.rowCount() and self.shown():
            self.dataChanged.emit(self.index(0, self.window), self.index(self.rowCount() - 1, self.window))

    def can_be_asked(self) -> list[str]:
        """Signals and sequences that a column can be asked for."""
        project, fit = self.document.project, (SignalClass.OUTPUT, SignalClass.INTERNAL)
        always = {n.lower() for n in self.targets} - {n.lower() for n in self.asked}
        names = [s.name for s in project.signals if s.cls in fit]
        names += [q.name for q in project.sequences if q.name.lower() != self.name.lower()]
        return [n for n in names if n.lower() not in always]

    def ask_column(self, name: str) -> None:
        """Shows a signal as a column, or no longer if it was asked for."""
        known = next((n for n in self.asked if n.lower() == name.lower()), None)
        if known is not None:
            self.asked.remove(known)
        else:
            self.asked.append(name)
        self.beginResetModel()
        self._read()
        self.endResetModel()

    # -- columns

    @property
    def awaits(self) -> int:
        return FIRST_MARK + len(self.targets)

    @property
    def window(self) -> int:
        return self.awaits + 1

    @property
    def clock(self) -> int:
        return self.awaits + 2

    @property
    def next(self) -> int:
        return self.awaits + 3

    @property
    def comment(self) -> int:
        return self.awaits + 4

    @property
    def measured(self) -> int:
        return self.awaits + 5

    @property
    def bars(self) -> int:
        return self.awaits + 6

    @property
    def figures(self) -> tuple[int, ...]:
        """Columns of numbers and times, set to the right."""
        return NUMBER, self.window, self.clock, self.measured

    def is_mark(self, column: int) -> bool:
        return FIRST_MARK <= column < self.awaits

    def rowCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.flow.rows)

    def columnCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else self.bars + 1

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.ToolTipRole and orientation == Qt.Orientation.Horizontal:
            return self._about_column(section)
        if role != Qt.ItemDataRole.DisplayRole or orientation != Qt.Orientation.Horizontal:
            return None
        if self.is_mark(section):
            return self.targets[section - FIRST_MARK]
        return {FLOW: "Flow", NUMBER: "No.", STEP: "Step", self.awaits: "Awaits", self.window: "Window",
                self.clock: "Ends at", self.next: "Next", self.comment: "Comment", self.measured: "Lasted",
                self.bars: "Last run"}[section]  # fmt: skip

    def _about_column(self, section: int) -> str:
        head = str(self.headerData(section, Qt.Orientation.Horizontal))
        if not self.is_mark(section):
            return SHEET[head]
        signal = self.document.project.signal(head)
        if signal is None:
            return plain(f"{head}: a text of this sequence; a mark says in which steps it runs.")
        about = f", {signal.comment}" if signal.comment else ""
        return plain(
            f"{head}, {signal.cls.value} {signal.address}".rstrip() + f"{about}: a mark says in which steps it is on."
        )

    # -- cells

    def row(self, index: int) -> Row:
        return self.flow.rows[index]

    def step_at(self, index: int) -> Step:
        return self.sequence.steps[self.row(index).step]

    def way_at(self, index: int) -> Transition | None:
        way = self.row(index).transition
        return None if way is None else self.sequence.transitions[way]

    def place_at(self, index: Index) -> Place:
        """The item a cell belongs to."""
        row = self.row(index.row())
        if index.column() in (self.awaits, self.next) and row.transition is not None:
            return transition_place(self.sequence, row.transition)
        return Place("step", self.sequence.name, self.sequence.steps[row.step].name)

    def _room_of(self, row: int) -> str:
        """What was measured of the window in a row, in words."""
        room = self.document.room
        found = room.of_step(self.name, self.step_at(row).name) if room is not None and self.row(row).first else []
        return "\n".join(map(told, found))

    def problem_at(self, row: int, column: int) -> str:
        r = self.row(row)
        if column in (self.awaits, self.next) and r.transition is not None:
            return self.problems.get(("transition", r.transition), "")
        if column == STEP and r.first:
            return self.problems.get(("step", self.sequence.steps[r.step].name), "")
        return ""

    def text(self, row: int, column: int) -> str:
        r = self.row(row)
        step, way = self.step_at(row), self.way_at(row)
        if column == self.awaits:
            return "" if way is None else way.condition
        if column == self.next:
            return next_text(self.sequence, step, way)
        if not r.first:
            return ""
        if column == NUMBER:
            return str(step.number)
        if column == STEP:
            return step.name
        if self.is_mark(column):
            target = self.targets[column - FIRST_MARK]
            number = number_in(self.document.project, self.sequence, step, target)
            return mark_text(step, target) if number is None else number
        if column == self.window:
            return window_text(step)
        if column == self.clock and self.ends is not None:
            return time_text(self.ends[step.name]).removeprefix("T#")
        if column == self.comment:
            return step.comment
        if column == self.measured:
            return lasted_text(self.lasted.get(step.name))
        return ""

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return self.text(index.row(), index.column())
        if role == Qt.ItemDataRole.ToolTipRole:
            problem = self.problem_at(index.row(), index.column())
            if problem:
                return plain(problem)
            if index.column() == STEP:
                step = self.step_at(index.row())
                return plain(step.comment or ", ".join(block_text(a) for a in step.actions)) or None
            if index.column() == self.window and (room := self._room_of(index.row())):
                return plain(room)
            return plain(self.text(index.row(), index.column())) or None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            if index.column() in self.figures:
                return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            if self.is_mark(index.column()):
                return Qt.AlignmentFlag.AlignCenter
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = super().flags(index)
        return flags | Qt.ItemFlag.ItemIsEditable if self.can_edit(index.row(), index.column()) else flags

    def can_edit(self, row: int, column: int) -> bool:
        r = self.row(row)
        if column == self.awaits:
            return r.transition is not None
        if column == self.next:
            return r.transition is not None or r.first
        if column == self.clock:
            return r.first and self.ends is not None
        return r.first and column not in (FLOW, self.measured, self.bars)

    # -- edits

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        return role == Qt.ItemDataRole.EditRole and self.edit_cells({(index.row(), index.column()): str(value)})

    def edit_cells(self, texts: dict[tuple[int, int], str]) -> bool:
        """Types texts into cells, all in one edit; cells that cannot be typed into are refused."""
        found: list[tuple[str, Change]] = []
        for (row, column), value in texts.items():
            text = value.strip()
            if row < self.rowCount() and text != self.text(row, column):
                found.append(self._change(row, column, text))
        if not found:
            return False
        name = found[0][0] if len(found) == 1 else f"Edit {len(found)} cells"

        def change(project: Project) -> Project:
            for _, one in found:
                project = one(project)
            return project

        before = self.sequence
        if not self.document.edit(name, change):
            return False
        after = self.document.project.sequence(self.name)
        if after is not None and after.transitions is not before.transitions:
            problem = sections(after).problem
            if problem != sections(before).problem:
                self.document.noted.emit(
                    f"! The chart is not whole: {problem}" if problem else "The chart is whole again."
                )
        return True

    def _change(self, row: int, column: int, text: str) -> tuple[str, Change]:
        """The named edit behind typing a text into a cell."""
        name, step, way = self.sequence.name, self.step_at(row), self.row(row).transition
        if not self.can_edit(row, column):
            head = self.headerData(column, Qt.Orientation.Horizontal)
            return "", partial(_refuse, f"{head} cannot be typed in here; it follows from the rest")
        if column == NUMBER:
            return f"Number {step.name}", lambda p: edits.change_step(p, name, step.name, number=_number(text))
        if column == STEP:
            return f"Rename {step.name}", lambda p: rename_step(p, name, step.name, text)
        if self.is_mark(column):
            target = self.targets[column - FIRST_MARK]
            signal = self.document.project.signal(target)
            if signal is not None and signal.type is not Type.BOOL:
                return f"{target} in {step.name}", lambda p: put_number(p, name, step.name, target, text)
            return f"Mark {target} in {step.name}", lambda p: set_marks(p, name, step.name, target, text)
        if column == self.window:
            return f"Window of {step.name}", lambda p: edits.change_step(p, name, step.name, **edits.read_window(text))
        if column == self.clock:
            return f"End of {step.name}", lambda p: set_end(p, name, step.name, _clock_ms(text))
        if column == self.comment:
            return f"Comment on {step.name}", lambda p: edits.change_step(p, name, step.name, comment=text)
        if column == self.awaits:
            assert way is not None
            condition = awaited(text, step.name)
            return f"Condition out of {step.name}", lambda p: flow_edits.change_transition(
                p, name, way, condition=condition
            )
        return f"Next of {step.name}", lambda p: _led(p, self.sequence, step.name, way, text)


_WITH = re.compile(r"(?:^|\s+)(?:waits\s+)?with\s+(?=\S)", re.IGNORECASE)


def _led(project: Project, sequence: Sequence, step: str, way: int | None, text: str) -> Project:
    """What was typed as the next of a step: `A`, `A + B`, `waits with C`, or `A with C` where C is left by the same way."""
    joined = _WITH.search(text)
    to, beside = (text, "") if joined is None else (text[: joined.start()], text[joined.end() :])
    name = sequence.name
    if to or joined is None:
        project = flow_edits.lead_to(project, name, step, way, _targets(sequence, to))
    for other in _targets(sequence, beside) if joined is not None else ():
        waits, goes = (other, step) if to else (step, other)
        project = flow_edits.wait_with(project, name, waits, goes)
    return project


def _refuse(why: str, project: Project) -> Project:
    raise EditError(why)


def _clock_ms(text: str) -> int:
    try:
        return time_ms(text)
    except ValueError as error:
        raise EditError(str(error)) from None


def lasted_text(lasted: Lasted | None) -> str:
    """Least, mean and greatest time in seconds; one figure where they are the same.

    >>> lasted_text(Lasted(2, 1000, 1010.0, 1020))
    '1.00  1.01  1.02 s'
    """
    if lasted is None:
        return ""
    figures = (
        [lasted.least, lasted.greatest]
        if lasted.least == lasted.greatest
        else [lasted.least, lasted.mean, lasted.greatest]
    )
    return "  ".join(f"{ms / 1000:.2f}" for ms in dict.fromkeys(figures)) + " s"


def _number(text: str) -> int:
    if not text.isdigit():
        raise EditError(f"{text!r} is not a step number; type a whole number such as 25")
    return int(text)


def _targets(sequence: Sequence, text: str) -> tuple[str, ...]:
    """Step names or numbers, several joined by +."""
    out = []
    for part in (p.strip() for p in text.replace(",", "+").split("+")):
        found = next((s for s in sequence.steps if s.name.lower() == part.lower() or str(s.number) == part), None)
        if found is None:
            raise EditError(f"{sequence.name} has no step {part or '(empty)'}; type the name or number of a step")
        out.append(found.name)
    return tuple(out)
