"""The line to a controller over OPC UA (IEC 62541): its variables are found by their names, wherever they stand."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from concurrent.futures import TimeoutError as LateError
from typing import Any

from asyncua import ua
from asyncua.sync import Client, SyncNode
from asyncua.ua.uaerrors import UaError, UaStatusCodeError

from spokeshave.controller.line import LOST_S, Line, LineError
from spokeshave.fieldbus.address_map import COUNT, ECHO, POWER, RESTART
from spokeshave.fieldbus.node_types import value_of, variant
from spokeshave.model.diagnostics import did_you_mean
from spokeshave.model.project import Project, Value

MOST_NODES = 50_000
"""Nodes that are looked through for the names of signals."""
SERVER = ua.NodeId.from_string("i=2253")
"""The object in which a server tells of itself."""
SERVICES = (COUNT, ECHO, RESTART, POWER)
_LOST = (UaError, OSError, LateError, TimeoutError, ConnectionError)
logging.getLogger("asyncua").setLevel(logging.CRITICAL)


class NodeLine(Line):
    """As `Line`; `address` begins with `opc.tcp://`. What the map has and the name space has not is only missed where it is a signal."""

    def __init__(self, project: Project, address: str) -> None:
        super().__init__(project, address)
        self._client = Client(address, timeout=LOST_S)
        self._nodes: dict[str, SyncNode] = {}
        self._open = False

    def connect(self) -> None:
        try:
            self._client.connect()
            self._open = True
            self._find()
        except _LOST as error:
            self.close()
            raise LineError(f"nobody answers at {self.address}") from error

    def close(self) -> None:
        try:
            if self._open:
                self._client.disconnect()
            else:
                self._client.tloop.stop()
        except _LOST:  # it is gone already
            pass
        self._open = False

    def read(self) -> dict[str, Value]:
        # The count first: what is read behind it is of that scan.
        names = sorted((n for n, p in self.points.items() if not p.table.writable), key=lambda n: n != ECHO)
        values = self._ask(self._client.read_values, [self._nodes[n] for n in names])
        found = {}
        for name, value in zip(names, values):
            try:
                found[name] = value_of(value, self.points[name].type)
            except ValueError as error:
                raise LineError(f"{name} of {self.address}: {error}") from error
        return found

    def write(self, values: Mapping[str, Value]) -> None:
        self._put({n: v for n, v in values.items() if n not in self.sent or self.sent[n] != v})

    def again(self) -> None:
        self._put(dict(self.sent))

    def put(self, name: str, value: Value) -> None:
        self._put({name: value}, keep=False)

    def _put(self, new: dict[str, Value], keep: bool = True) -> None:
        if new:
            written = [variant(v, self.points[n].type) for n, v in new.items()]
            self._ask(self._client.write_values, [self._nodes[n] for n in new], written)
            self.sent |= new if keep else {}

    def _find(self) -> None:
        """The nodes by their names, from the objects downwards; the server's own are passed by."""
        wanted = {n.lower(): n for n in self.points}
        todo, seen = [self._client.nodes.objects], set[Any]()
        known: list[str] = []
        while todo and len(seen) < MOST_NODES and len(self._nodes) < len(wanted):
            node = todo.pop(0)
            for child in node.get_children():
                if child.nodeid in seen or child.nodeid == SERVER:
                    continue
                seen.add(child.nodeid)
                name = child.read_browse_name().Name or ""
                known.append(name)
                if name.lower() in wanted:
                    self._nodes.setdefault(wanted[name.lower()], child)
                else:
                    todo.append(child)
        for name in [n for n in self.points if n not in self._nodes]:
            if name not in SERVICES:
                offer = did_you_mean(name, known)
                raise LineError(f"{self.address} has no {name}{f'; {offer}' if offer else ''}")
            del self.points[name]

    def _ask(self, request: Any, *what: Any) -> Any:
        try:
            return request(*what)
        except UaStatusCodeError as error:
            raise LineError(f"{self.address} refuses: {error}") from error
        except _LOST as error:
            raise LineError(f"{self.address} does not answer any more") from error
