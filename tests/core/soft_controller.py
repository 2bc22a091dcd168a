"""A controller that is not ours: it runs a program text by its own slow interpreter, and answers Modbus TCP by its own server.

It shares the parser with the program and nothing else. It runs a scan for each count it is given, or by the clock.
"""

from __future__ import annotations

import socket
import socketserver
import struct
import threading
import time
from collections.abc import Callable
from contextlib import contextmanager
from typing import Any

from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_statements

Memory = dict[str, Any]
OPERATORS: dict[str, Callable[[Any, Any], Any]] = {
    "AND": lambda a, b: a and b, "OR": lambda a, b: a or b, "XOR": lambda a, b: a != b, "=": lambda a, b: a == b,
    "<>": lambda a, b: a != b, "<": lambda a, b: a < b, ">": lambda a, b: a > b, "<=": lambda a, b: a <= b,
    ">=": lambda a, b: a >= b, "+": lambda a, b: a + b, "-": lambda a, b: a - b, "*": lambda a, b: a * b,
    "/": lambda a, b: a / b if isinstance(a, float) else int(a / b),
}  # fmt: skip


class Program:
    """A text with its variables, walked in every scan. `tables` are lists of rows by name, each row a table of its cells."""

    def __init__(
        self, text: str, start: Memory, kinds: dict[str, str], tables: dict[str, list[Memory]], period_ms: int
    ):
        self.tree = parse_statements(text)
        self.first = {name.lower(): value for name, value in start.items()}
        self.kinds = {name.lower(): kind for name, kind in kinds.items()}
        self.tables = {name.lower(): rows for name, rows in tables.items()}
        self.period_ms = period_ms
        self.begin()

    def begin(self, kept: tuple[str, ...] = ()) -> None:
        """As at power on; what is `kept` stays."""
        self.now = 0
        self.var = {**self.first, **{name: self.var[name] for name in kept}}
        self.block: dict[str, Memory] = {name: {} for name in self.kinds}

    def scan(self) -> None:
        self.now += self.period_ms
        self.run(self.tree)

    def run(self, statements: Any) -> None:
        for s in statements:
            match s:
                case sx.Assign():
                    old = self.var[(name := s.target.parts[0].lower())]
                    value = self.value(s.value)
                    self.var[name] = float(value) if isinstance(old, float) else value
                case sx.If():
                    for condition, block in s.branches:
                        if self.value(condition):
                            self.run(block)
                            break
                    else:
                        self.run(s.otherwise)
                case sx.Case():
                    chosen = self.value(s.selector)
                    for labels, block in s.branches:
                        if any(self.value(low) <= chosen <= self.value(high) for low, high in labels):
                            self.run(block)
                            break
                    else:
                        self.run(s.otherwise)
                case sx.BlockCall():
                    self.call(s)
                case _:
                    raise AssertionError(s)

    def call(self, s: Any) -> None:
        name = s.instance.parts[0].lower()
        kind, b = self.kinds[name], self.block[name]
        given = {a.name.upper(): self.value(a.value) for a in s.inputs}
        if kind in ("R_TRIG", "F_TRIG"):
            now, was = given["CLK"], b.get("was", kind == "F_TRIG" and given["CLK"])
            b["q"] = (now and not was) if kind == "R_TRIG" else (was and not now)
            b["was"] = now
        elif kind == "TON":
            b["since"] = b.get("since", self.now) if given["IN"] else None
            if not given["IN"]:
                del b["since"]
            b["et"] = min(self.now - b["since"], given["PT"]) if given["IN"] else 0
            b["q"] = given["IN"] and b["et"] >= given["PT"]
        else:
            raise AssertionError(kind)

    def value(self, tree: Any) -> Any:
        match tree:
            case sx.Literal():
                return tree.value
            case sx.Name():
                parts = [x.lower() for x in tree.parts]
                return self.var[parts[0]] if len(parts) == 1 else self.block[parts[0]].get(parts[1], False)
            case sx.Element():
                row = self.tables[tree.table.parts[0].lower()][self.value(tree.index) - 1]
                return row[tree.member[0].lower()]
            case sx.Unary():
                x = self.value(tree.operand)
                return (not x) if tree.op == "NOT" else -x if tree.op == "-" else x
            case sx.Binary():
                a = self.value(tree.left)
                if tree.op in ("AND", "OR") and bool(a) == (tree.op == "OR"):
                    return a
                return OPERATORS[tree.op](a, self.value(tree.right))
            case sx.Call() if tree.function == "SEL":
                which, no, yes = (self.value(a.value) for a in tree.arguments)
                return yes if which else no
        raise AssertionError(tree)


