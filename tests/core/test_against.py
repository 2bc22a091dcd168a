"""Scenarios against a controller that is not ours: what it does is laid beside the model, and the first difference is told."""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import threading
from contextlib import contextmanager
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.controller.against import AgainstRun, Way, way_of
from spokeshave.controller.lanes import Lane, Lanes
from spokeshave.controller.line import LineError, ModbusLine, RoundTrip, blocks_of, open_line
from spokeshave.engine.session import Session
from spokeshave.fieldbus.address_map import (
    COUNT,
    ECHO,
    POWER,
    RESTART,
    AddressMap,
    Role,
    Table,
    let_write,
    put_first_free,
)
from spokeshave.fieldbus.image import Image
from spokeshave.fieldbus.real_time import run_counted
from spokeshave.formats.code.write import generate
from spokeshave.formats.spoke import dumps, loads, read
from spokeshave.language.literals import read_value
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project, Scenario, Signal, SignalClass, Type
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import run_scenario
from tests.conftest import EXAMPLES, WANTED
from tests.core.soft_controller import Program, Soft
from tests.core.test_standing import gated

TYPES = {t.value: t for t in Type}
SCENARIOS = {
    "Rounds": "at 0.2 s: press Button\nat 5.5 s: press Button\nrun for 9 s\n"
              "expect order Main: Idle, Opening, Closing, Idle, Opening, Closing\nexpect always Halt\n"
              "expect whenever Drive then within 1.5 s Opened\nexpect Main.Opening lasts at least 3 s\nexpect no alarms",
    "Short": "given Wait is 0.5 s\nat 0.2 s: press Button\nrun for 3 s\nexpect Main.Opening lasts at most 1.5 s",
    "By hand": "at 0.2 s: press Button\non Main.Opening, 0.8 s later: press Shutter\nrun for 2.5 s\n"
               "expect reach Main.Closing within 1.2 s",
    "Jammed": "at 0.2 s: press Button\non Main.Closing: break Sluice \"jammed\"\nwhen Lamp, 0.3 s later: press Shutter\n"
              "run for 8.5 s\nexpect order Main: Closing, Fault, Idle\nexpect count Lamp: 1 times",
    "Emergency": "at 0.2 s: press Button\non Main.Opening, 0.5 s later: hold Mushroom\nat 1.5 s: release Mushroom\n"
                 "at 2.5 s: press Button\nrun for 4 s\nexpect while NOT Halt: NOT Drive\nexpect alarm \"Safety\"",
    "Power": "at 0.2 s: press Button\non Main.Opening, 0.4 s later: power cycle\nrun for 2 s\nexpect finally Main.Idle.X",
}  # fmt: skip
MISTAKES = {
    "OR ShutEdge.Q THEN Main := 30": (
        "THEN Main := 30",
        "By hand",
        "Drive is on in the controller and off in the model",
    ),
    "Opened AND MainT": ("MainT", "Short", "Drive"),
    "MainT >= Wait": ("MainT >= T#3s", "Short", "Drive is on in the controller and off in the model"),
    "IF Closed THEN Main := 10;": (
        "IF NOT Closed THEN Main := 10;",
        "Rounds",
        "Main goes to 10 in the controller, and stays 30 in the model",
    ),
    "MainT > T#4s": ("MainT > T#8s", "Jammed", "the model: Main is in Fault, which asks for Lamp"),
    "Drive := Main_Run AND Main = 20": ("Drive := Main = 20", "Emergency", "Main is in Opening"),
    "Lamp := NOT Lamp_Reset AND Main_Run AND Main = 90": (
        "Lamp := Main = 30",
        "Rounds",
        "goes to on in the controller",
    ),
    "IF Shut THEN Main := 10": ("IF NOT Shut THEN Main := 10", "Jammed", "Lamp"),
    "Count < 9": ("Count < 0", "Rounds", "Drive is off in the controller and on in the model"),
    "Safety_If := NOT Halt": ("Safety_If := FALSE", "Emergency", "Drive is on in the controller and off in the model"),
    "NOT Safety_If AND (GoEdge.Q": ("NOT Safety_If AND (TRUE", "Emergency", "goes to on in the controller"),
    "Main <> MainLast THEN MainT := T#0s": ("Main = 0 THEN MainT := T#0s", "Rounds", "Drive"),
}
"""Texts of the code, with what they are exchanged for, the scenario that shows it, and what is said."""


def served(project: Project, *services: str) -> Project:
    """The machine file with what those need who run scenarios against its controller."""
    for name in services:
        project = put_first_free(project, name, Role.CONTROLLER)
    for s in project.signals:
        if s.cls is SignalClass.SETTING:
            project = let_write(project, s.name, True)
    return project


