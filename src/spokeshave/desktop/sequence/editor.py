"""Edits of the sequence in view, about what is selected: the sheet, the chart, menus and keys all use the same ones."""

from __future__ import annotations

import re
from collections.abc import Callable

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.document import Document
from spokeshave.desktop.selection import Selection
from spokeshave.engine.link_sequence import transition_place
from spokeshave.formats import sequencer_table
from spokeshave.formats.errors import FormatError
from spokeshave.formats.tables.grid import sheet_of_text
from spokeshave.formats.tables.headings import STEP_WORDS, find_heading
from spokeshave.language.rename import rename_step, renumber, with_room
from spokeshave.language.sub_sequences import run_in
from spokeshave.model import branch_edits, flow_edits, fragments
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.joining import joined
from spokeshave.model.project import Project, Sequence, Step
from spokeshave.reading import Reading, read_elsewhere

PROGRAM = re.compile(
    r"\s*(?:\(\*[\s\S]*?\*\)\s*|//[^\n]*\n\s*|\{[^{}]*\}\s*)*"
    r"(?:(?:PROGRAM|FUNCTION|FUNCTION_BLOCK)\s+\w+|TYPE\s+\w+\s*:|VAR_\w+\b|VAR\s)",
    re.IGNORECASE,
)
"""How the text of a program begins."""
Edit = Callable[[Project, str, str], Project]

EDITS: dict[str, tuple[str, Edit]] = {
    "after": ("Insert a step after {}", flow_edits.insert_step),
    "before": ("Insert a step before {}", flow_edits.insert_before),
    "alternative": ("Add an alternative after {}", branch_edits.add_alternative),
    "simultaneous": ("Add a simultaneous branch beside {}", branch_edits.add_simultaneous),
    "close": ("Close the branch at {}", branch_edits.close_branch),
    "branch": ("Delete the branch of {}", branch_edits.delete_branch),
    "initial": ("Begin with {}", flow_edits.make_initial),
}
"""What can be done at one step: the name of the edit and its function of project, sequence and step."""


def _is_foreign(text: str) -> bool:
    """Whether a text is a whole table of somebody else: its headings are known, and they are not those of rows copied here."""
    if "\t" not in text:
        return False
    try:
        sheet = sheet_of_text(text)
    except FormatError:
        return False
    heading = find_heading(sheet, STEP_WORDS)
    if heading is None:
        return False
    return heading.row > 0 or not sequencer_table.has_heads(sheet.rows[heading.row])


