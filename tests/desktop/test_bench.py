"""The bench: the past on every face, values and forces, hand drive, lanes, snapshots, films, the operator's page."""

from __future__ import annotations

import io
import os
import subprocess
import sys
import time
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLineEdit, QPushButton

from spokeshave.desktop.bench.bar import moment_ms
from spokeshave.desktop.machine_board import cards
from spokeshave.desktop.runner import SPEEDS, TICK_MS
from spokeshave.engine.session import Session
from spokeshave.fieldbus.real_time import Jitter
from spokeshave.formats.tables.grid import read_sheets
from spokeshave.model import edits

Key = Qt.Key


def batch(window, seconds: float = 60.0) -> None:
    """One batch of the roastery, to a time."""
    r = window.runner
    window.show_stage(4)
    r.run_for(200)
    r.do("hand", "Start", 1)
    r.run_for(300)
    r.do("hand", "Start", 0)
    r.run_for(int(seconds * 1000) - 500)


# -- the past


def test_the_cursor_shows_board_faces_values_and_waits_as_they_were(qtbot, window):
    batch(window)
    r, strip = window.runner, window.bench.strip
    now = window.waiting.text_of(window.waiting.lines[0])
    live = {name: r.session.trace.at(name, 1800) for name in ("BeanTemp", "Drum", "Burner")}
    strip.show_span(0, 60_000)
    x, y = int(strip.x_of(18_000)), 60
    qtbot.mousePress(strip, Qt.MouseButton.LeftButton, pos=QPoint(x - 200, y))
    qtbot.mouseMove(strip, QPoint(x, y))
    qtbot.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=QPoint(x, y))
    strip.set_cursor(0, 18_000)
    assert window.cluster.clock.text() == "◂ 00:18.00"
    assert [(w.sequence, w.step) for w in window.waiting.lines] == [("Roast", "RoastLight"), ("Cool", "Ready")]
    values = window.bench.values.model
    shown = {values.data(values.index(i, 0)): values.data(values.index(i, 1)) for i in range(values.rowCount())}
    assert float(shown["BeanTemp"]) == live["BeanTemp"]
    assert (shown["Drum"], shown["Burner"]) == (str(live["Drum"]).upper(), str(live["Burner"]).upper())
    assert "70 RoastLight" in now or "RoastLight" in window.bench.faces.charts["Roast"].live.waiting
    sight = window.bench.board.sight()
    assert sight.situation.k == 1801
    k = r.session.k
    qtbot.keyClick(strip, Key.Key_Escape)
    assert r.looked_at is None and r.session.k == k
    assert window.waiting.text_of(window.waiting.lines[0]) == now
    strip.set_cursor(0, 5000)
    window.table.actions["run.scan"].trigger()
    assert r.looked_at is None and r.session.k == k + 1, "a hand on the run goes back to the present"


@given(st.integers(1, 3900), st.integers(1, 3900))
def test_a_moment_of_the_past_is_the_situation_of_that_time(roastery_run, one, other):
    whole, session = roastery_run
    for k in (one, other):
        program, s = session.moment(k)
        assert s.k == min(k, 3999) + 1
        assert {q.name: sorted(s.active[q.index]) for q in program.sequences} == whole[k][0]
        assert [s.v[x.slot] for x in program.recorded] == whole[k][1]


@pytest.fixture(scope="module")
def roastery_run(roastery):
    """What every scan of a run with forces, failures and hands left behind, and the same run to look back in."""
    seen = {}
    sessions = [Session(roastery), Session(roastery)]
    deeds = {50: ("hand", "Start", 1), 80: ("hand", "Start", 0), 900: ("force", "AirRuns", False), 950: ("unforce", "AirRuns", None),
             2000: ("fail", "DropGate", "slow"), 2500: ("drive", "", True), 2510: ("ask", "Gate", True), 2700: ("drive", "", False)}  # fmt: skip
    for session, every in zip(sessions, (True, False)):
        for k in range(4000):
            if k in deeds:
                session.do(*deeds[k])
            session.scan() if every or k in deeds else session.run_scans(1)
            if every:
                s = session.situation
                seen[k] = ({q.name: sorted(s.active[q.index]) for q in session.program.sequences},
                           [s.v[x.slot] for x in session.program.recorded])  # fmt: skip
    return seen, sessions[1]


