"""The room of a machine file, in any `concurrent.futures` executor: a knob a piece of work, and draws by the dozen.

    Room ──submit(measure), then submit(knob) and submit(draws)──> executor ──windows, limits, draws──> poll() ──> report

Passing runs are measured first: on what they say the rest hangs.
"""

from __future__ import annotations

import csv
import io
import pickle
from concurrent.futures import Executor
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from spokeshave.engine.link import LinkError
from spokeshave.language.sub_sequences import written_out
from spokeshave.model.project import Project
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.pieces import Pieces
from spokeshave.verify.progress import look
from spokeshave.verify.room.drawn import Draw, Drawn, cycle_of, draw
from spokeshave.verify.room.knobs import Knob, knobs_of
from spokeshave.verify.room.limits import Judge, Limit, limits_of
from spokeshave.verify.room.path import Leg, critical_path
from spokeshave.verify.room.tolerances import tolerances_text
from spokeshave.verify.room.windows import Window, windows
from spokeshave.verify.scenarios import run_all
from spokeshave.verify.sweep.cycle import cycles_of
from spokeshave.verify.sweep.work import Sent

DOZEN = 12


@lru_cache(maxsize=2)
def _judge(sent: Sent) -> Judge:
    project: Project = pickle.loads(sent.data)
    return Judge(project, run_all(project))


@dataclass(frozen=True, slots=True)
class Measured:
    """What passing runs say by themselves: `problem` where none passes, else windows, the path of a cycle, and what can be turned."""

    problem: str = ""
    failing: tuple[str, ...] = ()
    windows: tuple[Window, ...] = ()
    cycle: str = ""
    path: tuple[Leg, ...] = ()
    knobs: tuple[Knob, ...] = ()


def _measure(sent: Sent) -> Measured:
    """In a process: the first piece of work, on which the others hang."""
    project: Project = pickle.loads(sent.data)
    try:
        results = run_all(project)
    except LinkError as error:
        return Measured(str(error.found[0]))
    passing = [r for r in results if r.outcome is Outcome.PASS]
    failing = tuple(r.scenario.name for r in results if r.outcome is not Outcome.PASS)
    if not passing:
        return Measured("no scenario passes: room is measured in runs that do", failing)
    traces = [(r.scenario.name, run.session().trace) for r in passing for run in r.runs]
    names = [r.scenario.name for r in passing]
    wanted = [n for n in (project.sweep.cycle, *(s.name for s in cycles_of(project)), *names) if n in names]
    first = dict(reversed(traces))
    q = project.sequences[0] if project.sequences else None
    whole = (n for n in wanted if q is not None and cycle_of(q, first[n]))  # one in which the machine goes round
    cycle = next(whole, wanted[0])
    trace = first[cycle]
    run = written_out(project)  # what a step awaits whose sequence runs another is said there
    path = critical_path(run, run.sequences[0], trace) if run.sequences else []
    knobs = knobs_of(project, [r.scenario for r in passing])
    return Measured("", failing, tuple(windows(project, traces)), cycle, tuple(path), tuple(knobs))


def _turn(sent: Sent, knob: Knob) -> list[Limit]:
    """In a process: how far one knob can be turned."""
    look(0.0)
    return limits_of(_judge(sent), knob)


def _draw(sent: Sent, cycle: str, tolerance: float, seed: int, numbers: tuple[int, ...]) -> list[Draw]:
    """In a process: some draws."""
    judge, found = _judge(sent), []
    scenario = judge.project.scenario(cycle)
    assert scenario is not None
    knobs = knobs_of(judge.project, ())
    for n, number in enumerate(numbers):
        look(n / len(numbers))
        found.append(draw(judge.project, scenario, knobs, tolerance, seed, number))
    return found


