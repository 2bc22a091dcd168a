"""What happened in a run: a list of changes, the events, and how the devices moved."""

from __future__ import annotations

import sys
from array import array
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Sequence
from itertools import compress
from operator import is_not
from typing import TYPE_CHECKING, Any

from spokeshave.engine.program import FIRST_RECORDED, Program, Recorded
from spokeshave.engine.situation import Event, Situation
from spokeshave.machine.device import State
from spokeshave.model.project import Type, Value

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from spokeshave.engine.trace_index import Columns

    Numbers = Sequence[int] | Sequence[float] | NDArray[np.int64] | NDArray[np.float64]
    """Scans, or values, in the order of time."""


TOGETHER = 64
"""Columns that are compared at once: few of many change in a scan."""


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
        self.motions: list[list[State]] = [[] for _ in program.devices]
        """States of each device, one behind the other; a state begins with the scan from which it holds."""
        self.keeps_changes = True
        """Whether changes and motions are put down; else events alone, for who looks at scans as they come."""
        self.keeps_numbers = True
        """Whether numbers that are told later are put down too (see `sensor_trace`)."""
        self.scan_count = 0
        self.stirred = True
        """Whether the last scan changed anything but inputs, moved a step or told an event."""
        self.told_later: frozenset[int] = frozenset()
        """Columns that are not recorded scan by scan now (see `readings`)."""
        self._new = True
        self._all = range(len(program.recorded))
        self._parts = [slice(at, at + TOGETHER) for at in self._all[::TOGETHER]]
        self._given = bytes(r.kind in ("input", "setting") for r in program.recorded)
        self._last: list[Any] = [None] * len(program.recorded)
        self._end = program.end_recorded
        self._by_column: Columns | None = None
        self._numbers = {r.name.lower(): i for i, r in reversed(list(enumerate(program.recorded)))}

    def record(self, s: Situation, only_changed: bool) -> None:
        """Notes what differs from the scan before, the scan's events, and devices that were turned.

        With `only_changed` nothing differs but in the slots of `s.changed`.
        """
        k, stirred = s.k, s.moved or self._new
        columns = self._among(s.changed, s.v) if only_changed and not self._new else self._differing(s.v)
        self._new = False
        s.changed.clear()
        if columns:
            last, given = self._last, self._given
            if self.keeps_changes:
                self.scans.extend([k] * len(columns))
                self.columns.extend(columns)
                self.values.extend([last[c] for c in columns])
            stirred = stirred or not all(map(given.__getitem__, columns))
        self.stirred = stirred or bool(s.events)
        if s.events or s.turned:
            self._take_events(s)
        self.scan_count = k + 1

    def record_move(self, s: Situation, columns: tuple[tuple[int, Any], ...]) -> None:
        """As `record`, for a scan of which it is known by rote what it changes beside inputs and barred outputs."""
        if not self.keeps_changes:
            s.changed.clear()
            self._new = True  # what `_last` holds is no longer so
            if s.events or s.turned:
                self._take_events(s)
            return
        k, last = s.k, self._last
        rows: Iterable[tuple[int, Any]] = columns
        if s.changed:
            more = [(c, last[c]) for c in self._among(s.changed, s.v)]
            s.changed.clear()
            rows = [*more, *columns]
            if more and columns and more[-1][0] > columns[0][0]:
                rows.sort()
        note_scan, note_column, note_value = self.scans.append, self.columns.append, self.values.append
        for column, value in rows:
            last[column] = value
            note_scan(k)
            note_column(column)
            note_value(value)
        if s.events or s.turned:
            self._take_events(s)

    def _take_events(self, s: Situation) -> None:
        """The scan's events, and the devices that were turned in it."""
        self.events += s.events
        s.events.clear()
        if self.keeps_changes:
            for i in s.turned:
                self.motions[i].append(s.dev_state[i])
        s.turned.clear()

    def record_inputs(self, k: int, slots: list[int], v: list[Any]) -> None:
        """As `record`, for a scan in which nothing differs but inputs."""
        if len(slots) > 1:
            slots.sort()
        last, later, keeps = self._last, self.told_later, self.keeps_changes
        for slot in slots:
            c, value = slot - FIRST_RECORDED, v[slot]
            if last[c] != value:
                last[c] = value
                if keeps and c not in later:
                    self.scans.append(k)
                    self.columns.append(c)
                    self.values.append(value)
        slots.clear()

    def _among(self, slots: list[int], v: list[Any]) -> list[int]:
        """The columns that differ, of those in `slots`, in their order; they are told from now on."""
        last, end, later, found = self._last, self._end, self.told_later, []
        for slot in slots:
            if slot < end:
                column, value = slot - FIRST_RECORDED, v[slot]
                if last[column] != value:
                    last[column] = value
                    if column not in later:
                        found.append(column)
        if len(found) > 1:
            found.sort()
        return found

    def _differing(self, v: list[Any]) -> list[int]:
        now = v[FIRST_RECORDED : self._end]
        if now == self._last:
            return []
        last, self._last, later = self._last, now, self.told_later
        if len(self._parts) == 1:
            return [c for c in compress(self._all, map(is_not, now, last)) if now[c] != last[c] and c not in later]
        found = []
        for part in self._parts:
            if now[part] != last[part]:
                others = compress(self._all[part], map(is_not, now[part], last[part]))
                found += [c for c in others if now[c] != last[c] and c not in later]
        return found

    def tell_later(self, columns: list[int]) -> None:
        """From now on these columns are not recorded scan by scan, but by `take_in`."""
        self.told_later = frozenset(columns)

    def take_in(self, rows: list[tuple[int, Numbers, Numbers]], v: list[Any]) -> None:
        """Sorts in what was told later: column, scans and values, in the order of time."""
        for column in self.told_later:
            self._last[column] = v[FIRST_RECORDED + column]
        self.told_later = frozenset()
        rows = [r for r in rows if len(r[1])]
        if not rows:
            return
        begins = min(int(scans[0]) for _, scans, _ in rows)
        first = bisect_left(self.scans, begins)
        if self._by_column is not None:
            self._by_column.cut(begins, first)
        if "numpy" not in sys.modules:
            self._sort_in(rows, first)
            return
        import numpy as np

        scans = np.concatenate([np.array(self.scans[first:], np.int64), *(r[1] for r in rows)])
        columns = np.concatenate([np.array(self.columns[first:], np.int32), *(np.full(len(r[1]), r[0]) for r in rows)])
        values = np.concatenate([np.array(self.values[first:], np.float64), *(r[2] for r in rows)])
        order = np.argsort(scans * len(self.recorded) + columns, kind="stable")  # good at runs that are sorted already
        del self.scans[first:], self.columns[first:], self.values[first:]
        self.scans.frombytes(scans[order].tobytes())
        self.columns.frombytes(columns[order].astype(np.int32).tobytes())
        self.values.frombytes(values[order].tobytes())

    def _sort_in(self, rows: list[tuple[int, Numbers, Numbers]], first: int) -> None:
        """The same without NumPy, which a short run does not wait for."""
        told = list(zip(self.scans[first:], self.columns[first:], self.values[first:]))
        told += [(k, column, x) for column, scans, values in rows for k, x in zip(scans, values)]
        told.sort(key=lambda change: change[:2])
        del self.scans[first:], self.columns[first:], self.values[first:]
        for k, column, x in told:
            self.scans.append(k)
            self.columns.append(column)
            self.values.append(x)

    def cut(self, k: int) -> None:
        """Forgets everything from scan `k` on."""
        keep = bisect_right(self.scans, k - 1)
        if self._by_column is not None:
            self._by_column.cut(k, keep)
        del self.scans[keep:], self.columns[keep:], self.values[keep:]
        self.events = [e for e in self.events if e.k < k]
        for states in self.motions:
            del states[bisect_right(states, k - 1, key=begin) :]
        by_column = self._columns()
        ends = (by_column.of(c)[1][-1:] for c in range(len(self.recorded)))
        self._last = [float(end[0]) if len(end) else None for end in ends]
        self.scan_count = min(self.scan_count, k)

    def _columns(self) -> Columns:
        """The changes sorted by columns, up to now."""
        if self._by_column is None:
            from spokeshave.engine.trace_index import Columns  # with NumPy, which nothing needs before the first look

            self._by_column = Columns(len(self.recorded))
        self._by_column.take(self.scans, self.columns, self.values)
        return self._by_column

    @property
    def end_ms(self) -> int:
        """Time of the first scan that was not run."""
        return self.scan_count * self.period_ms

    def column(self, name: str) -> int:
        """Index of a signal or `Sequence.Step.X`. Raises KeyError."""
        return self._numbers[name.lower()]

    def changes(self, column: int) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Scans and values of one column's changes, as NumPy arrays, shape (n,)."""
        return self._columns().of(column)

    def coarse(self, column: int) -> NDArray[np.int64]:
        """The scans of every sixteenth change of a column (see `Columns.coarse`)."""
        return self._columns().coarse(column)

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
        states = self.motions[device]
        return states[max(0, bisect_right(states, k, key=begin) - 1)]


def begin(state: State) -> int:
    """The scan from which a state of a device holds."""
    return int(state[0])
