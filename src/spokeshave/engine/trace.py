"""What happened in a run: a list of changes, the events, and how the devices moved."""

from __future__ import annotations

from array import array
from bisect import bisect_right
from itertools import pairwise
from typing import TYPE_CHECKING, Any

from spokeshave.engine.program import FIRST_RECORDED, Program, Recorded
from spokeshave.engine.situation import Event, Situation
from spokeshave.machine.device import State
from spokeshave.model.project import Type, Value

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


class Trace:
    """Changes at the end of each scan, in the order of scan and column.

    `scans`, `columns` and `values` are parallel arrays (scan, index into `recorded`, value as a double, which holds
    every BOOL, INT, DINT, REAL and TIME exactly). About 20 bytes a change.
    """

    def __init__(self, program: Program) -> None:
        self.recorded: tuple[Recorded, ...] = program.recorded
        self.period_ms = program.period_ms
        self.scans = array("q")
        self.columns = array("i")
        self.values = array("d")
        self.events: list[Event] = []
        self.motions: list[tuple[array[int], list[State]]] = [(array("q"), []) for _ in program.devices]
        self.scan_count = 0
        self.stirred = True
        self._last: list[Any] = [None] * len(program.recorded)
        self._end = program.end_recorded
        self._by_column: tuple[int, list[tuple[NDArray[np.int64], NDArray[np.float64]]]] | None = None

    def record(self, s: Situation) -> None:
        """Notes what differs from the scan before, the scan's events, and devices that were turned."""
        now = s.v[FIRST_RECORDED : self._end]
        if now != self._last:
            k, last = s.k, self._last
            for column, value in enumerate(now):
                if value != last[column]:
                    self.scans.append(k)
                    self.columns.append(column)
                    self.values.append(value)
            self._last = now
        # Whether more happened than values tell: steps entered or left, events.
        self.stirred = bool(s.events) or any(s.came) or any(s.left)
        if s.events:
            self.events += s.events
            s.events.clear()
        for (scans, states), state in zip(self.motions, s.dev_state):
            if not states or state is not states[-1]:
                scans.append(s.k)
                states.append(state)
        self.scan_count = s.k + 1

    def cut(self, k: int) -> None:
        """Forgets everything from scan `k` on."""
        keep = bisect_right(self.scans, k - 1)
        del self.scans[keep:], self.columns[keep:], self.values[keep:]
        self.events = [e for e in self.events if e.k < k]
        for scans, states in self.motions:
            n = bisect_right(scans, k - 1)
            del scans[n:], states[n:]
        self._last = [None] * len(self.recorded)
        for column, value in zip(self.columns, self.values):
            self._last[column] = value
        self.scan_count = min(self.scan_count, k)
        self._by_column = None

    @property
    def end_ms(self) -> int:
        """Time of the first scan that was not run."""
        return self.scan_count * self.period_ms

    def column(self, name: str) -> int:
        """Index of a signal or `Sequence.Step.X`. Raises KeyError."""
        wanted = name.lower()
        for i, r in enumerate(self.recorded):
            if r.name.lower() == wanted:
                return i
        raise KeyError(name)

    def changes(self, column: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Scans and values of one column's changes, as NumPy arrays, shape (n,)."""
        import numpy as np

        n = len(self.scans)
        if self._by_column is None or self._by_column[0] != n:
            # Copies, since an array that is being looked at cannot grow.
            scans = np.array(self.scans, dtype=np.int64)
            columns = np.array(self.columns, dtype=np.int32)
            values = np.array(self.values, dtype=np.float64)
            order = np.argsort(columns, kind="stable")
            borders = np.searchsorted(columns[order], np.arange(len(self.recorded) + 1))
            self._by_column = (
                n,
                [(scans[order[a:b]], values[order[a:b]]) for a, b in pairwise(borders)],
            )
        return self._by_column[1][column]

    def at(self, name: str, k: int) -> Value:
        """The value of a signal or step flag at the end of scan `k`."""
        column = self.column(name)
        scans, values = self.changes(column)
        i = int(scans.searchsorted(k, side="right")) - 1
        return self.value(column, float(values[max(0, i)]))

    def value(self, column: int, stored: float) -> Value:
        """A stored double as a value of its column's type."""
        kind = self.recorded[column].type
        if kind is Type.BOOL:
            return bool(stored)
        return float(stored) if kind is Type.REAL else int(stored)

    def windows(self, name: str) -> list[tuple[int, int]]:
        """Scans `[from, to)` in which a BOOL column was TRUE; the last may end with the run."""
        scans, values = self.changes(self.column(name))
        out: list[tuple[int, int]] = []
        start = -1
        for k, value in zip(scans.tolist(), values.tolist()):
            if value and start < 0:
                start = k
            elif not value and start >= 0:
                out.append((start, k))
                start = -1
        if start >= 0:
            out.append((start, self.scan_count))
        return out

    def motion(self, device: int, k: int) -> State:
        """The state of a device that holds at scan `k`."""
        scans, states = self.motions[device]
        return states[max(0, bisect_right(scans, k) - 1)]
