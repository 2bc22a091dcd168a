"""The track plan in the margin of the sheet: which row holds what, and which lanes the flow runs in.

lane 0   1          one dot a step, one row for each way out;
  o 10              links leave at the row of their transition
  |\\                and arrive at the row of their step
  o | 20
  | o 30
  |/
  o 40
"""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass

from spokeshave.model.project import Sequence
from spokeshave.model.structure import Node, columns, structure


@dataclass(frozen=True, slots=True)
class Row:
    """A row of the sheet: a step (index) and one of its ways out (transition index, None without any).

    `first` marks the row that carries the step itself; the others are further ways out of the same step.
    """

    step: int
    transition: int | None
    first: bool


@dataclass(frozen=True, slots=True)
class Link:
    """A piece of track: from (`row`, `lane`) along lane `via` to (`to_row`, `to_lane`).

    `doubled` tracks belong to a simultaneous branch; `back` runs to an earlier row or to its own.
    """

    row: int
    lane: int
    via: int
    to_row: int
    to_lane: int
    transition: int
    doubled: bool
    back: bool


@dataclass(frozen=True, slots=True)
class Flow:
    """Rows, the lane of each step's dot, links, and how many lanes there are."""

    rows: tuple[Row, ...]
    lane: tuple[int, ...]
    links: tuple[Link, ...]
    lanes: int

    def first_row(self, step: int) -> int:
        return next(i for i, r in enumerate(self.rows) if r.step == step and r.first)


def rows_of(sequence: Sequence) -> tuple[Row, ...]:
    """Every step with its ways out; a join stands with the last listed of its predecessors."""
    index = {s.name: i for i, s in enumerate(sequence.steps)}
    out: list[list[int]] = [[] for _ in sequence.steps]
    for i, t in enumerate(sequence.transitions):
        known = [index[s] for s in t.sources if s in index]
        if known:
            out[max(known)].append(i)
    rows: list[Row] = []
    for step, ways in enumerate(out):
        rows += [Row(step, way, n == 0) for n, way in enumerate(ways or [None])]
    return tuple(rows)


def same_flow(a: Sequence, b: Sequence) -> bool:
    """Whether two sequences have the same steps by name and the same ways between them, so that they are drawn alike."""
    if len(a.steps) != len(b.steps) or len(a.transitions) != len(b.transitions) or a.initial != b.initial:
        return False
    steps = a.steps is b.steps or all(s is t or s.name == t.name for s, t in zip(a.steps, b.steps))
    return steps and (a.transitions is b.transitions or all(
        t is u or (t.sources == u.sources and t.targets == u.targets) for t, u in zip(a.transitions, b.transitions)
    ))  # fmt: skip


def flow(sequence: Sequence) -> Flow:
    """The track plan of a sequence. Lanes count from 0 at the left; links that run back use the rightmost lanes."""
    rows = rows_of(sequence)
    shape = structure(sequence)
    step_row = {r.step: i for i, r in enumerate(rows) if r.first}
    way_row = {r.transition: i for i, r in enumerate(rows) if r.transition is not None}
    position: dict[Node, int] = {
        (kind, i): (2 * step_row[i] if kind == "s" else 2 * way_row[i] + 1) for kind, i in shape.nodes
    }
    lane = columns(shape, position)
    dots_in: dict[int, list[int]] = {}
    for step, row in step_row.items():  # rows come in order
        dots_in.setdefault(lane[("s", step)], []).append(row)
    busy: dict[int, list[tuple[int, int, int]]] = {}  # lane: (upper row, lower row, target step)

    def free(at: int, top: int, bottom: int, target: int) -> bool:
        """Whether a track to `target` may run in a lane from row `top` to row `bottom`."""
        dots = dots_in.get(at, ())
        n = bisect_left(dots, top + 1)
        if n < len(dots) and dots[n] < bottom:
            return False
        return all(bottom <= a or b <= top or t == target for a, b, t in busy.get(at, ()))

    def claim(choices: list[int], top: int, bottom: int, target: int) -> int:
        at = next((c for c in choices if free(c, top, bottom, target)), None)
        if at is None:
            at = max(choices) + 1
            while not free(at, top, bottom, target):
                at += 1
        busy.setdefault(at, []).append((top, bottom, target))
        return at

    index = {s.name: i for i, s in enumerate(sequence.steps)}
    wanted: list[tuple[int, int, int, int, bool]] = []  # row, source step, target step, transition, doubled
    for i, t in enumerate(sequence.transitions):
        if i not in way_row or any(n not in index for n in (*t.sources, *t.targets)):
            continue
        row = way_row[i]
        doubled = len(t.sources) > 1 or len(t.targets) > 1
        for n, source in enumerate(index[name] for name in t.sources):
            start = row if source == rows[row].step else step_row[source]
            for m, target in enumerate(index[name] for name in t.targets):
                if n == 0 or m == 0:
                    wanted.append((start, source, target, i, doubled))
    links: list[Link] = []
    deepest = max(lane.values(), default=0)
    for start, origin, goal, way, double in sorted(wanted, key=lambda w: abs(step_row[w[2]] - w[0])):
        end = step_row[goal]
        from_lane, to_lane = lane[("s", origin)], lane[("s", goal)]
        back = end <= start
        if back:
            via = claim([deepest + 1], end, start, goal)
        elif from_lane == to_lane and end == start + 1:
            via = from_lane  # nothing else comes between two dots
        else:  # a branch leaves its lane at once, and keeps its own until it meets the others
            outward = [to_lane, from_lane] if to_lane > from_lane else [from_lane, to_lane]
            via = claim([*outward, lane[("t", way)]], start, end, goal)
        links.append(Link(start, from_lane, via, end, to_lane, way, double, back))
    used = [lnk.via for lnk in links] + list(lane.values())
    dots = tuple(lane[("s", i)] for i in range(len(sequence.steps)))
    return Flow(rows, dots, tuple(links), max(used, default=0) + 1)
