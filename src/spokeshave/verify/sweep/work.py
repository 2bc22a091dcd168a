"""A sweep on its way, in any `concurrent.futures` executor: processes here, or a cluster.

    Sweep ──submit(a few cells of one step)──> executor ──cells──> poll() ──> matrix

What is sent is the machine file and which cells; each process runs the reference cycle once and keeps it.
"""

from __future__ import annotations

import hashlib
import os
import pickle
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from functools import lru_cache
from multiprocessing import get_context

from spokeshave.model.project import Project
from spokeshave.verify.sweep.faults import faults_of
from spokeshave.verify.sweep.matrix import Matrix
from spokeshave.verify.sweep.reference import Reference
from spokeshave.verify.sweep.verdicts import Cell, try_out

FEW = 12
"""Cells that are sent at once: enough to be worth the way, few enough to see them come and to cancel."""


class _Sent:
    """A machine file on its way to a process, known there by its digest."""

    def __init__(self, project: Project) -> None:
        self.data = pickle.dumps(project)
        self.digest = hashlib.sha256(self.data).hexdigest()

    def __hash__(self) -> int:
        return hash(self.digest)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Sent) and self.digest == other.digest


@lru_cache(maxsize=2)
def _reference(sent: _Sent, cycle: str, reset: str) -> Reference:
    project: Project = pickle.loads(sent.data)
    return Reference(project, cycle, reset)


def run_cells(sent: _Sent, cycle: str, reset: str, faults: tuple[int, ...], step: int) -> list[Cell]:
    """In a process: some faults in one step."""
    reference = _reference(sent, cycle, reset)
    known = faults_of(reference.project)
    return [try_out(reference, known[f], reference.steps[step]) for f in faults]


def processes(jobs: int = 0) -> Executor:
    """Processes for sweeps: `jobs` of them, else one for each processor this program may use."""
    return ProcessPoolExecutor(jobs or len(os.sched_getaffinity(0)), get_context("spawn"))


class Sweep:
    """A sweep on its way: `poll` from time to time until `done`. Without an executor, `poll` runs some cells itself.

    Raises `SweepError` for a cycle that cannot be swept, `LinkError` for a machine file that cannot run.
    """

    def __init__(self, project: Project, cycle: str = "", reset: str = "", executor: Executor | None = None) -> None:
        self.project = project
        self.reference = Reference(project, cycle, reset)
        self.faults = faults_of(self.reference.project)
        names = tuple(map(self.reference.name, self.reference.steps))
        self.matrix = Matrix(self.reference.scenario.name, tuple(f.name for f in self.faults), names, project.sweep)
        self.problem = ""
        """Why it cannot go on."""
        self._here: list[tuple[tuple[int, ...], int]] = []
        self._waiting: list[Future[list[Cell]]] = []
        every = range(len(self.faults))
        pieces = [(tuple(every[n : n + FEW]), step) for n in every[::FEW] for step in range(len(names))]
        if executor is None:
            self._here = pieces
            return
        sent = _Sent(project)
        for faults, step in pieces:
            self._waiting.append(executor.submit(run_cells, sent, cycle, reset, faults, step))

    @property
    def done(self) -> bool:
        return not (self._here or self._waiting)

    @property
    def part(self) -> float:
        """How much is done, 0 to 1."""
        return len(self.matrix.cells) / max(1, len(self.matrix.faults) * len(self.matrix.steps))

    def poll(self) -> list[Cell]:
        """Cells that have come since the last look."""
        new: list[Cell] = []
        if self._here:
            faults, step = self._here.pop(0)
            new = [try_out(self.reference, self.faults[f], self.reference.steps[step]) for f in faults]
        for future in [f for f in self._waiting if f.done()]:
            self._waiting.remove(future)
            if future.cancelled():
                continue
            try:
                new += future.result()
            except BrokenProcessPool as error:
                self.problem = f"a process of the sweep has died ({error}); run it again"
                self.cancel()
                break
            except Exception as error:  # a fault of the program elsewhere is told, not thrown at the window
                self.problem = f"a cell could not be run: {type(error).__name__}: {error}"
        self.matrix.add(new)
        return new

    def cancel(self) -> None:
        """Leaves out what has not begun; the cells there are stay."""
        self._here = []
        for future in self._waiting:
            future.cancel()
        self._waiting = []


def sweep(project: Project, cycle: str = "", reset: str = "") -> Matrix:
    """The whole sweep in this process."""
    run = Sweep(project, cycle, reset)
    while not run.done:
        run.poll()
    return run.matrix
