"""Which signal stands at which Modbus address, and how its value is laid out in registers.

| type       | where read-only | where written | registers                                             |
|------------|-----------------|---------------|-------------------------------------------------------|
| BOOL       | discrete input  | coil          | -                                                     |
| INT        | input register  | holding       | one, two's complement                                 |
| DINT, TIME | input register  | holding       | two, two's complement, the more significant one first |
| REAL       | input register  | holding       | two, IEEE 754 single, the more significant one first  |

Addresses count from 0 in each table, in the order of the signals.
"""

from __future__ import annotations

import math
import struct
from dataclasses import dataclass
from enum import StrEnum

from spokeshave.fieldbus import FieldbusError
from spokeshave.model.project import Project, Signal, SignalClass, Type, Value


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


@dataclass(frozen=True, slots=True)
class Point:
    """A signal at its address."""

    table: Table
    address: int
    words: int
    signal: Signal


class AddressMap:
    """The points of a project for a role."""

    def __init__(self, project: Project, role: Role) -> None:
        self.role = role
        self.points: list[Point] = []
        self.by_address: dict[Table, dict[int, tuple[Point, int]]] = {t: {} for t in Table}
        """Each address with its point and which of the point's registers it is."""
        for s in project.signals:
            if s.cls not in (SignalClass.INPUT, SignalClass.OUTPUT):
                continue
            written = s.cls is _WRITTEN[role]
            if s.type is Type.BOOL:
                table, words = Table.COILS if written else Table.DISCRETE, 1
            else:
                table, words = Table.HOLDING if written else Table.INPUT, WORDS[s.type]
            point = Point(table, len(self.by_address[table]), words, s)
            self.points.append(point)
            for i in range(words):
                self.by_address[table][point.address + i] = (point, i)

    def rows(self) -> list[tuple[str, int, int, str, str]]:
        """Table, address, registers, signal, type: the map as it is printed."""
        order = list(Table)
        points = sorted(self.points, key=lambda p: (order.index(p.table), p.address))
        return [(p.table.value, p.address, p.words, p.signal.name, p.signal.type.value) for p in points]
