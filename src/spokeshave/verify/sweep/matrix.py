"""What came of a sweep: faults x steps, how much of it is answered, and what is otherwise than what was accepted."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from spokeshave.model.project import Project
from spokeshave.model.sweep import Explained, SweepPlan
from spokeshave.verify.sweep.verdicts import Cell, Verdict

LETTERS = {"h": Verdict.HARMLESS, "r": Verdict.RECOVERED, "c": Verdict.CAUGHT, "s": Verdict.SILENT, "k": Verdict.STUCK,
           "!": Verdict.HAZARD}  # fmt: skip
LETTER_OF = {verdict: letter for letter, verdict in LETTERS.items()}
WORST = list(Verdict)
_AT = re.compile(r" at \d+ ms")


@dataclass(frozen=True, slots=True)
class Changed:
    """A cell that is otherwise than accepted; None for one that was not there."""

    cell: Cell
    accepted: Verdict | None

    @property
    def is_worse(self) -> bool:
        return self.accepted is None or WORST.index(self.cell.verdict) > WORST.index(self.accepted)


@dataclass(slots=True)
class Matrix:
    """Cells by fault and step, as they come. `faults` and `steps` are the rows and columns in their order."""

    cycle: str
    faults: tuple[str, ...]
    steps: tuple[str, ...]
    plan: SweepPlan = field(default_factory=SweepPlan)
    cells: dict[tuple[str, str], Cell] = field(default_factory=dict)
    said_first: tuple[str, ...] = ()
    """What the cycle leaves undone without any fault."""

    def add(self, cells: Iterable[Cell]) -> None:
        for c in cells:
            self.cells[c.fault, c.step] = c

    @property
    def whole(self) -> bool:
        return bool(self.cells) and len(self.cells) == len(self.faults) * len(self.steps)

    def counts(self) -> Counter[Verdict]:
        return Counter(c.verdict for c in self.cells.values())

    def in_order(self) -> list[Cell]:
        """The cells row by row."""
        there = (self.cells.get((f, s)) for f in self.faults for s in self.steps)
        return [c for c in there if c is not None]

    def worst_of(self, fault: str) -> Verdict | None:
        """The worst verdict of a row."""
        there = [self.cells[fault, s].verdict for s in self.steps if (fault, s) in self.cells]
        return max(there, key=WORST.index, default=None)

    def explained(self, cell: Cell) -> Explained | None:
        """Why this verdict is as it should be, if somebody said so."""
        return explanation(self.plan, cell)

    def open(self) -> list[Cell]:
        """Bad cells that nobody has explained."""
        return [c for c in self.in_order() if c.verdict.is_bad and self.explained(c) is None]

    @property
    def coverage(self) -> float:
        """Of the cells in which the fault made a difference, the part that was caught or recovered, 0 to 1."""
        counts = self.counts()
        noticed = counts[Verdict.CAUGHT] + counts[Verdict.RECOVERED]
        bad = sum(n for verdict, n in counts.items() if verdict.is_bad)
        return noticed / (noticed + bad) if noticed + bad else 1.0

    def summary(self) -> str:
        """One line: how many of each verdict, how much was noticed."""
        counts = self.counts()
        each = ", ".join(f"{counts[v]:,} {v.value}" for v in WORST if counts[v])
        return f"{len(self.cells):,} cells: {each}; of those that made a difference {100 * self.coverage:.1f} % noticed"

    def changed(self) -> list[Changed]:
        """Cells whose verdict is not the accepted one; empty without an accepted sweep."""
        rows = dict(self.plan.accepted)
        if not rows:
            return []
        then = {
            (fault, step): LETTERS.get(letter)
            for fault, letters in rows.items()
            for step, letter in zip(self.plan.steps, letters)
        }
        return [Changed(c, was) for c in self.in_order() if (was := then.get((c.fault, c.step))) is not c.verdict]


def explanation(plan: SweepPlan, cell: Cell) -> Explained | None:
    """What the plan says of a cell; an explanation holds for its verdict only, and for every step if it names none."""
    for e in plan.explained:
        same = e.fault.lower() == cell.fault.lower() and e.verdict == cell.verdict.value
        if same and e.step.lower() in ("", cell.step.lower()):
            return e
    return None


def alike(matrix: Matrix) -> list[list[Cell]]:
    """The bad cells, those of one fault with one verdict for one reason together."""
    found: dict[tuple[object, ...], list[Cell]] = {}
    for c in matrix.in_order():
        if c.verdict.is_bad:
            because = _AT.sub("", c.because)  # the same comes at another time in another step
            found.setdefault((c.fault, c.verdict, because, matrix.explained(c)), []).append(c)
    return list(found.values())


def explain(project: Project, cell: Cell, reason: str, every_step: bool = False) -> Project:
    """The machine file with a reason for a cell, in the place of the one it had; an empty reason takes it away."""
    plan = project.sweep
    old = explanation(plan, cell)
    kept = tuple(e for e in plan.explained if e is not old)
    new = (
        (Explained(cell.fault, "" if every_step else cell.step, cell.verdict.value, reason),) if reason.strip() else ()
    )
    return replace(project, sweep=replace(plan, explained=(*kept, *new)))


def accept_sweep(project: Project, matrix: Matrix, note: str = "") -> Project:
    """The machine file with this matrix as the accepted one, and its cycle as the one to sweep."""
    rows = tuple(
        (f, "".join(LETTER_OF[matrix.cells[f, s].verdict] if (f, s) in matrix.cells else "-" for s in matrix.steps))
        for f in matrix.faults
    )
    plan = replace(project.sweep, cycle=matrix.cycle, steps=matrix.steps, accepted=rows, note=note)
    return replace(project, sweep=plan)


def matrix_csv(matrix: Matrix) -> str:
    """A row a fault, a column a step, the verdicts in words."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(["fault", *matrix.steps])
    for f in matrix.faults:
        cells = (matrix.cells.get((f, s)) for s in matrix.steps)
        rows.writerow([f, *("" if c is None else c.verdict.value for c in cells)])
    return out.getvalue()