def soft(project: Project, *changes: tuple[str, str]) -> Soft:
    """The soft controller with the code of a machine file, in which texts were exchanged for others."""
    made = generate(project, "plain")
    start: dict[str, Any] = {s.name: s.start for s in project.signals}
    kinds = {i.name: i.kind for i in project.instances}
    for v in made.variables:
        if v.kind in TYPES:
            kind = TYPES[str(v.kind)]
            start[v.name] = read_value(v.initial, kind) if v.initial else Signal("x", SignalClass.INTERNAL, kind).start
        else:
            kinds[v.name] = v.kind
    text = made.text
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new, 1)
    kept = tuple(s.name for s in (*project.signals, *made.variables) if s.retain)
    tables = {t.name: [dict(zip((c.name.lower() for c in t.columns), row)) for row in t.rows] for t in project.tables}
    return Soft(
        Program(text, start, kinds, tables, project.period_ms), AddressMap(project, Role.CONTROLLER).rows(), kept
    )


@contextmanager
def line_to(project: Project, controller: Soft, by_clock: bool = False):
    with controller.listening(by_clock) as port:
        line = ModbusLine(project, "127.0.0.1", port)
        line.connect()
        try:
            yield line
        finally:
            line.close()


def machine(*services: str) -> Project:
    """The sluice with scenarios for all it does, served to those who run them."""
    rows = tuple(Scenario(name, text) for name, text in SCENARIOS.items())
    return served(replace(gated(), scenarios=rows), *services)


COUNTING = machine(COUNT, ECHO, RESTART, POWER, "Main")
SILENT = machine(COUNT, ECHO, RESTART, POWER)
"""Without the state, so that only outputs tell."""


def named(project: Project, name: str) -> Scenario:
    return next(s for s in project.scenarios if s.name == name)


def test_unchanged_code_passes_every_scenario_a_scan_behind_the_model():
    with line_to(COUNTING, soft(COUNTING)) as line:
        way = way_of(line, COUNTING)
        assert way.counts and way.tolerance_ms == 2 * COUNTING.period_ms
        for scenario in COUNTING.scenarios:
            run = AgainstRun(COUNTING, scenario, line, way)
            result = run.run()
            assert result.outcome is Outcome.PASS, (scenario.name, result.stopped, result.worst)
            assert run.measured.lag_ms == COUNTING.period_ms, scenario.name
            alone = run_scenario(COUNTING, scenario)
            assert [v.text for v in alone.verdicts] == [v.text for v in result.verdicts]
            again = result.runs[0].session()  # the run on the bench is what the controller did
            assert (
                again.trace.changes(again.trace.column("Drive"))[0].tolist()
                == result.runs[0].live.trace.changes(result.runs[0].live.trace.column("Drive"))[0].tolist()
            )


@pytest.mark.parametrize("old", MISTAKES)
def test_a_mistake_in_the_code_is_the_first_difference_with_what_the_model_would_have_done(old):
    new, name, says = MISTAKES[old]
    project = COUNTING if "Main goes" in says else SILENT
    with line_to(project, soft(project, (old, new))) as line:
        result = AgainstRun(project, named(project, name), line, way_of(line, project)).run()
    assert result.outcome is Outcome.FAIL and says in result.stopped, result.stopped
    assert result.stopped.startswith("at ") and "; the model: Main is in" in result.stopped


def test_a_line_that_is_lost_is_a_verdict_of_its_own(monkeypatch):
    monkeypatch.setattr("spokeshave.controller.against.LOST_S", 0.2)
    controller = soft(COUNTING)
    with line_to(COUNTING, controller) as line:
        run = AgainstRun(COUNTING, named(COUNTING, "Short"), line, way_of(line, COUNTING))
        seen = []

        def look(part: float) -> None:
            seen.append(part)
            controller.mute = len(seen) > 1

        result = run.run(look)
    assert result.outcome is Outcome.LINE_LOST and "has not run the scan it was told" in result.stopped
    with pytest.raises(LineError, match="nobody answers"):
        open_line(COUNTING, "127.0.0.1:1")


def test_what_cannot_be_done_to_a_controller_outside_is_said_before():
    plain = machine(COUNT, ECHO)
    given = replace(plain, scenarios=(
        Scenario("Forces", "at 1 s: force Lamp to TRUE\nrun for 2 s\nexpect finally Lamp"),
        Scenario("Cuts", SCENARIOS["Power"]), Scenario("Idles", "run for 0.1 s\nexpect finally NOT Drive"),
        Scenario("Long", "given Wait is 3 s\nrun for 0.1 s\nexpect finally NOT Drive"),
    ))  # fmt: skip
    controller = soft(given)
    with line_to(given, controller) as line:
        way = way_of(line, given)
        said = [AgainstRun(given, s, line, way).left_out for s in given.scenarios]
        assert said[0] == "line 1: it forces Lamp, which is the controller's" and said[2:] == ["", ""], said
        assert said[1].startswith('line 2: it cuts the power of the controller; map "power cycle"')
        assert AgainstRun(given, given.scenarios[2], line, way).run().outcome is Outcome.PASS


