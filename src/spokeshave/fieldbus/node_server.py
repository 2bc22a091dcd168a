"""The run as a name space of OPC UA: each thing in the address map is a variable by its name, under an object of the machine's name."""

from __future__ import annotations

import asyncio
import logging
from typing import Any

from asyncua import ua
from asyncua.common.callback import CallbackType
from asyncua.server.server import Server as UaServer

from spokeshave.fieldbus.address_map import ECHO, RegisterError
from spokeshave.fieldbus.image import BusyError, Image
from spokeshave.fieldbus.node_types import value_of, variant
from spokeshave.fieldbus.server import Listening
from spokeshave.model.project import Value

START_S = 20.0
"""The standard's own name space is made anew for each server."""
NAMESPACE = "urn:spokeshave:machine"
logging.getLogger("asyncua").setLevel(logging.CRITICAL)


class NodeServer(Listening):
    """As `Server`, over OPC UA: `start` returns when clients can connect. Raises `ServeError` if the address cannot be had."""

    def __init__(self, image: Image, host: str = "127.0.0.1", port: int = 4840, name: str = "Machine") -> None:
        super().__init__(host, port)
        self.image, self.name = image, name
        self._points = {p.name: p for p in image.map.points}
        self._ids: dict[ua.NodeId, str] = {}
        self._nodes: dict[str, ua.NodeId] = {}
        self._shown: dict[str, Value] = {}
        self._server: UaServer | None = None
        self._over = asyncio.Event()

    @property
    def address(self) -> str:
        return f"opc.tcp://{self.host}:{self.port}"

    def start(self) -> None:
        self._listen("opc ua", START_S)
        self.image.shown = self._push

    def stop(self) -> None:
        """Ends the connections and the thread."""
        self.image.shown = None
        if self._loop is not None and self._loop.is_running():
            self._loop.call_soon_threadsafe(self._over.set)
        if self._thread is not None and self._thread.is_alive():
            self._thread.join(START_S)

    async def _serve(self) -> None:
        self._loop = asyncio.get_running_loop()
        server = UaServer()
        await server.init()
        server.set_endpoint(self.address)
        server.set_security_policy([ua.SecurityPolicyType.NoSecurity])
        space = await server.register_namespace(NAMESPACE)
        machine = await server.nodes.objects.add_object(space, self.name)
        for name, point in self._points.items():
            first = variant(self.image.values[name], point.type)
            assert first.Value is not None
            where = ua.NodeId.from_string(f"ns={space};s={name}")
            node = await machine.add_variable(
                where, ua.QualifiedName(name, space), first.Value.Value, first.Value.VariantType
            )
            if point.table.writable:
                await node.set_writable()
            self._ids[node.nodeid], self._nodes[name] = name, node.nodeid
        server.subscribe_server_callback(CallbackType.PostWrite, self._written)
        self._server = server
        async with server:
            if self.port == 0 and server.bserver is not None:
                self.port = server.bserver.port
            self._ready.set()
            await self._over.wait()

    async def _written(self, event: Any, _: Any) -> None:
        """What a client has written is for the next scan."""
        if not event.is_external:
            return
        for wanted, code in zip(event.request_params.NodesToWrite, event.response_params):
            name = self._ids.get(wanted.NodeId)
            if name is None or not code.is_good():
                continue
            point = self._points[name]
            try:
                self.image.put(point, value_of(wanted.Value.Value.Value, point.type))
            except (ValueError, RegisterError, BusyError):
                self.image.refused += 1

    def _push(self, values: dict[str, Value]) -> None:
        """Shows clients what is otherwise now, before the run goes on; what was counted comes last."""
        new = {n: values[n] for n in self._points if n in values and values[n] != self._shown.get(n)}
        if not new or self._loop is None or not self._loop.is_running():
            return
        self._shown |= new
        asyncio.run_coroutine_threadsafe(self._write(new), self._loop).result(START_S)

    async def _write(self, new: dict[str, Value]) -> None:
        assert self._server is not None
        for name, value in sorted(new.items(), key=lambda item: item[0] == ECHO):
            if not self._points[name].table.writable:
                await self._server.write_attribute_value(self._nodes[name], variant(value, self._points[name].type))
