"""Several scenarios at once in processes of their own, with progress and cancel.

desktop or command --project, scenario--> process: ScenarioRun in pieces --Result without the live run--> poll()
"""

from __future__ import annotations

from concurrent.futures import Future
from concurrent.futures.process import BrokenProcessPool
from dataclasses import replace

from spokeshave.engine.link import LinkError
from spokeshave.model.project import Project, Scenario
from spokeshave.verify import processes
from spokeshave.verify.accepted import lanes_of
from spokeshave.verify.progress import EndedError, look
from spokeshave.verify.scenarios import Result, ScenarioRun

PIECE = 200
"""Scans between two looks at whether the batch was cancelled."""


def _work(project: Project, scenario: Scenario) -> Result | str:
    """In a process: the result, or why the machine file cannot run."""
    try:
        run = ScenarioRun(project, scenario)
    except LinkError as error:
        return str(error.found[0])
    while run.advance(PIECE):
        look(run.part)
    return portable(run.result())


def portable(result: Result) -> Result:
    """A result that can go to another process: without its live runs, which belong to this one."""
    runs = (r if r.live is None else replace(r, live=None, lanes=lanes_of(r)) for r in result.runs)
    return replace(result, runs=tuple(runs))


class Batch:
    """Scenarios on their way. `poll` from time to time until `done`. `jobs` processes are started, else one a processor."""

    def __init__(self, project: Project, scenarios: list[Scenario], jobs: int = 0) -> None:
        self.scenarios = scenarios
        self.results: dict[int, Result] = {}
        """By the place of the scenario in the batch."""
        self.problem = ""
        """Why the batch cannot run."""
        self._waiting: dict[int, Future[Result | str]] = {}
        executor = processes.executor(jobs)
        for i, s in enumerate(scenarios):
            try:
                self._waiting[i] = executor.submit(_work, project, s)
            except (BrokenProcessPool, RuntimeError) as error:
                self._break(error)
                return

    @property
    def done(self) -> bool:
        return not self._waiting

    @property
    def part(self) -> float:
        """How much is done, 0 to 1."""
        under_way = sum(map(processes.part, self._waiting.values()))
        return (len(self.results) + under_way) / max(1, len(self.scenarios))

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
            if future.cancelled():
                continue
            try:
                found = future.result()
            except EndedError:
                continue
            except BrokenProcessPool as error:
                self._break(error)
                return new
            except Exception as error:  # a fault of the program in another process is told, not thrown at the window
                self.problem = f"{self.scenarios[i].name} could not be run: {type(error).__name__}: {error}"
                continue
            if isinstance(found, Result):
                self.results[i] = found
                new.append(found)
            else:
                self.problem = found
        return new

    def cancel(self) -> None:
        """Ends what runs; a scenario half run gives no result."""
        for future in self._waiting.values():
            processes.end(future)

    def _break(self, error: Exception) -> None:
        """A process died, for example for want of memory: others are started with the next batch."""
        self.problem = f"a process that ran scenarios has died ({error}); run them again"
        self._waiting = {}
        processes.let_go()
