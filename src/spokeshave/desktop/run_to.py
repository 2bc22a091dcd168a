"""Running to something: a step change, a condition, a time. As fast as possible, in slices that keep the screen alive."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from time import perf_counter

from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation

SEEK_MS = 3_600_000
"""How much simulated time is run, at most, to come to what was asked for."""
CHUNK = 640
"""Scans between two looks at the clock; most of them are jumped over."""


@dataclass
class Goal:
    """What is run for: `reached` is asked after each scan in which anything happens; without it the run goes to scan `end`."""

    text: str
    end: int
    reached: Callable[[Situation], bool] | None = None

    @staticmethod
    def within_an_hour(session: Session, text: str, reached: Callable[[Situation], bool]) -> Goal:
        return Goal(text, session.k + SEEK_MS // session.program.period_ms, reached)

    def run(self, session: Session, seconds: float) -> bool:
        """Runs for about so long; TRUE when there is nothing more to run: reached, the end, or an error."""
        end = perf_counter() + seconds
        while perf_counter() < end and session.stopped is None and session.k < self.end:
            to = min(session.k + CHUNK, self.end)
            if self.reached is None:
                session.run_scans(to - session.k)
            elif session.run_to(to, self.reached):
                return True
        return session.stopped is not None or session.k >= self.end

    def said(self, session: Session) -> str:
        """What came of it."""
        when = f"at {session.time_ms / 1000:.2f} s"
        if self.reached is not None and not self.reached(session.situation):
            return f"{self.text} has not come in an hour, {when}"
        return f"{self.text}, {when}"
