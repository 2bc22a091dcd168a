"""The changes of a trace column by column, kept up to date while the run goes on.

What is added since one looked last is sorted in; nothing is gone through twice.
"""

from __future__ import annotations

import itertools
from array import array
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from numpy.typing import NDArray

FIRST_ROOM = 16
COARSE = 16
"""Of so many changes one is kept in the coarse arrays."""


class Columns:
    """Scans and values of each column, as arrays that grow by doubling."""

    def __init__(self, count: int) -> None:
        # One array is shared by all columns that have no change yet; nobody writes into one of length 0.
        self.scans = [np.empty(0, np.int64)] * count
        self.values = [np.empty(0, np.float64)] * count
        self.lengths = [0] * count
        self._coarse: list[NDArray[np.int64]] = [np.empty(0, np.int64)] * count
        self.rows = 0
        """How many rows of the trace are sorted in."""

    def take(self, scans: array[int], columns: array[int], values: array[float]) -> None:
        """Sorts in the rows behind those that are."""
        first, end = self.rows, len(scans)
        if first == end:
            return
        # Copies, since an array that is being looked at cannot grow.
        new_scans = np.array(scans[first:], np.int64)
        new_columns = np.array(columns[first:], np.int32)
        new_values = np.array(values[first:], np.float64)
        order = np.argsort(new_columns, kind="stable")
        borders = np.searchsorted(new_columns[order], np.arange(len(self.scans) + 1)).tolist()
        new_scans, new_values = new_scans[order], new_values[order]
        for c, (a, b) in enumerate(itertools.pairwise(borders)):
            if a != b:
                self._add(c, new_scans[a:b], new_values[a:b])
        self.rows = end

    def _add(self, c: int, scans: NDArray[np.int64], values: NDArray[np.float64]) -> None:
        n, more = self.lengths[c], len(scans)
        if n + more > len(self.scans[c]):
            if not n:  # most columns change once or seldom: they are a part of what was told
                self.scans[c], self.values[c], self.lengths[c] = scans, values, more
                return
            room = max(n + more, FIRST_ROOM, 2 * len(self.scans[c]))
            # Whoever looks at the old arrays keeps them.
            self.scans[c] = np.concatenate([self.scans[c][:n], np.empty(room - n, np.int64)])
            self.values[c] = np.concatenate([self.values[c][:n], np.empty(room - n, np.float64)])
        self.scans[c][n : n + more] = scans
        self.values[c][n : n + more] = values
        self.lengths[c] = n + more

    def cut(self, k: int, rows: int) -> None:
        """Forgets changes from scan `k` on; `rows` of the trace come before it."""
        if self.rows <= rows:
            return
        for c, scans in enumerate(self.scans):
            n = int(scans[: self.lengths[c]].searchsorted(k))
            if n < self.lengths[c]:
                # The rest is written anew, and somebody may still look at it.
                self.scans[c], self.values[c] = scans[:n].copy(), self.values[c][:n].copy()
                self.lengths[c] = n
                self._coarse[c] = self._coarse[c][: -(-n // COARSE)]
        self.rows = rows

    def of(self, c: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        n = self.lengths[c]
        return self.scans[c][:n], self.values[c][:n]

    def coarse(self, c: int) -> NDArray[np.int64]:
        """The scans of every sixteenth change, from the first on: a small array to look through first."""
        known, n = self._coarse[c], self.lengths[c]
        if len(known) < -(-n // COARSE):
            self._coarse[c] = known = np.concatenate([known, self.scans[c][len(known) * COARSE : n : COARSE]])
        return known
