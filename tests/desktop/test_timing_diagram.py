"""The timing diagram: lanes pixel by pixel, folded and found, cursors and intervals, snapshots, recordings laid beside."""

from __future__ import annotations

import time
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from PySide6.QtCore import QPoint, Qt

from spokeshave.desktop.bench.lane_list import LaneList
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.trace_csv import trace_rows
from spokeshave.model.project import Signal, SignalClass
from spokeshave.verify.lanes import bool_pixels, borders, number_pixels, snapshot, tracks
from tests.desktop.test_bench import batch
from tests.looks import drawn

Key = Qt.Key
edges = st.lists(st.integers(0, 3000), min_size=1, max_size=400, unique=True).map(sorted)


@given(edges, st.floats(0, 9000), st.floats(20, 40_000), st.integers(2, 300))
def test_pixels_of_a_lane_say_what_every_scan_says(scans, start, span, width):
    """Against looking at each scan: the value that a pixel comes with, and how often it changes within."""
    scans = np.array([0, *[k + 1 for k in scans]])
    values = np.arange(len(scans)) % 2.0
    at = borders(start, span, width, 10)
    p = bool_pixels(scans, values, at, scans[::16])
    for x in range(0, width, 7):
        before = values[scans < at[x]]
        assert p.high[x] == (len(before) > 0 and bool(before[-1]))
        assert p.changes[x] == ((scans >= at[x]) & (scans < at[x + 1])).sum()


@given(st.integers(20_000, 60_000), st.integers(0, 2**32 - 1))
def test_crowded_lanes_show_the_same_blips(count, seed):
    scans = np.sort(np.random.default_rng(seed).choice(200_000, count, replace=False))
    values = np.arange(count) % 2.0
    at = borders(0, 2_000_000, 100, 10)
    quick, exact = bool_pixels(scans, values, at, scans[::16]), bool_pixels(scans, values, at, scans[:0])
    assert (quick.blips == exact.blips).all()
    solid = exact.changes == 0
    assert (quick.high[solid] == exact.high[solid]).all()


@given(st.lists(st.tuples(st.integers(0, 500), st.floats(-100, 100)), min_size=1, max_size=200), st.integers(2, 80))
def test_a_curve_keeps_its_extremes_at_every_zoom(changes, width):
    scans = np.array(sorted({0, *(k for k, _ in changes)}))
    values = np.array([v for _, v in changes] * 2)[: len(scans)]
    values = np.resize(values, len(scans))
    at = borders(0, 6000, width, 10)
    least, most = number_pixels(scans, values, at)
    for x in range(width):
        inside = (scans >= at[x]) & (scans < at[x + 1])
        before = values[scans < at[x]]
        shown = np.concatenate([before[-1:], values[inside]])
        if len(shown):
            assert (least[x], most[x]) == (shown.min(), shown.max())


def test_lanes_fold_move_and_are_found(roastery):
    session = Session(roastery)
    session.run_scans(10)
    lanes = LaneList()
    names = [x.name for x in lanes.lanes(session)]
    assert names[:3] == ["Sequences", "Roast", "Cool"] and "Internals" in names and "DoorShut" not in names
    lanes.fold("Sequences")
    assert "Roast" not in [x.name for x in lanes.lanes(session)]
    lanes.move("Flap", "Gate", lanes.lanes(session))
    outputs = [x.name for x in lanes.lanes(session)]
    assert outputs.index("Flap") == outputs.index("Gate") - 1
    lanes.matches("gate")
    assert {x.name for x in lanes.lanes(session) if x.kind != "group"} == {"Gate", "GateOpened", "GateClosed"}
    assert tracks(roastery.sequence("Roast"))["SpinUp"] != tracks(roastery.sequence("Roast"))["Purge"]


def test_a_snapshot_as_a_table_says_what_the_trace_says(roastery, window, tmp_path):
    batch(window, 20)
    strip = window.bench.strip
    strip.show_span(5000, 15_000)
    assert window.bench_commands.save_snapshot(tmp_path / "view.csv")
    lines = (tmp_path / "view.csv").read_text().splitlines()
    names = lines[0].split(",")
    assert {"Roast.Preheat.X", "Gate", "BeanTemp"} <= set(names)
    trace = window.runner.session.trace
    for line in lines[1::17]:
        cells = line.split(",")
        k = int(cells[0]) // 10
        assert cells[names.index("Gate")] == str(int(trace.at("Gate", k)))
        assert float(cells[names.index("BeanTemp")]) == trace.at("BeanTemp", k)
    assert len(snapshot(trace, ["Gate"], 0, 10)) == 2
    assert window.bench_commands.save_snapshot(tmp_path / "view.png")
    with Image.open(tmp_path / "view.png") as picture:
        assert picture.width >= strip.width()
    assert not window.bench_commands.save_snapshot(tmp_path / "not" / "there.png")
    assert "could not be written" in window.message.text()