def test_one_that_does_not_stand_at_its_beginning_is_not_run(monkeypatch):
    monkeypatch.setattr("spokeshave.controller.against.BEGIN_S", 0.1)
    project = machine(COUNT, ECHO)
    controller = soft(project)
    with line_to(project, controller) as line:
        way = way_of(line, project)
        controller.program.var |= {"main": 20, "firstscan": False, "mainlast": 20}
        result = AgainstRun(project, named(project, "Short"), line, way).run()
    assert result.outcome is Outcome.FAIL and 'not at its beginning: Drive is on; map "restart"' in result.stopped


@given(st.lists(st.integers(1, 40), min_size=1, max_size=12), st.integers(0, 3), st.data())
def test_changes_within_the_tolerance_have_their_partner_and_one_that_is_left_out_is_seen(stays, lag, data):
    """An output that turns over after each of some numbers of scans, and a controller that is so many scans behind."""
    model = [n % 2 == 1 for n, count in enumerate(stays) for _ in range(count)] + [len(stays) % 2 == 1] * 60
    theirs = [model[0]] * lag + model

    def told(other: list[bool]):
        lane = Lane("Out", False, False, False)
        found = [lane.see(10 * k, a, b, 40, 40) for k, (a, b) in enumerate(zip(model, other))]
        return (
            lane,
            [x for lags, _ in found for x in lags],
            next((apart for _, apart in found if apart is not None), None),
        )

    _, lags, apart = told(theirs)
    assert apart is None and set(lags) <= {10 * lag} and len(lags) == len(stays) - (stays[0] == 0)
    lane, _, apart = told([model[0]] * len(model))
    long = any(count * 10 > 40 for count in stays[1:]) or len(stays) % 2 == 1
    assert (apart is not None) == long and (apart is not None or lane.unseen)
    at = data.draw(st.integers(0, len(theirs) - 30))
    blip = [
        not x if at <= k < at + 6 and theirs[at : at + 12] == [theirs[at]] * 12 else x for k, x in enumerate(theirs)
    ]
    if blip != theirs and theirs[max(0, at - 12) : at + 12] == [theirs[at]] * len(theirs[max(0, at - 12) : at + 12]):
        assert told(blip)[2] is not None


@given(st.lists(st.floats(-1e3, 1e3, width=32), min_size=30, max_size=60), st.integers(0, 3))
def test_a_number_is_one_that_the_model_had_within_the_tolerance(model, lag):
    theirs = [model[0]] * lag + model
    lanes = Lanes(40, {"Level": model[0]}, {"Level": theirs[0]})
    assert all(lanes.see(10 * k, {"Level": a}, {"Level": b}) is None for k, (a, b) in enumerate(zip(model, theirs)))
    away = Lanes(40, {"Level": model[0]}, {"Level": theirs[0]})
    found = [away.see(10 * k, {"Level": a}, {"Level": 2e3}) for k, a in enumerate(model)]
    assert found[:5] == [None] * 5 and found[5] is not None and found[5].time_ms == 0


def test_blocks_lie_without_gaps_and_hold_every_point_once():
    points = AddressMap(COUNTING, Role.CONTROLLER).points
    blocks = blocks_of(points)
    assert sorted(p.name for block in blocks for p in block) == sorted(p.name for p in points)
    for block in blocks:
        ends = [p.address + p.words for p in block]
        assert len({p.table for p in block}) == 1 and [p.address for p in block[1:]] == ends[:-1]


def test_the_file_keeps_what_clients_write_and_the_order_of_words():
    project = replace(COUNTING, low_word_first=True)
    assert loads(dumps(project)) == project
    mapped = {p.name: p for p in AddressMap(project, Role.CONTROLLER).points}
    assert mapped["Wait"].table is Table.HOLDING and mapped[ECHO].table is Table.INPUT
    assert {p.table for p in AddressMap(project, Role.MACHINE).points if p.name == "Wait"} <= {Table.INPUT}
    back = let_write(project, "Wait", False)
    assert {p.name: p.table for p in AddressMap(back, Role.CONTROLLER).points}["Wait"] is Table.INPUT
    with pytest.raises(EditError, match="Count is no setting"):
        let_write(project, "Count", True)
    there = AddressMap(project, Role.CONTROLLER)
    assert there.words(65538, Type.DINT) == (2, 1) and there.number((2, 1), Type.DINT) == 65538


