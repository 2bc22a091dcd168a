"""Which variables follow the state: what each is in each state, and whether it comes with the state or one scan later."""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.formats.states.flow import Flow

Ends = dict[int, list[tuple[int, bool | None]]]


@dataclass(frozen=True, slots=True)
class Follower:
    """A BOOL variable and what it is in each state that is come to. `late`: it comes one scan behind the state, since the
    branch of the state sets it. `latched`: some state leaves it as it is.
    """

    name: str
    on: dict[int, bool]
    late: bool
    latched: bool

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
    return None if late is None else Follower(name, late, True, latched)


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