class SequenceEditor(QObject):
    """The edits of one page; `targets` gives the columns that copied rows have."""

    made = Signal(str)
    """A step that has just been made, for its name to be typed."""

    def __init__(self, document: Document, selection: Selection, targets: Callable[[Sequence], list[str]]) -> None:
        super().__init__()
        self.document, self.selection, self.targets = document, selection, targets
        self.current = ""
        """The sequence in view."""
        self.fallback: Callable[[], str] = lambda: ""
        """The step that edits are about when nothing of this sequence is selected."""

    # -- what edits are about

    @property
    def sequence(self) -> Sequence | None:
        return self.document.project.sequence(self.current)

    def _is_here(self) -> bool:
        return self.selection.place.sequence.lower() == self.current.lower()

    def step(self) -> str:
        """The selected step, or the step that the selected transition leaves."""
        p, q = self.selection.place, self.sequence
        if q is not None and self._is_here():
            if p.kind in ("step", "action") and q.step(p.step) is not None:
                return p.step
            if p.kind == "transition" and 0 <= p.index < len(q.transitions):
                return q.transitions[p.index].sources[-1]
        return self.fallback()

    def steps(self) -> tuple[str, ...]:
        """All selected steps, in listed order."""
        q = self.sequence
        if q is not None and self.selection.steps and self._is_here():
            return tuple(s.name for s in q.steps if s.name in self.selection.steps)
        step = self.step()
        return (step,) if step else ()

    def way(self) -> int | None:
        """The selected transition."""
        p, q = self.selection.place, self.sequence
        here = q is not None and self._is_here() and p.kind == "transition" and 0 <= p.index < len(q.transitions)
        return p.index if here else None

    # -- edits

    def _apply(self, name: str, change: Callable[[Project], Project], named: bool = False) -> bool:
        """A named edit, with renumbering where no number is left; a new step is selected, and told for its name to be typed, unless it is `named`."""
        before = {s.name for s in self.sequence.steps} if self.sequence else set()
        if not self.document.edit(name, lambda p: with_room(p, self.current, change)):
            return False
        after: tuple[Step, ...] = self.sequence.steps if self.sequence else ()
        new = tuple(s.name for s in after if s.name not in before)
        if new:
            self.selection.set(Place("step", self.current, new[0]), new)
            if len(new) == 1 and not named:
                self.made.emit(new[0])
        return True

    def do(self, kind: str, step: str = "") -> bool:
        """One of `EDITS` at `step`, or at the selected step; a range of steps gets one branch beside all of it."""
        step = step or self.step()
        if not step:
            return False
        title, edit = EDITS[kind]
        steps = self.steps()
        if kind == "simultaneous" and len(steps) > 1 and step in steps:
            first, last = steps[0], steps[-1]
            return self._apply(
                f"Add a simultaneous branch beside {first} to {last}",
                lambda p: branch_edits.add_simultaneous(p, self.current, first, last),
            )
        return self._apply(title.format(step), lambda p: edit(p, self.current, step))

    def add_named(self, step: str, name: str) -> bool:
        """A step of this name behind `step`, in one edit."""

        def change(p: Project) -> Project:
            with_new = flow_edits.insert_step(p, self.current, step)
            before, after = p.sequence(self.current), with_new.sequence(self.current)
            assert before is not None and after is not None
            (new,) = {s.name for s in after.steps} - {s.name for s in before.steps}
            return rename_step(with_new, self.current, new, name)

        return self._apply(f"Add step {name}", change, named=True)

    def others(self) -> list[str]:
        """The sequences beside this one."""
        return [q.name for q in self.document.project.sequences if q.name.lower() != self.current.lower()]

    def run(self, step: str, other: str) -> bool:
        """Lets a step run another sequence."""
        return self._apply(f"{step} runs {other}", lambda p: run_in(p, self.current, step, other))

    def why_not_run(self, step: str, other: str) -> str:
        """Why a step cannot run a sequence; empty where it can."""
        try:
            run_in(self.document.project, self.current, step, other)
        except EditError as error:
            return str(error)
        return ""

    def why_not(self, kind: str, step: str) -> str:
        """Why one of `EDITS` is not legal at `step`; empty where it is."""
        try:
            with_room(self.document.project, self.current, lambda p: EDITS[kind][1](p, self.current, step))
        except EditError as error:
            return str(error)
        return ""

    def why_not_behind(self, step: str, after: str) -> str:
        """Why `step` cannot be moved behind `after`; empty where it can."""
        try:
            flow_edits.place_behind(self.document.project, self.current, step, after)
        except EditError as error:
            return str(error)
        return ""

    def add_way(self, target: str = "") -> bool:
        """Another way out of the selected step, with a condition to be written, which is selected."""
        step, q = self.step(), self.sequence
        if not step or q is None:
            return False
        goal = target or q.initial
        if not self._apply(
            f"Add a way from {step} to {goal}", lambda p: branch_edits.add_transition(p, self.current, step, goal)
        ):
            return False
        if (now := self.sequence) is not None and (ways := list(now.leaving(step))):
            self.selection.set(transition_place(now, ways[-1][0]))
        return True

    def jump(self, target: str) -> bool:
        """Leads the selected transition, or the last way out of the selected step, to `target`."""
        step, way = self.step(), self.way()
        if way is not None:
            change = lambda p: flow_edits.change_transition(p, self.current, way, targets=(target,))  # noqa: E731
        else:
            change = lambda p: branch_edits.jump_to(p, self.current, step, target)  # noqa: E731
        return bool(step) and self._apply(f"Lead {step} to {target}", change)

    def place_behind(self, step: str, after: str) -> bool:
        return self._apply(
            f"Move {step} behind {after}", lambda p: flow_edits.place_behind(p, self.current, step, after)
        )

    def delete(self) -> bool:
        """Deletes the selected way out, where its step has several, or the selected steps."""
        way, steps, q = self.way(), self.steps(), self.sequence
        if q is None or not steps:
            return False
        if way is not None:
            step = q.transitions[way].sources[-1]
            return self._apply(
                f"Delete a way out of {step}", lambda p: branch_edits.remove_transition(p, self.current, way)
            )
        name = steps[0] if len(steps) == 1 else f"{len(steps)} steps"
        row = next(i for i, s in enumerate(q.steps) if s.name == steps[0])
        if not self._apply(f"Delete {name}", lambda p: fragments.delete_steps(p, self.current, steps)):
            return False
        left = self.sequence.steps if self.sequence else ()
        if left:
            self.selection.set(Place("step", self.current, left[min(row, len(left) - 1)].name))
        return True

    def move_row(self, by: int) -> bool:
        steps = self.steps()
        name = steps[0] if len(steps) == 1 else f"{len(steps)} steps"
        moved = bool(steps) and self._apply(f"Move {name}", lambda p: flow_edits.move_steps(p, self.current, steps, by))
        if moved:
            self.selection.changed.emit()
        return moved

    def renumber(self, spacing: int) -> bool:
        return self.document.edit(f"Renumber {self.current}", lambda p: renumber(p, self.current, spacing))

    # -- blocks

    def copy(self) -> None:
        """The selected steps as rows on the clipboard: here they paste as a block, in a spreadsheet as cells."""
        q, steps = self.sequence, self.steps()
        clipboard = QApplication.clipboard()
        if q is not None and steps and clipboard is not None:
            clipboard.setText(sequencer_table.to_text(sequencer_table.table_of(q, self.targets(q), steps)))

    def cut(self) -> bool:
        """The selected steps as rows on the clipboard, and out of the chart: pasted elsewhere, they keep their names."""
        self.copy()
        return self.delete()

    def paste(self) -> bool:
        """Rows from the clipboard become steps behind the selected one."""
        clipboard, q, step = QApplication.clipboard(), self.sequence, self.step()
        text = clipboard.text() if clipboard is not None else ""
        if PROGRAM.match(text):
            return self._paste_program(text)
        if _is_foreign(text):
            self.document.show_table(sheet_of_text(text))
            return True
        if q is None or not step:
            return False
        if not text.strip():
            self.document.refused.emit("the clipboard has no rows; copy steps here or rows in a spreadsheet first")
            return False

        def change(p: Project) -> Project:
            here = p.sequence(self.current)
            assert here is not None
            block = sequencer_table.block_from(sequencer_table.from_text(text), here, self.targets(here))
            if fragments.is_starter(here):
                return fragments.replace_starter(p, self.current, block)
            return fragments.paste_block(p, self.current, step, block)[0]

        return self._apply(f"Paste after {step}", change)

    def _paste_program(self, text: str) -> bool:
        """A program becomes sequences beside those that are there, with its signals and logic."""

        def whole(found: Reading | str) -> None:
            if isinstance(found, str):
                self.document.refused.emit(f"the text on the clipboard: {found}")
                return
            names = ", ".join(q.name for q in found.project.sequences)
            if self._apply(f"Paste {names}", lambda p: joined(p, found.project)):
                self.document.tell_reading(found, None)
                self.selection.set(Place("sequence", item=found.project.sequences[0].name))

        self.document.in_process("Reads what is pasted, and runs it beside its text", whole, read_elsewhere, text)
        return True

    def duplicate(self) -> bool:
        steps = self.steps()
        name = steps[0] if len(steps) == 1 else f"{len(steps)} steps"
        return bool(steps) and self._apply(
            f"Duplicate {name}", lambda p: fragments.duplicate(p, self.current, steps)[0]
        )
