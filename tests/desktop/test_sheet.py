"""The sheet typed like a spreadsheet: what is typed, pasted, found, measured."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QItemSelection, QItemSelectionModel, Qt
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.sequence.flow_painter import flow_width
from spokeshave.desktop.sequence.sheet import FIRST_MARK, FLOW, STEP, lasted_text
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Sequence, Step, Transition
from spokeshave.model.sections import sections
from spokeshave.model.sequence_edits import delete_sequence
from spokeshave.verify.measure import Lasted
from tests.core.test_rows_and_times import timed
from tests.desktop.test_window import cell, sheet_of, type_into
from tests.looks import drawn

Key = Qt.Key
Mod = Qt.KeyboardModifier


def select(view, *indexes):
    chosen = QItemSelection()
    for index in indexes:
        chosen.select(index, index)
    view.setCurrentIndex(indexes[0])
    view.selectionModel().select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)


def names(window, sequence="Roast"):
    return [s.name for s in window.document.project.sequence(sequence).steps]


def test_a_mark_is_set_in_all_selected_cells_at_once(qtbot, window):
    view = sheet_of(window)
    fan = FIRST_MARK + view.sheet.targets.index("DropDoor")
    select(view, cell(view, "Charge", fan), cell(view, "CloseGate", fan), cell(view, "RoastLight", fan))
    qtbot.keyClick(view, Key.Key_Space)
    q = window.document.project.sequence("Roast")
    assert all(q.step(n).action_on("DropDoor") for n in ("Charge", "CloseGate", "RoastLight"))
    assert window.document.history.undo_name == "Edit 3 cells"
    qtbot.keyClick(view, Key.Key_Delete)
    q = window.document.project.sequence("Roast")
    assert not any(q.step(n).action_on("DropDoor") for n in ("Charge", "CloseGate", "RoastLight"))


def test_cells_are_copied_and_pasted_as_a_block_and_into_many(qtbot, window):
    view = sheet_of(window)
    sheet = view.sheet
    select(view, cell(view, "Preheat", sheet.window), cell(view, "Charge", sheet.window))
    qtbot.keyClick(view, Key.Key_C, Mod.ControlModifier)
    assert QApplication.clipboard().text() == "60s\n6s\n"
    select(view, cell(view, "AwaitTray", sheet.window))
    qtbot.keyClick(view, Key.Key_V, Mod.ControlModifier)
    q = window.document.project.sequence("Roast")
    assert (q.step("AwaitTray").longest, q.step("Drop").longest) == ("T#60s", "T#6s")
    QApplication.clipboard().setText("7s")
    select(
        view, cell(view, "Preheat", sheet.window), cell(view, "Charge", sheet.window), cell(view, "Drop", sheet.window)
    )
    qtbot.keyClick(view, Key.Key_V, Mod.ControlModifier)
    q = window.document.project.sequence("Roast")
    assert {q.step(n).longest for n in ("Preheat", "Charge", "Drop")} == {"T#7s"}


def test_rows_go_to_a_spreadsheet_and_come_back_as_steps(qtbot, window):
    view = sheet_of(window)
    select(view, cell(view, "Charge", STEP), cell(view, "CloseGate", STEP))
    window.sequence.editor.copy()
    rows = [line.split("\t") for line in QApplication.clipboard().text().splitlines()]
    assert rows[0][:3] == ["No.", "Step", "Gate"] and [r[1] for r in rows[1:3]] == ["Charge", "CloseGate"]
    view.setCurrentIndex(cell(view, "CoolDown", STEP))
    table = "Step\tDrum\tAwaits\tWindow\nWipe\tX\tDrumRuns\t\nBlow\tL 2s\tBlow.T >= T#1s\t\n"
    QApplication.clipboard().setText(table.replace("\tWindow", "\tLongest"))
    qtbot.keyClick(view, Key.Key_V, Mod.ControlModifier)
    at = names(window).index("CoolDown")
    assert names(window)[at : at + 3] == ["CoolDown", "Wipe", "Blow"]
    q = window.document.project.sequence("Roast")
    assert next(t for _, t in q.leaving("Blow")).targets == ("Stop",)
    assert window.selection.steps == ("Wipe", "Blow"), "what was pasted is selected"
    before = window.document.project
    QApplication.clipboard().setText("Step\tDrum\nOops\tQ7\n")
    view.setCurrentIndex(cell(view, "CoolDown", STEP))
    window.sequence.editor.paste()
    assert window.document.project is before and "row 2, Drum: 'Q7' is not a mark" in window.message.text()
    QApplication.clipboard().setText("")
    window.sequence.editor.paste()
    assert "the clipboard has no rows" in window.message.text()


def test_rows_are_duplicated_moved_and_deleted_together(qtbot, window):
    view = sheet_of(window)
    select(view, cell(view, "AwaitTray", STEP), cell(view, "Drop", STEP))
    assert window.sequence.editor.duplicate()
    at = names(window).index("Drop")
    assert names(window)[at : at + 3] == ["Drop", "AwaitTray2", "Drop2"]
    window.sequence.editor.move_row(1)
    at = names(window).index("AwaitTray2")
    assert names(window)[at - 1 : at + 2] == ["CloseDoor", "AwaitTray2", "Drop2"]
    qtbot.keyClick(view, Key.Key_Delete)
    assert "AwaitTray2" not in names(window) and "Drop2" not in names(window)
    q = window.document.project.sequence("Roast")
    assert next(t for _, t in q.leaving("Drop")).targets == ("CloseDoor",)


def test_shift_insert_makes_a_step_before_and_jumps_out_of_a_branch_say_what_is_not_whole(qtbot, window):
    view = sheet_of(window)
    view.setCurrentIndex(cell(view, "Charge", STEP))
    qtbot.keyClick(view, Key.Key_Insert, Mod.ShiftModifier)
    assert names(window)[names(window).index("Charge") - 1] == "Step45"
    before = window.document.project
    at = cell(view, "Purge", view.sheet.next)
    type_into(qtbot, view, at, "Charge")
    said = "leaves the simultaneous branches of Purge and SpinUp"
    assert said in window.message.text() and view.sheet.text(at.row(), at.column()) == "Charge", "it is taken, and told"
    window.document.check()
    assert any(said in view.sheet.problem_at(row, at.column()) for row in range(view.sheet.rowCount()))
    window.document.undo()
    assert window.document.project is before


def test_simultaneous_branches_are_typed_row_by_row(qtbot, window):
    """From two steps in a line to a section that begins and ends, and back."""
    steps = tuple(Step(n, 10 * i) for i, n in enumerate(("Wait", "Left", "LeftDone", "Right", "RightDone", "Away"), 1))
    names = [s.name for s in steps]
    ways = tuple(Transition((a,), (b,), f"{a}.T >= T#1s") for a, b in zip(names, [*names[1:], names[0]]))
    line = Project("Gates", 10, sequences=(Sequence("Both", "Wait", steps, ways),))
    window.document.replace(line, None)
    view = sheet_of(window, "Both")
    next_ = view.sheet.next

    def texts() -> list[str]:
        return [view.sheet.text(r, next_) for r in range(view.sheet.rowCount())]

    type_into(qtbot, view, cell(view, "Wait", next_), "Left + Right")
    assert "not whole" in window.message.text()
    assert view.columnWidth(FLOW) == flow_width(view.sheet.flow), "room for another lane"
    type_into(qtbot, view, cell(view, "LeftDone", next_), "waits with RightDone")
    assert texts() == ["Left + Right", "LeftDone", "waits with RightDone", "RightDone", "Away", "Wait"]
    assert window.message.text() == "The chart is whole again."
    assert (view.currentIndex().row(), view.currentIndex().column()) == (3, next_), "Return goes down"
    q = window.document.project.sequences[0]
    assert not sections(q).problem and [t.sources for _, t in q.leaving("RightDone")] == [("LeftDone", "RightDone")]
    type_into(qtbot, view, cell(view, "Right", next_), "with right")
    assert "cannot wait with itself" in window.message.text() and window.document.project.sequences[0] is q
    type_into(qtbot, view, cell(view, "Left", next_), "waits with Nobody")
    assert "has no step Nobody" in window.message.text()
    type_into(qtbot, view, cell(view, "LeftDone", next_), "Right")
    assert [t.sources for _, t in window.document.project.sequences[0].leaving("RightDone")] == [("RightDone",)]
    type_into(qtbot, view, cell(view, "RightDone", next_), "Away with LeftDone")
    assert window.document.project.sequences[0] == q, "the same, said in the other row"
    type_into(qtbot, view, cell(view, "LeftDone", next_), "30 + Right")
    assert "not whole" in window.message.text()
    type_into(qtbot, view, cell(view, "LeftDone", next_), "Right")
    type_into(qtbot, view, cell(view, "Wait", next_), "Left")
    assert sorted(t.sources + t.targets for t in window.document.project.sequences[0].transitions) == sorted(
        t.sources + t.targets for t in ways
    )


def test_renumbering_asks_for_a_spacing_without_stopping_the_window(qtbot, window):
    sheet_of(window)
    window.chart_commands.ask_spacing()
    dialog = QApplication.activeModalWidget()
    assert dialog is not None
    dialog.setIntValue(100)
    dialog.accept()
    assert [s.number for s in window.document.project.sequence("Roast").steps[:3]] == [100, 200, 300]


def test_find_goes_through_the_places_and_replace_takes_one_undo(qtbot, window):
    sheet_of(window)
    window.table.actions["edit.search"].trigger()
    bar = window.sequence.find_bar
    assert bar.isVisible()
    qtbot.keyClicks(bar.text, "BeanTemp")
    assert bar.count.text() == "3 found"
    qtbot.keyClick(bar.text, Key.Key_Return)
    assert bar.count.text() == "1 of 3" and window.selection.place.kind == "transition"
    qtbot.keyClick(bar.text, Key.Key_Return, Mod.ShiftModifier)
    assert bar.count.text() == "3 of 3"
    bar.new.setText("BeanTemp + 1.0")
    bar.replace_one()
    conditions = [t.condition for t in window.document.project.sequence("Roast").transitions]
    assert sum("BeanTemp + 1.0" in c for c in conditions) == 1
    window.document.undo()
    bar.text.setText("GateOpened")
    bar.whole.setChecked(True)
    bar.new.setText("GateClosed")
    count = len(bar.hits)
    bar.replace_everything()
    assert not bar.hits and count and window.document.history.undo_name == "Replace GateOpened by GateClosed"
    bar.text.setText("Charge")
    bar.text.setText("SpinUp")
    bar.replace_everything()
    assert "rename those where they stand" in window.message.text()
    qtbot.keyClick(bar.text, Key.Key_Escape)
    assert not bar.isVisible()


def test_measured_times_and_windows_of_outputs_are_shown_after_a_run(qtbot, window):
    view = sheet_of(window)
    assert view.isColumnHidden(view.sheet.measured)
    window.runner.run_for(500)
    window.runner.do("hand", "Start", 1)
    window.runner.run_for(300)
    window.runner.do("hand", "Start", 0)
    window.runner.run_for(25_000)
    assert not view.isColumnHidden(view.sheet.measured)
    header = view.horizontalHeader()
    assert header.sectionSize(view.sheet.measured) >= header.fontMetrics().horizontalAdvance("Lasted"), (
        "its heading has room"
    )
    trace = window.runner.session.trace
    a, b = trace.windows("Roast.Charge.X")[0]
    assert cell(view, "Charge", view.sheet.measured).data() == f"{(b - a) / 100:.2f} s"
    assert view.measured.on["Gate"] == tuple((x * 10, y * 10) for x, y in trace.windows("Gate"))
    assert drawn(window)


def test_least_mean_and_greatest_are_told_apart():
    assert lasted_text(Lasted(3, 1000, 1100.0, 1300)) == "1.00  1.10  1.30 s"
    assert lasted_text(Lasted(2, 1000, 1000.0, 1000)) == "1.00 s" and lasted_text(None) == ""


@pytest.mark.parametrize("typed", ["5 s", "after 5s", "T#5s"])
def test_a_time_alone_is_that_of_the_step(window, typed):
    sheet = sheet_of(window).sheet
    row = next(r for r in range(sheet.rowCount()) if sheet.index(r, 2).data() == "Rest")
    assert sheet.setData(sheet.index(row, sheet.awaits), typed)
    (way,) = (t for _, t in window.document.project.sequence("Roast").leaving("Rest"))
    assert way.condition == "Rest.T >= T#5s"


def test_a_purely_timed_sequence_shows_the_cycle_clock_and_ends_are_typed(qtbot, window):
    window.document.replace(timed(1000, 2000, 500), None)
    view = sheet_of(window, "Dip")
    sheet = view.sheet
    assert not view.isColumnHidden(sheet.clock)
    assert [sheet.text(r, sheet.clock) for r in range(3)] == ["1s", "3s", "3s500ms"]
    type_into(qtbot, view, cell(view, "P0", sheet.clock), "1.5s")
    conditions = [t.condition for t in window.document.project.sequence("Dip").transitions]
    assert conditions[:2] == ["P0.T >= T#1s500ms", "P1.T >= T#1s500ms"]
    type_into(qtbot, view, cell(view, "P1", sheet.clock), "9s")
    assert "P1 has to end after 1s500ms and before 3s500ms" in window.message.text()
    type_into(qtbot, view, cell(view, "P1", sheet.awaits), "Y0")
    assert view.sheet.ends is None and view.isColumnHidden(view.sheet.clock), "it is no longer timed alone"


def test_comments_have_a_column_when_they_are_wanted(qtbot, window):
    view = sheet_of(window)
    assert view.isColumnHidden(view.sheet.comment)
    window.table.actions["seq.comments"].trigger()
    assert not view.isColumnHidden(view.sheet.comment)
    type_into(qtbot, view, cell(view, "Charge", view.sheet.comment), "gate stays open for three seconds")
    assert window.document.project.sequence("Roast").step("Charge").comment == "gate stays open for three seconds"


def test_steps_that_are_cut_and_pasted_keep_their_names(qtbot, window):
    view = sheet_of(window)
    select(view, cell(view, "CoolDown", STEP))
    window.table.actions["seq.cut"].trigger()
    assert "CoolDown" not in names(window)
    window.selection.set(Place("step", "Roast", "Charge"))
    window.table.actions["seq.paste"].trigger()
    q = window.document.project.sequence("Roast")
    assert next(t for _, t in q.leaving("Charge")).targets == ("CoolDown",)
    assert next(t for _, t in q.leaving("CoolDown")).condition == "CoolDown.T >= T#6s AND DrumRuns AND AirRuns"


def test_a_new_way_out_is_selected_and_typed_into_at_once(qtbot, window):
    view = sheet_of(window)
    view.setFocus()
    view.setCurrentIndex(cell(view, "Preheat", view.sheet.awaits))
    before = len(window.document.project.sequence("Roast").transitions)
    window.table.actions["seq.way"].trigger()
    now = view.currentIndex()
    q = window.document.project.sequence("Roast")
    assert now.column() == view.sheet.awaits and len(q.transitions) == before + 1
    way = view.sheet.row(now.row()).transition
    assert q.transitions[way].sources == ("Preheat",) and q.transitions[way].condition == "FALSE"
    type_into(qtbot, view, now, "ResetButton")
    assert window.document.project.sequence("Roast").transitions[way].condition == "ResetButton"


def test_the_tab_of_a_sequence_leads_to_its_name_and_has_what_else_can_be_done(qtbot, window):
    tabs = {b.text(): b for b in window.sequence.group.buttons()}
    qtbot.mouseDClick(tabs["Cool"], Qt.MouseButton.LeftButton)
    assert window.selection.place == Place("sequence", item="Cool") and window.details.isVisible()
    tabs["Cool"].new_asked.emit()
    assert window.sequence.current == window.document.project.sequences[-1].name not in ("Roast", "Cool")
    next(b for b in window.sequence.group.buttons() if b.text() == window.sequence.current).delete_asked.emit()
    assert [q.name for q in window.document.project.sequences] == ["Roast", "Cool"]
    asked = window.document.project
    next(b for b in window.sequence.group.buttons() if b.text() == "Cool").delete_asked.emit()
    assert window.document.project == delete_sequence(asked, "Cool"), "trips, alarms and units name it no more"


def test_conditions_take_the_room_that_the_sheet_has_left(qtbot, window):
    view = sheet_of(window)
    narrow = view.columnWidth(view.sheet.awaits)
    window.resize(2200, 900)
    QApplication.processEvents()
    assert view.columnWidth(view.sheet.awaits) > narrow
    view.setColumnWidth(view.sheet.awaits, 190)
    window.resize(1900, 900)
    QApplication.processEvents()
    assert view.columnWidth(view.sheet.awaits) == 190, "what somebody has drawn stays"
