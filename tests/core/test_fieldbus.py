"""Modbus TCP: the address map, what clients may do, and that nothing they do disturbs a run."""

from __future__ import annotations

import contextlib
import json
import os
import random
import re
import socket
import struct
import subprocess
import sys
import threading
import time
from contextlib import contextmanager

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pymodbus.client import ModbusTcpClient

from spokeshave.engine.session import Session
from spokeshave.fieldbus.access import AccessError, networks, warning
from spokeshave.fieldbus.address_map import AddressMap, RegisterError, Role, Table, from_words, to_words
from spokeshave.fieldbus.image import AddressError, Image
from spokeshave.fieldbus.real_time import run_real_time
from spokeshave.fieldbus.server import ServeError, Server
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Action, Project, Qualifier, Signal, SignalClass, Transition, Type

IN, OUT = SignalClass.INPUT, SignalClass.OUTPUT

pytestmark = pytest.mark.quiet


def plant() -> Project:
    """Drive is on while Go was seen; what it counts and weighs comes from outside."""
    signals = (
        Signal("Go", IN), Signal("Weight", IN, Type.REAL), Signal("Count", IN, Type.INT), Signal("Wait", IN, Type.TIME),
        Signal("Drive", OUT), Signal("Echo", OUT, Type.REAL), Signal("Total", OUT, Type.DINT), Signal("Kept"
        , SignalClass.SETTING, Type.INT),
    )  # fmt: skip
    from dataclasses import replace

    project = new_sequence(Project("Plant", signals=signals))
    q = project.sequences[0]
    steps = (q.steps[0], replace(q.steps[1], actions=(Action(Qualifier.N, "Drive"),)))
    ways = (
        Transition((steps[0].name,), (steps[1].name,), "Go"),
        Transition((steps[1].name,), (steps[0].name,), "NOT Go"),
    )
    return replace(
        project, sequences=(replace(q, steps=steps, transitions=ways),), closing="Echo := Weight * 2.0; Total := 70000;"
    )


@contextmanager
def served(role: Role, project: Project | None = None):
    """A run in real time behind a server, with a client."""
    session, image = Session(project or plant()), None
    image = Image(session.program.project, role)
    server = Server(image, port=0)
    server.start()
    image.begin(session)
    over, out = threading.Event(), []
    thread = threading.Thread(target=lambda: out.append(run_real_time(session, image, None, over.is_set)))
    thread.start()
    client = ModbusTcpClient("127.0.0.1", port=server.port, timeout=20)
    assert client.connect()
    try:
        yield client, session, image, server, out
    finally:
        client.close()
        over.set()
        thread.join(5)
        server.stop()
        assert not thread.is_alive()


def wait_for(test, seconds: float = 60.0) -> None:
    end = time.perf_counter() + seconds
    while not test():
        assert time.perf_counter() < end, "did not come"
        time.sleep(0.005)


@given(st.sampled_from([Type.INT, Type.DINT, Type.TIME]), st.data())
def test_whole_numbers_go_through_registers_unchanged(kind, data):
    bits = 16 if kind is Type.INT else 32
    number = data.draw(st.integers(-(2 ** (bits - 1)), 2 ** (bits - 1) - 1))
    assert from_words(to_words(number, kind), kind) == number


@given(st.floats(width=32, allow_nan=False, allow_infinity=False))
def test_singles_go_through_two_registers_the_more_significant_first(number):
    words = to_words(number, Type.REAL)
    assert struct.pack(">HH", *words) == struct.pack(">f", number)
    assert from_words(words, Type.REAL) == number


def test_registers_that_hold_no_number_are_refused():
    for bits in (0x7F800000, 0x7FC00000):
        with pytest.raises(RegisterError):
            from_words((bits >> 16, bits & 0xFFFF), Type.REAL)
    assert to_words(1e300, Type.REAL) == (0x7F80, 0)


