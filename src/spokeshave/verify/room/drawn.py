"""All tolerances together: devices are as fast as chance has it, and the reference cycle is run again and again."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass

from spokeshave.engine.trace import Trace
from spokeshave.model.project import Project, Scenario, Sequence
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.room.knobs import Knob, turned
from spokeshave.verify.scenarios import run_scenario


@dataclass(frozen=True, slots=True)
class Draw:
    """One run: the factor of each device and setting, what failed (empty if it passed), the cycle in ms (0 if none came to its end)."""

    number: int
    factors: tuple[tuple[str, float], ...]
    failed: str
    cycle_ms: int


@dataclass(frozen=True, slots=True)
class Drawn:
    """What came of all draws."""

    draws: tuple[Draw, ...]

    @property
    def passed(self) -> int:
        return sum(not d.failed for d in self.draws)

    @property
    def failed_first(self) -> list[tuple[str, int]]:
        """What failed, most often first."""
        return Counter(d.failed for d in self.draws if d.failed).most_common()

    @property
    def cycles(self) -> list[int]:
        """Cycle times in ms of the runs that passed, from the shortest to the longest."""
        return sorted(d.cycle_ms for d in self.draws if not d.failed and d.cycle_ms)

    def said(self) -> list[str]:
        """In lines."""
        if not self.draws:
            return []
        out = [f"{self.passed} of {len(self.draws)} cycles pass with all of them off by chance"]
        out += [f"  {n} times first: {what}" for what, n in self.failed_first[:5]]
        if times := self.cycles:
            low, middle, high = (times[round((len(times) - 1) * part)] / 1000 for part in (0.05, 0.5, 0.95))
            out.append(
                f"  the cycle takes {times[0] / 1000:g} to {times[-1] / 1000:g} s, nine of ten {low:g} to {high:g} s, half of them up to {middle:g} s"
            )
        return out


def draw(
    project: Project, cycle: Scenario, knobs: Iterable[Knob], tolerance: float, seed: int, number: int
) -> Draw:  # fmt: skip
    """The run with this number: each device is faster or slower by up to its own tolerance, or `tolerance` where the file has none for it,
    and each setting that has one is longer or shorter; drawn by seed and number alone.
    """
    chance = random.Random(f"{seed} {number}")
    own = {name.lower(): percent / 100 for name, percent in project.tolerances}
    factors = []
    for k in knobs:
        by = own.get(k.name.lower(), tolerance if k.kind == "device" else 0.0)
        if k.kind == "device" or by:
            factor = 1.0 + chance.uniform(-by, by)
            factors.append((k.name, factor))
            project = turned(project, k, factor if k.kind == "device" else factor * k.usual)
    result = run_scenario(project, cycle)
    worst = result.worst
    failed = (
        ""
        if result.outcome is Outcome.PASS
        else result.stopped or (f"{worst.text}" if worst is not None else "the run")
    )
    session = result.session
    first = cycle_of(project.sequences[0], session.trace) if session is not None and project.sequences else 0
    return Draw(number, tuple(factors), failed, first)


def cycle_of(q: Sequence, trace: Trace) -> int:
    """How long the first cycle took in ms: from leaving the initial step to the next entry of it; 0 if it came to no end."""
    stays = trace.windows(f"{q.name}.{q.initial}.X")
    return (stays[1][0] - stays[0][1]) * trace.period_ms if len(stays) > 1 else 0
