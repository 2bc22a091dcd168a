"""Movements with acceleration: pieces of constant acceleration, one shared formula, and where it passes a border.

Lengths are whole micrometres, times are scans. A course is a tuple of pieces, each from its scan on until the next:

    (n0, x0, v0, a):   x(n) = x0 + v0 (n - n0) + a (n - n0)^2 / 2

The formula is worked out in doubles and rounded once; every threshold is found by searching on the rounded value
(semantics section 10).
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from itertools import pairwise

from spokeshave.machine.device import NEVER, first_scan, first_scan_near

MICRO = 1000
"""Micrometres in a millimetre."""
AT_REST = 1e-9
"""Micrometres a scan that are no movement: a thousandth of a millimetre in a hundred days."""
Piece = tuple[float, float, float, float]
Crossings = tuple[Piece, ...]
REST: Crossings = ((0.0, 0.0, 0.0, 0.0),)


def place(course: Crossings, n: int) -> int:
    """Micrometres at scan `n` of a course."""
    for n0, x0, v0, a in reversed(course):
        if n0 <= n or n0 == course[0][0]:
            t = n - n0
            return math.floor(x0 + v0 * t + a * t * t / 2 + 0.5)
    raise AssertionError("a course has a piece")


def speed(course: Crossings, n: int) -> float:
    """Micrometres a scan at scan `n`."""
    n0, _, v0, a = next((p for p in reversed(course) if p[0] <= n), course[0])
    return v0 + a * (n - n0)


def ramp(x: float, v: float, wanted: float, a: float) -> Crossings:
    """From place and speed to another speed with the acceleration `a` > 0, and on with it."""
    if v == wanted:
        return ((0.0, x, v, 0.0),)
    way = a if wanted > v else -a
    takes = (wanted - v) / way
    return ((0.0, x, v, way), (takes, x + v * takes + way * takes * takes / 2, wanted, 0.0))


def stop(x: float, v: float, a: float) -> Crossings:
    """Slows down to rest."""
    return ramp(x, v, 0.0, a)


def move_to(x: float, v: float, target: float, fastest: float, a: float) -> Crossings:
    """From place and speed to rest at `target`: up to `fastest`, along, and down again. Overshoots and comes back
    where it is too fast to stop before.
    """
    pieces: list[Piece] = []
    n = 0.0
    brake = v * abs(v) / (2 * a)
    way = 1.0 if target >= x + brake else -1.0
    if v * way < 0 or (v and (target - x) * way < 0):
        takes = abs(v) / a
        pieces.append((n, x, v, -math.copysign(a, v)))
        n, x, v = n + takes, x + brake, 0.0
    peak = math.sqrt(max(0.0, a * abs(target - x) + v * v / 2))
    top = min(fastest, peak) if abs(v) <= fastest else fastest
    faster = way * (a if top >= abs(v) else -a)
    takes = abs(top - abs(v)) / a
    if takes:
        pieces.append((n, x, v, faster))
        n, x, v = n + takes, x + v * takes + faster * takes * takes / 2, way * top
    slows = abs(v) / a
    along = abs(target - x) - v * v / (2 * a)
    if along > 0 and v:
        pieces.append((n, x, v, 0.0))
        n, x = n + along / abs(v), x + way * along
    if slows:
        pieces.append((n, x, v, -way * a))
        n += slows
    pieces.append((n, target, 0.0, 0.0))
    return tuple(pieces)


def spans(course: Crossings, n: int) -> Iterable[tuple[int, int]]:
    """From scan `n` on, stretches of scans in which the movement goes one way; the last may end with NEVER."""
    marks = [float(n)]
    for (n0, _, v0, a), (n1, *_) in pairwise((*course, (math.inf, 0.0, 0.0, 0.0))):
        marks += [m for m in (n0, n0 - v0 / a if a else n0) if n < m < n1]
    marks = sorted(set(marks))
    low = n
    for mark in marks[1:]:
        # The way changes between two scans: the stretch that ends there is looked at up to the scan before.
        high = math.floor(mark)
        if high > low:
            yield low, high
            low = high
        if high + 1 > low:
            yield low, high + 1
            low = high + 1
    yield low, NEVER


def first_crossing(course: Crossings, n: int, up: int | None, down: int | None) -> int:
    """The first scan after `n` with `place >= up` or `place < down`; NEVER if neither comes."""

    def crossed(j: int) -> bool:
        x = place(course, j)
        return (up is not None and x >= up) or (down is not None and x < down)

    for low, high in spans(course, n):
        if high == NEVER:
            v = speed(course, low)
            border = up if v > 0 else down
            if abs(v) < AT_REST or border is None:
                return NEVER
            guess = low + math.ceil((border - place(course, low)) / v)
            return first_scan_near(guess, low + 1, max(low + 1, guess) + 3, crossed)
        found = first_scan(low + 1, high, crossed)
        if found != NEVER:
            return found
    return NEVER


def nearest(borders: Iterable[int], x: int) -> tuple[int | None, int | None]:
    """The next of the borders above `x`, and the one that `x` falls below next."""
    up = down = None
    for b in borders:
        if b > x:
            up = b if up is None else min(up, b)
        else:
            down = b if down is None else max(down, b)
    return up, down