def test_the_map_follows_the_role():
    def rows(role: Role):
        return [(t, a, n) for t, a, _, n, _ in AddressMap(plant(), role).rows()]

    assert rows(Role.CONTROLLER) == [
        ("coils", 0, "Go"), ("discrete inputs", 0, "Drive"), ("holding registers", 0, "Weight"), ("holding registers", 2, "Count"),
        ("holding registers", 3, "Wait"), ("input registers", 0, "Echo"), ("input registers", 2, "Total"),
    ]  # fmt: skip
    assert [r[:2] for r in rows(Role.MACHINE) if r[2] in ("Drive", "Go", "Weight")] == [
        ("coils", 0), ("discrete inputs", 0), ("input registers", 0)
    ]  # fmt: skip
    assert {t for t, _, _ in rows(Role.ONLOOKER)} == {"discrete inputs", "input registers"}


def test_an_outside_machine_writes_inputs_and_reads_outputs():
    with served(Role.CONTROLLER) as (client, session, _, _, _):
        assert not client.read_discrete_inputs(0).bits[0]
        client.write_coil(0, True)
        client.write_registers(0, list(to_words(2.5, Type.REAL)))
        client.write_registers(2, [65533, 0, 1500])
        wait_for(lambda: client.read_discrete_inputs(0).bits[0])
        wait_for(
            lambda: tuple(client.read_input_registers(0, count=4).registers) == (*to_words(5.0, Type.REAL), 1, 4464)
        )
        v, slots = session.situation.v, session.program.slots
        wait_for(lambda: (v[slots["count"]], v[slots["wait"]]) == (-3, 1500))
        assert list(client.read_holding_registers(0, count=5).registers) == [*to_words(2.5, Type.REAL), 65533, 0, 1500]


def test_an_outside_controller_moves_the_machine(roastery):
    with served(Role.MACHINE, roastery) as (client, session, image, _, _):
        at = {p.name: p.address for p in image.map.points}
        assert client.read_discrete_inputs(at["GateClosed"]).bits[0]
        client.write_coil(at["Gate"], True)
        wait_for(lambda: client.read_discrete_inputs(at["GateOpened"]).bits[0])
        assert not client.read_discrete_inputs(at["GateClosed"]).bits[0]
        assert session.situation.mode == [1, 1], "the sequences are held"
        before = struct.unpack(
            ">f", struct.pack(">HH", *client.read_input_registers(at["BeanTemp"], count=2).registers)
        )[0]
        client.write_coil(at["Burner"], True)
        client.write_coil(at["Gate"], False)
        wait_for(
            lambda: tuple(client.read_input_registers(at["BeanTemp"], count=2).registers) > to_words(before, Type.REAL)
        )


def test_what_a_client_may_write_is_limited_to_the_map():
    with served(Role.CONTROLLER) as (client, session, image, _, _):
        codes = [
            client.write_coil(1, True), client.read_coils(0, count=2), client.write_register(5, 1),
            client.read_input_registers(3, count=2), client.write_registers(4, [1, 2]),
        ]  # fmt: skip
        assert [c.exception_code for c in codes] == [2] * 5
        assert client.write_registers(0, [0x7FC0, 0]).exception_code == 3
        assert image.refused == 4
        wait_for(lambda: session.k > 5)
        assert session.situation.v[session.program.slots["weight"]] == 0.0
    onlooker = Image(plant(), Role.ONLOOKER)
    for table in Table:
        with pytest.raises(AddressError):
            onlooker.write(table, 0, [1])


def test_lost_clients_noise_and_many_requests_disturb_nothing():
    with served(Role.CONTROLLER) as (client, session, image, server, out):
        noise = random.Random(3)
        for _ in range(30):
            with socket.create_connection(("127.0.0.1", server.port), timeout=2) as s:
                s.sendall(noise.randbytes(noise.randrange(1, 400)))
                if noise.random() < 0.5:
                    # Cut off in the middle of a request.
                    s.sendall(b"\x00\x01\x00\x00\x00\x06\x01\x03\x00")
        before, k = image.reads, session.k
        for _ in range(1500):
            assert len(client.read_coils(0).bits) == 8
        assert image.reads == before + 1500
        wait_for(lambda: session.k > k + 20)
    jitter = out[0]
    assert jitter.scans == session.k, jitter.text()