def test_the_past_before_an_edit_is_that_of_the_machine_file_of_then(window):
    batch(window, 10)
    window.document.edit("Rename", lambda p: edits.change_step(p, "Roast", "Preheat", longest="T#90s"))
    window.runner.run_for(3000)
    window.bench.strip.set_cursor(0, 6000)
    program, s = window.runner.shown()
    assert program is not window.runner.session.program and s.k == 601
    assert window.waiting.lines[0].step == "Preheat"
    assert window.waiting.lines[0].longest_ms == 60_000
    events = [e.kind for e in window.runner.session.trace.events]
    assert events.count("edit") == 1


# -- going on and back


def test_the_run_goes_on_to_a_condition_a_step_change_and_a_time_and_back(qtbot, window):
    batch(window, 3)
    bar, r = window.bench.bar, window.runner
    bar.target.setText("BeanTemp > 100 AND Burner")
    qtbot.keyClick(bar.target, Key.Key_Return)
    qtbot.waitUntil(lambda: not r.running, timeout=5000)
    assert r.session.situation.v[r.session.program.slots["beantemp"]] == 100.5
    assert "BeanTemp > 100 AND Burner, at" in window.message.text()
    at = r.session.k
    bar.target.setText("BeanTemp > 100 AND")
    bar.go()
    assert "cannot be asked" in window.message.text() and r.session.k == at
    bar.target.setText("Beantmp > 3")
    bar.go()
    assert "did you mean BeanTemp" in window.message.text()
    bar.target.setText("0:05")
    bar.go()
    assert r.session.k == 500 and r.session.trace.scan_count == 500
    bar.target.setText("40 s")
    bar.go()
    qtbot.waitUntil(lambda: not r.running, timeout=5000)
    assert r.session.k == 4000
    window.table.actions["run.to"].trigger()
    assert window.stage == 4
    bar.target.setText("FALSE")
    bar.go()
    assert r.running
    window.table.actions["run.start"].trigger()
    assert not r.running, "what takes long can be stopped"


@pytest.mark.parametrize(
    ("text", "ms"),
    [("12", 12_000), ("12.5 s", 12_500), ("250ms", 250), ("1:30", 90_000), ("2 min", 120_000), ("T#1m5s", 65_000),
     ("Drum", None), ("T#x", None), ("", None), ("12 AND", None)],
)  # fmt: skip
def test_times_are_read_as_they_are_typed(text, ms):
    assert moment_ms(text) == ms


def test_every_speed_is_there_and_the_run_can_lose_its_power(window):
    assert [s for _, s in SPEEDS] == [0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 100.0, 1000.0, 0.0]
    batch(window, 10)
    window.table.actions["run.power"].trigger()
    window.table.actions["run.scan"].trigger()
    assert [w.step for w in window.waiting.lines] == ["Idle", "Ready"]
    assert any(e.kind == "power cycle" for e in window.runner.session.trace.events)


def test_a_file_that_cannot_run_never_lets_the_file_before_it_run(qtbot, window):
    batch(window, 5)
    told = []
    window.runner.refused.connect(told.append)
    other = replace(
        window.document.project, name="Broken", sequences=(), trips=(), alarms=(), opening="Nothing := 1;", scenarios=()
    )
    window.document.replace(other, None)
    assert window.runner.session is None and not window.runner.running
    for command in ("run.start", "run.scan", "run.reset", "run.nextstep"):
        window.table.actions[command].trigger()
    assert window.runner.session is None and not window.runner.running
    window.runner.start()
    assert "This cannot run yet" in told[0] and "Nothing" in told[0]
    window.document.edit(
        "mend it", lambda p: replace(p, opening="", closing="", interlocks=(), opposed=(), home="", reset="")
    )
    window.runner.ready()
    assert window.runner.session is not None, window.runner.problem
    assert window.runner.session.program.project is window.document.project


