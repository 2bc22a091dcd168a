"""Which signal stands at which Modbus address, and how its value is laid out in registers.

| type       | where read-only | where written | registers                                             |
|------------|-----------------|---------------|-------------------------------------------------------|
| BOOL       | discrete input  | coil          | -                                                     |
| INT        | input register  | holding       | one, two's complement                                 |
| DINT, TIME | input register  | holding       | two, two's complement, the more significant one first |
| REAL       | input register  | holding       | two, IEEE 754 single, the more significant one first  |

Addresses count from 0 in each table. First come those the machine file keeps (`Project.modbus`), then those that the IEC
addresses of the signals say (`%IX0.3` is 3, `%IW4` is 4) where they are free, then the others behind them in the order of
the signals. Settings, variables, step flags and state numbers are in the map where the file keeps an address for them; a file
may turn the order of the two registers round.
"""

from __future__ import annotations

import math
import struct
from dataclasses import dataclass, replace
from enum import StrEnum
from itertools import chain

from spokeshave.fieldbus import FieldbusError
from spokeshave.model.addresses import read_address
from spokeshave.model.edits import EditError
from spokeshave.model.project import BusPoint, Project, Signal, SignalClass, Type, Value


class Role(StrEnum):
    """What this side is for the clients."""

    CONTROLLER = "controller"
    """The controls run here; an outside machine writes the inputs and reads the outputs."""
    MACHINE = "machine"
    """The machine stand-in runs here; an outside controller writes the outputs and reads the inputs."""
    ONLOOKER = "onlooker"
    """Both run here; clients read everything and write nothing."""


class Table(StrEnum):
    """The four tables of the Modbus data model."""

    COILS = "coils"
    DISCRETE = "discrete inputs"
    HOLDING = "holding registers"
    INPUT = "input registers"

    @property
    def writable(self) -> bool:
        return self in (Table.COILS, Table.HOLDING)


WORDS = {Type.INT: 1, Type.DINT: 2, Type.TIME: 2, Type.REAL: 2}
_WRITTEN = {Role.CONTROLLER: SignalClass.INPUT, Role.MACHINE: SignalClass.OUTPUT, Role.ONLOOKER: None}


class RegisterError(FieldbusError, ValueError):
    """Registers that are no value of the type."""


def to_words(value: Value, kind: Type) -> tuple[int, ...]:
    """A number as registers of 16 bits. A REAL that no single can hold becomes an infinite one.

    >>> to_words(-2, Type.INT), to_words(1.5, Type.REAL), to_words(65538, Type.DINT)
    ((65534,), (16320, 0), (1, 2))
    """
    if kind is Type.INT:
        return (int(value) & 0xFFFF,)
    if kind is Type.REAL:
        number = float(value)
        try:
            packed = struct.pack(">f", number)
        except OverflowError:
            packed = struct.pack(">f", math.copysign(math.inf, number))
        return struct.unpack(">HH", packed)
    return struct.unpack(">HH", struct.pack(">i", max(-(2**31), min(2**31 - 1, int(value)))))


def from_words(words: tuple[int, ...], kind: Type) -> Value:
    """The number in registers. Raises `RegisterError` for a REAL that is not a number."""
    if kind is Type.INT:
        return words[0] - 0x10000 if words[0] & 0x8000 else words[0]
    packed = struct.pack(">HH", *words)
    if kind is Type.REAL:
        number: float = struct.unpack(">f", packed)[0]
        if not math.isfinite(number):
            raise RegisterError("the registers hold no number")
        return number
    whole: int = struct.unpack(">i", packed)[0]
    return whole


COUNT, ECHO, RESTART, POWER = "scan count", "scan echo", "restart", "power cycle"
"""What a controller may have in its map beside signals, for whoever runs scenarios against it: the scan it is told to run, the last
one it has run, and bits that begin it anew as for the first time and as behind a power cycle.
"""
COUNTED = 30_000
"""Scans are counted from 1 to this, and from 1 again."""
_SERVICES = ((COUNT, Type.INT, True), (ECHO, Type.INT, False), (RESTART, Type.BOOL, True), (POWER, Type.BOOL, True))
HEADS = ("Table", "Address", "Registers", "Name", "Type")
"""What the columns of `AddressMap.rows` are."""
ADDRESSES = 65536
"""Addresses that a table has."""


@dataclass(frozen=True, slots=True)
class Point:
    """Something at its address. `step` and `sequence` are the places of a step flag or a state number, else -1."""

    table: Table
    address: int
    words: int
    name: str
    type: Type
    sequence: int = -1
    step: int = -1
    is_written: bool = False
    """Whether it is a setting that clients may write."""


