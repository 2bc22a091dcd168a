"""Situations that are known, and what is met behind a frontier of them: part by part, so that little is held at once."""

from __future__ import annotations

from collections import deque
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.verify.reach.packing import Words, as_keys
from spokeshave.verify.reach.vector_scan import Told

if TYPE_CHECKING:
    from spokeshave.verify.reach.explore import Found

Links = NDArray[np.int32]
"""(links, 2): from which situation to which, by number."""

LOT = 1 << 20
"""Links that are kept together, about."""

TIMES = 8
"""So often is it kept between which situations something happened."""

Note = tuple[str, tuple[int, int]]
"""What happened in a scan: `cleared`, `unsafe`, `asked` or `out`, and to what."""


class Known:
    """Situations by number, in the order they were met, and the links between them."""

    def __init__(self, first: Words) -> None:
        self.count = 0
        self.keys: NDArray[Any] = as_keys(first[:0])
        self.levels: list[Words] = []
        self.parents: list[NDArray[np.int64]] = []
        """The same by frontier, as `levels`."""
        self.link_count = 0
        self._links: deque[Links] = deque()
        self._ids = np.zeros(0, np.int64)
        self.add(first, np.full(len(first), -1))

    def add(self, fresh: Words, parents: NDArray[np.int64]) -> None:
        """Situations that are not known yet, each with the one it was first come to from."""
        new = as_keys(fresh)
        order = np.argsort(new, kind="stable")
        at = np.searchsorted(self.keys, new[order])
        self.keys = np.insert(self.keys, at, new[order])
        self._ids = np.insert(self._ids, at, self.count + order)
        self.levels.append(fresh)
        self.parents.append(parents)
        self.count += len(fresh)

    def number(self, keys: NDArray[Any]) -> NDArray[np.int64]:
        """The numbers of situations, -1 for those that are not known."""
        at = np.minimum(np.searchsorted(self.keys, keys), len(self.keys) - 1)
        return np.where(self.keys[at] == keys, self._ids[at], -1)

    def link(self, links: Links) -> None:
        """Links behind those there are."""
        self._links.append(links)
        self.link_count += len(links)

    def lots(self) -> list[Links]:
        """All links in their order, in lots of about `LOT`. What was put down is let go of."""
        out: list[Links] = []
        held: list[Links] = []
        count = 0
        while self._links:
            held.append(self._links.popleft())
            count += len(held[-1])
            if count >= LOT or not self._links:
                out.append(np.concatenate(held))
                held, count = [], 0
        return out


class Met:
    """What is met behind a frontier whose first situation has the number `base`."""

    def __init__(self, base: int, pairs: tuple[tuple[int, int], ...]) -> None:
        self.base, self.pairs = base, pairs
        self.link_count = 0
        self._words: list[Words] = []
        self._origins: list[NDArray[np.int64]] = []
        self._links: deque[NDArray[np.int64]] = deque()
        self._noted: dict[Note, list[tuple[int, int]]] = {}
        """From which situation, and to which of those met, the first times."""
        self._count = 0

    def take(self, source: NDArray[np.intp], after: Words, told: Told) -> None:
        """Ways from the situations `source` of the frontier; all ways from one of them come at once."""
        _, first, back = np.unique(as_keys(after), return_index=True, return_inverse=True)
        order = np.argsort(first, kind="stable")
        rank = np.empty(len(order), np.int64)
        rank[order] = np.arange(len(order))
        to = self._count + rank[back.reshape(-1)]
        origin = self.base + source.astype(np.int64)
        self._words.append(after[first[order]])
        self._origins.append(origin[first[order]])
        self._links.append(np.unique((origin << 32) | to))
        self._count += len(order)
        self.link_count += len(self._links[-1])
        for note, where in self._happened(told):
            times = self._noted.setdefault(note, [])
            if len(times) < TIMES and where.any():
                _, rows = np.unique(origin[where], return_index=True)
                rows = np.flatnonzero(where)[rows[: TIMES - len(times)]]
                times += zip(origin[rows].tolist(), to[rows].tolist())

    def _happened(self, told: Told) -> list[tuple[Note, NDArray[np.bool_]]]:
        out: list[tuple[Note, NDArray[np.bool_]]] = [(("cleared", key), where) for key, where in told.cleared.items()]
        out += [(("unsafe", key), where) for key, where in told.unsafe.items()]
        for a, b in self.pairs:
            out += [(("asked", (a, b)), told.asked[a] & told.asked[b]), (("out", (a, b)), told.out[a] & told.out[b])]
        return out

    def settle(self, known: Known, found: Found) -> Words:
        """Adds what is new to what is known, and gives it: the next frontier."""
        if not self._words:
            return known.levels[-1][:0]
        words = np.concatenate(self._words)
        unique, first, back = np.unique(as_keys(words), return_index=True, return_inverse=True)
        number = known.number(unique)
        fresh = np.flatnonzero(number < 0)
        fresh = fresh[np.argsort(first[fresh], kind="stable")]
        number[fresh] = known.count + np.arange(len(fresh))
        every = number[back.reshape(-1)]
        while self._links:
            links = self._links.popleft()
            known.link(np.stack([links >> 32, every[links & 0xFFFFFFFF]], 1).astype(np.int32))
        for (kind, key), times in self._noted.items():
            if times:
                known_times = getattr(found, kind).setdefault(key, [])
                known_times += [(origin, int(every[to])) for origin, to in times][: TIMES - len(known_times)]
        new = words[first[fresh]]
        known.add(new, np.concatenate(self._origins)[first[fresh]])
        return new