def test_an_edit_that_cannot_run_is_told_when_the_run_goes_on(window):
    batch(window, 2)
    told = []
    window.runner.refused.connect(told.append)
    window.document.edit("break it", lambda p: replace(p, home="Nothing"))
    window.table.actions["run.scan"].trigger()
    assert any("What runs is the file before its last edits" in t for t in told)
    window.runner.reset()
    assert window.runner.session is None, "from the beginning only the present file may run"


# -- values, forces, alarms


def test_values_are_forced_typed_unforced_and_marked_wherever_they_show(qtbot, window):
    batch(window, 5)
    panel, r = window.bench.values, window.runner
    panel.filter.setText("AirRuns")
    assert panel.sorted.rowCount() == 1
    panel.view.setCurrentIndex(panel.sorted.index(0, 0))
    qtbot.keyClick(panel.view, Key.Key_F)
    window.table.actions["run.scan"].trigger()
    slot = r.session.program.slots["airruns"]
    assert r.session.situation.forces == {slot: False}
    assert panel.sorted.index(0, 2).data() == "● FALSE"
    assert "airruns" in window.runner.forced_names()
    assert "airruns" in window.bench.faces.charts["Roast"].live.forced
    row = [s.name for s in window.document.project.signals].index("AirRuns")
    listed = window.signals.list.table
    assert listed.index(row, 0).data(Qt.ItemDataRole.DecorationRole) == QColor("#7B4FA3")
    before = window.bench.board.grab().toImage()
    qtbot.keyClick(panel.view, Key.Key_U)
    window.table.actions["run.scan"].trigger()
    assert not r.session.situation.forces and panel.sorted.index(0, 2).data() == ""
    assert before != window.bench.board.grab().toImage(), "the board shows forces too"
    assert listed.index(row, 0).data(Qt.ItemDataRole.DecorationRole) is None
    panel.filter.setText("BeanTemp")
    assert panel.sorted.setData(panel.sorted.index(0, 2), "99.5")
    assert not panel.sorted.setData(panel.sorted.index(0, 2), "hot")
    assert "BeanTemp" in window.message.text()
    panel.filter.setText("Gate")
    row = next(i for i in range(panel.sorted.rowCount()) if panel.sorted.index(i, 0).data() == "Gate")
    panel.sorted.setData(panel.sorted.index(row, 2), "1")
    window.table.actions["run.scan"].trigger()
    assert len(r.session.situation.forces) == 2
    window.table.actions["run.unforce"].trigger()
    window.table.actions["run.scan"].trigger()
    assert not r.session.situation.forces
    panel.filter.setText("BatchGoal")
    assert panel.sorted.setData(panel.sorted.index(0, 1), "3")
    window.table.actions["run.scan"].trigger()
    assert r.session.situation.v[r.session.program.slots["batchgoal"]] == 3


def test_what_was_waited_for_is_listed_and_leads_to_its_moment(qtbot, window):
    batch(window)
    window.bench.side.setCurrentWidget(window.bench.waits)
    window.bench.waits.refresh()
    rows = [
        [window.bench.waits.topLevelItem(i).text(c) for c in range(4)]
        for i in range(window.bench.waits.topLevelItemCount())
    ]
    row = next(r for r in rows if r[1] == "Cool.CloseFlap")
    assert row[2:] == ["0.70 s", "FlapClosed"]
    assert [r[3] for r in rows if r[1] == "Roast.RoastLight"] == ["BeanTemp >= LightTemp"]
    item = window.bench.waits.topLevelItem(rows.index(row))
    window.bench.waits.itemClicked.emit(item, 0)
    assert window.runner.looked_at is not None
    assert "CloseFlap" in {w.step for w in window.waiting.lines}


# -- hands


