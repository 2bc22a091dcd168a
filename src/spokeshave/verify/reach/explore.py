"""Frontier by frontier: every situation that can be come to, with the way there."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.model.study import MOST
from spokeshave.verify.reach.frontier import Known, Links, Met
from spokeshave.verify.reach.outcomes import Outcomes
from spokeshave.verify.reach.packing import Words, as_keys
from spokeshave.verify.reach.studied import Studied, StudyError, TooMany
from spokeshave.verify.reach.vector_scan import Choice, Columns, Scan, Told, layout_of
from spokeshave.verify.reach.ways import Ways

"""Situations after which a study stops, and says so."""

MOST_LINKS = 16_000_000
"""Ways from one situation to another after which a study stops, so that its answers fit into memory."""

AT_ONCE = 1 << 17
"""Ways to go on that are scanned at once, about."""

Part = tuple[NDArray[np.intp], Words, Told, dict[Choice, NDArray[Any]]]
"""From which situation, to which, what happened, and what is chosen, by way."""

Between = tuple[int, int]
"""The situations before and behind a scan in which something happened."""


@dataclass
class Found:
    """Situations in the order they were found; `parents` the one each was first come to from, -1 for the first.

    `links` are pairs (from, to) of all ways to go on, in lots, in the order of where they come from. `whole`: nothing was left out.
    """

    studied: Studied
    situations: Words
    parents: NDArray[np.int64]
    links: list[Links]
    whole: bool
    seconds: float
    scans: int
    """Ways to go on that were tried."""
    stopped: str = ""
    cleared: dict[tuple[int, int], list[Between]] = field(default_factory=dict)
    """Transitions that cleared, and between which situations the first times; so for the others."""
    unsafe: dict[tuple[int, int], list[Between]] = field(default_factory=dict)
    """Steps that were entered while active."""
    asked: dict[tuple[int, int], list[Between]] = field(default_factory=dict)
    """Pairs of outputs that were asked for together; `out` as they went out."""
    out: dict[tuple[int, int], list[Between]] = field(default_factory=dict)
    borders: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    """The number behind the last situation of each frontier."""


class Explorer:
    """`progress` is told how many situations there are; it ends the study by saying FALSE."""

    def __init__(self, studied: Studied, most: int = MOST, progress: Callable[[int], bool] | None = None) -> None:
        self.studied, self.most, self.progress = studied, most, progress
        self.layout = layout_of(studied)
        self.outcomes = Outcomes(studied, tuple(c.key for c in self.layout.cells))
        self.scans = 0

    def run(self) -> Found:
        begin = time.perf_counter()
        frontier = self._first()
        if not len(frontier):
            raise StudyError("what is assumed contradicts itself: no values of the inputs are left")
        known = Known(frontier)
        found = Found(self.studied, frontier, known.parents[0], [], True, 0.0, 0)
        on = True
        while len(frontier) and on:
            met = Met(known.count - len(frontier), self.studied.pairs)
            try:
                on = self._meet(frontier, known, met, found)
            except TooMany as error:
                on, found.whole, found.stopped = False, False, str(error)
            frontier = met.settle(known, found)
            if on and known.count > self.most and len(frontier):
                found.whole, found.stopped = False, f"there are more than {self.most:,} situations"
                break
        found.situations, found.parents = np.concatenate(known.levels), np.concatenate(known.parents)
        found.links, found.borders = known.lots(), np.cumsum([len(x) for x in known.levels])
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
        ((source, chosen),) = Ways(self.outcomes, columns, rows).pieces(1 << 60)
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

    def go_on(self, situations: Words) -> Part:
        """All ways to go on from situations."""
        (found,) = self._parts(situations, 1 << 60)
        return found

    def _parts(self, situations: Words, most: int) -> Iterator[Part]:
        """As `go_on`, about `most` ways at a time; all ways from one situation are in the same part."""
        columns = self.layout.unpack(situations)
        for source, chosen in Ways(self.outcomes, columns, len(situations)).pieces(most):
            after = {key: column.take(source) for key, column in columns.items()}
            told = Scan(self.studied, after, len(source), dict(chosen)).run()
            self.scans += len(source)
            yield source, self.layout.pack(after, len(source)), told, chosen
