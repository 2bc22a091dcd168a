"""Purely timed sequences: a ring of steps in which each waits for nothing but its own time."""

from __future__ import annotations

import re
from itertools import pairwise

from spokeshave.language.literals import time_ms, time_text
from spokeshave.model.edits import EditError
from spokeshave.model.flow_edits import change_transition
from spokeshave.model.project import Project, Sequence

_OWN_TIME = re.compile(r"\s*(\w+)\s*\.\s*T\s*>=\s*(T(?:IME)?#[\w.]+)\s*", re.IGNORECASE)


def ends_ms(sequence: Sequence) -> dict[str, int] | None:
    """When each step of a purely timed sequence ends on the cycle clock, in flow order; None for other sequences.

    >>> from spokeshave.model.project import Step, Transition
    >>> ways = Transition(("A",), ("B",), "A.T >= T#2s"), Transition(("B",), ("A",), "B.T >= T#500ms")
    >>> ends_ms(Sequence("Dip", "A", (Step("A", 10), Step("B", 20)), ways))
    {'A': 2000, 'B': 2500}
    """
    following: dict[str, tuple[str, int]] = {}
    for t in sequence.transitions:
        found = _OWN_TIME.fullmatch(t.condition)
        if len(t.sources) != 1 or len(t.targets) != 1 or not found or found[1].lower() != t.sources[0].lower():
            return None
        if t.sources[0] in following:
            return None
        try:
            following[t.sources[0]] = (t.targets[0], time_ms(found[2]))
        except ValueError:
            return None
    step, now = sequence.initial, 0
    ends: dict[str, int] = {}
    while step in following and step not in ends:
        now += following[step][1]
        ends[step] = now
        step = following[step][0]
    return ends if len(ends) == len(sequence.steps) and len(ends) > 1 and step == sequence.initial else None


def set_end(project: Project, sequence: str, step: str, end_ms: int) -> Project:
    """A step ends at another time of the cycle; the ends of all others stay. Raises EditError beyond its neighbours."""
    seq = project.sequence(sequence)
    ends = ends_ms(seq) if seq is not None else None
    if seq is None or ends is None or step not in ends:
        raise EditError(f"{sequence} is not purely timed: every step would have to wait for its own time only")
    order = list(ends)
    at = order.index(step)
    low = ends[order[at - 1]] if at else 0
    high = ends[order[at + 1]] if at + 1 < len(order) else None
    if end_ms <= low or (high is not None and end_ms >= high):
        upper = f" and before {time_text(high)[2:]}" if high is not None else ""
        raise EditError(f"{step} has to end after {time_text(low)[2:]}{upper}")
    ends[step] = end_ms
    moved = [order[at], *order[at + 1 : at + 2]]
    begins = {order[0]: 0} | {b: ends[a] for a, b in pairwise(order)}
    for name in moved:
        index = next(i for i, _ in seq.leaving(name))
        condition = f"{name}.T >= {time_text(ends[name] - begins[name])}"
        project = change_transition(project, sequence, index, condition=condition)
    return project
