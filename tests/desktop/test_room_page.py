"""Proof, Room: measured by a press, limits and windows in one table, a double click leads to the place."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from spokeshave.desktop.measured_room import told, used
from spokeshave.desktop.proof.room import SHARE
from spokeshave.model.edits import change_step
from tests.core.test_room import proven
from tests.desktop.test_alarms_page import made as made


def rows(panel) -> dict[str, list[str]]:
    items = (panel.list.topLevelItem(i) for i in range(panel.list.topLevelItemCount()))
    return {x.text(0): [x.text(c) for c in range(1, 5)] for x in items}


def test_room_is_measured_shown_with_the_nearest_first_and_leads_to_its_places(made, qtbot):
    window = made(proven())
    window.show_proof(window.proof.room)
    panel = window.proof.room
    assert panel.empty.isVisible() and not panel.side.isVisible()
    panel.draws.setValue(20)
    QTest.mouseClick(panel.empty.buttons[0], Qt.MouseButton.LeftButton)
    assert panel.cancel_button.isVisible() and not panel.start_button.isEnabled()
    qtbot.waitUntil(lambda: panel.room is None, timeout=120_000)
    found = rows(panel)
    assert (
        found["Gate slower"][0] == "×1"
        and found["Gate slower"][1].startswith("×4.9")
        and "no alarms" in found["Gate slower"][3]
    )
    assert found["Main.Lifts at most"][:3] == ["5 s", "1 s", "4 s"] and found["Long longer"][0] == "2 s"
    shares = [panel.list.topLevelItem(i).data(3, SHARE) for i in range(2)]
    assert all(s >= 0 for s in shares) and "Gate may be" in panel.status.text()
    assert "20 of 20 cycles pass" in panel.says.toPlainText() and "in Stays: a time" in panel.says.toPlainText()
    assert panel.bars.isVisible() and len(panel.bars.times) == 20 and not panel.grab().isNull()
    room = window.document.room
    assert [told(w) for w in room.of_step("Main", "Lifts")] == [
        "longest 5 s: 1 s measured in " + room.of_step("main", "lifts")[0].scenario + ", 4 s left"
    ]
    assert used(room.of_step("Main", "Lifts")[0]) == 0.2 and "Gate may be" in room.of_device("gate")[0].said()
    _bars_are_shown(window)
    item = panel.list.findItems("Main.Lifts at most", Qt.MatchFlag.MatchExactly)[0]
    panel.list.itemDoubleClicked.emit(item, 0)
    assert window.stage == 2 and window.selection.place.item == "Lifts"
    window.document.edit("longer", lambda p: change_step(p, "Main", "Lifts", longest="T#9s"))
    assert "changed since" in panel.status.text() and window.document.room is None, "of another file no bars"


def _bars_are_shown(window):
    """Under the window in the sheet and under the card on the board; gone while nothing was measured."""
    window.show_stage(2)
    window.show_face("sheet")
    sheet, kept = window.sequence.sheets["Main"], window.document._room
    row = next(i for i in range(sheet.sheet.rowCount()) if sheet.sheet.step_at(i).name == "Lifts")
    assert "4 s left" in sheet.sheet.data(sheet.sheet.index(row, sheet.sheet.window), Qt.ItemDataRole.ToolTipRole)
    window.show_stage(3)
    board = window.machine.board
    assert "Gate may be" in board._told(window.document.project.device("Gate"))
    for view, stage in ((sheet.viewport(), 2), (board, 3)):
        window.show_stage(stage)
        with_room = view.grab().toImage()
        window.document._room = None
        assert view.grab().toImage() != with_room
        window.document._room = kept


def test_without_a_passing_scenario_it_says_so_and_it_can_be_cancelled(made, qtbot):
    window = made(replace(proven(), scenarios=()))
    window.show_proof(window.proof.room)
    panel = window.proof.room
    panel.start()
    qtbot.waitUntil(lambda: panel.room is None, timeout=60_000)
    assert "no scenario passes" in panel.status.text() and panel.report is None
    window.document.replace(proven(), None)
    panel.start()
    panel.stop()
    assert panel.room is None and panel.start_button.isEnabled()


def test_tolerances_of_their_own_are_typed_kept_in_the_file_and_told_where_they_are_none(made, qtbot):
    window = made(proven())
    window.show_proof(window.proof.room)
    panel = window.proof.room
    qtbot.keyClicks(panel.own, "gate 40 %, Lnog 5 %")
    qtbot.keyClick(panel.own, Qt.Key.Key_Return)
    assert (
        "Lnog has no tolerance; did you mean Long?" in panel.status.text() and window.document.project.tolerances == ()
    )
    panel.own.setText("gate 40 %, Long 5 %")
    qtbot.keyClick(panel.own, Qt.Key.Key_Return)
    assert window.document.project.tolerances == (("Gate", 40.0), ("Long", 5.0)) and "Lnog" not in panel.status.text()
    panel.own.clearFocus()
    window.document.undo()
    assert panel.own.text() == ""
