"""What a timing diagram shows, pixel by pixel: cost follows the pixels, not the changes of a signal.

Every lane looks its changes up at the borders of the pixels, by bisection.
"""

from __future__ import annotations

from collections.abc import Sequence as Items
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from spokeshave.model.project import Sequence

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from spokeshave.engine.trace import Trace

BLOCK = 64
"""Changes that are summed up together where a pixel has many."""
DENSE = 64
"""Changes a pixel from which on a lane is looked through coarsely first."""
CROWDED = 200_000
"""Changes in view from which on a curve is drawn from blocks."""


@dataclass(frozen=True)
class Pixels:
    """A BOOL lane, shape (n,) each: the value at the left border of a pixel, and how often it changes within."""

    high: NDArray[np.bool_]
    changes: NDArray[np.int64]

    @property
    def blips(self) -> NDArray[np.bool_]:
        """Pixels in which something came and went again."""
        return self.changes >= 2


def borders(start_ms: float, span_ms: float, pixels: int, period_ms: int) -> NDArray[np.int64]:
    """The first scan at or behind each border of `pixels` pixels, shape (pixels + 1,)."""
    times = start_ms + np.arange(pixels + 1) * (span_ms / pixels)
    return np.ceil(times / period_ms - 1e-9).astype(np.int64)


def bool_pixels(
    scans: NDArray[np.int64], values: NDArray[np.float64], at: NDArray[np.int64], coarse: NDArray[np.int64]
) -> Pixels:
    """A BOOL lane at pixel borders in scans, from its changes.

    A pixel in which the coarse array moves on by two has sixteen changes at least, and more need not be known of it.
    Where that is so of most, only the others are looked up exactly.
    """
    if not len(values):
        nothing = np.zeros(len(at) - 1, np.int64)
        return Pixels(nothing > 0, nothing)
    if len(scans) > DENSE * len(at):
        index = np.searchsorted(coarse, at)
        dense = np.diff(index) > 1
        if dense.mean() > 0.5:
            rest = np.flatnonzero(~dense)
            changes = np.full(len(dense), len(scans))
            first, last = np.searchsorted(scans, at[rest]), np.searchsorted(scans, at[rest + 1])
            changes[rest] = last - first
            high = np.zeros(len(dense), np.bool_)
            high[rest] = (values[np.maximum(first - 1, 0)] != 0) & (first > 0)
            return Pixels(high, changes)
    # What is in view stands close together: nothing else of a long column is touched.
    low, top = np.searchsorted(scans, at[[0, -1]])
    index = low + np.searchsorted(scans[low:top], at)
    before = index[:-1] - 1
    high = (values[np.maximum(before, 0)] != 0) & (before >= 0)
    return Pixels(high, np.diff(index))


def number_pixels(
    scans: NDArray[np.int64], values: NDArray[np.float64], at: NDArray[np.int64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The least and the greatest value a number has in each pixel, the one it comes with included. Shapes (n,)."""
    index = np.searchsorted(scans, at)
    first, last = np.maximum(index[:-1] - 1, 0), index[1:]
    if index[-1] - index[0] > CROWDED:
        # A pixel has many blocks: what is too much at its borders is less than a pixel.
        low, high = _blocks(values)
        first, last = first // BLOCK, np.maximum(first // BLOCK + 1, last // BLOCK)
    else:
        low = high = values
    last = np.minimum(np.maximum(last, first + 1), len(low))
    first = np.minimum(first, len(low) - 1)
    pairs = np.column_stack([first, last]).ravel()
    # A value behind the last one, so that every border may be used.
    least = np.minimum.reduceat(np.append(low, low[-1]), pairs)[::2]
    most = np.maximum.reduceat(np.append(high, high[-1]), pairs)[::2]
    return least, most


_summed: list[tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]] = []
"""Blocks of the curves that were drawn last: changes are only added, so a longer column has a new one."""


def _blocks(values: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    for known, low, high in _summed:
        if known is values or (known.base is not None and known.base is values.base and len(known) == len(values)):
            return low, high
    at = np.arange(0, len(values), BLOCK)
    low, high = np.minimum.reduceat(values, at), np.maximum.reduceat(values, at)
    _summed.insert(0, (values, low, high))
    del _summed[64:]
    return low, high


def tracks(q: Sequence) -> dict[str, int]:
    """On which track the bar of each step stands: those of a simultaneous branch have one each."""
    out = {q.initial: 0}
    todo = [q.initial]
    while todo:
        step = todo.pop()
        for _, t in q.leaving(step):
            base = min((out[s] for s in t.sources if s in out), default=0)
            for i, target in enumerate(t.targets):
                if target not in out:
                    out[target] = base + i
                    todo.append(target)
    return {s.name: out.get(s.name, 0) for s in q.steps}


def nearest_edge(trace: Trace, name: str, k: int, reach: int) -> int | None:
    """The change of a signal nearest to scan `k`, at most `reach` scans away; None without one."""
    scans, _ = trace.changes(trace.column(name))
    i = int(np.searchsorted(scans, k))
    near = [int(s) for s in scans[max(0, i - 1) : i + 1] if abs(int(s) - k) <= reach]
    return min(near, key=lambda s: abs(s - k), default=None)


def snapshot(trace: Trace, names: Items[str], first: int, last: int) -> list[list[str]]:
    """The lanes of a view as rows: a head, the state at scan `first`, and one row for each scan up to `last` in which
    any of them changes. Times in ms.
    """
    columns = [trace.column(n) for n in names]
    changes = [trace.changes(c) for c in columns]
    scans = np.unique(np.concatenate([s[(s > first) & (s <= last)] for s, _ in changes] or [np.array([], np.int64)]))
    rows = [["time_ms", *names]]
    for k in [first, *scans.tolist()]:
        cells = []
        for c, (at, values) in zip(columns, changes):
            i = int(np.searchsorted(at, k, side="right")) - 1
            value = trace.value(c, float(values[max(0, i)]))
            cells.append(str(int(value)) if isinstance(value, bool) else f"{value:g}")
        rows.append([str(k * trace.period_ms), *cells])
    return rows
