"""The line to a controller, which is the other side of the address map; here over Modbus TCP, in `node_line` over OPC UA."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from pymodbus.client import ModbusTcpClient
from pymodbus.exceptions import ModbusException
from pymodbus.pdu import ModbusPDU

from spokeshave.controller import ControllerError
from spokeshave.fieldbus.access import AccessError, host_and_port
from spokeshave.fieldbus.address_map import (
    COUNT,
    ECHO,
    POWER,
    RESTART,
    AddressMap,
    Point,
    RegisterError,
    Role,
    Table,
)
from spokeshave.model.project import Project, Type, Value

MOST_BITS, MOST_REGISTERS = 1900, 120
"""What one request asks for, at most (the protocol's limits are 2000 and 125, 1968 and 123 to write)."""
OPC = "opc.tcp://"
"""How an address of OPC UA begins; others are of Modbus TCP."""
LOST_S = 2.0
"""A line that is silent for so long is lost."""


class LineError(ControllerError, RuntimeError):
    """The line cannot be made, or is lost; says why."""


@dataclass(frozen=True, slots=True)
class RoundTrip:
    """How long reading all outputs and writing all inputs takes, in ms, of `times` tries."""

    times: int
    mean_ms: float
    worst_ms: float

    def text(self) -> str:
        return f"there and back {self.mean_ms:.1f} ms on the mean, {self.worst_ms:.1f} ms at worst of {self.times}"


def blocks_of(points: Iterable[Point]) -> list[list[Point]]:
    """Points that lie one behind the other in their table, as they are read or written with one request each."""
    order = list(Table)
    made: list[list[Point]] = []
    for p in sorted(points, key=lambda p: (order.index(p.table), p.address)):
        most = MOST_BITS if p.type is Type.BOOL else MOST_REGISTERS
        last = made[-1] if made else []
        joins = last and last[-1].table is p.table and last[-1].address + last[-1].words == p.address
        if joins and p.address + p.words - last[0].address <= most:
            last.append(p)
        else:
            made.append([p])
    return made


class Line:
    """What is asked of a line, whatever it is made of; `close` it. `points` is what is on it, by name, `sent` what the controller was given.

    Raises `LineError` for a map that does not hold all signals.
    """

    def __init__(self, project: Project, address: str) -> None:
        self.map = AddressMap(project, Role.CONTROLLER)
        if self.map.problems:
            raise LineError(self.map.problems[0])
        self.address = address
        self.points = {p.name: p for p in self.map.points}
        self.sent: dict[str, Value] = {}

    @property
    def counts(self) -> bool:
        """Whether the controller runs a scan for each of ours, and says which it has run."""
        return COUNT in self.points and ECHO in self.points

    @property
    def restarts(self) -> bool:
        """Whether the controller can be begun anew."""
        return RESTART in self.points

    @property
    def given(self) -> list[str]:
        """What the controller is given in each scan: inputs, and settings that it takes from a client."""
        return [n for n, p in self.points.items() if p.table.writable and n not in (COUNT, RESTART, POWER)]

    def connect(self) -> None:
        """Raises `LineError` if nobody answers."""
        raise NotImplementedError

    def close(self) -> None:
        """Ends the line."""
        raise NotImplementedError

    def read(self) -> dict[str, Value]:
        """What the controller shows: outputs, and states and counts that are in the map. Raises `LineError`."""
        raise NotImplementedError

    def write(self, values: Mapping[str, Value]) -> None:
        """Gives the controller its inputs; only what is new is sent. Raises `LineError`."""
        raise NotImplementedError

    def again(self) -> None:
        """Sends all that was sent once more. Raises `LineError`."""
        raise NotImplementedError

    def put(self, name: str, value: Value) -> None:
        """Writes one of the services. Raises `LineError`."""
        raise NotImplementedError

    def count(self, number: int) -> None:
        """Tells which scan is to be run. Raises `LineError`."""
        self.put(COUNT, number)

    def pulse(self, name: str) -> None:
        """Puts a bit on and off again: `RESTART` or `POWER`. Raises `LineError`."""
        for value in (True, False):
            self.put(name, value)

    def measure(self, times: int = 40) -> RoundTrip:
        """How long the way there and back takes. Raises `LineError`."""
        took = []
        for _ in range(times):
            began = time.perf_counter()
            self.read()
            self.again()
            took.append((time.perf_counter() - began) * 1000)
        return RoundTrip(times, sum(took) / times, max(took))


class ModbusLine(Line):
    """A Modbus TCP client of the address map."""

    def __init__(self, project: Project, host: str, port: int, unit: int = 1) -> None:
        super().__init__(project, f"{host}:{port}")
        self.unit = unit
        self._client = ModbusTcpClient(host.strip("[]"), port=port, timeout=LOST_S, retries=0)
        shown = blocks_of(p for p in self.map.points if not p.table.writable)
        # What is read behind the count is of that scan; what was read before it may be of the one before.
        self._shown = sorted(shown, key=lambda block: all(p.name != ECHO for p in block))
        self._given = blocks_of(self.points[n] for n in self.given)

    def connect(self) -> None:
        if not self._client.connect():  # type: ignore[no-untyped-call]
            raise LineError(f"nobody answers at {self.address}")

    def close(self) -> None:
        self._client.close()  # type: ignore[no-untyped-call]

    def read(self) -> dict[str, Value]:
        found: dict[str, Value] = {}
        for block in self._shown:
            first, words = block[0], sum(p.words for p in block)
            bits = first.table is Table.DISCRETE
            ask = self._client.read_discrete_inputs if bits else self._client.read_input_registers
            answer = self._ask(first, ask, first.address, count=words, device_id=self.unit)
            for p in block:
                at = p.address - first.address
                found[p.name] = bool(answer.bits[at]) if bits else self._number(p, answer.registers[at : at + p.words])
        return found

    def write(self, values: Mapping[str, Value]) -> None:
        for block in self._given:
            new = {p.name: values[p.name] for p in block}
            if any(name not in self.sent or self.sent[name] != value for name, value in new.items()):
                self._put(block, new)
                self.sent |= new

    def again(self) -> None:
        for block in self._given:
            if block[0].name in self.sent:
                self._put(block, self.sent)

    def put(self, name: str, value: Value) -> None:
        self._put([self.points[name]], {name: value})

    def _put(self, block: list[Point], values: Mapping[str, Value]) -> None:
        first = block[0]
        if first.table is Table.COILS:
            bits = [bool(values[p.name]) for p in block]
            self._ask(first, self._client.write_coils, first.address, bits, device_id=self.unit)
            return
        words = [w for p in block for w in self.map.words(values[p.name], p.type)]
        self._ask(first, self._client.write_registers, first.address, words, device_id=self.unit)

    def _number(self, p: Point, words: Sequence[int]) -> Value:
        try:
            return self.map.number(tuple(words), p.type)
        except RegisterError as error:
            raise LineError(f"{p.name} at {p.address} of the {p.table}: {error}") from error

    def _ask(self, first: Point, request: Callable[..., ModbusPDU], *what: Any, **more: Any) -> ModbusPDU:
        """The answer to a request. One that is refused is a line that cannot be used."""
        try:
            answer = request(*what, **more)
        except (ModbusException, OSError) as error:
            raise LineError(f"{self.address} does not answer any more") from error
        if answer.isError():
            raise LineError(f"{self.address} refuses {first.address} of the {first.table}, where {first.name} is")
        return answer


def open_line(project: Project, address: str, unit: int = 1) -> Line:
    """A line to `HOST:PORT` (Modbus TCP) or `opc.tcp://HOST:PORT` (OPC UA), connected. Raises `LineError`."""
    host, port = host_of(address)
    if address.startswith(OPC):
        try:
            from spokeshave.controller.node_line import NodeLine
        except ImportError as error:
            raise LineError("OPC UA needs the package asyncua: pip install 'spokeshave[opcua]'") from error
        line: Line = NodeLine(project, address)
    else:
        line = ModbusLine(project, host, port, unit)
    line.connect()
    return line


def host_of(address: str) -> tuple[str, int]:
    """Host and port of an address. Raises `LineError` for what is none."""
    try:
        return host_and_port(address.strip().removeprefix(OPC).partition("/")[0], 1)
    except AccessError as error:
        raise LineError(f"{error}, or {OPC}127.0.0.1:4840") from error
