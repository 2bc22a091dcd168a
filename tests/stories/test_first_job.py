"""One whole job in a real window: open the demo, run it, insert a step 25, run again, break it, verify."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.document import Document
from spokeshave.desktop.runner import SPEEDS
from spokeshave.desktop.sequence.sheet import FIRST_MARK, STEP
from tests.looks import drawn

Key, Ctrl = Qt.Key, Qt.KeyboardModifier.ControlModifier
pytestmark = pytest.mark.window


def press(qtbot, window, key, modifier=Qt.KeyboardModifier.NoModifier):
    qtbot.keyClick(QApplication.focusWidget() or window, key, modifier)


def on_board(window, name) -> QPoint:
    return window.bench.board.cell(window.document.project.device(name)).center().toPoint()


def test_from_the_demo_to_a_proven_sequence(qtbot, opened, roastery):
    document = Document(roastery)
    window = opened(document)

    # The bench: start, press Start with the mouse, see the roast begin.
    press(qtbot, window, Key.Key_5, Ctrl)
    assert window.stage == 4
    window.cluster.speed.setCurrentIndex([n for n, _ in SPEEDS].index("as fast as possible"))
    press(qtbot, window, Key.Key_F10)
    board = window.bench.board
    qtbot.mousePress(board, Qt.MouseButton.LeftButton, pos=on_board(window, "Start"))
    press(qtbot, window, Key.Key_F10)
    qtbot.mouseRelease(board, Qt.MouseButton.LeftButton, pos=on_board(window, "Start"))
    press(qtbot, window, Key.Key_F5)
    qtbot.waitUntil(lambda: window.runner.session.time_ms > 40_000, timeout=20_000)
    press(qtbot, window, Key.Key_F5)
    trace = window.runner.session.trace
    assert trace.windows("Roast.Drop.X") and not window.runner.running

    # The sequence: a step 25 behind 20, with an output and a condition of its own.
    press(qtbot, window, Key.Key_3, Ctrl)
    window.show_face("sheet")
    view = window.sequence.sheets["Roast"]
    view.setCurrentIndex(view.sheet.index(1, STEP))
    view.setFocus()
    qtbot.keyClick(view, Key.Key_Insert)
    q = document.project.sequence("Roast")
    assert (q.steps[2].name, q.steps[2].number) == ("Step25", 25)
    row = 2
    view.setCurrentIndex(view.sheet.index(row, FIRST_MARK + view.sheet.targets.index("Air")))
    qtbot.keyClick(view, Key.Key_Space)
    index = view.sheet.index(row - 1, view.sheet.awaits)
    view.setCurrentIndex(index)
    qtbot.keyClick(view, Key.Key_F2)
    editor = QApplication.focusWidget()
    qtbot.keyClick(editor, Key.Key_A, Ctrl)
    qtbot.keyClicks(editor, "SpinUp.T >= T#2")
    assert editor.note.isVisible(), "half a time is told while it is typed"
    qtbot.keyClicks(editor, "s")
    assert not editor.note.isVisible()
    qtbot.keyClick(editor, Key.Key_Return)
    conditions = lambda: [t.condition for t in document.project.sequence("Roast").transitions]  # noqa: E731
    qtbot.waitUntil(lambda: "SpinUp.T >= T#2s" in conditions(), timeout=5000)
    assert window.runner.problem == ""

    # Run again from the start: the new step is passed through.
    press(qtbot, window, Key.Key_F5, Qt.KeyboardModifier.ShiftModifier)
    window.runner.run_for(100)
    window.runner.do("hand", "Start", 1)
    window.runner.run_for(3000)
    stays = window.runner.session.trace.windows("Roast.Step25.X")
    assert len(stays) == 1

    # A jammed door makes the step late; the waiting line and the alarms say so.
    window.show_stage(4)
    action = next(a for a in board.failure_menu(document.project.device("DropGate")).actions() if "jammed" in a.text())
    action.trigger()
    window.runner.run_for(40_000)
    late = next(w for w in window.runner.waiting() if w.sequence == "Roast")
    assert (late.step, late.state, late.held) == ("Drop", "late", True)
    assert any("The drop door has not opened" in a.text for a in window.runner.session.situation.alarms.values())
    assert window.counts.text().endswith("1 alarm")
    assert drawn(window)

    # The proof still stands, but for what the new step has changed.
    press(qtbot, window, Key.Key_R, Ctrl)
    qtbot.waitUntil(lambda: len(document.results) == 19 and window.proof.worker is None, timeout=300_000)
    assert window.proof.status.text() == "18 of 19 passed"
    failed = [name for name, r in document.results.items() if r.worst is not None]
    assert failed == ["Drive that does not start"], "the new step leaves the drum's step before it can be late"

    # Undo everything: the demo is as it was.
    while document.history.undo_name:
        window.table.actions["edit.undo"].trigger()
    assert document.project is roastery
