"""The ways to go on from many situations at once: what is chosen first, then the products of their clusters.

situations ──> with what is chosen first ──> picks of the 1st, 2nd, ... cluster ──> ways, in pieces
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.verify.reach.outcomes import Outcomes
from spokeshave.verify.reach.studied import StudyError
from spokeshave.verify.reach.tried import Rows
from spokeshave.verify.reach.vector_scan import Choice, Columns

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
    """The ways to go on from some situations. Raises `StudyError` where there are too many from one of them."""

    def __init__(self, outcomes: Outcomes, columns: Columns, rows: int) -> None:
        self.outcomes, self.pool = outcomes, outcomes.pool
        found = patterns(outcomes, columns, rows)
        plans = [outcomes.plan(active, standing) for _, active, standing in found]
        which = np.empty(rows, np.int64)
        for n, (members, _, _) in enumerate(found):
            which[members] = n
        numbers = {t: n for n, t in enumerate(self.pool.tried)}
        first = np.array([-1 if p.first is None else numbers[p.first] for p in plans])
        slots = np.full((len(plans), max((len(p.clusters) for p in plans), default=0)), -1)
        for n, p in enumerate(plans):
            slots[n, : len(p.clusters)] = [numbers[t] for t in p.clusters]
        self._source = np.arange(rows)
        self._first = np.zeros(rows, np.int64)
        self._first_keys: set[Choice] = {c for p in plans if p.first is not None for c in p.first.cluster.choices}
        if (first >= 0).any():
            begins, counts = self._begins(first[which], columns)
            source, nth = _repeated(counts)
            self._source, self._first = source, self.pool.picks[begins[source] + nth]
            columns = _Lazily(columns, self._source, {key: self._value(key, self._first) for key in self._first_keys})
        self._slots: list[tuple[Rows, Rows, set[Choice]]] = []
        """Of each cluster where the picks begin, how many there are, and what is chosen."""
        many = np.ones(len(self._source))
        for slot in slots.T:
            keys = {c for n in set(slot.tolist()) - {-1} for c in self.pool.tried[n].cluster.choices}
            begins, counts = self._begins(slot[which[self._source]], columns)
            self._slots.append((begins, counts, keys))
            many *= counts
        if many.max(initial=0) > MOST_WAYS:
            raise StudyError(f"from one situation there are {many.max():,.0f} ways to go on, more than are followed")
        self._many = many

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
        before = np.cumsum(self._many) - self._many
        begins = np.searchsorted(self._source, self._source)  # where the rows of the same situation begin
        piece = before[begins] // most
        for rows in np.split(np.arange(len(piece)), np.flatnonzero(np.diff(piece)) + 1):
            if len(rows):
                yield self._expand(rows)

    def _expand(self, rows: Rows) -> tuple[Rows, Chosen]:
        entries: list[Rows] = []
        for begins, counts, _ in self._slots:
            again, nth = _repeated(counts[rows])
            entries = [e.take(again) for e in entries]
            rows = rows.take(again)
            entries.append(self.pool.picks.take(begins.take(rows) + nth))
        chosen: Chosen = {key: self._value(key, self._first[rows]) for key in self._first_keys}
        for picked, (_, _, keys) in zip(entries, self._slots):
            for key in keys:
                values = self._value(key, picked)
                chosen[key] = np.where(self._has(key, picked), values, chosen[key]) if key in chosen else values
        return self._source[rows], chosen


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