@pytest.mark.parametrize("over", ["--modbus", "--opcua"])
def test_the_commands_serve_and_verify_each_other_by_count(tmp_path, over):
    if over == "--opcua":
        pytest.importorskip("asyncua")
    file = tmp_path / "sluice.spoke"
    kept = COUNTING.scenarios if over == "--modbus" else (named(COUNTING, "Short"), named(COUNTING, "Power"))
    file.write_text(dumps(replace(COUNTING, low_word_first=True, scenarios=kept)), encoding="utf-8")
    words = [
        sys.executable,
        "-m",
        "spokeshave",
        "serve",
        str(file),
        "--by-count",
        over,
        f"127.0.0.1:{free_port()}",
        "--for",
        "60s",
    ]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as controller:
        try:
            address = controller.stdout.readline().split(" at ")[1].split(",")[0]
            junit = tmp_path / "out.xml"
            done = CliRunner().invoke(
                whole_app(), ["verify", str(file), "--against", address, "--json", "--junit", str(junit)]
            )
            told = json.loads(done.stdout)
            assert done.exit_code == 0 and {s["outcome"] for s in told["scenarios"]} == {"pass"}, done.output
            assert told["against"]["by_count"] and told["against"]["lag_ms"] == COUNTING.period_ms
            assert junit.read_text().count("<testcase") == len(kept) + 1
        finally:
            controller.terminate()
    for words, says in (
        (["--against", "192.0.2.9:502"], "--outside"), (["--against", "opc.tcp://192.0.2.9:4840/x"], "--outside"),
        (["--against", "here"], "HOST:PORT"),
        (["--against", "127.0.0.1:1"], "nobody answers"), (["--against", "127.0.0.1:1", "--keep"], "goes with"),
    ):  # fmt: skip
        refused = CliRunner().invoke(whole_app(), ["verify", str(file), *words])
        assert refused.exit_code == 2 and says in refused.stderr, refused.output


@pytest.mark.quiet
def test_by_the_clock_it_is_late_by_the_way_there_and_back():
    project = machine(RESTART, POWER)
    with line_to(project, soft(project), by_clock=True) as line:
        way = replace(way_of(line, project), tolerance_ms=100)
        run = AgainstRun(project, named(project, "By hand"), line, way)
        result = run.run()
    assert not way.counts and result.outcome is Outcome.PASS, (result.stopped, result.worst)
    assert 0 < run.measured.lag_ms <= 100


def test_a_way_says_what_it_takes_as_the_same():
    said = Way(RoundTrip(40, 1.24, 3.9), 30, False).text()
    assert (
        said
        == "in real time; there and back 1.2 ms on the mean, 3.9 ms at worst of 40; 30 ms late is taken as the same"
    )


SHORT = {"roastery": "Start only from home", "lock": "window Lock.LowShutsL", "carousel": "No frame in place"}


@pytest.mark.timeout(3600)
@pytest.mark.parametrize("name", SHORT)
def test_the_code_of_the_examples_passes_behind_the_line(name):
    """A short scenario of each; all that can be run against a controller outside in `./run-tests search`."""
    project = read(EXAMPLES / f"{name}.spoke")
    states = tuple(q.name for q in project.sequences)
    project = served(project, COUNT, ECHO, RESTART, POWER, *states)
    with line_to(project, soft(project)) as line:
        way, ran = way_of(line, project), 0
        for scenario in project.scenarios:
            if WANTED == "search" or scenario.name == SHORT[name]:
                run = AgainstRun(project, scenario, line, way)
                result = run.run()
                assert run.left_out or result.outcome is Outcome.PASS, (scenario.name, result.stopped, result.worst)
                ran += not run.left_out
    assert ran >= (18 if WANTED == "search" else 1)


def test_over_opc_ua_our_client_and_our_server_do_the_same():
    pytest.importorskip("asyncua")
    from spokeshave.fieldbus.node_server import NodeServer

    project = COUNTING
    session, image = Session(project), Image(project, Role.CONTROLLER)
    server, over = NodeServer(image, port=free_port(), name="Sluice"), threading.Event()
    server.start()
    running = threading.Thread(target=run_counted, args=(session, image, None, over.is_set))
    running.start()
    try:
        line = open_line(project, server.address)
        way = way_of(line, project)
        assert way.counts and line.restarts
        for name in ("Short", "By hand", "Power"):
            run = AgainstRun(project, named(project, name), line, way)
            result = run.run()
            assert result.outcome is Outcome.PASS, (name, result.stopped, result.worst)
            assert run.measured.lag_ms == project.period_ms
        line.close()
        other = replace(
            project, signals=tuple(replace(s, name="Dirve") if s.name == "Drive" else s for s in project.signals)
        )
        with pytest.raises(LineError, match="has no Dirve; did you mean Drive"):
            open_line(replace(other, sequences=(), scenarios=(), devices=(), trips=(), modbus=()), server.address)
    finally:
        over.set()
        running.join(5)
        server.stop()
    with pytest.raises(LineError, match="nobody answers"):
        open_line(project, server.address)


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