class Answers(socketserver.BaseRequestHandler):
    """The Modbus side: the few requests a client of a map makes."""

    def handle(self) -> None:
        self.request.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        while head := self.take(7):
            transaction, _, length, unit = struct.unpack(">HHHB", head)
            pdu = self.take(length - 1)
            with self.server.soft.lock:
                answer = self.server.soft.answer(pdu)
            self.request.sendall(struct.pack(">HHHB", transaction, 0, len(answer) + 1, unit) + answer)

    def take(self, count: int) -> bytes:
        data = b""
        while len(data) < count:
            more = self.request.recv(count - len(data))
            if not more:
                return b""
            data += more
        return data


class Soft:
    """The program with its address map: rows of table, address, registers, name and type."""

    def __init__(self, program: Program, rows: list[tuple[str, int, int, str, str]], retained: tuple[str, ...] = ()):
        self.program, self.retained = program, retained
        self.place = {(table, address + i): (name, kind, i) for table, address, n, name, kind in rows for i in range(n)}
        self.lock = threading.Lock()
        self.mute = False
        self.extra: Memory = {"scan count": 0, "scan echo": 0, "restart": False, "power cycle": False}

    def answer(self, pdu: bytes) -> bytes:
        code, at, count = struct.unpack(">BHH", pdu[:5])
        table = {
            1: "coils",
            2: "discrete inputs",
            3: "holding registers",
            4: "input registers",
            15: "coils",
            16: "holding registers",
        }[code]
        if any((table, at + i) not in self.place for i in range(count)):
            return bytes((code | 0x80, 2))
        if code in (1, 2):
            bits = [bool(self.read(table, at + i)) for i in range(count)]
            packed = bytes(sum(bit << n for n, bit in enumerate(bits[i : i + 8])) for i in range(0, count, 8))
            return bytes((code, len(packed))) + packed
        if code in (3, 4):
            return bytes((code, 2 * count)) + b"".join(
                struct.pack(">H", self.read(table, at + i)) for i in range(count)
            )
        for i in range(count):
            self.write(
                table,
                at + i,
                (pdu[6 + i // 8] >> i % 8) & 1 if code == 15 else struct.unpack(">H", pdu[6 + 2 * i : 8 + 2 * i])[0],
            )
        return pdu[:5]

    def words(self, name: str, kind: str) -> list[int]:
        value = self.extra[name] if name in self.extra else self.program.var[name.lower()]
        if kind == "INT":
            return [value & 0xFFFF]
        return list(struct.unpack(">HH", struct.pack(">f" if kind == "REAL" else ">i", value)))

    def read(self, table: str, at: int) -> int:
        name, kind, word = self.place[table, at]
        if kind == "BOOL":
            return int(self.program.var[name.lower()])
        return self.words(name, kind)[word]

    def write(self, table: str, at: int, raw: int) -> None:
        name, kind, word = self.place[table, at]
        if kind == "BOOL":
            self.put(name, bool(raw))
            return
        words = self.words(name, kind)
        words[word] = raw
        if word == len(words) - 1:
            packed = struct.pack(">H" if kind == "INT" else ">HH", *words)
            self.put(name, struct.unpack({"INT": ">h", "REAL": ">f"}.get(kind, ">i"), packed)[0])
        else:
            half = struct.pack(">HH", *words)
            self.program.var[name.lower()] = struct.unpack(">f" if kind == "REAL" else ">i", half)[0]

    def put(self, name: str, value: Any) -> None:
        if name not in self.extra:
            self.program.var[name.lower()] = value
        elif name == "scan count":
            if self.mute or value == self.extra["scan echo"]:
                return
            self.program.scan()
            self.extra["scan echo"] = value
        elif name in ("restart", "power cycle") and value:
            written = [n for (t, _), (n, _, _) in self.place.items() if t in ("coils", "holding registers")]
            given = {n: self.program.var[n.lower()] for n in written if n not in self.extra}
            self.program.begin(tuple(n.lower() for n in self.retained) if name == "power cycle" else ())
            self.program.var |= {n.lower(): v for n, v in given.items()}

    @contextmanager
    def listening(self, by_clock: bool = False):
        """Gives the port it listens at; with `by_clock` it scans by itself."""
        server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Answers)
        server.daemon_threads, server.soft = True, self
        over = threading.Event()

        def scans() -> None:
            due = time.perf_counter()
            while not over.wait(max(0.0, due - time.perf_counter())):
                with self.lock:
                    self.program.scan()
                due += self.program.period_ms / 1000

        threads = [threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.02}, daemon=True)]
        threads += [threading.Thread(target=scans, daemon=True)] * by_clock
        for t in threads:
            t.start()
        try:
            yield server.server_address[1]
        finally:
            over.set()
            server.shutdown()
            server.server_close()
            for t in threads:
                t.join(5)
