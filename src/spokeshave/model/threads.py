"""The threads of a chart: groups of steps of which at most one is active at any time, one CASE each.

A ──┬── B ── C ──┬── F        thread 1: A B C F
    └── D ── E ──┘            thread 2: D E
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from spokeshave.model.project import Sequence, Transition

MOST_SITUATIONS = 100_000


@dataclass(frozen=True, slots=True)
class Threads:
    """Each step's thread, from 0; `problem` says why there are none."""

    of: dict[str, int]
    count: int
    problem: str = ""


@lru_cache(maxsize=32)
def threads(sequence: Sequence, entries: tuple[str, ...] = ()) -> Threads:
    """The threads of a chart, or why it has none. Steps that nothing leads to belong to none.

    `entries` are steps that may become the only active one from outside, as by a trip that goes to them.
    """
    of = dict.fromkeys((sequence.initial, *entries), 0)
    count, found = 1, True
    left = list(sequence.transitions)
    while found:
        found = False
        for t in list(left):
            if any(s not in of for s in t.sources):
                continue
            found = True
            left.remove(t)
            own = sorted({of[s] for s in t.sources})
            if len(own) < len(t.sources):
                return Threads({}, 0, f"{_name(t)} waits for steps of which only one can be active")
            for target in t.targets:
                thread = own.pop(0) if own else count
                if target not in of:
                    of[target] = thread
                    count = max(count, thread + 1)
    problem = _meetings(sequence) or _problem(sequence, of, count, entries)
    return Threads({}, 0, problem) if problem else Threads(of, count)


def _name(t: Transition) -> str:
    return f"the transition from {' and '.join(t.sources)} to {' and '.join(t.targets)}"


def _meetings(sequence: Sequence) -> str:
    """A step that waits with others may have no other way out: the CASEs would have to agree who goes first."""
    for t in sequence.transitions:
        for s in t.sources if len(t.sources) > 1 else ():
            if sum(1 for _ in sequence.leaving(s)) > 1:
                return f"{s} waits together with other steps and has another way out too"
    return ""


def _problem(sequence: Sequence, of: dict[str, int], count: int, entries: tuple[str, ...]) -> str:
    """Goes through all situations the chart can be in, conditions left out; says what two steps get in the way."""
    seen = {tuple(s if of[s] == n else "" for n in range(count)) for s in (sequence.initial, *entries)}
    todo = list(seen)
    while todo:
        now = todo.pop()
        for t in (t for s in now for _, t in sequence.leaving(s)):
            if any(s not in of or now[of[s]] != s for s in t.sources):
                continue
            new = list(now)
            for s in t.sources:
                new[of[s]] = ""
            for target in t.targets:
                if new[of[target]]:
                    there = new[of[target]]
                    how = f"{there} is active" if there != target else "it is active already"
                    return f"{_name(t)} can come to {target} while {how}: both would need the same CASE"
                new[of[target]] = target
            after = tuple(new)
            if after not in seen:
                if len(seen) >= MOST_SITUATIONS:
                    return f"the chart can be in more than {MOST_SITUATIONS} situations"
                seen.add(after)
                todo.append(after)
    return ""
