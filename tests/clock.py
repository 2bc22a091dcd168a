"""Time as a ratio: how long something takes beside a fixed piece of ordinary Python in the same run.

A machine that is slow, or that others use, slows both; what takes an unforeseen time is looked at again before it is refused.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

TRIES = 4


@dataclass(frozen=True)
class _Item:
    name: str
    number: int


def _piece() -> int:
    """Objects, dictionaries, texts and sorting, as most of the program does."""
    items = [_Item(f"Item{n}", n) for n in range(4000)]
    known = {i.name.lower(): replace(i, number=-i.number) for i in items}
    return len("".join(sorted(f"{i.name}:{i.number}" for i in known.values())))


def seconds(act: Callable[[], object]) -> float:
    """How long `act` takes."""
    begin = time.perf_counter()
    act()
    return time.perf_counter() - begin


def pieces(act: Callable[[], object]) -> float:
    """How many pieces of ordinary work are done in the time that `act` takes."""
    before = min(seconds(_piece) for _ in range(3))
    took = seconds(act)
    return took / max(before, min(seconds(_piece) for _ in range(3)))


def within(limit: float, act: Callable[[], object]) -> None:
    """Refuses what takes longer than `limit` pieces each of a few times."""
    found = []
    for _ in range(TRIES):
        found.append(pieces(act))
        if found[-1] < limit:
            return
    raise AssertionError(
        f"it took as long as {', '.join(f'{f:.1f}' for f in found)} pieces of work, at most {limit:g} wanted"
    )
