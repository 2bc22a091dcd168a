"""Which variables follow the state: what each is in each state, and whether it comes with the state or one scan later."""

from __future__ import annotations

from dataclasses import dataclass, field

from spokeshave.formats.states.flow import Flow

Ends = dict[int, list[tuple[int, bool | None]]]
_TURNS = (("N", (True, True)), ("D", (False, True)), ("L", (True, False)))
"""Marks, and what they make a variable in the scan in which a state is come to, and from the next one on."""
Marks = dict[int, tuple[str, ...]]
"""By state, the qualifiers of the marks of a variable."""


@dataclass(frozen=True, slots=True)
class Follower:
    """A BOOL variable and what it is in each state that is come to. `late`: it comes one scan behind the state, since the
    branch of the state sets it. `latched`: some state leaves it as it is. `marks` make it what it is in every scan, where that
    can be said by marks; with `exact` they are what it is marked by.
    """

    name: str
    on: dict[int, bool]
    late: bool
    latched: bool
    marks: Marks = field(default_factory=dict)
    early: bool = False
    """Whether it is the same as a mark of its states, one scan later."""
    exact: bool = False

    def states(self, value: bool) -> list[int]:
        return [n for n, on in self.on.items() if on is value]


def follower(flow: Flow, name: str, initial: bool, start: int) -> Follower | None:
    """How a variable follows the state, if it does; with the state if both are possible."""
    ends: Ends = {}
    for n in flow.m.branches:
        found = flow.ends(n, name)
        if found is None:
            return None
        ends[n] = found
    stays = {n: {value for to, value in found if to == n} for n, found in ends.items()}
    latched = any(None in values for values in stays.values())
    together = _together(ends, initial, start)
    if together is not None:
        return Follower(name, together, False, latched)
    late = _late(ends, stays, initial, start)
    marks = _marks(ends, stays, initial, start)
    if late is None and marks is None:
        return None
    on = late if late is not None else {n: bool({"N", "D"} & set(said)) for n, said in (marks or {}).items()}
    return Follower(name, on, True, latched, marks or {}, late is not None)


def _together(ends: Ends, initial: bool, start: int) -> dict[int, bool] | None:
    """What the variable is at the end of every scan in each state, if that is one value. The first scan of all does not
    count: no state changes in it, and nothing runs.
    """
    has: dict[int, set[bool]] = {
        start: {value for to, value in ends[start] if to == start and value is not None} or {initial}
    }
    todo = [start]
    while todo:
        n = todo.pop()
        for to, value in ends[n]:
            new = has[n] if value is None else {value}
            if not new <= has.setdefault(to, set()):
                has[to] |= new
                todo.append(to)
    for n, found in ends.items():
        if n not in has:
            has[n] = {value for to, value in found if to == n and value is not None} or {False}
    return {n: next(iter(v)) for n, v in has.items()} if all(len(v) == 1 for v in has.values()) else None


def _late(ends: Ends, stays: dict[int, set[bool | None]], initial: bool, start: int) -> dict[int, bool] | None:
    """The same one scan later: each state says one value, or keeps that of the state before, and leaves with it."""
    on: dict[int, bool] = {}
    todo = [(start, initial)]
    while todo:
        n, before = todo.pop()
        said = stays[n] or {value for _, value in ends[n]}
        if len(said) != 1:
            return None
        (value,) = said
        now = before if value is None else value
        if n in on:
            if on[n] is not now:
                return None
            continue
        on[n] = now
        for to, left in ends[n]:
            if to != n:
                if left not in (None, now):
                    return None
                todo.append((to, now))
    return {n: on.get(n, False) for n in ends}


def _marks(ends: Ends, stays: dict[int, set[bool | None]], initial: bool, start: int) -> Marks | None:
    """The marks that make the variable what it is in every scan: in that in which a state is come to and from the next one on.

    `D` comes one scan behind the state, `L` is there in its first scan only, `P0` is there in the scan in which it is left. A way
    out that says nothing leaves the variable as it was, which has to be one value.
    """
    came: dict[int, set[bool]] = {start: {initial}}
    left: dict[int, dict[int, set[bool]]] = {n: {} for n in ends}
    todo = [start]
    while todo:
        n = todo.pop()
        if len(stays[n]) > 1:
            return None
        said = next(iter(stays[n]), None)
        then = came[n] if said is None else {said}
        for to, value in ends[n]:
            if to == n:
                continue
            new = came[n] | then if value is None else {value}
            left[n].setdefault(to, set()).update(new)
            if not new <= came.setdefault(to, set()):
                came[to] |= new
                todo.append(to)
    if any(len(values) > 1 for ways in left.values() for values in ways.values()):
        return None
    mixed = {n for n, values in came.items() if len(values) > 1}
    parting = {n for n, ways in left.items() for to, values in ways.items() if to in mixed and True in values}
    if any(False in values for n in parting for values in left[n].values()):
        return None  # leaving the state would turn it on where it goes off
    out: Marks = {}
    for n in ends:
        first = next(iter(came[n])) if n in came and n not in mixed else False
        said = next(iter(stays[n]), None)
        if said is None and n in mixed:
            return None
        on = first if said is None else said
        usual = [word for word, turns in _TURNS if turns == (first, on)]
        out[n] = (*usual, *(["P0"] if n in parting else []))
    return out
