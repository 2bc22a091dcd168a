"""The scans that have to be run because of a device of which only some borders of its number matter.

Between two turns a number goes one way, so the borders ahead of it are met one by one. `Temp >= 80` turns where the
number gets to 80 from below, and where it falls beyond 80; `Temp > 80` where it rises beyond 80, and where it gets to
80 from above.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from spokeshave.engine.program import LinkedDevice
from spokeshave.machine.device import first_scan_near

if TYPE_CHECKING:
    from spokeshave.engine.situation import Situation


class Course(NamedTuple):
    """Where a device is going until it is turned: the scan in which a switch of it turns, the last in which its number
    changes before that, and the borders ahead as (number, whether it has to get beyond), nearest first.
    """

    switch: int
    last: int
    rising: bool
    borders: tuple[tuple[float, bool], ...]

    def passed(self, number: float, border: float, beyond: bool) -> bool:
        if number == border:
            return not beyond
        return (number > border) is self.rising


def _course(s: Situation, d: LinkedDevice, i: int) -> Course:
    state, k, number = s.dev_state[i], s.k, d.device.number
    switch = d.device.next_switch(state, k)
    last = min(d.device.settled(state), switch)
    if not d.thresholds or last <= k:
        return Course(switch, last, True, ())
    here, there = number(state, k), number(state, last)
    course = Course(switch, last, there > here, ())
    ahead = set()
    for strict, other in d.thresholds:
        border, beyond = other(s.v), strict is course.rising
        if course.passed(there, border, beyond) and not course.passed(here, border, beyond):
            ahead.add((border, beyond))
    way = 1 if course.rising else -1
    return Course(switch, last, course.rising, tuple(sorted(ahead, key=lambda x: (way * x[0], x[1]))))


def next_wake(s: Situation, d: LinkedDevice, i: int) -> int:
    """The first scan after `k` in which a border is passed or a switch turns."""
    course, k = s.dev_course[i], s.k
    if course is None or course.switch <= k:
        s.dev_course[i] = course = _course(s, d, i)
    if not course.borders:
        return course.switch
    state, number, passed, borders = s.dev_state[i], d.device.number, course.passed, course.borders
    now = number(state, k)
    while borders and passed(now, *borders[0]):
        borders = borders[1:]
    if len(borders) < len(course.borders):
        s.dev_course[i] = Course(course.switch, course.last, course.rising, borders)
    if not borders:
        return course.switch
    border, beyond = borders[0]
    guess = d.device.reaches(state, border)
    found = first_scan_near(guess, k + 1, course.last, lambda j: passed(number(state, j), border, beyond))
    return min(found, course.switch)