def test_in_hand_drive_a_click_moves_a_device_and_interlocks_stay(qtbot, window):
    window.show_stage(4)
    window.runner.run_for(500)
    board, r = window.bench.board, window.runner
    device = window.document.project.device
    window.table.actions["run.hand"].trigger()
    assert window.bench.bar.by_hand.isChecked() and "at home" in window.bench.bar.home.text()
    assert {w.state for w in window.waiting.lines} == {"held"}

    def click(name: str) -> None:
        qtbot.mouseClick(
            board, Qt.MouseButton.LeftButton, pos=board.cell(device(name)).center().toPoint() + QPoint(9, 0)
        )
        r.run_for(1500)

    v, slots = r.session.situation.v, r.session.program.slots
    click("ChargeGate")
    assert v[slots["gateopened"]] and "home needs" in window.bench.bar.home.toolTip()
    assert "GateClosed" in window.bench.bar.home.toolTip()
    free = board.grab().toImage()
    click("BeanBed")
    assert not v[slots["burner"]], "the burner is interlocked with the drum"
    assert cards.blocked(board.sight(), device("BeanBed")) == ["⊘ Burner is blocked"]
    assert board.grab().toImage() != free
    click("RoastDrum")
    click("ExhaustFan")
    r.run_for(3000)
    assert v[slots["burner"]]
    assert v[slots["gateclosed"]], "the heater's click has let go of its other drive"
    window.bench.bar.by_hand.click()
    assert r.session.situation.hand is None


def test_a_button_is_let_go_when_the_board_loses_the_focus(qtbot, window):
    window.show_stage(4)
    window.runner.run_for(100)
    board = window.bench.board
    at = board.cell(window.document.project.device("Start")).center().toPoint()
    qtbot.mousePress(board, Qt.MouseButton.LeftButton, pos=at)
    window.runner.one_scan()
    assert window.runner.session.situation.v[window.runner.session.program.slots["startbutton"]]
    window.bench.bar.target.setFocus()
    window.runner.one_scan()
    assert not window.runner.session.situation.v[window.runner.session.program.slots["startbutton"]]


def test_what_was_done_is_kept_as_a_scenario_in_one_edit(window):
    batch(window, 50)
    assert window.bench_commands.keep_scenario()
    kept = window.document.project.scenarios[-1]
    assert "press Start for 0.3 s" in kept.text and kept.name in window.message.text()
    window.document.undo()
    assert kept not in window.document.project.scenarios
    window.runner.reset()
    assert not window.bench_commands.keep_scenario()


# -- pictures and pages


def test_a_film_of_the_board_is_an_animated_picture_that_moves(qtbot, window, tmp_path):
    batch(window, 3)
    film = window.bench.film
    window.bench_commands.toggle_film()
    assert film.on
    for _ in range(3):
        window.runner.run_for(400)
        film.take()
    film.stop()
    window.bench_commands.save_film(tmp_path / "board.gif")
    assert window.tasks.busy and "4 pictures" in window.tasks.title
    qtbot.waitUntil(lambda: not window.tasks.busy, timeout=60_000)
    picture = Image.open(io.BytesIO((tmp_path / "board.gif").read_bytes()))
    assert picture.n_frames == 4 and picture.size == Image.open(io.BytesIO(film.frames[0])).size
    first = picture.convert("RGB").tobytes()
    picture.seek(3)
    assert picture.convert("RGB").tobytes() != first


def test_the_operator_page_shows_sequences_waits_and_alarms_in_large_letters(qtbot, window):
    batch(window, 10)
    window.runner.do("hand", "Emergency", 1)
    window.runner.run_for(100)
    page = window.bench_commands.show_operator(full=False)
    page.resize(1280, 800)
    assert page.unit() * 0.66 >= 22
    assert page.lines()[0].state == "tripped" and page.alarms()[0][2]
    image = page.grab().toImage()
    late = QColor("#C8420A")
    assert any(image.pixelColor(x, y) == late for x in range(0, 1280, 20) for y in range(0, 800, 10))
    qtbot.keyClick(page, Key.Key_Escape)
    qtbot.waitUntil(lambda: window.bench_commands.operator is None)


