"""The ways to go on from many situations at once: what is chosen first, then the products of their clusters.

situations ──> with what is chosen first ──> with what decides whether sequences run ──> picks of the others ──> ways, in pieces
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import zip_longest
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.verify.reach.outcomes import Outcomes
from spokeshave.verify.reach.studied import TooMany
from spokeshave.verify.reach.tried import Rows, Tried
from spokeshave.verify.reach.vector_scan import Choice, Columns, Scan

MOST_WAYS = 1 << 20
"""So many ways to go on from one situation are followed at most."""

Chosen = dict[Choice, NDArray[Any]]
Pattern = tuple[Rows, set[tuple[int, int]], bool]
"""Rows with the same active steps, these, and whether a trip stands or a sequence is held in them."""


def patterns(outcomes: Outcomes, columns: Columns, rows: int) -> list[Pattern]:
    """Rows that look at the same guards together."""
    codes = [key for key in columns if key[0] == "code"]
    bits = np.zeros((rows, len(codes) + 1), bool)
    for n, key in enumerate(codes):
        bits[:, n] = columns[key] > 0
    for key, column in columns.items():
        if key[0] in ("trip", "hold"):
            bits[:, -1] |= column > 0
    packed = np.packbits(bits, axis=1)
    kinds, which = np.unique(packed.view(np.dtype((np.void, packed.shape[1])))[:, 0], return_inverse=True)
    which = which.reshape(-1)
    order = _in_order(which)
    out = []
    for members in np.split(order, np.cumsum(np.bincount(which, minlength=len(kinds)))[:-1]):
        *on, standing = bits[members[0]].tolist()
        out.append((members, {(key[1], key[2]) for key, is_on in zip(codes, on) if is_on}, standing))
    return out


class Ways:
    """The ways to go on from some situations. Raises `TooMany` where there are too many from one of them."""

    def __init__(self, outcomes: Outcomes, columns: Columns, rows: int) -> None:
        self.outcomes, self.pool = outcomes, outcomes.pool
        found = patterns(outcomes, columns, rows)
        plans = [outcomes.plan(active, standing) for _, active, standing in found]
        which = np.empty(rows, np.int64)
        for n, (members, _, _) in enumerate(found):
            which[members] = n
        numbers = {t: n for n, t in enumerate(self.pool.tried)}
        first = np.array([-1 if p.first is None else numbers[p.first] for p in plans])
        self._columns, self._source = columns, np.arange(rows)
        self._first = np.zeros(rows, np.int64)
        self._first_keys: set[Choice] = {c for p in plans if p.first is not None for c in p.first.cluster.choices}
        if (first >= 0).any():
            begins, counts = self._begins(first[which], columns)
            source, nth = _repeated(counts)
            self._source, self._first = source, self.pool.picks[begins[source] + nth]
            columns = _Lazily(columns, self._source, {key: self._value(key, self._first) for key in self._first_keys})
        deciding = [[t for t in p.clusters if t.decides] for p in plans]
        others = [[t for t in p.clusters if not t.decides] for p in plans]
        mine = which[self._source]
        self._deciding = [self._slot(numbers, n, mine, columns) for n in zip_longest(*deciding)]
        self._others = [self._slot(numbers, n, mine, columns) for n in zip_longest(*others)]

    def _slot(
        self, numbers: dict[Tried, int], of_plans: tuple[Tried | None, ...], mine: Rows, columns: Columns
    ) -> _Slot:
        """The picks of one cluster of each plan, None for a plan that has no more; `mine` are the plans of the rows."""
        tried = [t for t in of_plans if t is not None]
        which = np.array([-1 if t is None else numbers[t] for t in of_plans])
        begins, counts = self._begins(which[mine], columns)
        rests = {
            i: np.array([t is not None and i in t.rests_with for t in of_plans])[mine]
            for i in sorted({i for t in tried for i in t.rests_with})
        }
        return _Slot(begins, counts, {c for t in tried for c in t.cluster.choices}, rests)

    def _begins(self, which: Rows, columns: Any) -> tuple[Rows, Rows]:
        """For each row where the picks of a cluster begin and how many there are; of -1 there is one, which chooses nothing."""
        begins, counts = np.zeros(len(which), np.int64), np.ones(len(which), np.int64)
        order = _in_order(which)
        for rows in np.split(order, np.flatnonzero(np.diff(which[order])) + 1):
            if len(rows) and which[rows[0]] >= 0:
                tried = self.pool.tried[which[rows[0]]]
                begins[rows], counts[rows] = tried.ways({key: columns[key][rows] for key in tried.keys}, len(rows))
        return begins, counts

    def _value(self, key: Choice, entries: Rows) -> NDArray[Any]:
        return self.pool.table(key, self.outcomes.domain(key))[0].take(entries)

    def _has(self, key: Choice, entries: Rows) -> NDArray[np.bool_]:
        """In which entries something is chosen for this at all."""
        return self.pool.table(key, self.outcomes.domain(key))[1].take(entries)

    def pieces(self, most: int) -> Iterator[tuple[Rows, Chosen]]:
        """About `most` ways at a time: the row each begins in, and what is chosen. All ways of a row are in one piece."""
        every = np.arange(len(self._source))
        for some in self._split(every, [slot.counts for slot in self._deciding], most):
            again, entries = self._picked(some, self._deciding, [slot.counts[some] for slot in self._deciding])
            rows = some[again]
            still = self._still(rows, entries)
            counts = [slot.that_matter(rows, still) for slot in self._others]
            for part in self._split(rows, counts, most):
                at, more = self._picked(rows[part], self._others, [c[part] for c in counts])
                picked = [*zip((e[part][at] for e in entries), self._deciding), *zip(more, self._others)]
                found = rows[part][at]
                yield self._source[found], self._chosen(found, picked)

    def _split(self, rows: Rows, counts: list[Rows], most: int) -> list[Rows]:
        """Which of some rows stand for about `most` ways, in their order; those of one situation together."""
        many = np.ones(len(rows))
        for count in counts:
            many *= count
        if many.max(initial=0) > MOST_WAYS:
            raise TooMany(f"from one situation there are {many.max():,.0f} ways to go on, more than are followed")
        before = np.cumsum(many) - many
        source = self._source[rows]
        piece = before[np.searchsorted(source, source)] // most  # that of the first row of the same situation
        parts = np.split(np.arange(len(rows)), np.flatnonzero(np.diff(piece)) + 1)
        return [part for part in parts if len(part)]

    def _picked(self, rows: Rows, slots: list[_Slot], counts: list[Rows]) -> tuple[Rows, list[Rows]]:
        """All products of so many picks of each slot in each row: which of the rows, and the entries by slot."""
        again, entries = np.arange(len(rows)), list[Rows]()
        for slot, many in zip(slots, counts):
            more, nth = _repeated(many.take(again))
            again = again.take(more)
            entries = [e.take(more) for e in entries]
            entries.append(self.pool.picks.take(slot.begins.take(rows.take(again)) + nth))
        return again, entries

    def _still(self, rows: Rows, entries: list[Rows]) -> dict[int, NDArray[np.bool_]]:
        """Where each sequence stands still with what is picked of what decides; nothing where none ever does."""
        studied = self.outcomes.studied
        if not studied.can_stand_still or not any(slot.rests for slot in self._others):
            return {}
        source = self._source[rows]
        columns = {key: column.take(source) for key, column in self._columns.items()}
        chosen = self._chosen(rows, list(zip(entries, self._deciding)))
        return Scan(studied, columns, len(rows), chosen).standing_still()

    def _chosen(self, rows: Rows, picked: list[tuple[Rows, _Slot]]) -> Chosen:
        """What is chosen first and with the entries picked of slots."""
        chosen: Chosen = {key: self._value(key, self._first[rows]) for key in self._first_keys}
        for entries, slot in picked:
            for key in slot.keys:
                values = self._value(key, entries)
                chosen[key] = np.where(self._has(key, entries), values, chosen[key]) if key in chosen else values
        return chosen


@dataclass(frozen=True, slots=True)
class _Slot:
    """A cluster of each row: where its picks begin, how many there are, what is chosen in any; and by sequence in which rows
    nothing has to be chosen while it stands still, and the others of the cluster do.
    """

    begins: Rows
    counts: Rows
    keys: set[Choice]
    rests: dict[int, NDArray[np.bool_]]

    def that_matter(self, rows: Rows, still: dict[int, NDArray[np.bool_]]) -> Rows:
        """How many picks there are in some rows: one where all sequences that look at it stand still."""
        counts = self.counts.take(rows)
        if not still or not self.rests:
            return counts
        some, every = np.zeros(len(rows), bool), np.ones(len(rows), bool)
        for i, mine in self.rests.items():
            hangs_on = mine.take(rows)
            some |= hangs_on
            every &= ~hangs_on | still[i]
        return np.where(some & every, np.minimum(counts, 1), counts)


class _Lazily(dict[Choice, NDArray[Any]]):
    """Columns of rows that were repeated, each made when it is asked for."""

    def __init__(self, columns: Columns, source: Rows, more: Chosen) -> None:
        super().__init__(more)
        self.columns, self.source = columns, source

    def __missing__(self, key: Choice) -> NDArray[Any]:
        self[key] = self.columns[key][self.source]
        return self[key]


def _in_order(which: Rows) -> Rows:
    """The rows by their numbers, those of one number in their order. Small numbers are sorted in one pass over their digits."""
    small = len(which) and which.max() < 1 << 15 and which.min() >= -(1 << 15)
    return np.argsort(which.astype(np.int16) if small else which, kind="stable")


def _repeated(counts: Rows) -> tuple[Rows, Rows]:
    """Each row as often as it is counted, and the how manieth it is."""
    again = np.repeat(np.arange(len(counts)), counts)
    return again, np.arange(len(again)) - np.repeat(np.cumsum(counts) - counts, counts)
