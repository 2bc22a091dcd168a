"""The kept Modbus map: what is inserted moves nothing, IEC addresses count, steps and settings can be read."""

from __future__ import annotations

import contextlib
import json
import socket
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.engine.session import Session
from spokeshave.fieldbus.address_map import (
    WORDS,
    AddressMap,
    Role,
    Table,
    drop_point,
    keep_map,
    put_first_free,
    put_point,
)
from spokeshave.fieldbus.image import Image
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.spoke import dumps, loads
from spokeshave.formats.tables.grid import read_sheets
from spokeshave.language.rename import rename_sequence, rename_signal, rename_step
from spokeshave.model.edits import EditError
from spokeshave.model.project import BusPoint, Project, Signal, SignalClass, Type
from spokeshave.reading import read_project

KINDS = st.sampled_from([(SignalClass.INPUT, "I"), (SignalClass.OUTPUT, "Q")])
ADDRESSED = st.one_of(st.just(""), st.integers(0, 40).map(str))


@st.composite
def signal_lists(draw, prefix: str = "S"):
    out = []
    for i in range(draw(st.integers(0, 12))):
        (cls, area), kind, at = (
            draw(KINDS),
            draw(st.sampled_from([Type.BOOL, Type.INT, Type.REAL, Type.TIME])),
            draw(ADDRESSED),
        )
        size = "X" if kind is Type.BOOL else "W" if kind is Type.INT else "D"
        address = "" if not at else f"%{area}X{int(at) // 8}.{int(at) % 8}" if size == "X" else f"%{area}{size}{at}"
        out.append(Signal(f"{prefix}{i}", cls, kind, address))
    return out


def places(project: Project, role: Role) -> dict[str, tuple[Table, int]]:
    return {p.name: (p.table, p.address) for p in AddressMap(project, role).points}


@given(signal_lists(), signal_lists("New"), st.sampled_from(list(Role)), st.randoms())
def test_what_is_inserted_moves_nothing_that_is_kept_and_no_two_share_a_register(before, new, role, random):
    project = keep_map(Project("P", signals=tuple(before)), role)
    assert places(project, role) == places(replace(project, modbus=()), role)
    mixed = [*before, *new]
    random.shuffle(mixed)
    later = replace(project, signals=tuple(mixed))
    there, found = places(later, role), AddressMap(later, role)
    assert {n: there[n] for n in places(project, role)} == places(project, role) and set(there) == {
        s.name for s in mixed
    }
    assert not found.problems and loads(dumps(later)) == later
    taken = [(p.table, p.address + i) for p in found.points for i in range(WORDS.get(p.type, 1))]
    assert len(set(taken)) == len(taken)


def test_addresses_of_the_standard_are_taken_where_they_fit():
    signals = (
        Signal("Bit", SignalClass.INPUT, address="%IX1.3"), Signal("Word", SignalClass.INPUT, Type.INT, "%IW4"),
        Signal("Double", SignalClass.INPUT, Type.REAL, "%ID3"), Signal("Again", SignalClass.INPUT, address="%IX1.3"),
        Signal("Narrow", SignalClass.INPUT, Type.DINT, "%IW9"), Signal("Free", SignalClass.INPUT),
        Signal("Lamp", SignalClass.OUTPUT, address="%QX1.3"),
    )  # fmt: skip
    project = Project("P", signals=signals)
    assert {n: a for n, (_, a) in places(project, Role.CONTROLLER).items()} == {
        "Bit": 11, "Word": 4, "Double": 6, "Again": 12, "Narrow": 8, "Free": 13, "Lamp": 11
    }  # fmt: skip
    assert places(project, Role.ONLOOKER)["Lamp"] == (Table.DISCRETE, 14), "both are discrete inputs there"


GATE = parse_iec("""
PROGRAM Gate
  VAR_INPUT Go, Open : BOOL; Load : INT; END_VAR
  VAR_OUTPUT Drive, Lamp : BOOL; END_VAR
  VAR CONSTANT Most : INT := 7; END_VAR
  INITIAL_STEP Closed: END_STEP
  STEP Opening: Drive(N); END_STEP
  TRANSITION FROM Closed TO Opening := Go; END_TRANSITION
  TRANSITION FROM Opening TO Closed := Open; END_TRANSITION
END_PROGRAM
""")
NUMBERS = {s.name: s.number for s in GATE.sequences[0].steps}


