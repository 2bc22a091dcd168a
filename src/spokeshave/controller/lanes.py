"""What the controller does beside what the model asks for, output by output: every change has its partner within a tolerance.

    model       ──────┐on          ┌off
    controller  ────────┐on          ┌off      late by the way there and back, and by a scan of theirs
                      └─┴─ lag      └─┴─ lag

A change may come as late as the last one that had a partner, and the tolerance later: what is left to a clock of theirs adds
up from step to step until something is awaited. A pulse of the model that is shorter than that may pass unseen.
"""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass, field
from typing import Any

SINGLE = 1e-6
"""A REAL comes as a single: it is the same within this part of it."""


@dataclass(frozen=True, slots=True)
class Apart:
    """Where the two are no longer the same: since when, and what each has."""

    name: str
    time_ms: int
    model: Any
    theirs: Any
    extra: bool
    """Whether the controller did something that the model did not, and not the other way round."""


@dataclass(slots=True)
class Lane:
    """One output or state number, value by value."""

    name: str
    agreed: Any
    """What both had last."""
    model: Any
    theirs: Any
    asked: deque[tuple[int, Any]] = field(default_factory=deque)
    """Changes of the model that the controller has not followed yet."""
    came: deque[tuple[int, Any]] = field(default_factory=deque)
    """Changes of the controller that the model has not made yet."""
    unseen: int = 0
    """Pulses of the model that were too short to be seen."""

    def see(self, t: int, model: Any, theirs: Any, late: int, early: int) -> tuple[list[int], Apart | None]:
        """Takes in time `t`, with what may be late and early in ms. Gives the lags of changes that have their partner now, and
        where the two are apart.
        """
        if model != self.model:
            self.asked.append((t, model))
        if theirs != self.theirs:
            self.came.append((t, theirs))
        self.model, self.theirs = model, theirs
        lags = []
        while self.asked and self.came:
            if self.asked[0][1] == self.came[0][1]:
                asked, came = self.asked.popleft(), self.came.popleft()
                self.agreed = asked[1]
                lags.append(came[0] - asked[0])
            elif not self._pass_over(late):
                break
        while self.asked and t - self.asked[0][0] > late:
            if not self._pass_over(late):
                at, value = self.asked[0]
                return lags, Apart(self.name, at, value, self.agreed, False)
        if self.came and t - self.came[0][0] > early:
            at, value = self.came[0]
            return lags, Apart(self.name, at, self.model if not self.asked else self.agreed, value, True)
        return lags, None

    def _pass_over(self, late: int) -> bool:
        """Leaves out the first change of the model if it did not last; back to what was agreed is none then."""
        if len(self.asked) < 2 or self.asked[1][0] - self.asked[0][0] > late:
            return False
        self.asked.popleft()
        self.unseen += 1
        if self.asked[0][1] == self.agreed:
            self.asked.popleft()
        return True


@dataclass(slots=True)
class Course:
    """A number that may change in every scan: theirs is one that the model had within the tolerance."""

    name: str
    was: deque[tuple[int, float]] = field(default_factory=deque)
    since: int = -1
    """Since when it is none of them."""

    def see(self, t: int, model: float, theirs: float, late: int, early: int) -> tuple[list[int], Apart | None]:
        """As `Lane.see`; a course has no lags."""
        self.was.append((t, model))
        while self.was[0][0] < t - late and len(self.was) > 1 and self.was[1][0] <= t - late:
            self.was.popleft()
        least, most = min(x for _, x in self.was), max(x for _, x in self.was)
        room = SINGLE * max(abs(least), abs(most))
        if least - room <= theirs <= most + room:
            self.since = -1
            return [], None
        if self.since < 0:
            self.since = t
        if t - self.since <= max(late, early):
            return [], None
        return [], Apart(self.name, self.since, model, theirs, False)


class Lanes:
    """All that is compared. `late_ms` grows with what the clocks are apart, and falls where something was awaited."""

    def __init__(self, tolerance_ms: int, model: dict[str, Any], theirs: dict[str, Any]) -> None:
        self.tolerance_ms = tolerance_ms
        self.lag_ms = self.worst_ms = 0
        self.lanes: list[Lane | Course] = []
        for name, value in theirs.items():
            if isinstance(value, float):
                self.lanes.append(Course(name))
            else:
                lane = Lane(name, value, model[name], value)
                if model[name] != value:
                    lane.asked.append((0, model[name]))
                self.lanes.append(lane)

    @property
    def late_ms(self) -> int:
        """How late a change may come now."""
        return self.tolerance_ms + max(0, self.lag_ms)

    @property
    def unseen(self) -> int:
        """Pulses that were too short to be seen."""
        return sum(lane.unseen for lane in self.lanes if isinstance(lane, Lane))

    def see(self, t: int, model: dict[str, Any], theirs: dict[str, Any], behind_ms: int = 0) -> Apart | None:
        """Takes in time `t`; the first place where the two are apart. `behind_ms` is what our own scans were late."""
        late, early = self.late_ms + behind_ms, self.tolerance_ms + behind_ms
        lags: list[int] = []
        first: Apart | None = None
        for lane in self.lanes:
            new, apart = lane.see(t, model[lane.name], theirs[lane.name], late, early)
            lags += new
            if apart is not None and (first is None or apart.time_ms < first.time_ms):
                first = apart
        if lags:
            self.lag_ms = max(lags)
            self.worst_ms = max(self.worst_ms, self.lag_ms)
        return first


def tolerance_ms(worst_round_trip_ms: float, their_scan_ms: int, period_ms: int) -> int:
    """What a change may be late: twice the way there and back, a scan of theirs and one of ours, in whole scans of ours.

    >>> tolerance_ms(1.2, 10, 10), tolerance_ms(30.0, 20, 10)
    (30, 90)
    """
    return math.ceil((2 * worst_round_trip_ms + their_scan_ms + period_ms) / period_ms) * period_ms