def test_sizes_of_the_bench_are_kept(window, tmp_path):
    settings = QSettings(str(tmp_path / "kept.ini"), QSettings.Format.IniFormat)
    window.show_stage(4)
    splitter = window.bench._splitters["whole"]
    splitter.setSizes([300, 340])
    wanted = splitter.sizes()
    window.bench.leave(settings)
    splitter.setSizes([450, 190])
    window.bench.take_sizes(settings)
    assert splitter.sizes() == wanted


def test_the_run_on_the_screen_is_served_and_measured(qtbot, window):
    from pymodbus.client import ModbusTcpClient

    serving = window.bench_commands.show_serving()
    serving.address.setText("nowhere")
    serving.toggle_serving()
    assert "HOST:PORT" in serving.state.text()
    serving.address.setText("127.0.0.1:0")
    serving.toggle_serving()
    assert window.runner.running
    qtbot.waitUntil(lambda: window.runner.session.k > 20, timeout=4000)
    with ModbusTcpClient("127.0.0.1", port=serving.server.port, timeout=2) as client:
        assert client.write_coil(0, True).isError() is False
        name = next(p.name for p in serving.server.image.map.points if p.table.writable and p.address == 0)
        slot = window.runner.session.program.slots[name.lower()]
        qtbot.waitUntil(lambda: window.runner.session.situation.v[slot] is True, timeout=2000)
    assert window.runner.lateness.scans > 20 and isinstance(window.runner.lateness, Jitter)
    serving.refresh_state()
    assert "Serving at 127.0.0.1" in serving.state.text()
    window.runner.reset()
    assert serving.server is None and serving.toggle.text() == "Serve"
    assert replace(window.document.project) == window.document.project


def test_nothing_heavy_stands_before_the_first_window():
    words = "import sys; from spokeshave.desktop.first_window import first_window; first_window(); print(*sys.modules)"
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    loaded = subprocess.run(
        [sys.executable, "-c", words], capture_output=True, text=True, env=env, check=True
    ).stdout.split()
    assert not {"numpy", "pydantic", "lark", "pymodbus", "PIL", "spokeshave.model.project"} & set(loaded)


def test_alarms_are_acknowledged_one_by_one_and_all_at_once(qtbot, window):
    batch(window, 10)
    r = window.runner
    r.do("hand", "Emergency", 1)
    r.run_for(100)
    window.bench.side.setCurrentIndex(1)
    alarms = window.bench.alarms
    assert alarms.topLevelItem(0).text(0) == "● stands"
    alarms.setFixedWidth(200)
    told = alarms.visualItemRect(alarms.topLevelItem(0)).adjusted(170, 0, 0, 0)
    qtbot.mouseClick(alarms.viewport(), Qt.MouseButton.LeftButton, pos=told.center())
    assert alarms.header().offset() == 0, "a click in the text moves the state out of sight"
    alarms.itemDoubleClicked.emit(alarms.topLevelItem(0), 0)
    window.table.actions["run.scan"].trigger()
    (alarm,) = r.session.situation.alarms.values()
    assert alarm.acknowledged >= 0 and alarm.cleared < 0
    button = next(b for b in window.bench.side.findChildren(QPushButton) if b.text() == "Acknowledge all")
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    window.table.actions["run.scan"].trigger()
    assert all(a.acknowledged >= 0 for a in r.session.situation.alarms.values())


def test_a_forced_signal_is_marked_where_it_is_waited_for(window):
    batch(window, 5)
    r = window.runner
    plain = window.waiting.grab().toImage()
    r.do("force", "BeanTemp", 30.0)
    r.run_for(20)
    assert window.waiting._forced == {"beantemp"}
    image = window.waiting.grab().toImage()
    purple = QColor("#7B4FA3")
    assert image != plain
    assert any(image.pixelColor(x, y) == purple for x in range(image.width()) for y in range(image.height()))