@dataclass
class RoomReport:
    """What is known: `windows` from measured runs, `limits` of knobs, `drawn` with all tolerances, `path` of the cycle."""

    project: Project
    windows: list[Window] = field(default_factory=list)
    limits: list[Limit] = field(default_factory=list)
    draws: list[Draw] = field(default_factory=list)
    path: list[Leg] = field(default_factory=list)
    cycle: str = ""
    tolerance: float = 0.0
    failing: tuple[str, ...] = ()

    @property
    def drawn(self) -> Drawn:
        """The draws in their order."""
        return Drawn(tuple(sorted(self.draws, key=lambda d: d.number)))

    @property
    def nearest(self) -> list[Limit]:
        """The limits that were found, the nearest first: devices and settings by the part of their value, then hands."""
        found = [x for x in self.limits if x.fails is not None]
        return sorted(found, key=lambda x: (x.knob.kind == "hand", x.room))

    def lines(self) -> list[str]:
        """For people."""
        out = [f"{n} does not pass and was not asked" for n in self.failing]
        for w in self.windows:
            if w.kind == "wait":
                out.append(
                    f"{w.place}: waits {_s(w.limit)}; {w.what} after {_s(w.measured)}, {_s(w.left)} of it to spare ({w.scenario})"
                )
            else:
                out.append(
                    f"{w.place}: {w.kind} {_s(w.limit)}, measured {_s(w.measured)}, {_s(w.left)} left ({w.scenario})"
                )
        out += [x.said() for x in self.nearest]
        whole = [x.knob.words for x in self.limits if x.fails is None and x.up]
        out += [f"as far as was looked nothing fails with: {', '.join(whole)}"] if whole else []
        if self.drawn.draws:
            own = tolerances_text(self.project.tolerances)
            out.append(f"tolerance {100 * self.tolerance:g} %{f', {own}' if own else ''}, {self.cycle}:")
            out += self.drawn.said()
        if self.path:
            out.append(
                f"the cycle of {self.cycle} takes {_s(self.path[-1].end - self.path[0].begin)}; it waits longest on"
            )
            out += [
                f"  {_s(x.end - x.begin)} in {x.step}: {x.waited_on}"
                for x in sorted(self.path, key=lambda x: x.begin - x.end)[:8]
            ]
        return out

    def data(self) -> dict[str, Any]:
        """For `--json`."""
        return {
            "windows": [{"place": str(w.place), "kind": w.kind, "limit_ms": w.limit, "measured_ms": w.measured, "left_ms": w.left,
                         "scenario": w.scenario, "what": w.what} for w in self.windows],
            "limits": [{"kind": x.knob.kind, "name": x.knob.name, "usual": x.knob.usual, "up": x.up, "holds": x.holds, "fails": x.fails,
                        "what": x.what} for x in self.limits],
            "draws": {"tolerance": self.tolerance, "own": [[n, p] for n, p in self.project.tolerances],
                      "cycle": self.cycle, "runs": len(self.draws), "passed": self.drawn.passed,
                      "failed_first": [[w, n] for w, n in self.drawn.failed_first], "cycles_ms": self.drawn.cycles},
            "path": [{"step": x.step, "begin_ms": x.begin, "end_ms": x.end, "waited_on": x.waited_on} for x in self.path],
        }  # fmt: skip

    def csv(self) -> str:
        """A line a window and a limit."""
        out = io.StringIO()
        to = csv.writer(out, lineterminator="\n")
        to.writerow(("what", "kind", "limit or usual", "measured or holds", "left", "fails first"))
        to.writerows((str(w.place), w.kind, w.limit, w.measured, w.left, w.scenario) for w in self.windows)
        to.writerows((x.knob.words, x.knob.kind, x.knob.usual, x.holds, x.room, x.what) for x in self.limits)
        return out.getvalue()


def _s(ms: int) -> str:
    return f"{ms / 1000:g} s"


class Room(Pieces):
    """On its way. `poll` from time to time until `done`; without an `executor` each poll turns one knob here."""

    def __init__(
        self, project: Project, executor: Executor | None = None, tolerance: float = 0.1, draws: int = 100, seed: int = 0,
        turn: bool = True,
    ) -> None:  # fmt: skip
        """`turn` says whether knobs are turned too; without it only measured times, draws and path are given."""
        super().__init__(executor)
        self.report = RoomReport(project, tolerance=tolerance)
        self._sent, self._draws, self._seed, self._turns = Sent(project), draws, seed, turn
        self._all = 1
        self.add([(_measure, self._sent)])

    @property
    def part(self) -> float:
        """How much is done, 0 to 1."""
        return 1.0 - self.waiting / self._all

    def take(self, found: Measured | list[Limit] | list[Draw]) -> None:
        """Takes in what was measured, found or drawn."""
        if isinstance(found, Measured):
            self._take_measured(found)
            return
        for x in found:
            if isinstance(x, Limit):
                self.report.limits.append(x)
            else:
                self.report.draws.append(x)

    def _take_measured(self, found: Measured) -> None:
        report = self.report
        self.problem, report.failing = found.problem, found.failing
        report.windows, report.path, report.cycle = list(found.windows), list(found.path), found.cycle
        if found.problem:
            return
        works: list[tuple[Any, ...]] = [(_turn, self._sent, k) for k in found.knobs] if self._turns else []
        numbers = range(self._draws)
        dozens = (tuple(numbers[i : i + DOZEN]) for i in range(0, self._draws, DOZEN))
        works += [(_draw, self._sent, found.cycle, report.tolerance, self._seed, some) for some in dozens]
        self._all = 1 + len(works)
        self.add(works)
