"""Running to something: a step change, a condition, a time. As fast as possible, in slices that keep the screen alive."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from time import perf_counter

from spokeshave.engine.session import Session

SEEK_MS = 3_600_000
"""How much simulated time is run, at most, to come to what was asked for."""
CHUNK = 64
"""Scans between two looks at the clock."""


@dataclass
class Goal:
    """What is run for: `reached` is asked after each scan; without it the run goes to scan `end` with skip-ahead."""

    text: str
    end: int
    reached: Callable[[], bool] | None = None

    @staticmethod
    def within_an_hour(session: Session, text: str, reached: Callable[[], bool]) -> Goal:
        return Goal(text, session.k + SEEK_MS // session.program.period_ms, reached)

    def run(self, session: Session, seconds: float) -> bool:
        """Runs for about so long; TRUE when there is nothing more to run: reached, the end, or an error."""
        end = perf_counter() + seconds
        while perf_counter() < end and session.stopped is None and session.k < self.end:
            if self.reached is None:
                session.run_scans(min(CHUNK, self.end - session.k))
            elif self._scans(session, self.reached):
                return True
        return session.stopped is not None or session.k >= self.end

    def _scans(self, session: Session, reached: Callable[[], bool]) -> bool:
        for _ in range(min(CHUNK, self.end - session.k)):
            if not session.scan():
                return False
            if reached():
                return True
        return False

    def said(self, session: Session) -> str:
        """What came of it."""
        when = f"at {session.time_ms / 1000:.2f} s"
        if self.reached is not None and not self.reached():
            return f"{self.text} has not come in an hour, {when}"
        return f"{self.text}, {when}"
