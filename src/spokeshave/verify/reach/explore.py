"""Frontier by frontier: every situation that can be come to, with the way there."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.verify.reach.frontier import Known, Links, Met
from spokeshave.verify.reach.layout import Words, as_keys
from spokeshave.verify.reach.outcomes import Outcomes
from spokeshave.verify.reach.phases import Choice, Columns, Scan, Told, layout_of
from spokeshave.verify.reach.studied import Studied

MOST = 2_000_000
"""Situations after which a study stops, and says so."""

MOST_LINKS = 20_000_000
"""Ways from one situation to another after which a study stops, so that its answers fit into memory."""

AT_ONCE = 1 << 18
"""Ways to go on that are scanned at once, about."""

Part = tuple[NDArray[np.intp], Words, Told, dict[Choice, NDArray[Any]]]
"""From which situation, to which, what happened, and what is chosen, by way."""


Between = tuple[int, int]
"""The situations before and behind a scan in which something happened."""


@dataclass
class Found:
    """Situations in the order they were found; `parents` the one each was first come to from, -1 for the first.

    `edges` are pairs (from, to) of all ways to go on. `whole`: nothing was left out.
    """

    studied: Studied
    situations: Words
    parents: NDArray[np.int64]
    edges: Links
    whole: bool
    seconds: float
    scans: int
    """Ways to go on that were tried."""
    stopped: str = ""
    cleared: dict[tuple[int, int], Between] = field(default_factory=dict)
    """Transitions that cleared, and between which situations for the first time; so for the others."""
    unsafe: dict[tuple[int, int], Between] = field(default_factory=dict)
    """Steps that were entered while active."""
    asked: dict[tuple[int, int], Between] = field(default_factory=dict)
    """Pairs of outputs that were asked for together; `out` as they went out."""
    out: dict[tuple[int, int], Between] = field(default_factory=dict)

    def columns(self, rows: NDArray[np.int64] | slice = slice(None)) -> Columns:
        return layout_of(self.studied).unpack(self.situations[rows])


class Explorer:
    """`progress` is told how many situations there are; it ends the study by saying FALSE."""

    def __init__(self, studied: Studied, most: int = MOST, progress: Callable[[int], bool] | None = None) -> None:
        self.studied, self.most, self.progress = studied, most, progress
        self.layout = layout_of(studied)
        self.outcomes = Outcomes(studied)
        self.codes = [key for key in (c.key for c in self.layout.cells) if key[0] == "code"]
        self.scans = 0

    def run(self) -> Found:
        begin = time.perf_counter()
        frontier = self._first()
        known = Known(frontier)
        found = Found(self.studied, frontier, known.parents[0], np.zeros((0, 2), np.int32), True, 0.0, 0)
        on = True
        while len(frontier) and on:
            met = Met(known.count - len(frontier), self.studied.pairs)
            on = self._meet(frontier, known, met, found)
            frontier = met.settle(known, found)
            if on and known.count > self.most and len(frontier):
                found.whole, found.stopped = False, f"there are more than {self.most:,} situations"
                break
        found.situations, found.parents = np.concatenate(known.levels), np.concatenate(known.parents)
        found.edges = np.concatenate(known.links) if known.links else found.edges
        found.seconds, found.scans = time.perf_counter() - begin, self.scans
        return found

    def _meet(self, frontier: Words, known: Known, met: Met, found: Found) -> bool:
        """Takes what is behind a frontier; FALSE if that ends the study."""
        for source, after, told, _ in self._parts(frontier, AT_ONCE):
            met.take(source, after, told)
            if told.beyond is not None and found.whole:
                names = ", ".join(dict.fromkeys(told.beyond_names))
                found.whole, found.stopped = False, f"{names} goes beyond the numbers that are followed"
            if known.link_count + met.link_count > MOST_LINKS:
                found.whole, found.stopped = (
                    False,
                    f"there are more than {MOST_LINKS:,} ways from situation to situation",
                )
                return False
            if self.progress is not None and not self.progress(known.count):
                found.whole, found.stopped = False, "it was cancelled"
                return False
        return True

    def begin(self) -> tuple[Words, dict[Choice, NDArray[Any]]]:
        """The situations behind scan 0, each with what is chosen: no sequence moves in it, but trips may come."""
        columns: Columns = {c.key: np.zeros(1, np.int32) for c in self.layout.cells}
        for q in self.studied.program.sequences:
            thresholds = self.studied.thresholds[q.index, q.initial]
            columns["code", q.index, q.initial] = np.array([1 + sum(t <= 0 for t in thresholds)])
        for slot in self.studied.carried:
            columns["var", slot, 0] = np.array([int(self.studied.start[slot])])
        for slot, values in self.studied.varied.items():
            if slot in self.studied.carried:
                many = len(columns["var", slot, 0])
                columns = {key: np.repeat(column, len(values)) for key, column in columns.items()}
                columns["var", slot, 0] = np.tile(np.array(values, np.int32), many)
        rows = len(next(iter(columns.values())))
        active = {(q.index, q.initial) for q in self.studied.program.sequences}
        source, chosen = self.outcomes.look(columns, rows, active).expand(np.arange(rows))
        for key in chosen:
            if key[0] in ("edge", "passes", "stored"):
                chosen[key] = np.zeros(len(source), bool)
        columns = {key: column[source] for key, column in columns.items()}
        Scan(self.studied, columns, len(source), dict(chosen), cold=True).run()
        return self.layout.pack(columns, len(source)), chosen

    def _first(self) -> Words:
        packed, _ = self.begin()
        _, at = np.unique(as_keys(packed), return_index=True)
        packed = packed[np.sort(at)]
        columns = self.layout.unpack(packed)
        standing = sum(
            (columns["trip", t.index, 0] for t in self.studied.program.trips), np.zeros(len(packed), np.int32)
        )
        return packed[np.argsort(standing, kind="stable")]  # those without trips first: ways begin there if they can

    def groups(self, columns: Columns, rows: int) -> list[tuple[NDArray[np.intp], set[tuple[int, int]]]]:
        """Rows with the same active steps together."""
        pattern = np.zeros((rows, len(self.codes)), bool)
        for n, key in enumerate(self.codes):
            pattern[:, n] = columns[key] > 0
        bits = np.packbits(pattern, axis=1)
        kinds, which = np.unique(bits.view(np.dtype((np.void, bits.shape[1])))[:, 0], return_inverse=True)
        which = which.reshape(-1)
        order = np.argsort(which, kind="stable")
        out = []
        for members in np.split(order, np.cumsum(np.bincount(which, minlength=len(kinds)))[:-1]):
            active = {(key[1], key[2]) for key, on in zip(self.codes, pattern[members[0]].tolist()) if on}
            out.append((members, active))
        return out

    def go_on(self, situations: Words) -> Part:
        """All ways to go on from situations."""
        (found,) = self._parts(situations, 1 << 60)
        return found

    def _parts(self, situations: Words, most: int) -> Iterator[Part]:
        """As `go_on`, about `most` ways at a time; all ways from one situation are in the same part."""
        columns = self.layout.unpack(situations)
        waiting: list[tuple[NDArray[np.intp], dict[Choice, NDArray[Any]]]] = []
        held = 0
        for rows, active in self.groups(columns, len(situations)):
            looked = self.outcomes.look({key: column[rows] for key, column in columns.items()}, len(rows), active)
            for piece in looked.pieces(most):
                source, chosen = looked.expand(piece)
                waiting.append((rows[source], chosen))
                held += len(source)
                if held >= most:
                    yield self._scan(columns, waiting)
                    waiting, held = [], 0
        if waiting:
            yield self._scan(columns, waiting)

    def _scan(self, columns: Columns, waiting: list[tuple[NDArray[np.intp], dict[Choice, NDArray[Any]]]]) -> Part:
        """One scan of situations with different active steps; what is not chosen in some of them makes no difference there."""
        source = np.concatenate([w[0] for w in waiting])
        chosen: dict[Choice, NDArray[Any]] = {}
        for key in {key for _, c in waiting for key in c}:
            usual = self.outcomes.domain(key)[0]
            chosen[key] = np.concatenate([c[key] if key in c else np.full(len(rows), usual) for rows, c in waiting])
        after = {key: column[source] for key, column in columns.items()}
        told = Scan(self.studied, after, len(source), dict(chosen)).run()
        self.scans += len(source)
        return source, self.layout.pack(after, len(source)), told, chosen