def test_a_force_is_marked_in_the_conditions_of_sheet_and_chart(qtbot, window):
    batch(window, 5)
    chart = window.bench.faces.charts["Roast"]
    plain = chart.grab().toImage()
    window.runner.do("force", "BeanTemp", 30.0)
    window.runner.run_for(20)
    assert chart.live.forced_words("Charge.T >= T#3s AND BeanTemp >= ChargeTemp") == [(21, "BeanTemp")]
    assert chart.live.forced_words("Other.BeanTemp") == []

    def purple(widget) -> int:
        image = widget.grab().toImage()
        colour = QColor("#7B4FA3")
        return sum(image.pixelColor(x, y) == colour for x in range(image.width()) for y in range(image.height()))

    assert chart.grab().toImage() != plain and purple(chart.viewport()) > 5
    window.show_stage(2)
    window.show_face("sheet")
    view = window.sequence.stack.currentWidget()
    assert purple(view.viewport()) > 5
    window.runner.do("unforce", "BeanTemp")
    window.runner.run_for(20)
    assert purple(view.viewport()) == 0


def test_what_ran_is_written_as_stimuli_and_results_as_a_table(roastery, window, tmp_path):
    commands, path = window.bench_commands, tmp_path / "s.csv"
    window.runner.reset()
    assert not commands.save_stimuli(path) and "Nothing has run" in window.message.text()
    window.runner.session.run_for(2000)
    assert commands.save_stimuli(path) and path.read_text().startswith("time_ms,signal,value\n0,StartButton,0\n")
    window.showing.write_table(tmp_path / "r.xlsx")
    (scenarios, *_) = read_sheets(tmp_path / "r.xlsx")
    assert scenarios.name == "Scenarios" and len(scenarios.rows) == 1
    assert "scenarios that were not run" in window.message.text()


def test_frames_that_take_long_come_less_often_and_a_hand_is_seen_at_once(qtbot, window):
    """A large machine leaves keys and other programs their time."""
    runner, frames = window.runner, []
    runner.advanced.connect(lambda: (time.sleep(0.04), frames.append(runner.shown_ms)))
    assert runner._timer.interval() == TICK_MS
    runner.start()
    qtbot.waitUntil(lambda: runner._timer.interval() > 5 * TICK_MS, timeout=20_000)
    runner._frame_ms = 1000.0
    runner._measure()
    assert runner._timer.interval() > 600
    before = len(frames)
    runner.do("hand", window.document.project.devices[0].name, 0)
    qtbot.waitUntil(lambda: len(frames) >= before + 2 and frames[-1] > frames[before], timeout=20_000)
    runner.set_speed(0.0)
    qtbot.waitUntil(lambda: runner._timer.interval() == TICK_MS, timeout=20_000)
    runner.pause()


def test_the_address_map_is_edited_kept_and_written(qtbot, window, tmp_path):
    serving = window.bench_commands.show_serving()
    document = window.document
    rows = [serving.map.topLevelItem(i) for i in range(serving.map.topLevelItemCount())]
    name = rows[1].text(3)
    serving.map.setCurrentItem(rows[1])
    serving._edit(rows[1])
    editor = serving.map.viewport().findChild(QLineEdit)
    editor.setText("77")
    QTest.keyClick(editor, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: bool(document.project.modbus), timeout=2000)
    assert {p.name: p.address for p in document.project.modbus}[name] == 77 and not serving.keep.isEnabled()
    serving.put(name, "0")
    assert "0 of the coils is the place of" in serving.state.text()
    serving.put(name, "far")
    assert "is no address" in serving.state.text()
    serving.add_chosen(serving.more.findText("ChargeTemp"))
    added = serving.map.findItems("ChargeTemp", Qt.MatchFlag.MatchExactly, 3)[0]
    serving.map.setCurrentItem(added)
    serving.drop_chosen()
    assert not serving.map.findItems("ChargeTemp", Qt.MatchFlag.MatchExactly, 3)
    serving.write_table(tmp_path / "map.xlsx")
    assert len(read_sheets(tmp_path / "map.xlsx")[0].rows) == serving.map.topLevelItemCount() + 1
    serving.address.setText("0.0.0.0:0")
    serving.toggle_serving()
    assert serving.server is None and "Say which clients may connect" in serving.state.text()
    for _ in range(3):
        document.undo()
    assert not document.project.modbus and serving.keep.isEnabled()
