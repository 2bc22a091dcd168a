"""Choices that were tried, so that of those with the same outcomes one is kept; and all of them in one pool."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.verify.reach.studied import TooMany
from spokeshave.verify.reach.vector_scan import Choice, Columns

if TYPE_CHECKING:
    from spokeshave.verify.reach.outcomes import Cluster, Outcomes

MOST_TOGETHER = 1 << 20
"""So many choices of one cluster are tried at most."""

AT_ONCE = 1 << 21
"""Values of a column that is worked with at once, about."""

Rows = NDArray[np.int64]


class Pool:
    """The choices of all clusters one behind the other, and the picks of all cases. Entry 0 and pick 0 choose nothing."""

    def __init__(self) -> None:
        self.tried: list[Tried] = []
        self.size = 1
        self._picks: list[NDArray[np.int64]] = [np.zeros(1, np.int64)]
        self._pick_count = 1
        self._tables: dict[Choice, tuple[NDArray[Any], NDArray[np.bool_]]] = {}

    def enter(self, tried: Tried) -> int:
        """Where the choices of a cluster begin."""
        self.tried.append(tried)
        self.size += tried.size
        self._tables.clear()
        return self.size - tried.size

    def put(self, picks: NDArray[np.int64]) -> int:
        """Where new picks, which are entries, begin."""
        self._picks.append(picks)
        self._pick_count += len(picks)
        return self._pick_count - len(picks)

    @property
    def picks(self) -> NDArray[np.int64]:
        if len(self._picks) > 1:
            self._picks = [np.concatenate(self._picks)]
        return self._picks[0]

    def table(self, key: Choice, domain: tuple[Any, ...]) -> tuple[NDArray[Any], NDArray[np.bool_]]:
        """The value of a choice in each entry, its first one where the entry is not about it; and whether it is."""
        if key not in self._tables:
            values, has = np.full(self.size, domain[0]), np.zeros(self.size, np.bool_)
            for t in self.tried:
                if key in t.values:
                    values[t.begin : t.begin + t.size] = t.values[key]
                    has[t.begin : t.begin + t.size] = True
            self._tables[key] = values, has
        return self._tables[key]


class Tried:
    """A cluster with what was found of it: for each case of what its guards read, the choices that differ.

    `before` are choices that were made before and stand among what is read. With `all_differ` each choice that may be
    made is one of its own.
    """

    def __init__(self, outcomes: Outcomes, cluster: Cluster, before: Iterable[Choice], all_differ: bool) -> None:
        self.outcomes, self.cluster, self.all_differ = outcomes, cluster, all_differ
        domains = [outcomes.domain(c) for c in cluster.choices]
        self.size = 1
        for d in domains:
            self.size *= len(d)
        if self.size > MOST_TOGETHER:
            names = ", ".join(outcomes.studied.of_slot[c[1]].name for c in cluster.choices if c[0] == "value")
            raise TooMany(f"{names} are looked at together in too many ways ({self.size:,})")
        self.values: dict[Choice, NDArray[Any]] = {}
        rest = np.arange(self.size)
        for key, domain in zip(reversed(cluster.choices), reversed(domains)):
            self.values[key] = np.array(domain)[rest % len(domain)]
            rest = rest // len(domain)
        read = {s for g in cluster.guards for s in outcomes.needs(g.reads)[0]}
        self.keys = [key for key in outcomes.cells if outcomes.is_read(key, read)]
        self.keys += [c for c in sorted(before) if c[1] in read]
        self.begin = outcomes.pool.enter(self)
        self.decides = not outcomes.deciding.isdisjoint(cluster.guards)
        """Whether it says what stands still."""
        self.rests_with = outcomes.rests_with(cluster)
        self._known: dict[bytes, int] = {}
        self._begins: list[int] = []
        self._counts: list[int] = []

    def ways(self, columns: Columns, rows: int) -> tuple[Rows, Rows]:
        """For each row where its picks begin in the pool, and how many there are."""
        if self.keys:
            stacked = np.stack([columns[key] for key in self.keys], 1).astype(np.int16)
            whole = stacked.view(np.dtype((np.void, 2 * len(self.keys))))[:, 0]
            _, first, which = np.unique(whole, return_index=True, return_inverse=True)
            cases, which = stacked[first], which.reshape(-1)
        else:
            cases, which = np.zeros((1, 0), np.int16), np.zeros(rows, np.intp)
        names = [c.tobytes() for c in cases]
        new = [n for n, name in enumerate(names) if name not in self._known]
        if new:
            self._try(cases[new], [names[n] for n in new])
        numbers = np.array([self._known[name] for name in names])[which]
        return np.array(self._begins)[numbers], np.array(self._counts)[numbers]

    def _try(self, cases: NDArray[np.int16], names: list[bytes]) -> None:
        step = max(1, AT_ONCE // self.size)
        for at in range(0, len(cases), step):
            part = cases[at : at + step].astype(np.int32)
            columns = {key: part[:, n : n + 1] for n, key in enumerate(self.keys)}
            code, fits = self.outcomes.codes(self.cluster, self.values, columns, len(part), self.size)
            if self.all_differ:
                code = np.broadcast_to(np.arange(self.size), code.shape)
            case, pick = np.nonzero(fits)
            both = case * (int(code.max(initial=0)) + 1) + code[case, pick]
            _, first = np.unique(both, return_index=True)
            order = np.lexsort((pick[first], case[first]))
            counts = np.bincount(case[first], minlength=len(part))
            begins = self.outcomes.pool.put(self.begin + pick[first][order]) + np.cumsum(counts) - counts
            for n, name in enumerate(names[at : at + step]):
                self._known[name] = len(self._begins)
                self._begins.append(int(begins[n]))
                self._counts.append(int(counts[n]))
