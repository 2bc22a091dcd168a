"""A sweep on its way, in any `concurrent.futures` executor: processes here, or a cluster.

    Sweep ──submit(part of a row)──> executor ──cells──> poll() ──> matrix

What is sent is the machine file and which cells; each process runs the reference cycle once and keeps it.
"""

from __future__ import annotations

import hashlib
import pickle
from concurrent.futures import Executor, Future
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from functools import lru_cache
from typing import TypeVar

from spokeshave.engine.link import LinkError
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.project import Project, Scenario
from spokeshave.verify import processes
from spokeshave.verify.progress import EndedError, look
from spokeshave.verify.sweep.audit import audit
from spokeshave.verify.sweep.cycle import SweepError
from spokeshave.verify.sweep.faults import faults_of
from spokeshave.verify.sweep.matrix import Matrix
from spokeshave.verify.sweep.reference import Reference
from spokeshave.verify.sweep.trial import Trial
from spokeshave.verify.sweep.verdicts import Cell, try_in
from spokeshave.verify.sweep.watch import Entry

T = TypeVar("T")

PART = 10
"""Steps of a row that are sent at once: enough to share runs, few enough to be spread evenly and to be cancelled."""


class Sent:
    """A machine file on its way to a process, known there by its digest."""

    def __init__(self, project: Project) -> None:
        self.data = pickle.dumps(project)
        self.digest = hashlib.sha256(self.data).hexdigest()

    def __hash__(self) -> int:
        return hash(self.digest)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sent) and self.digest == other.digest


@lru_cache(maxsize=2)
def _reference(sent: Sent, cycle: str, reset: str) -> Reference:
    project: Project = pickle.loads(sent.data)
    return Reference(project, cycle, reset)


@lru_cache(maxsize=4)
def _known(sent: Sent, cycle: str, reset: str, fault: int) -> dict[Entry, Cell]:
    """What this process has tried of one fault: parts of a row share the runs in which it sleeps."""
    return {}


@dataclass(frozen=True, slots=True)
class Described:
    """What is to be swept: rows and columns of the matrix, or why it cannot be."""

    cycle: str
    faults: tuple[str, ...] = ()
    steps: tuple[str, ...] = ()
    problem: str = ""


@dataclass(frozen=True, slots=True)
class Played:
    """The run behind a cell and the one of its reference, as what was done in them and for how many scans."""

    project: Project
    scenario: Scenario
    done: tuple[Stimulus, ...]
    scans: int
    reference_done: tuple[Stimulus, ...]
    reference_scans: int


def describe(sent: Sent, cycle: str, reset: str) -> Described:
    """In a process: what is to be swept."""
    try:
        reference = _reference(sent, cycle, reset)
    except (SweepError, LinkError) as error:
        return Described(cycle, problem=str(error))
    faults = tuple(f.name for f in faults_of(reference.project))
    return Described(reference.scenario.name, faults, tuple(map(reference.name, reference.steps)))


def look_at_reference(sent: Sent, cycle: str, reset: str) -> tuple[str, ...]:
    """In a process: what the cycle leaves undone itself, see `audit`."""
    return audit(_reference(sent, cycle, reset))


def run_cells(sent: Sent, cycle: str, reset: str, fault: int, first: int) -> list[Cell]:
    """In a process: one fault in `PART` steps."""
    reference = _reference(sent, cycle, reset)
    steps, known = reference.steps[first : first + PART], _known(sent, cycle, reset, fault)
    cells = []
    for cell in try_in(reference, faults_of(reference.project)[fault], steps, known):
        look()
        cells.append(cell)
    return cells


def play(sent: Sent, cycle: str, reset: str, fault: str, step: str) -> Played:
    """In a process: the run behind one cell, for looking at."""
    reference = _reference(sent, cycle, reset)
    known = next(f for f in faults_of(reference.project) if f.name == fault)
    seen = Trial(reference, known, next(x for x in reference.steps if reference.name(x) == step)).run()
    session = reference.session
    done = tuple(st for st, _ in session.log[: session.next_stimulus])
    return Played(reference.project, reference.scenario, seen.done, seen.end, done, session.k)


class Sweep:
    """A sweep on its way: `poll` from time to time until `done`. Without an executor, `poll` runs some cells itself."""

    def __init__(self, project: Project, cycle: str = "", reset: str = "", executor: Executor | None = None) -> None:
        self.project = project
        self.executor = executor
        self.matrix = Matrix(cycle, (), (), project.sweep)
        self.problem = ""
        """Why it cannot be swept, or cannot go on."""
        self._asked = (Sent(project), cycle, reset)
        self._here: list[tuple[int, int]] = []
        self._waiting: list[Future[list[Cell]]] = []
        self._described: Future[Described] | None = None
        self._audited: Future[tuple[str, ...]] | None = None
        if executor is None:
            self._take(describe(*self._asked))
            if not self.problem:
                self.matrix.said_first = look_at_reference(*self._asked)
        else:
            self._described = executor.submit(describe, *self._asked)

    def _take(self, found: Described) -> None:
        """Now that rows and columns are known, every cell is asked for."""
        self.problem = found.problem
        self.matrix = Matrix(found.cycle, found.faults, found.steps, self.project.sweep)
        pieces = [(f, first) for f in range(len(found.faults)) for first in range(0, len(found.steps), PART)]
        if self.executor is None:
            self._here = pieces
            return
        for piece in pieces:
            self._waiting.append(self.executor.submit(run_cells, *self._asked, *piece))
            if self._audited is None:  # behind the first cells, which somebody waits for
                self._audited = self.executor.submit(look_at_reference, *self._asked)

    @property
    def done(self) -> bool:
        return self._described is None and self._audited is None and not (self._here or self._waiting)

    @property
    def part(self) -> float:
        """How much is done, 0 to 1."""
        return len(self.matrix.cells) / max(1, len(self.matrix.faults) * len(self.matrix.steps))

    def poll(self) -> list[Cell]:
        """Cells that have come since the last look."""
        new: list[Cell] = []
        if self._here:
            new = run_cells(*self._asked, *self._here.pop(0))
        described = self._described
        if described is not None and described.done():
            self._described = None
            if (found := self._result(described)) is not None:
                self._take(found)
        audited = self._audited
        if audited is not None and audited.done():
            self._audited = None
            self.matrix.said_first = self._result(audited) or ()
        for future in [f for f in self._waiting if f.done()]:
            self._waiting.remove(future)
            cells: list[Cell] | None = self._result(future)
            new += cells or []
        self.matrix.add(new)
        return new

    def _result(self, future: Future[T]) -> T | None:
        """What came back; None with a problem where nothing did."""
        if future.cancelled():
            return None
        try:
            return future.result()
        except EndedError:
            return None
        except BrokenProcessPool as error:
            self.problem = f"a process of the sweep has died ({error}); run it again"
            self.cancel()
        except Exception as error:  # a fault of the program elsewhere is told, not thrown at the window
            self.problem = f"a cell could not be run: {type(error).__name__}: {error}"
        return None

    def cancel(self) -> None:
        """Ends what is under way; the cells there are stay."""
        self._here = []
        for future in (self._described, self._audited, *self._waiting):
            if future is not None:
                processes.end(future)
        self._described = self._audited = None
        self._waiting = []


def sweep(project: Project, cycle: str = "", reset: str = "") -> Matrix:
    """The whole sweep in this process. Raises `SweepError` where it cannot be done."""
    run = Sweep(project, cycle, reset)
    while not run.done:
        run.poll()
    if run.problem:
        raise SweepError(run.problem)
    return run.matrix
