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


class Crossings(NamedTuple):
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


def _course(s: Situation, d: LinkedDevice, i: int) -> Crossings:
    state, k, number = s.dev_state[i], s.k, d.device.number
    switch = d.device.next_switch(state, k)
    last = d.device.settled(state)
    if switch < last:
        last = switch
    if not d.thresholds or last <= k:
        return Crossings(switch, last, True, ())
    here, there = number(state, k), number(state, last)
    rising, v = there > here, s.v
    ahead = []
    for strict, other in d.thresholds:
        border = other(v)
        if border is None:
            continue
        beyond = strict is rising
        if border == here:
            if beyond and there != here:
                ahead.append((border, True))
        elif border == there:
            if not beyond:
                ahead.append((border, False))
        elif (here < border) is (border < there):
            ahead.append((border, beyond))
    if len(ahead) > 1:
        way = 1 if rising else -1
        ahead = sorted(set(ahead), key=lambda x: (way * x[0], x[1]))
    return Crossings(switch, last, rising, tuple(ahead))


def next_wake(s: Situation, d: LinkedDevice, i: int) -> int:
    """The first scan after `k` in which a border is passed or a switch turns."""
    course, k = s.dev_course[i], s.k
    state, number = s.dev_state[i], d.device.number
    if course is None or course.switch <= k:
        s.dev_course[i] = course = _course(s, d, i)
    elif course.borders:
        borders, now, passed = course.borders, number(state, k), course.passed
        while borders and passed(now, *borders[0]):
            borders = borders[1:]
        s.dev_course[i] = course = Crossings(course.switch, course.last, course.rising, borders)
    if not course.borders:
        return course.switch
    border, beyond = course.borders[0]
    passed = course.passed
    guess = d.device.reaches(state, border)
    found = first_scan_near(guess, k + 1, course.last, lambda j: passed(number(state, j), border, beyond))
    return min(found, course.switch)