def test_intervals_stay_where_they_were_measured(qtbot, window):
    batch(window, 30)
    strip = window.bench.strip
    strip.show_span(0, 30_000)
    strip.chosen = "Gate"
    strip.set_cursor(0, 12_000)
    assert not strip.keep_interval(), "two cursors make an interval"
    strip.set_cursor(1, 15_000)
    qtbot.keyClick(strip, Key.Key_M)
    strip.set_cursor(1, 16_000)
    qtbot.keyClick(strip, Key.Key_M)
    assert [(i.lane, i.from_ms, i.to_ms) for i in strip.intervals] == [
        ("Gate", 12_000, 15_000),
        ("Gate", 12_000, 16_000),
    ]
    assert drawn(strip)
    window.runner.one_scan()
    assert len(strip.intervals) == 2
    qtbot.keyClick(strip, Key.Key_Delete)
    assert strip.intervals == []


def test_a_cursor_snaps_to_the_edge_of_the_lane_it_is_near(qtbot, window):
    batch(window, 30)
    strip = window.bench.strip
    strip.resize(1000, 600)
    strip.show_span(0, 30_000)
    opened = int(window.runner.session.trace.windows("Gate")[0][0]) * 10
    lanes = strip.lanes(window.runner.session)
    y = 22 + sum(x.height for x in lanes[: [x.name for x in lanes].index("Gate")]) + 8 - strip.top
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(round(strip.x_of(opened)) + 3, int(y)))
    assert strip.cursors[0] == opened and strip.chosen == "Gate"


@pytest.mark.quiet
def test_a_crowded_diagram_is_painted_as_fast_as_a_sparse_one():
    """Ten times more edges may take twice as long, measured on the lookups; see `benchmarks.screen` for the painting."""
    at = borders(0, 200_000_000, 1000, 10)

    def fastest(count: int) -> float:
        scans = np.sort(np.random.default_rng(1).choice(20_000_000, count, replace=False))
        values, coarse = np.arange(count) % 2.0, scans[::16].copy()
        times = []
        for _ in range(15):
            begin = time.perf_counter()
            bool_pixels(scans, values, at, coarse)
            times.append(time.perf_counter() - begin)
        return min(times)

    assert fastest(1_000_000) < 4 * fastest(100_000)


def test_the_column_of_names_is_as_wide_as_the_longest_needs(window):
    strip = window.bench.strip
    batch(window, 1)
    window.show_stage(4)
    assert drawn(strip)
    narrow = strip.label_w
    long = Signal("TemperatureOfTheBeansBehindTheGate", SignalClass.OUTPUT)
    window.document.edit("Add", lambda p: replace(p, signals=(*p.signals, long)))
    batch(window, 1)
    assert drawn(strip) and narrow < strip.label_w <= 260
    assert strip.x_of(strip.start_ms) == strip.label_w


def test_a_recording_of_the_machine_is_laid_beside_a_run_and_shown_where_it_differs(qtbot, window, tmp_path):
    session = Session(window.document.project, [Stimulus(500, "set", "StartButton", True)])
    session.run_for(6000)
    path = tmp_path / "machine.csv"
    rows = [row.replace(",Air,", ",exhaust,") for row in trace_rows(session.trace)]
    path.write_text("\n".join(row for row in rows if ",Drum," not in row or row.startswith("0,")), encoding="utf-8")
    dialog = window.showing.recording_dialog(path)
    qtbot.addWidget(dialog)
    assert dialog.table.item(0, 0).text() == "exhaust" and dialog.boxes["exhaust"].currentText() == "left out"
    dialog.boxes["exhaust"].setCurrentText("Drum")
    assert dialog.says.text() == "Drum is chosen twice" and not dialog.lay.isEnabled()
    dialog.boxes["exhaust"].setCurrentText("Air")
    dialog.shift.setText("soon")
    assert "write a time" in dialog.says.text()
    dialog.shift.setText("0 s")
    assert dialog.lay.isEnabled() and dialog.says.text().endswith("0 left out")
    window.showing.lay_beside(dialog, path.name)
    qtbot.waitUntil(lambda: "machine.csv:" in window.message.text(), timeout=30_000)
    assert "Drum on besides" in window.message.text()
    beside = window.bench.strip.beside
    assert beside.spans("Drum", False) and not beside.spans("Air", False) and window.stage == 4
    path.write_text("Go\n1\n")
    assert window.showing.recording_dialog(path) is None and "no column has the times" in window.message.text()