def test_an_address_is_put_or_refused_with_who_has_it_and_follows_a_new_name():
    role, name = Role.CONTROLLER, GATE.sequences[0].name
    made = put_point(GATE, "Open", 400, role)
    assert places(made, role) == places(GATE, role) | {"Open": (Table.COILS, 400)}
    assert places(made, Role.ONLOOKER) == places(GATE, Role.ONLOOKER), "each role has a map of its own"
    for where, said in (
        (0, "0 of the coils is the place of Go"),
        (-1, "-1 is no address"),
        (65536, "65536 is no address"),
    ):
        with pytest.raises(EditError, match=said):
            put_point(GATE, "Open", where, role)
    with pytest.raises(EditError, match="there is no Nothing"):
        put_point(GATE, "Nothing", 3, role)
    made = put_point(put_first_free(put_first_free(made, name, role), f"{name}.Opening", role), "Most", 90, role)
    named = rename_step(
        rename_sequence(rename_signal(made, "Most", "Ceiling"), name, "Door"), "Door", "Opening", "Rises"
    )
    assert {"Door", "Door.Rises", "Ceiling"} <= set(places(named, role)) and not AddressMap(named, role).problems
    assert [a for _, a in places(named, role).values()] == [a for _, a in places(made, role).values()]
    assert "Ceiling" not in places(drop_point(named, "ceiling", role), role)
    gone = replace(named, signals=tuple(s for s in named.signals if s.name != "Ceiling"))
    assert AddressMap(gone, role).problems == ["there is no Ceiling to be at 90"]
    twice = replace(GATE, modbus=(BusPoint("Go", 3), BusPoint("Open", 3), BusPoint("Load", 65535)))
    assert AddressMap(twice, role).problems == ["Open cannot be at 3 of the coils: it is taken or beyond the table"]
    assert places(twice, role)["Load"] == (Table.HOLDING, 65535)


def test_steps_states_and_settings_are_read_by_clients():
    name, role = GATE.sequences[0].name, Role.ONLOOKER
    project = GATE
    for wanted in (name, f"{name}.Opening", "Most"):
        project = put_first_free(project, wanted.lower(), role)
    assert put_first_free(project, "most", role) is project
    session, image = Session(project), Image(project, role)
    at = {p.name: p for p in image.map.points}
    session.run_scans(1)
    session.do("set", "Go", True)
    seen = []
    for _ in range(3):
        session.run_scans(1)
        image.after_scan(session)
        seen.append(tuple(image.read(p.table, p.address, 1)[0] for p in (at[name], at[f"{name}.Opening"], at["Most"])))
        session.do("set", "Open", True)
    assert seen == [(NUMBERS["Opening"], 1, 7), (NUMBERS["Closed"], 0, 7), (NUMBERS["Opening"], 1, 7)]
    assert {p.table for p in (at[name], at["Most"])} == {Table.INPUT} and at[f"{name}.Opening"].table is Table.DISCRETE


def test_the_command_keeps_adds_and_writes_the_map(tmp_path):
    file, table = tmp_path / "gate.spoke", tmp_path / "map.csv"
    file.write_text(dumps(GATE), encoding="utf-8")
    name = GATE.sequences[0].name

    def serve(*arguments: str):
        return CliRunner().invoke(whole_app(), ["serve", str(file), *arguments])

    kept = serve(
        "--also", "most", "--also", f"{name}.opening", "--keep-map", "--map-table", str(table), "--map", "--json"
    )
    rows = json.loads(kept.stdout)["addresses"]
    project = read_project(file)
    assert {r["signal"] for r in rows} == {p.name for p in project.modbus} >= {"Most", f"{name}.Opening"}
    assert [tuple(r) for r in read_sheets(table)[0].rows[1:]] == [tuple(map(str, r.values())) for r in rows]
    assert (
        serve("--also", "Moost", "--map").exit_code == 2
        and "did you mean Most?" in serve("--also", "Moost", "--map").stderr
    )
    refused = serve("--modbus", "0.0.0.0:0", "--for", "10ms")
    assert refused.exit_code == 2 and "--open" in refused.stderr
    served = serve("--modbus", "[::1]:0" if has_six() else "127.0.0.1:0", "--for", "50ms", "--json")
    assert served.exit_code == 0 and json.loads(served.stdout)["scans"] >= 1 and "as controller at" in served.stderr


def has_six() -> bool:
    with contextlib.suppress(OSError), socket.socket(socket.AF_INET6) as probe:
        probe.bind(("::1", 0))
        return True
    return False