@dataclass(frozen=True, slots=True)
class _Wanted:
    """What is to be in the map, before it has a place; `at` is the address it would like, -1 without one."""

    name: str
    type: Type
    written: bool
    at: int = -1
    sequence: int = -1
    step: int = -1

    @property
    def table(self) -> Table:
        if self.type is Type.BOOL:
            return Table.COILS if self.written else Table.DISCRETE
        return Table.HOLDING if self.written else Table.INPUT


class AddressMap:
    """The points of a project for a role, in the order of the file."""

    def __init__(self, project: Project, role: Role) -> None:
        self.role = role
        self.by_address: dict[Table, dict[int, tuple[Point, int]]] = {t: {} for t in Table}
        """Each address with its point and which of the point's registers it is."""
        self.problems: list[str] = []
        """Kept addresses that could not be had, in words."""
        own = [p for p in project.modbus if p.role == role]
        self.kinds = {v.name: v.cls for v in project.variables}
        self._low_first = project.low_word_first
        kept = {p.name.lower(): p.address for p in own}
        placed: dict[str, Point] = {}
        wanted = [
            _Wanted(s.name, s.type, s.cls is _WRITTEN[role], _from_iec(s))
            for s in project.signals
            if s.cls in (SignalClass.INPUT, SignalClass.OUTPUT)
        ]
        known = {w.name.lower() for w in wanted}
        more = {w.name.lower(): w for w in also(project, role)}
        for p in own:
            if p.name.lower() not in known and p.name.lower() not in more:
                self.problems.append(f"there is no {p.name} to be at {p.address}")
        wanted += [w for name, w in more.items() if name in kept]
        for w in wanted:  # what is kept comes first: nothing new takes its place
            at = kept.get(w.name.lower(), -1)
            if at >= 0:
                if self._is_free(w, at):
                    placed[w.name] = self._place(w, at)
                else:
                    self.problems.append(
                        f"{w.name} cannot be at {at} of the {w.table}: it is taken or beyond the table"
                    )
        for w in wanted:
            if w.name not in placed and w.at >= 0 and self._is_free(w, w.at):
                placed[w.name] = self._place(w, w.at)
        for w in wanted:
            if w.name not in placed:
                behind = max(self.by_address[w.table], default=-1) + 1
                places = chain(range(behind, ADDRESSES), range(behind))
                at = next((a for a in places if self._is_free(w, a)), -1)
                if at < 0:
                    self.problems.append(f"the {w.table} are full, there is no room for {w.name}")
                else:
                    placed[w.name] = self._place(w, at)
        self.points: list[Point] = [placed[w.name] for w in wanted if w.name in placed]

    def _is_free(self, w: _Wanted, at: int) -> bool:
        words = range(at, at + WORDS.get(w.type, 1))
        return words.stop <= ADDRESSES and not any(a in self.by_address[w.table] for a in words)

    def _place(self, w: _Wanted, at: int) -> Point:
        is_written = w.written and self.kinds.get(w.name) is SignalClass.SETTING
        point = Point(w.table, at, WORDS.get(w.type, 1), w.name, w.type, w.sequence, w.step, is_written)
        for i in range(point.words):
            self.by_address[w.table][at + i] = (point, i)
        return point

    def words(self, value: Value, kind: Type) -> tuple[int, ...]:
        """A number as registers, in the order of the file (see `to_words`)."""
        words = to_words(value, kind)
        return words[::-1] if self._low_first else words

    def number(self, words: tuple[int, ...], kind: Type) -> Value:
        """The number in registers, in the order of the file. Raises `RegisterError`."""
        return from_words(words[::-1] if self._low_first else words, kind)

    def rows(self) -> list[tuple[str, int, int, str, str]]:
        """Table, address, registers, name, type: the map as it is printed."""
        order = list(Table)
        points = sorted(self.points, key=lambda p: (order.index(p.table), p.address))
        return [(p.table.value, p.address, p.words, p.name, p.type.value) for p in points]

    def table(self) -> tuple[str, tuple[str, ...], list[tuple[str, ...]]]:
        """Title, headings and rows of the map, for whoever programs the other side."""
        return "Modbus map", HEADS, [tuple(map(str, row)) for row in self.rows()]

    def kept(self) -> tuple[BusPoint, ...]:
        """The map as a machine file keeps it."""
        return tuple(BusPoint(p.name, p.address, self.role.value, p.is_written) for p in self.points)


