"""What practitioners do at start-up, on a desk: find the switch that never comes, drive by hand, measure, keep the proof."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QMenu

from spokeshave.desktop.document import Document
from spokeshave.desktop.window import MainWindow
from spokeshave.model.project import Project
from spokeshave.verify.expectations import Outcome

from .test_by_hand import choose_of_menu
from .test_faults_on_the_bench import at, click, outputs_on, steps

pytestmark = pytest.mark.window
Key = Qt.Key
LEFT, RIGHT = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton


@pytest.fixture
def bench(opened, roastery: Project) -> MainWindow:
    window = opened(Document(roastery))
    window.show_stage(4)
    window.runner.run_for(200)
    return window


def choose_failure(qtbot, window: MainWindow, device: str, text: str) -> None:
    """A right click on the board and an entry of its menu."""
    choose_of_menu(qtbot, window.bench.board, at(window, device), text)


def run_to(qtbot, window: MainWindow, text: str) -> None:
    line = window.bench.bar.target
    qtbot.keyClick(window, Key.Key_F11, Qt.KeyboardModifier.ControlModifier)
    assert line.hasFocus()
    qtbot.keyClicks(line, text)
    qtbot.keyClick(line, Key.Key_Return)
    qtbot.waitUntil(lambda: not window.runner.running, timeout=20_000)
    line.clear()


def test_a_switch_that_never_comes_is_found_looked_back_at_measured_and_kept(qtbot, bench):
    window, strip = bench, bench.bench.strip
    choose_failure(qtbot, window, "DropGate", "extended stuck off")
    click(qtbot, window, "Start")
    run_to(qtbot, window, "Roast.Drop.Late")
    assert ("Drop", "late") in [(s, state.split(",")[0]) for s, state in steps(window)]
    waits = window.waiting.text_of(window.waiting.lines[0])
    assert "DropOpened" in waits
    qtbot.keyClick(strip, Key.Key_Home)
    moved = window.runner.session.trace.windows("DropDoor")[0][0] * 10
    qtbot.keyClicks(window.bench.search, "DropDoor")
    assert [x.name for x in strip.lanes(window.runner.session)] == ["Outputs", "DropDoor"]
    y = 22 + 15 + 8
    qtbot.mouseClick(strip, LEFT, pos=QPoint(round(strip.x_of(moved)), y))
    assert strip.cursors[0] == moved and window.runner.looked_at == moved // 10
    assert dict(steps(window))["Drop"] == "runs"
    qtbot.mouseClick(strip, RIGHT, pos=QPoint(round(strip.x_of(moved + 5000)), y))
    qtbot.keyClick(strip, Key.Key_M)
    assert len(strip.intervals) == 1
    qtbot.keyClick(strip, Key.Key_Escape)
    assert dict(steps(window))["Drop"].startswith("late")
    window.table.actions["run.keep"].trigger()
    kept = window.document.project.scenarios[-1]
    assert 'break DropGate "extended stuck off"' in kept.text and "expect alarm" in kept.text
    window.show_stage(5)
    window.run_proof()
    qtbot.waitUntil(lambda: kept.name in window.document.results and window.proof.worker is None, timeout=300_000)
    assert window.document.results[kept.name].outcome is Outcome.PASS


def test_the_machine_is_driven_by_hand_to_its_home_before_the_first_start(qtbot, bench):
    window, board = bench, bench.bench.board
    qtbot.keyClick(window, Key.Key_H, Qt.KeyboardModifier.ControlModifier)
    assert window.bench.bar.by_hand.isChecked()
    qtbot.mouseClick(board, LEFT, pos=at(window, "ChargeGate") + QPoint(8, 0))
    window.runner.run_for(1500)
    assert outputs_on(window) >= {"Gate"} and "home needs" in window.bench.bar.home.toolTip()
    qtbot.keyClick(board, Key.Key_Space)
    window.runner.run_for(1500)
    assert "at home" in window.bench.bar.home.text()
    qtbot.keyClick(window, Key.Key_H, Qt.KeyboardModifier.ControlModifier)
    window.runner.run_for(50)
    click(qtbot, window, "Start")
    assert ("SpinUp", "runs") in steps(window)


def test_a_time_is_changed_while_it_runs_and_the_run_goes_on_and_back_again(qtbot, bench):
    window = bench
    click(qtbot, window, "Start")
    window.runner.set_speed(100.0)
    qtbot.keyClick(window, Key.Key_F5)
    qtbot.waitUntil(lambda: window.runner.session.time_ms > 20_000, timeout=10_000)
    from spokeshave.model import edits

    window.document.edit("Longer", lambda p: edits.change_step(p, "Roast", "RoastLight", longest="T#2m"))
    assert window.runner.running
    edited = window.runner.session.k
    qtbot.waitUntil(lambda: window.runner.session.k > edited + 500, timeout=10_000)
    qtbot.keyClick(window, Key.Key_F5)
    assert [e.kind for e in window.runner.session.trace.events].count("edit") == 1
    k = window.runner.session.k
    for _ in range(3):
        qtbot.keyClick(window, Key.Key_F10, Qt.KeyboardModifier.ShiftModifier)
    assert window.runner.session.k == k - 3
    qtbot.keyClick(window, Key.Key_F10)
    assert window.runner.session.k == k - 2
    window.bench.strip.set_cursor(0, 5000)
    assert window.runner.shown()[0] is not window.runner.session.program, "before the edit the old file is looked at"
    page = window.bench_commands.show_operator(full=False)
    qtbot.waitExposed(page)
    qtbot.keyClick(page, Key.Key_Escape)
    assert not any(isinstance(w, QMenu) and w.isVisible() for w in QApplication.topLevelWidgets())
