"""Several scenarios at once in processes of their own, with progress and cancel.

    desktop or command --project, scenario--> process: ScenarioRun in pieces --Result without the live run--> poll()

The processes are started with the first batch and stay for the next ones.
"""

from __future__ import annotations

import os
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, replace
from multiprocessing import get_context
from typing import Any

from spokeshave.engine.link import LinkError
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.accepted import lanes_of
from spokeshave.verify.scenarios import Result, ScenarioRun

PIECE = 200
"""Scans between two looks at whether the batch was cancelled."""

SLOTS = 1024
"""Places for the progress of runs that are under way."""

_progress: Any = None
_cancelled: Any = None


def _take_shared(progress: Any, cancelled: Any) -> None:
    """The shared memory of a process: how far each run is, and the last batch that was cancelled."""
    global _progress, _cancelled
    _progress, _cancelled = progress, cancelled


def _work(batch: int, slot: int, project: Project, scenario: Scenario) -> Result | str | None:
    """In a process: the result, why the machine file cannot run, or None where the batch was cancelled."""
    try:
        run = ScenarioRun(project, scenario)
    except LinkError as error:
        return str(error.found[0])
    while run.advance(PIECE):
        _progress[slot] = run.part
        if _cancelled.value >= batch:
            return None
    _progress[slot] = 1.0
    result = run.result()
    # The live runs belong to this process.
    return replace(result, runs=tuple(replace(r, live=None, lanes=lanes_of(r)) for r in result.runs))


@dataclass
class _Pool:
    executor: ProcessPoolExecutor
    progress: Any
    cancelled: Any
    batches: int = 0


_pool: _Pool | None = None


def _processes(jobs: int) -> _Pool:
    global _pool
    if _pool is None:
        context = get_context("spawn")
        progress, cancelled = context.Array("d", SLOTS, lock=False), context.Value("i", 0)
        # The count of processors this program may use, not of those there are.
        executor = ProcessPoolExecutor(
            jobs or len(os.sched_getaffinity(0)), context, _take_shared, (progress, cancelled)
        )
        _pool = _Pool(executor, progress, cancelled)
    return _pool


def executor() -> ProcessPoolExecutor:
    """The processes themselves, for other work of the proof."""
    return _processes(0).executor


def let_go() -> None:
    """Ends the processes; the next batch starts others."""
    global _pool
    if _pool is not None:
        _pool.cancelled.value = _pool.batches
        _pool.executor.shutdown(wait=True, cancel_futures=True)
        _pool = None


class Batch:
    """Scenarios on their way. `poll` from time to time until `done`. `jobs` processes are started, else one a processor."""

    def __init__(self, project: Project, scenarios: list[Scenario], jobs: int = 0) -> None:
        self.scenarios = scenarios
        self.results: dict[int, Result] = {}
        """By the place of the scenario in the batch."""
        self.problem = ""
        """Why the batch cannot run."""
        self._pool = pool = _processes(jobs)
        pool.batches += 1
        self._number = pool.batches
        self._waiting: dict[int, Future[Result | str | None]] = {}
        for i, s in enumerate(scenarios):
            pool.progress[i % SLOTS] = 0.0
            try:
                self._waiting[i] = pool.executor.submit(_work, self._number, i % SLOTS, project, s)
            except (BrokenProcessPool, RuntimeError) as error:
                self._break(error)
                return

    @property
    def done(self) -> bool:
        return not self._waiting

    @property
    def part(self) -> float:
        """How much is done, 0 to 1."""
        under_way = sum(self._pool.progress[i % SLOTS] for i in self._waiting)
        return (len(self.results) + float(under_way)) / max(1, len(self.scenarios))

    @property
    def names(self) -> list[str]:
        """The scenarios that are under way."""
        return [self.scenarios[i].name for i, f in self._waiting.items() if f.running()]

    def poll(self) -> list[Result]:
        """Results that have come since the last look."""
        new: list[Result] = []
        for i, future in list(self._waiting.items()):
            if not future.done():
                continue
            del self._waiting[i]
            try:
                found = None if future.cancelled() else future.result()
            except BrokenProcessPool as error:
                self._break(error)
                return new
            except Exception as error:  # a fault of the program in another process is told, not thrown at the window
                self.problem = f"{self.scenarios[i].name} could not be run: {type(error).__name__}: {error}"
                continue
            if isinstance(found, Result):
                self.results[i] = found
                new.append(found)
            elif found is not None:
                self.problem = found
        return new

    def cancel(self) -> None:
        """Ends what runs; a scenario half run gives no result."""
        self._pool.cancelled.value = max(self._pool.cancelled.value, self._number)
        for future in self._waiting.values():
            future.cancel()

    def _break(self, error: Exception) -> None:
        """A process died, for example for want of memory: others are started with the next batch."""
        self.problem = f"a process that ran scenarios has died ({error}); run them again"
        self._waiting = {}
        let_go()