def test_requests_that_are_sent_before_the_answer_has_come_are_answered_in_their_order():
    with served(Role.CONTROLLER) as (_, _, _, server, _), socket.create_connection(("127.0.0.1", server.port), 2) as s:
        read = struct.pack(">HHHBBHH", 7, 0, 6, 1, 3, 0, 2)
        coil = struct.pack(">HHHBBHH", 8, 0, 6, 1, 5, 0, 0xFF00)
        s.sendall(read + coil + read[:5])
        time.sleep(0.1)
        s.sendall(read[5:])
        data = b""
        while len(data) < 13 + 12 + 13:
            data += s.recv(100)
    assert [struct.unpack(">H", data[i : i + 2])[0] for i in (0, 13, 25)] == [7, 8, 7]


def asked(port: int, *pdus: bytes) -> list[bytes]:
    """What is answered to requests that are sent at once, without their headers."""
    with socket.create_connection(("127.0.0.1", port), 2) as s:
        s.sendall(b"".join(struct.pack(">HHHB", i, 0, len(p) + 1, 1) + p for i, p in enumerate(pdus)))
        answers: list[bytes] = []
        stream = s.makefile("rb")
        for i in range(len(pdus)):
            number, protocol, length, unit = struct.unpack(">HHHB", stream.read(7))
            assert (number, protocol, unit) == (i, 0, 1)
            answers.append(stream.read(length - 1))
        return answers


def test_any_number_of_requests_at_once_is_answered_and_only_what_is_asked_for():
    read = struct.pack(">BHH", 3, 0, 2)
    rng = random.Random(8)
    odd = [
        bytes([rng.choice((1, 2, 3, 4, 5, 6, 15, 16, 22, 23))]) + rng.randbytes(rng.randrange(0, 30))
        for _ in range(300)
    ]
    with served(Role.CONTROLLER) as (_, session, _image, server, _):
        assert asked(server.port, *[read] * 400) == [b"\x03\x04" + bytes(4)] * 400
        unknown = [bytes([code, 0, 0]) for code in (0, 7, 8, 11, 12, 0x11, 0x14, 0x15, 0x18, 0x2B, 100, 200)]
        assert asked(server.port, *unknown) == [bytes([p[0] | 0x80, 1]) for p in unknown], (
            "no other code tells anything"
        )
        assert all(a[0] & 0x7F == p[0] for p, a in zip(odd, asked(server.port, *odd)))
        k = session.k
        wait_for(lambda: session.k > k + 5)


def test_noise_ends_the_connection_and_prints_nothing(tmp_path):
    from spokeshave.formats.spoke import write

    write(plant(), tmp_path / "plant.spoke")
    words = [
        sys.executable,
        "-m",
        "spokeshave",
        "serve",
        str(tmp_path / "plant.spoke"),
        "--modbus",
        "127.0.0.1:0",
        "--for",
        "3s",
    ]
    with subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        found = re.search(r"127\.0\.0\.1:(\d+)", process.stdout.readline())
        assert found is not None
        rng = random.Random(11)
        for i in range(60):
            with socket.create_connection(("127.0.0.1", int(found[1])), 2) as s:
                s.sendall(b"\x00\x01\xff\xff" + rng.randbytes(rng.randrange(4, 3000)))
                if i % 2:
                    s.settimeout(2)
                    with contextlib.suppress(ConnectionResetError):
                        assert s.recv(10) == b"", "closed"
        said, errors = process.communicate(timeout=20)
    assert errors == "" and "300 scans" in said and process.returncode == 0


def test_who_may_connect_is_a_list_and_an_open_interface_is_warned_of():
    server = Server(Image(plant(), Role.CONTROLLER), "0.0.0.0", 0, networks(["192.0.2.0/24"]))
    server.start()
    try:
        with socket.create_connection(("127.0.0.1", server.port), 2) as s, contextlib.suppress(ConnectionResetError):
            assert s.recv(10) == b"", "ended at once"
    finally:
        server.stop()
    local = Server(Image(plant(), Role.CONTROLLER), "0.0.0.0", 0, networks(["192.0.2.7", "127.0.0.0/8"]))
    local.start()
    try:
        assert asked(local.port, struct.pack(">BHH", 1, 0, 1)) == [b"\x01\x01\x00"]
    finally:
        local.stop()
    assert "0.0.0.0" in warning("0.0.0.0", (), True) and warning("0.0.0.0", networks(["192.0.2.7"]), True) == ""
    assert warning("127.0.0.1", (), True) == ""
    with pytest.raises(AccessError, match="'here' is no address"):
        networks(["here"])