def also(project: Project, role: Role = Role.ONLOOKER) -> list[_Wanted]:
    """What can be in the map beside inputs and outputs: settings, variables, state numbers, step flags; of a controller also what
    those who run scenarios against it need. All of it is read, but settings that the file lets clients of a controller write.
    """
    written = {p.name.lower() for p in project.modbus if p.written and p.role == role == Role.CONTROLLER}
    found = [
        _Wanted(v.name, v.type, v.name.lower() in written and v.cls is SignalClass.SETTING)
        for v in project.variables
        if v.cls not in (SignalClass.INPUT, SignalClass.OUTPUT)
    ]
    if role is Role.CONTROLLER:
        found += [_Wanted(name, kind, is_written) for name, kind, is_written in _SERVICES]
    for i, q in enumerate(project.sequences):
        found.append(_Wanted(q.name, Type.INT, False, sequence=i))
        found += [_Wanted(f"{q.name}.{s.name}", Type.BOOL, False, sequence=i, step=n) for n, s in enumerate(q.steps)]
    return found


def put_point(project: Project, name: str, address: int, role: Role) -> Project:
    """The file with something at an address, and all else where the map has it now. Raises `EditError`."""
    if not 0 <= address < ADDRESSES:
        raise EditError(f"{address} is no address; they go from 0 to {ADDRESSES - 1}")
    kept = AddressMap(project, role).kept()
    others = tuple(p for p in kept if p.name.lower() != name.lower())
    written = any(p.written for p in (*kept, *project.modbus) if p.name.lower() == name.lower() and p.role == role)
    made = _with(project, role, (*others, BusPoint(name, address, role.value, written)))
    there = AddressMap(made, role)
    point = next((p for p in there.points if p.name.lower() == name.lower()), None)
    if point is None:
        raise EditError(f"there is no {name}")
    if point.address != address:
        held = {
            p.name for p, _ in (there.by_address[point.table].get(address + i, (point, 0)) for i in range(point.words))
        }
        raise EditError(
            f"{address} of the {point.table} is the place of {', '.join(sorted(held - {point.name})) or 'nothing'}"
        )
    return _with(project, role, there.kept())


def put_first_free(project: Project, name: str, role: Role) -> Project:
    """The file with something behind all that is in the map; it stays where it is if it is there. Raises `EditError`."""
    now = AddressMap(project, role)
    if any(p.name.lower() == name.lower() for p in now.points):
        return project
    found = next((w for w in also(project, role) if w.name.lower() == name.lower()), None)
    if found is None:
        raise EditError(f"there is no {name}")
    return put_point(project, found.name, max(now.by_address[found.table], default=-1) + 1, role)


def let_write(project: Project, name: str, on: bool) -> Project:
    """The file with a setting that clients of the controller may write, or may read only; at the first free address of the other
    table. Raises `EditError` for what is no setting.
    """
    role = Role.CONTROLLER
    signal = project.signal(name)
    if signal is None or signal.cls is not SignalClass.SETTING:
        raise EditError(f"{name} is no setting; clients write inputs, and settings where the file lets them")
    without = drop_point(project, name, role)
    marked = _with(
        without, role, (*(p for p in without.modbus if p.role == role), BusPoint(signal.name, 0, role.value, on))
    )
    wanted = next(w for w in also(marked, role) if w.name == signal.name)
    return put_point(marked, signal.name, max(AddressMap(without, role).by_address[wanted.table], default=-1) + 1, role)


def drop_point(project: Project, name: str, role: Role) -> Project:
    """The file without something that is in the map beside inputs and outputs, and all else where it is."""
    kept = AddressMap(project, role).kept()
    return _with(project, role, tuple(p for p in kept if p.name.lower() != name.lower()))


def keep_map(project: Project, role: Role) -> Project:
    """The file with the addresses it has now: what is inserted later moves none of them."""
    return _with(project, role, AddressMap(project, role).kept())


def _with(project: Project, role: Role, points: tuple[BusPoint, ...]) -> Project:
    return replace(project, modbus=(*(p for p in project.modbus if p.role != role), *points))


def _from_iec(s: Signal) -> int:
    """The Modbus address that an IEC address says; -1 without one, and for one that is not of the size of the type."""
    if not s.address:
        return -1
    try:
        found = read_address(s.address)
    except ValueError:
        return -1
    if s.type is Type.BOOL:
        return found.first if found.bits == 1 and found.first < ADDRESSES else -1
    fits = found.bits == 16 * WORDS[s.type] and found.first // 16 + WORDS[s.type] <= ADDRESSES
    return found.first // 16 if fits else -1
