"""A run in real time: scans at their times by the clock, with what they were late measured."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field

from spokeshave.engine.session import Session
from spokeshave.fieldbus.image import Image

WAIT_S = 0.1
"""So long a count is waited for before somebody looks whether the run is to end."""
BEHIND_MS = 1000
"""A run that is further behind than this gives the time up, and counts it."""


@dataclass
class Jitter:
    """How late scans began, in ms: `latest` of the last ones, and the worst and the mean of all."""

    scans: int = 0
    worst_ms: float = 0.0
    total_ms: float = 0.0
    overruns: int = 0
    """Scans that began a whole period late or more."""
    given_up_ms: float = 0.0
    counts: dict[int, int] = field(default_factory=dict)
    """Scans by how late they were, in tenths of a millisecond."""

    def note(self, late_ms: float, period_ms: int) -> None:
        self.scans += 1
        self.worst_ms = max(self.worst_ms, late_ms)
        self.total_ms += late_ms
        self.overruns += late_ms >= period_ms
        tenth = int(late_ms * 10)
        self.counts[tenth] = self.counts.get(tenth, 0) + 1

    @property
    def mean_ms(self) -> float:
        return self.total_ms / self.scans if self.scans else 0.0

    def within(self, part: float) -> float:
        """No more late than this, in ms, was this part of the scans."""
        seen = 0
        for tenth in sorted(self.counts):
            seen += self.counts[tenth]
            if seen >= part * self.scans:
                return (tenth + 1) / 10
        return 0.0

    def text(self) -> str:
        return (f"{self.scans} scans, late by {self.mean_ms:.2f} ms on the mean, 99 % within {self.within(0.99):.1f} ms, "
                f"{self.worst_ms:.1f} ms at worst, {self.overruns} overruns")  # fmt: skip


def run_real_time(session: Session, image: Image, seconds: float | None, stopped: Callable[[], bool]) -> Jitter:
    """Runs scans at their times until the seconds are over, the run stops with an error, or `stopped()`.

    What clients have written is taken in before each scan, what is then is shown to them behind it.
    """
    jitter, period_ms = Jitter(), session.program.period_ms
    begin, scans = time.perf_counter(), 0
    # Time that was planned is counted in whole scans: added up in seconds, ten scans of 10 ms are not quite 100 ms.
    while not stopped() and session.stopped is None:
        planned_ms = scans * period_ms + jitter.given_up_ms
        if seconds is not None and planned_ms >= seconds * 1000:
            break
        due = begin + planned_ms / 1000
        now = time.perf_counter()
        if now < due:
            time.sleep(due - now)
            now = time.perf_counter()
        jitter.note(max(0.0, (now - due) * 1000), period_ms)
        image.before_scan(session)
        session.scan()
        image.after_scan(session)
        scans += 1
        behind = (time.perf_counter() - due) * 1000 - period_ms
        if behind > BEHIND_MS:
            jitter.given_up_ms += behind
    return jitter


def run_counted(session: Session, image: Image, seconds: float | None, stopped: Callable[[], bool]) -> Jitter:
    """Runs a scan whenever a client has told the number of the next one, until the seconds are over, the run stops with an error, or
    `stopped()`. Nothing is late then.
    """
    jitter, begin = Jitter(), time.perf_counter()
    while not stopped() and session.stopped is None and (seconds is None or time.perf_counter() - begin < seconds):
        if image.count_came.wait(WAIT_S):
            image.count_came.clear()
            jitter.note(0.0, session.program.period_ms)
            image.before_scan(session)
            session.scan()
            image.after_scan(session)
    return jitter