def test_an_address_that_is_taken_is_told():
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        with pytest.raises(ServeError, match="listen"):
            Server(Image(plant(), Role.CONTROLLER), port=taken.getsockname()[1]).start()


def test_a_client_program_of_others_and_the_command_serve_understand_each_other(tmp_path):
    """The command in a process of its own, asked by a Modbus client program from the command line."""
    from spokeshave.formats.spoke import write

    file = tmp_path / "plant.spoke"
    write(plant(), file)
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    words = [sys.executable, "-m", "spokeshave", "serve", str(file), "--modbus", f"127.0.0.1:{port}", "--for", "6s"]
    env = {k: v for k, v in os.environ.items() if k != "DISPLAY"}
    process = subprocess.Popen(words, stdout=subprocess.PIPE, text=True, env=env)
    try:
        assert process.stdout is not None
        assert "Plant as controller" in process.stdout.readline()
        client = os.path.join(os.path.dirname(sys.executable), "modbus")

        def ask(*access: str) -> str:
            said = subprocess.run(
                [client, "-t", "3", f"127.0.0.1:{port}", *access], capture_output=True, text=True, timeout=20
            )
            return "\n".join(line for line in said.stdout.splitlines() if re.match(r"\d+:", line))

        assert ask("d@0").startswith("0: 0")
        ask("c@0=1", "h@2/h=-5")
        time.sleep(0.1)
        assert ask("d@0", "h@2/h", "c@0").split("\n")[0].startswith("0: 1")
        assert "-5" in ask("h@2/h")
        rest = process.communicate(timeout=20)[0]
    finally:
        process.kill()
    assert "600 scans" in rest and process.returncode == 0


def test_the_command_prints_the_map_and_refuses_bad_words(tmp_path, capsys):
    from typer.testing import CliRunner

    from spokeshave.cli import whole_app

    app = whole_app()
    from spokeshave.formats.spoke import write

    file = tmp_path / "plant.spoke"
    write(plant(), file)
    said = CliRunner().invoke(app, ["serve", str(file), "--map", "--as", "machine", "--json"])
    rows = json.loads(said.output)["addresses"]
    assert rows[0] == {"table": "coils", "address": 0, "registers": 1, "signal": "Drive", "type": "BOOL"}
    assert CliRunner().invoke(app, ["serve", str(file), "--modbus", "here"]).exit_code == 2
    said = CliRunner().invoke(app, ["serve", str(file), "--modbus", "127.0.0.1:0", "--for", "50ms", "--json"])
    assert json.loads(said.stdout)["scans"] == 5


writes = st.lists(
    st.tuples(
        st.sampled_from([Table.COILS, Table.HOLDING]),
        st.integers(0, 6),
        st.lists(st.integers(0, 65535), min_size=1, max_size=4),
    )
)


@given(st.lists(writes, max_size=6))
def test_what_was_written_last_before_a_scan_is_what_the_run_gets(batches):
    """Against a plain table of registers that takes every legal write at once."""
    session, image = Session(plant()), Image(plant(), Role.CONTROLLER)
    registers = {Table.COILS: [0], Table.HOLDING: [0, 0, 0, 0, 0]}
    for batch in batches:
        for table, address, words in batch:
            words = [w & 1 for w in words] if table is Table.COILS else words
            new = list(registers[table])
            legal = address + len(words) <= len(new)
            if legal:
                new[address : address + len(words)] = words
                try:
                    from_words((new[0], new[1]), Type.REAL) if table is Table.HOLDING and address < 2 else None
                except RegisterError:
                    legal = False
            try:
                image.write(table, address, words)
                assert legal
                registers[table] = new
            except (AddressError, RegisterError):
                assert not legal
            for t, known in registers.items():
                assert image.read(t, 0, len(known)) == known, "a client reads back what it wrote"
        image.before_scan(session)
        session.scan()
        image.after_scan(session)
        v, slots = session.situation.v, session.program.slots
        weight, count, wait = (v[slots[n]] for n in ("weight", "count", "wait"))
        now = [*to_words(weight, Type.REAL), *to_words(count, Type.INT), *to_words(wait, Type.TIME)]
        assert now == registers[Table.HOLDING] and [int(v[slots["go"]])] == registers[Table.COILS]
