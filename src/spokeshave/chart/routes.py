"""Room for the lines of a chart that do not run straight down: lanes beside columns, and across rows.

      │
   ┌──┴──┐        top of a row of transitions: where a step has several ways out, and where joins wait
   ┼ a   ┼ b      bars and their texts
┌──┘     │        below the texts: what runs back
│  ╞═════╪═══╡    bottom: where simultaneous branches begin, where ways meet, and where what runs back comes in
└─>│     │
  [20]  [30]
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from spokeshave.model.project import Sequence
from spokeshave.model.structure import Node, Structure

Span = tuple[int, int]


@dataclass(slots=True)
class Lanes:
    """Lanes of one band: things that would lie over each other get different ones."""

    of: dict[Node, int] = field(default_factory=dict)
    taken: list[list[Span]] = field(default_factory=list)

    def put(self, key: Node, span: Span) -> None:
        low, high = span
        for n, used in enumerate(self.taken):
            if all(high < a or b < low for a, b in used):
                used.append(span)
                self.of[key] = n
                return
        self.of[key] = len(self.taken)
        self.taken.append([span])

    @property
    def count(self) -> int:
        return len(self.taken)


class Routes:
    """Lanes beside each column (by goal of what runs back), and in each band of each row (by column)."""

    def __init__(self, sequence: Sequence, shape: Structure, column: Mapping[Node, int]) -> None:
        self.back: dict[int, list[int]] = {}
        """The steps a transition runs back to."""
        self.beside: dict[int, Lanes] = {}
        self.top: dict[int, Lanes] = {}
        self.below: dict[int, Lanes] = {}
        self.bottom: dict[int, Lanes] = {}
        rank = shape.rank
        for a, b in shape.back:
            if a[0] == "t":
                self.back.setdefault(a[1], []).append(b[1])
        spans: dict[int, Span] = {}
        into: dict[int, list[int]] = {}
        for i, goals in self.back.items():
            for goal in goals:
                low, high = spans.get(goal, (rank[("s", goal)], 0))
                spans[goal] = (low, max(high, rank[("t", i)]))
                into.setdefault(goal, []).append(column[("s", goal)])
        for goal, span in sorted(spans.items(), key=lambda g: (g[1][1] - g[1][0], g[0])):
            self.beside.setdefault(column[("s", goal)], Lanes()).put(("s", goal), span)
        index = {s.name: ("s", i) for i, s in enumerate(sequence.steps)}
        bands: list[tuple[dict[int, Lanes], int, Node, list[int]]] = []
        for node in shape.nodes:
            kind, i = node
            here = column[node]
            if kind == "s":
                ways = [n for n in shape.onward[node] if len(sequence.transitions[n[1]].sources) == 1]
                if any(column[n] != here for n in ways):
                    bands.append((self.top, rank[node] + 1, node, [here, *(column[n] for n in ways)]))
                continue
            t = sequence.transitions[i]
            if len(t.sources) > 1:
                bands.append((self.top, rank[node], node, [here, *(column[index[s]] for s in t.sources)]))
            if i in self.back:
                bands.append((self.below, rank[node], node, [here, *(column[("s", g)] for g in self.back[i])]))
            if len(t.targets) > 1:
                bands.append((self.bottom, rank[node], node, [here, *(column[n] for n in shape.forward(node))]))
            else:
                for _, n in shape.forward(node):
                    if column[("s", n)] != here:
                        into.setdefault(n, []).append(here)
        for n, columns in into.items():
            bands.append((self.bottom, rank[("s", n)] - 1, ("s", n), [column[("s", n)], *columns]))
        for band, row, node, columns in sorted(bands, key=lambda x: (max(x[3]) - min(x[3]), x[2])):
            band.setdefault(row, Lanes()).put(node, _span(columns))


def _span(columns: Iterable[int]) -> Span:
    columns = list(columns)
    return min(columns), max(columns)
