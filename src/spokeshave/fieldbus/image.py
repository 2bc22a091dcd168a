"""The image between clients and a run: what was after the last scan, and what is to be written before the next one.

Clients are answered in a thread of their own; the run takes and gives in its own time. Neither waits for the other.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable

from spokeshave.engine.session import Session
from spokeshave.fieldbus import FieldbusError
from spokeshave.fieldbus.address_map import COUNT, ECHO, POWER, RESTART, AddressMap, Point, RegisterError, Role, Table
from spokeshave.model.project import Project, Type, Value

MOST_WAITING = 100_000
"""Writes that wait for the next scan; more are refused until it has come."""


class AddressError(FieldbusError, ValueError):
    """An address outside the map, or one that may not be written."""


class BusyError(FieldbusError, RuntimeError):
    """Too much is waiting to be taken in."""


class Image:
    """What clients see and write: the values of the last scan, and what they have written since."""

    def __init__(self, project: Project, role: Role) -> None:
        self.map = AddressMap(project, role)
        self.values: dict[str, Value] = {v.name: v.start for v in project.variables}
        self._states = [p for p in self.map.points if p.sequence >= 0]
        """Step flags and state numbers of the map."""
        self.values |= {p.name: False if p.type is Type.BOOL else 0 for p in self._states}
        self._variables = [v.name for v in project.variables]
        self._services: dict[str, Value] = {COUNT: 0, ECHO: 0, RESTART: False, POWER: False}
        self.values |= self._services
        self.shown: Callable[[dict[str, Value]], None] | None = None
        """Hears what is shown to clients behind each scan."""
        self.by_count = False
        """Whether a scan is run for each that a client counts, and none by the clock."""
        self.count_came = threading.Event()
        """Set when a client has told the number of a scan to run."""
        self._written: deque[tuple[Point, Value]] = deque()
        self._asked: dict[str, Value] = {}
        """What clients have written and the run has not shown yet, so that they read back what they wrote."""
        self._given: set[str] = set()
        """Inputs that clients have taken over."""
        self.reads = self.writes = self.refused = 0

    # -- the clients' side

    def read(self, table: Table, address: int, count: int) -> list[int]:
        """BOOLs or registers from an address on. Raises `AddressError`."""
        out = []
        for a in range(address, address + count):
            point, word = self._point(table, a)
            out.append(self._word(point, word))
        self.reads += 1
        return out

    def write(self, table: Table, address: int, words: list[int]) -> None:
        """Takes BOOLs or registers for the next scan, all or nothing.

        A number of two registers of which one is written keeps the other. Raises `AddressError`, `RegisterError`,
        `BusyError`.
        """
        if not table.writable:
            self.refused += 1
            raise AddressError(f"{table} are read only")
        new: dict[str, tuple[Point, list[int]]] = {}
        try:
            for a, word in enumerate(words, address):
                point, i = self._point(table, a)
                now = [self._word(point, n) for n in range(point.words)]
                new.setdefault(point.name, (point, now))[1][i] = int(word)
            values = [
                (p, bool(w[0]) if p.type is Type.BOOL else self.map.number(tuple(w), p.type)) for p, w in new.values()
            ]
        except (AddressError, RegisterError):
            self.refused += 1
            raise
        self._room()
        for point, value in values:
            self._take(point, value)
        self.writes += 1

    def put(self, point: Point, value: Value) -> None:
        """Takes a value for the next scan. Raises `AddressError` for what may not be written, `BusyError`."""
        if not point.table.writable:
            self.refused += 1
            raise AddressError(f"{point.name} is read only")
        self._room()
        self._take(point, value)
        self.writes += 1

    def _room(self) -> None:
        if len(self._written) > MOST_WAITING:
            self.refused += 1
            raise BusyError("the run does not keep up")

    def _take(self, point: Point, value: Value) -> None:
        self._asked[point.name] = value
        self._written.append((point, value))
        if point.name == COUNT:
            self.count_came.set()

    def _point(self, table: Table, address: int) -> tuple[Point, int]:
        found = self.map.by_address[table].get(address)
        if found is None:
            raise AddressError(f"{table} end before {address}")
        return found

    def _word(self, point: Point, word: int) -> int:
        name = point.name
        value = self._asked.get(name, self.values[name])
        return int(value) if point.type is Type.BOOL else self.map.words(value, point.type)[word]

    # -- the run's side

    def begin(self, session: Session) -> None:
        """As machine, the controls stand still: the sequences are held, and outputs are what clients write."""
        if self.map.role is Role.MACHINE:
            session.do("drive", "", True)
            for p in self.map.points:
                if p.table.writable:
                    session.do("force", p.name, self.values[p.name])

    def end(self, session: Session) -> None:
        """Gives the outputs and the sequences back."""
        if self.map.role is Role.MACHINE:
            for p in self.map.points:
                if p.table.writable:
                    session.do("unforce", p.name)
            session.do("drive", "", False)

    def before_scan(self, session: Session) -> int:
        """Gives the run what clients have written; how much of it was new. Of several values the last one counts."""
        last: dict[str, Value] = {}
        while self._written:
            point, value = self._written.popleft()
            last[point.name] = value
            if value and point.name in (RESTART, POWER):
                self._begin_anew(session, point.name)
        for name in (COUNT, RESTART, POWER):
            if name in last:
                self._services[name] = last.pop(name)
        do = "force" if self.map.role is Role.MACHINE else "set"
        changed = {n: v for n, v in last.items() if v != self.values[n] or n not in self._given}
        for name, value in changed.items():
            session.do(do, name, value)
            self._given.add(name)
        return len(changed)

    def _begin_anew(self, session: Session, name: str) -> None:
        """What clients who run scenarios ask for: a controller as for the first time, with the inputs it has, or its power cut."""
        if name == POWER:
            session.do("power")
            return
        session.reset()
        for given in self._given:
            session.do("set", given, self.values[given])

    def after_scan(self, session: Session) -> None:
        """Shows clients what is now."""
        v, slots = session.situation.v, session.program.slots
        values: dict[str, Value] = {name: v[slots[name.lower()]] for name in self._variables}
        for p in self._states:
            active, steps = session.situation.active[p.sequence], session.program.sequences[p.sequence].steps
            values[p.name] = p.step in active if p.step >= 0 else min((steps[a].number for a in active), default=0)
        self._services[ECHO] = self._services[COUNT]
        self.values = values | self._services
        if self.shown is not None:
            self.shown(self.values)
        for name, value in list(self._asked.items()):
            if value == self.values[name]:
                self._asked.pop(name, None)
