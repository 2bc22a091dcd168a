"""What an engineer tries first on a bench: emergency stop, power lost, a failed motor, a changed time while it runs."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.document import Document
from spokeshave.desktop.window import MainWindow
from spokeshave.model.project import Project
from tests.looks import drawn

pytestmark = pytest.mark.window
Key = Qt.Key
LEFT = Qt.MouseButton.LeftButton


def at(window: MainWindow, name: str) -> QPoint:
    device = window.document.project.device(name)
    assert device is not None
    return window.bench.board.cell(device).center().toPoint()


def click(qtbot, window: MainWindow, name: str, ms: int = 300) -> None:
    """Presses a button of the board with the mouse for some simulated time."""
    board = window.bench.board
    qtbot.mousePress(board, LEFT, pos=at(window, name))
    window.runner.run_for(ms)
    qtbot.mouseRelease(board, LEFT, pos=at(window, name))
    window.runner.run_for(50)


def outputs_on(window: MainWindow) -> set[str]:
    session = window.runner.session
    assert session is not None
    return {r.name for r in session.program.recorded if r.kind == "output" and session.situation.v[r.slot] is True}


def steps(window: MainWindow) -> list[tuple[str, str]]:
    return [(w.step, w.state) for w in window.runner.waiting()]


@pytest.fixture
def bench(opened, roastery: Project) -> MainWindow:
    window = opened(Document(roastery))
    window.show_stage(4)
    window.runner.run_for(200)
    return window


def test_the_emergency_stop_is_hit_released_reset_and_the_roast_begun_again(qtbot, bench):
    click(qtbot, bench, "Start")
    bench.runner.run_for(18_000)
    assert {"Drum", "Air", "Burner"} <= outputs_on(bench)
    qtbot.mouseClick(bench.bench.board, LEFT, pos=at(bench, "Emergency"))
    bench.runner.run_for(10)
    assert outputs_on(bench) == {"FaultLamp"}
    assert steps(bench) == [("Idle", "tripped"), ("Ready", "tripped")]
    assert "tripped" in bench.waiting.text_of(bench.waiting.lines[0])
    click(qtbot, bench, "Start")
    assert steps(bench)[0] == ("Idle", "tripped"), "a start does nothing while the stop is pressed"
    qtbot.mouseClick(bench.bench.board, LEFT, pos=at(bench, "Emergency"))
    bench.runner.run_for(500)
    click(qtbot, bench, "Start")
    assert steps(bench)[0] == ("Idle", "tripped"), "nor before the reset"
    click(qtbot, bench, "Reset")
    assert steps(bench)[0] == ("Idle", "runs") and outputs_on(bench) == set()
    click(qtbot, bench, "Start")
    assert {s for s, _ in steps(bench)} == {"SpinUp", "Purge", "Ready"}
    kinds = [e.kind for e in bench.runner.session.trace.events]
    assert kinds.count("alarm") == 1 and "alarm cleared" in kinds


def test_power_is_lost_and_comes_back(qtbot, bench):
    click(qtbot, bench, "Start")
    bench.runner.run_for(14_000)
    assert "Gate" in outputs_on(bench)
    bench.table.actions["run.power"].trigger()
    bench.runner.one_scan()
    assert outputs_on(bench) == set() and steps(bench)[0] == ("Idle", "runs")
    index = bench.bench.board.index_of("ChargeGate")
    session = bench.runner.session
    position = session.program.devices[index].device.picture(session.situation.dev_state[index], session.k - 1)[
        "position"
    ]
    assert position > 0.5, "the gate is where the power left it"
    bench.runner.run_for(2000)
    assert session.trace.at("GateClosed", session.k - 1) is True


def test_a_fan_that_does_not_start_is_seen_in_the_waiting_line_and_mended(qtbot, bench):
    menu = bench.bench.board.failure_menu(bench.document.project.device("ExhaustFan"))
    next(a for a in menu.actions() if "does not start" in a.text()).trigger()
    click(qtbot, bench, "Start")
    bench.runner.run_for(6000)
    line = next(bench.waiting.text_of(w) for w in bench.waiting.lines if w.step == "Purge")
    assert line == "Roast 30 Purge, late: waits on HELD(AirRuns, T#1s) (AirRuns = FALSE)"
    assert drawn(bench.waiting)
    box = next(b for b, kind, name in bench.waiting._hits if name == "AirRuns")
    qtbot.mouseDClick(bench.waiting, LEFT, pos=box.center().toPoint())
    assert bench.selection.place.item in ("ExhaustFan", "AirRuns"), (
        "a click leads to the signal, a double click to its device"
    )
    bench.show_stage(4)
    menu = bench.bench.board.failure_menu(bench.document.project.device("ExhaustFan"))
    mended = next(a for a in menu.actions() if "does not start" in a.text())
    assert mended.isChecked()
    mended.trigger()
    bench.runner.run_for(3000)
    assert steps(bench)[0][0] == "Preheat"
    assert bench.runner.standing_alarms == 0


def test_a_longest_time_is_changed_while_it_runs_and_taken_in_at_once(qtbot, bench):
    click(qtbot, bench, "Start")
    bench.runner.run_for(5000)
    bench.runner.set_speed(2.0)
    bench.table.actions["run.start"].trigger()
    bench.show_stage(2)
    view = bench.sequence.sheets["Roast"]
    row = next(i for i in range(view.sheet.rowCount()) if view.sheet.step_at(i).name == "Preheat")
    index = view.sheet.index(row, view.sheet.window)
    view.setCurrentIndex(index)
    view.setFocus()
    qtbot.keyClick(view, Key.Key_F2)
    editor = QApplication.focusWidget()
    qtbot.keyClick(editor, Key.Key_A, Qt.KeyboardModifier.ControlModifier)
    qtbot.keyClicks(editor, "1s")
    qtbot.keyClick(editor, Key.Key_Return)
    qtbot.waitUntil(lambda: bench.runner.standing_alarms == 1, timeout=5000)
    assert bench.runner.running and steps(bench)[0] == ("Preheat", "late")
    bench.table.actions["run.start"].trigger()
    events = [e.kind for e in bench.runner.session.trace.events]
    assert events.index("edit") < events.index("late")
