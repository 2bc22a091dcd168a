"""All mistakes of a machine file on their way, in any `concurrent.futures` executor: processes here, or a cluster.

    Strength ──submit(some mistakes)──> executor ──judged──> poll() ──> Report

What is sent is the machine file and which mistakes; each process plants them itself, and runs the scenarios without any once.
"""

from __future__ import annotations

import pickle
import random
from concurrent.futures import Executor
from functools import lru_cache

from spokeshave.engine.link import LinkError
from spokeshave.model.project import Project
from spokeshave.verify.pieces import Pieces
from spokeshave.verify.progress import look
from spokeshave.verify.strength.noticed import Judge, Judged
from spokeshave.verify.strength.planted import Mistake, planted
from spokeshave.verify.strength.report import Report
from spokeshave.verify.sweep.work import Sent

PART = 6
"""Mistakes that are sent at once: few enough that the first come soon, and to be cancelled."""
FIRST = 4
"""Mistakes that are sent alone, before the others: somebody waits for the first."""


@lru_cache(maxsize=2)
def _judge(sent: Sent, study: bool) -> tuple[Judge, list[Mistake]]:
    project: Project = pickle.loads(sent.data)
    return Judge(project, study), planted(project)


Found = tuple[list[Judged], tuple[str, ...]]
"""What came of some mistakes, and the scenarios that fail without any."""


def _work(sent: Sent, wanted: tuple[int, ...], study: bool = False) -> Found | str:
    """In a process: what came of some of the mistakes, or why the machine file cannot be judged."""
    try:
        judge, mistakes = _judge(sent, study)
    except LinkError as error:
        return str(error.found[0])
    found = []
    for n, i in enumerate(wanted):
        look(n / len(wanted))
        found.append(judge.judge(i, mistakes[i]))
    return found, tuple(judge.idle)


class Strength(Pieces):
    """Mistakes on their way. `poll` from time to time until `done`; without an `executor` each poll judges some here.

    `sample` judges so many only, drawn with `seed`: the same ones each time. With `study` the questions of the reachability study are
    asked of those that nobody else notices.
    """

    def __init__(
        self, project: Project, executor: Executor | None = None, sample: int = 0, seed: int = 0, study: bool = False
    ) -> None:
        super().__init__(executor)
        self.project = project
        self.mistakes = planted(project)
        wanted = list(range(len(self.mistakes)))
        if sample and sample < len(wanted):
            wanted = sorted(random.Random(seed).sample(wanted, sample))
        self.wanted = wanted
        self.judged: dict[int, Judged] = {}
        self.idle: tuple[str, ...] = ()
        """Scenarios that fail without any mistake, and so notice none."""
        self._sent = Sent(project)
        parts = [wanted[i : i + 1] for i in range(min(FIRST, len(wanted)))]
        parts += [wanted[i : i + PART] for i in range(FIRST, len(wanted), PART)]
        self.add((_work, self._sent, tuple(part), study) for part in parts)

    @property
    def part(self) -> float:
        """How much is done, 0 to 1."""
        return len(self.judged) / max(1, len(self.wanted))

    @property
    def report(self) -> Report:
        """What is known by now."""
        return Report(self.project, self.mistakes, self.judged, self.idle)

    def take(self, found: Found | str) -> None:
        """Takes in what was judged."""
        if isinstance(found, str):
            self.problem = found
            self.cancel()
            return
        judged, self.idle = found
        self.judged |= {j.index: j for j in judged}
