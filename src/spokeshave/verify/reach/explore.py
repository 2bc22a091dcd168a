"""Frontier by frontier: every situation that can be come to, with the way there."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.verify.reach.layout import Words, as_keys
from spokeshave.verify.reach.outcomes import Outcomes
from spokeshave.verify.reach.phases import Choice, Columns, Scan, Told, layout_of
from spokeshave.verify.reach.studied import Studied

MOST = 2_000_000
"""Situations after which a study stops, and says so."""

CHUNK = 1 << 15
"""Situations with the same active steps that are gone on from at once, at most."""

AT_ONCE = 1 << 18
"""Ways to go on that are scanned at once, about."""

Part = tuple[NDArray[np.intp], Words, Told, dict[Choice, NDArray[Any]]]
"""From which situation, to which, what happened, and what is chosen, by way."""


Met = tuple[int, int]
"""The situations before and behind a scan in which something happened."""


@dataclass
class Found:
    """Situations in the order they were found; `parents` the one each was first come to from, -1 for the first.

    `edges` are pairs (from, to) of all ways to go on. `whole`: nothing was left out.
    """

    studied: Studied
    situations: Words
    parents: NDArray[np.int64]
    edges: NDArray[np.int64]
    whole: bool
    seconds: float
    scans: int
    """Ways to go on that were tried."""
    stopped: str = ""
    cleared: dict[tuple[int, int], Met] = field(default_factory=dict)
    """Transitions that cleared, and between which situations for the first time; so for the others."""
    unsafe: dict[tuple[int, int], Met] = field(default_factory=dict)
    """Steps that were entered while active."""
    asked: dict[tuple[int, int], Met] = field(default_factory=dict)
    """Pairs of outputs that were asked for together; `out` as they went out."""
    out: dict[tuple[int, int], Met] = field(default_factory=dict)

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
        first = self._first()
        found = Found(self.studied, first, np.full(len(first), -1), np.zeros((0, 2), np.int64), True, 0.0, 0)
        levels, parents, edges = [first], [found.parents], []
        order = np.argsort(as_keys(first), kind="stable")
        keys: NDArray[Any] = as_keys(first)[order]
        ids = order.astype(np.int64)
        frontier, base, count = first, 0, len(first)
        while len(frontier):
            fresh, origin, links = self._frontier(frontier, base, keys, ids, count, found)
            edges.append(links)
            base, count = count, count + len(fresh)
            levels.append(fresh)
            parents.append(origin)
            new = as_keys(fresh)
            order = np.argsort(new, kind="stable")
            at = np.searchsorted(keys, new[order])
            keys, ids = np.insert(keys, at, new[order]), np.insert(ids, at, base + order)
            frontier = fresh
            if self.progress is not None and not self.progress(count):
                found.whole, found.stopped = False, "it was cancelled"
                break
            if count > self.most and len(frontier):
                found.whole, found.stopped = False, f"there are more than {self.most:,} situations"
                break
        found.situations, found.parents = np.concatenate(levels), np.concatenate(parents)
        found.edges = np.concatenate(edges) if edges else found.edges
        found.seconds, found.scans = time.perf_counter() - begin, self.scans
        return found

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
        source, chosen = self.outcomes.expand(columns, rows, active)
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
        out = []
        for n in range(len(kinds)):
            members = np.flatnonzero(which == n)
            active = {(key[1], key[2]) for key, on in zip(self.codes, pattern[members[0]]) if on}
            out.append((members, active))
        return out

    def go_on(self, situations: Words) -> Part:
        """All ways to go on from situations."""
        (found,) = self._parts(situations, 1 << 60)
        return found

    def _parts(self, situations: Words, most: int) -> Iterator[Part]:
        """As `go_on`, about `most` ways at a time."""
        columns = self.layout.unpack(situations)
        waiting: list[tuple[NDArray[np.intp], dict[Choice, NDArray[Any]]]] = []
        groups = self.groups(columns, len(situations))
        pieces = [(m[at : at + CHUNK], a) for m, a in groups for at in range(0, len(m), CHUNK)]
        for n, (rows, active) in enumerate(pieces):
            here = {key: column[rows] for key, column in columns.items()}
            source, chosen = self.outcomes.expand(here, len(rows), active)
            waiting.append((rows[source], chosen))
            if n == len(pieces) - 1 or sum(len(w[0]) for w in waiting) >= most:
                yield self._scan(columns, waiting)
                waiting = []

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

    def _frontier(
        self, frontier: Words, base: int, keys: NDArray[Any], ids: NDArray[np.int64], count: int, found: Found
    ) -> tuple[Words, NDArray[np.int64], NDArray[np.int64]]:  # fmt: skip
        """The situations behind a frontier that are new, what each was come to from, and all links."""
        parts = [(base + source, after, told) for source, after, told, _ in self._parts(frontier, AT_ONCE)]
        sources = np.concatenate([p[0] for p in parts])
        packed = np.concatenate([p[1] for p in parts])
        new = as_keys(packed)
        unique, first, back = np.unique(new, return_index=True, return_inverse=True)
        back = back.reshape(-1)
        at = np.searchsorted(keys, unique)
        there = (at < len(keys)) & (keys[np.minimum(at, len(keys) - 1)] == unique)
        number = np.where(there, ids[np.minimum(at, len(keys) - 1)], -1)
        fresh = np.flatnonzero(~there)
        fresh = fresh[np.argsort(first[fresh], kind="stable")]
        number[fresh] = count + np.arange(len(fresh))
        links = np.unique((sources << 32) | number[back])
        self._note(found, parts, number[back])
        pairs = np.stack([links >> 32, links & 0xFFFFFFFF], 1)
        return packed[first[fresh]], sources[first[fresh]].astype(np.int64), pairs

    def _note(
        self, found: Found, parts: list[tuple[NDArray[np.int64], Words, Told]], targets: NDArray[np.int64]
    ) -> None:
        """What happened for the first time, with the situation it led to."""
        done = 0
        for sources, _, told in parts:
            here = targets[done : done + len(sources)]
            done += len(sources)
            for known, rows in ((found.cleared, told.cleared), (found.unsafe, told.unsafe)):
                for key, where in rows.items():
                    if key not in known:
                        known[key] = (int(sources[np.argmax(where)]), int(here[np.argmax(where)]))
            for a, b in self.studied.pairs:
                for met, told_of in ((found.asked, told.asked), (found.out, told.out)):
                    both = told_of[a] & told_of[b]
                    if (a, b) not in met and both.any():
                        met[a, b] = (int(sources[np.argmax(both)]), int(here[np.argmax(both)]))
            if told.beyond is not None and found.whole:
                found.whole = False
                found.stopped = (
                    f"{', '.join(dict.fromkeys(told.beyond_names))} goes beyond the numbers that are followed"
                )
