"""Purely timed sequences: a ring of steps in which each waits for nothing but its own time."""

from __future__ import annotations

import re
from collections.abc import Mapping
from itertools import pairwise

from spokeshave.language.literals import time_ms, time_text
from spokeshave.model.edits import EditError, change_item
from spokeshave.model.flow_edits import change_transition
from spokeshave.model.project import Project, Sequence, Type

_OWN_TIME = re.compile(r"\s*(\w+)\s*\.\s*T\s*>=\s*(T(?:IME)?#[\w.]+|[a-z_]\w*)\s*", re.IGNORECASE)


def times_of(project: Project) -> dict[str, int]:
    """The settings of type TIME in ms, cells of tables too, by lower-case name: steps may last as long as one says."""
    return {s.name.lower(): int(s.start) for s in project.settings if s.type is Type.TIME}


def said_ms(text: str, times: Mapping[str, int]) -> int:
    """A time in ms that is a literal or the name of one of `times`. Raises ValueError for other texts."""
    text = text.strip()
    named = times.get(text.lower())
    return time_ms(text) if named is None else named


def ends_ms(sequence: Sequence, times: Mapping[str, int] | None = None) -> dict[str, int] | None:
    """When each step of a purely timed sequence ends on the cycle clock, in flow order; None for other sequences. A step lasts for a
    literal, or for one of `times` by its name.

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
            following[t.sources[0]] = (t.targets[0], said_ms(found[2], times or {}))
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
    """A step ends at another time of the cycle; the ends of all others stay. Of a step that lasts as long as a setting says, the setting
    gets another value. Raises EditError beyond its neighbours, and for a setting that several steps go by.
    """
    seq = project.sequence(sequence)
    ends = ends_ms(seq, times_of(project)) if seq is not None else None
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
        project = _lasts(project, sequence, index, name, ends[name] - begins[name])
    return project


def _lasts(project: Project, sequence: str, index: int, step: str, ms: int) -> Project:
    seq = project.sequence(sequence)
    assert seq is not None
    found = _OWN_TIME.fullmatch(seq.transitions[index].condition)
    setting = project.signal(found[2]) if found is not None else None
    if setting is None:
        return change_transition(project, sequence, index, condition=f"{step}.T >= {time_text(ms)}")
    name = setting.name.lower()
    if setting.start == ms:
        return project
    if sum((m := _OWN_TIME.fullmatch(t.condition)) is not None and m[2].lower() == name for t in seq.transitions) > 1:
        raise EditError(
            f"several steps last as long as {setting.name}: give the setting another value, or this step its own time"
        )
    return change_item(project, "signals", project.signals.index(setting), initial=ms)
