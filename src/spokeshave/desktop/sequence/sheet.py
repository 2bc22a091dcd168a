"""The sheet's rows and columns over the document, and the edit behind each cell."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QAbstractTableModel, Qt

from spokeshave.desktop.document import Document
from spokeshave.desktop.tables import NO_PARENT, Index
from spokeshave.language.rename import rename_step
from spokeshave.model import edits, flow_edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.flow import Flow, Row, flow
from spokeshave.model.layout import block_text
from spokeshave.model.project import Project, Sequence, SignalClass, Step, Transition

FLOW, NUMBER, STEP = 0, 1, 2
FIRST_MARK = 3
"""Columns from here to the conditions are outputs and bodies."""


def targets_of(project: Project, sequence: Sequence) -> list[str]:
    """Columns of the matrix: what this sequence acts on, then outputs that nothing else owns."""
    used = list(dict.fromkeys(a.target.lower() for s in sequence.steps for a in s.actions))
    bodies = {b.name.lower(): b.name for b in sequence.bodies}
    others = {a.target.lower() for q in project.sequences if q is not sequence for s in q.steps for a in s.actions}
    written = (project.opening + " " + project.closing).lower()
    out = [s.name for s in project.signals if s.name.lower() in used and s.cls is not SignalClass.INPUT]
    out += [
        s.name for s in project.signals
        if s.cls is SignalClass.OUTPUT and s.name.lower() not in used and s.name.lower() not in others
        and f"{s.name.lower()} :=" not in written
    ]  # fmt: skip
    out += [bodies[n] for n in used if n in bodies]
    known = {n.lower() for n in out}
    return out + [a.target for s in sequence.steps for a in s.actions if a.target.lower() not in known]


def mark_text(step: Step, target: str) -> str:
    """`X` for N, the qualifier with its time otherwise."""
    action = step.action_on(target)
    if action is None:
        return ""
    if action.qualifier == "N":
        return "X"
    return f"{action.qualifier} {action.time.removeprefix('T#')}" if action.time else str(action.qualifier)


class Sheet(QAbstractTableModel):
    """One row a step and way out: flow, number, step, marks, awaited condition, longest, next, bars of the run."""

    def __init__(self, document: Document, sequence: str) -> None:
        super().__init__()
        self.document = document
        self.name = sequence
        self.problems: dict[tuple[str, Any], str] = {}
        self._read()
        document.changed.connect(self.refresh)
        document.checked.connect(self.take_findings)
        self.take_findings()

    def _read(self) -> None:
        project = self.document.project
        found = project.sequence(self.name)
        self.sequence = found or Sequence(self.name, "", ())
        self.flow: Flow = flow(self.sequence)
        self.targets = list(dict.fromkeys(targets_of(project, self.sequence)))

    def refresh(self) -> None:
        """Follows the document: redraws cells when the shape is the same, starts anew when it is not."""
        shape, before = (self.flow.rows, self.targets), self.sequence
        self._read()
        if self.sequence is before and self.targets == shape[1]:
            return
        if shape == (self.flow.rows, self.targets):
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))
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
        if self.rowCount():
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))

    # -- columns

    @property
    def awaits(self) -> int:
        return FIRST_MARK + len(self.targets)

    @property
    def longest(self) -> int:
        return self.awaits + 1

    @property
    def next(self) -> int:
        return self.awaits + 2

    @property
    def bars(self) -> int:
        return self.awaits + 3

    def rowCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.flow.rows)

    def columnCount(self, parent: Index = NO_PARENT) -> int:
        return 0 if parent.isValid() else self.bars + 1

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role != Qt.ItemDataRole.DisplayRole or orientation != Qt.Orientation.Horizontal:
            return None
        if FIRST_MARK <= section < self.awaits:
            return self.targets[section - FIRST_MARK]
        return {FLOW: "Flow", NUMBER: "No.", STEP: "Step", self.awaits: "Awaits", self.longest: "Longest",
                self.next: "Next", self.bars: "Last run"}[section]  # fmt: skip

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
            from spokeshave.engine.link_sequence import transition_place

            return transition_place(self.sequence, row.transition)
        return Place("step", self.sequence.name, self.sequence.steps[row.step].name)

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
            return self._next_text(r, way)
        if not r.first:
            return ""
        if column == NUMBER:
            return str(step.number)
        if column == STEP:
            return step.name
        if FIRST_MARK <= column < self.awaits:
            return mark_text(step, self.targets[column - FIRST_MARK])
        if column == self.longest:
            return step.longest.removeprefix("T#")
        return ""

    def _next_text(self, r: Row, way: Transition | None) -> str:
        if way is None:
            name = self.sequence.steps[r.step].name
            join = next((t for _, t in self.sequence.leaving(name)), None)
            return f"joins {join.targets[0]}" if join else ""
        return " + ".join(way.targets)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return self.text(index.row(), index.column())
        if role == Qt.ItemDataRole.ToolTipRole:
            problem = self.problem_at(index.row(), index.column())
            if problem:
                return problem
            if index.column() == STEP:
                step = self.step_at(index.row())
                return step.comment or ", ".join(block_text(a) for a in step.actions) or None
            return self.text(index.row(), index.column()) or None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            if index.column() in (NUMBER, self.longest):
                return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            if FIRST_MARK <= index.column() < self.awaits:
                return Qt.AlignmentFlag.AlignCenter
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = super().flags(index)
        column, r = index.column(), self.row(index.row())
        way_cell = column in (self.awaits, self.next) and r.transition is not None
        step_cell = r.first and column not in (FLOW, self.awaits, self.next, self.bars)
        return flags | Qt.ItemFlag.ItemIsEditable if way_cell or step_cell else flags

    # -- edits

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        text, row, column = str(value).strip(), index.row(), index.column()
        if role != Qt.ItemDataRole.EditRole or text == self.text(row, column):
            return False
        name, step, r = self.sequence.name, self.step_at(row), self.row(row)
        edit = self.document.edit
        if column == NUMBER:
            return edit(f"Number {step.name}", lambda p: edits.change_step(p, name, step.name, number=_number(text)))
        if column == STEP:
            return edit(f"Rename {step.name}", lambda p: rename_step(p, name, step.name, text))
        if FIRST_MARK <= column < self.awaits:
            target = self.targets[column - FIRST_MARK]
            return edit(
                f"Mark {target} in {step.name}",
                lambda p: edits.set_mark(p, name, step.name, target, edits.read_mark(text, target)),
            )
        if column == self.longest:
            return edit(
                f"Longest time of {step.name}",
                lambda p: edits.change_step(p, name, step.name, longest=_time(text)),
            )
        if column == self.awaits and r.transition is not None:
            way = r.transition
            return edit(
                f"Condition out of {step.name}", lambda p: flow_edits.change_transition(p, name, way, condition=text)
            )
        if column == self.next and r.transition is not None:
            way = r.transition
            return edit(
                f"Next of {step.name}",
                lambda p: flow_edits.change_transition(p, name, way, targets=_targets(self.sequence, text)),
            )
        return False


def _number(text: str) -> int:
    if not text.isdigit():
        raise EditError(f"{text!r} is not a step number; type a whole number such as 25")
    return int(text)


def _time(text: str) -> str:
    """What is typed as a time: `6s` becomes T#6s, a name stays the name of a setting."""
    return f"T#{text}" if text[:1].isdigit() else text


def _targets(sequence: Sequence, text: str) -> tuple[str, ...]:
    """Step names or numbers, several joined by +."""
    out = []
    for part in (p.strip() for p in text.replace(",", "+").split("+")):
        found = next((s for s in sequence.steps if s.name.lower() == part.lower() or str(s.number) == part), None)
        if found is None:
            raise EditError(f"{sequence.name} has no step {part or '(empty)'}; type the name or number of a step")
        out.append(found.name)
    return tuple(out)
