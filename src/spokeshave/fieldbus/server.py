"""The Modbus TCP server: requests against an image, in a thread with an event loop of its own."""

from __future__ import annotations

import asyncio
import errno
import socket
import threading
from collections.abc import Sequence
from typing import Any

from pymodbus.constants import ExcCodes
from pymodbus.server import ModbusTcpServer
from pymodbus.server.requesthandler import ServerRequestHandler
from pymodbus.simulator import DataType, SimData, SimDevice

from spokeshave.fieldbus import FieldbusError
from spokeshave.fieldbus.access import Network, may_connect
from spokeshave.fieldbus.address_map import RegisterError, Table
from spokeshave.fieldbus.framing import Frame, NoiseError, frames
from spokeshave.fieldbus.image import AddressError, BusyError, Image

START_S = 5.0
MOST_AT_ONCE = 1 << 20
"""So many bytes of one client are looked at together: more than the system hands over at once."""
_TABLES = {1: Table.COILS, 5: Table.COILS, 15: Table.COILS, 2: Table.DISCRETE, 4: Table.INPUT,
           3: Table.HOLDING, 6: Table.HOLDING, 16: Table.HOLDING, 22: Table.HOLDING, 23: Table.HOLDING}  # fmt: skip
"""Function codes of the Modbus application protocol to their tables."""


class ServeError(FieldbusError, RuntimeError):
    """The server could not begin; says why."""


class _Context:
    """What requests are asked of: the image, whatever the number of the unit."""

    def __init__(self, image: Image) -> None:
        self.image = image

    def device_ids(self) -> list[int]:
        return [0]

    async def async_getValues(
        self, device_id: int, func_code: int, address: int, count: int = 1
    ) -> list[int] | list[bool] | ExcCodes:
        table = _TABLES.get(func_code)
        if table is None:
            return ExcCodes.ILLEGAL_FUNCTION
        try:
            words = self.image.read(table, address, count)
        except AddressError:
            return ExcCodes.ILLEGAL_ADDRESS
        return [bool(w) for w in words] if table in (Table.COILS, Table.DISCRETE) else words

    async def async_setValues(
        self, device_id: int, func_code: int, address: int, values: Sequence[int] | Sequence[bool]
    ) -> ExcCodes | None:
        table = _TABLES.get(func_code)
        if table is None:
            return ExcCodes.ILLEGAL_FUNCTION
        try:
            self.image.write(table, address, [int(v) for v in values])
        except AddressError:
            return ExcCodes.ILLEGAL_ADDRESS
        except RegisterError:
            return ExcCodes.ILLEGAL_VALUE
        except BusyError:
            return ExcCodes.DEVICE_BUSY
        return None


class _Connection(ServerRequestHandler):
    """Answers every request of a client in their order, also of one that sends the next before it has the answer.

    Only function codes of the map are answered; the rest tells nothing but that it is none (exception 1). A request that
    cannot be read is refused with exception 3, a stream that is no Modbus ends the connection.
    """

    def __init__(self, owner: _Listener) -> None:
        super().__init__(owner, owner.trace_packet, owner.trace_pdu, owner.trace_connect)  # type: ignore[no-untyped-call]
        self.max_buffer_size = MOST_AT_ONCE
        self.allowed = owner.allowed

    def callback_connected(self) -> None:
        peer = self.transport.get_extra_info("peername")
        if not may_connect(str(peer[0]) if peer else "", self.allowed):
            self.transport.abort()  # type: ignore[attr-defined]

    def callback_data(self, data: bytes, addr: tuple[Any, ...] | None = None) -> int:
        used = 0
        try:
            for frame, end in frames(data):
                used = end
                self.loop.create_task(self._answer(frame))
        except NoiseError:
            self.transport.close()
            return len(data)
        return used

    def send(self, data: bytes, addr: tuple[Any, ...] | None = None) -> None:
        """A request that has come in part stays while another one is answered."""
        kept = self.recv_buffer
        super().send(data, addr)
        self.recv_buffer = kept

    async def _answer(self, frame: Frame) -> None:
        if self.transport is None or self.transport.is_closing():
            return
        if frame.pdu[0] not in _TABLES:
            self.send(frame.refused(ExcCodes.ILLEGAL_FUNCTION))
            return
        try:
            request = self.framer.decoder.decode(frame.pdu)
            assert request is not None
            request.dev_id, request.transaction_id = frame.unit, frame.transaction
            response = await request.datastore_update(self.server.context, request.dev_id)
        except Exception:  # the decoder trusts lengths that a client made up, and raises what it happens upon
            self.send(frame.refused(ExcCodes.ILLEGAL_VALUE))
            return
        response.transaction_id, response.dev_id = request.transaction_id, request.dev_id
        self.server_send(response, None)  # type: ignore[no-untyped-call]


class _Listener(ModbusTcpServer):
    def __init__(self, device: SimDevice, address: tuple[str, int], allowed: tuple[Network, ...]) -> None:
        super().__init__(device, address=address)
        self.allowed = allowed

    def callback_new_connection(self) -> _Connection:
        return _Connection(self)


def _why_not(host: str, port: int) -> str:
    """What keeps anybody from listening there, in words; empty if nothing does."""
    try:
        for family, kind, protocol, _, address in socket.getaddrinfo(
            host, port, type=socket.SOCK_STREAM, flags=socket.AI_PASSIVE
        ):
            with socket.socket(family, kind, protocol) as probe:
                probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                probe.bind(address)
    except (socket.gaierror, UnicodeError):
        return "there is no such host"
    except OSError as error:
        if error.errno == errno.EADDRINUSE:
            return "another program listens there; end it, or choose another port"
        if error.errno == errno.EACCES:
            return "ports below 1024 need rights that you do not have; 502 is usual on machines, 5020 needs none"
        if error.errno == errno.EADDRNOTAVAIL:
            return "this computer does not have that address"
        return error.strerror or str(error)
    return ""


class Listening:
    """A server in a thread of its own: `_serve` runs there, keeps the loop in `_loop` and sets `_ready` when clients can connect."""

    def __init__(self, host: str, port: int) -> None:
        self.host, self.port = host.strip().strip("[]"), port
        self._loop: asyncio.AbstractEventLoop | None = None
        self._thread: threading.Thread | None = None
        self._ready = threading.Event()
        self._fault = ""

    @property
    def address(self) -> str:
        """Where clients find it."""
        raise NotImplementedError

    def stop(self) -> None:
        """Ends the connections and the thread."""
        raise NotImplementedError

    async def _serve(self) -> None:
        raise NotImplementedError

    def _listen(self, name: str, wait_s: float) -> None:
        """Returns when clients can connect. Raises `ServeError` if that does not come within a time, or the address cannot be had."""
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)
        self._thread.start()
        if not self._ready.wait(wait_s) or self._fault:
            self.stop()
            raise ServeError(self._fault or f"{self.address} does not answer")

    def _run(self) -> None:
        try:
            asyncio.run(self._serve())
        except (OSError, RuntimeError) as error:
            self._fault = f"cannot listen at {self.address}: {error}"
            self._ready.set()


class Server(Listening):
    """`start` returns when clients can connect; `address` is where. Raises `ServeError` if the address is taken.

    `allowed` are the networks clients may come from; everybody may without any.
    """

    def __init__(
        self, image: Image, host: str = "127.0.0.1", port: int = 5020, allowed: tuple[Network, ...] = ()
    ) -> None:
        super().__init__(host, port)
        self.image, self.allowed = image, allowed
        self._server: ModbusTcpServer | None = None

    @property
    def address(self) -> str:
        return f"[{self.host}]:{self.port}" if ":" in self.host else f"{self.host}:{self.port}"

    @property
    def clients(self) -> int:
        """How many are connected now."""
        return 0 if self._server is None else len(self._server.active_connections)

    def start(self) -> None:
        if why := _why_not(self.host, self.port):
            raise ServeError(f"cannot listen at {self.address}: {why}")
        self._listen("modbus", START_S)

    async def _serve(self) -> None:
        self._loop = asyncio.get_running_loop()
        plain = SimDevice(0, simdata=[SimData(0, values=0, datatype=DataType.REGISTERS)])
        server = _Listener(plain, (self.host, self.port), self.allowed)
        server.context = _Context(self.image)  # type: ignore[assignment]
        self._server = server
        await server.serve_forever(background=True)
        if server.transport is not None and self.port == 0:
            self.port = server.transport.sockets[0].getsockname()[1]  # type: ignore[attr-defined]
        self._ready.set()
        await server.serving

    def stop(self) -> None:
        """Ends the connections and the thread."""
        loop, server, thread = self._loop, self._server, self._thread
        if loop is not None and server is not None and loop.is_running():
            asyncio.run_coroutine_threadsafe(server.shutdown(), loop)  # type: ignore[no-untyped-call]
        if thread is not None and thread is not threading.current_thread():
            thread.join(START_S)
        self._loop = self._server = self._thread = None
