"""The sheet typed like a spreadsheet and the code face: what is typed, pasted, found, measured, read back."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import QItemSelection, QItemSelectionModel, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.sequence.flow_painter import flow_width
from spokeshave.desktop.sequence.sheet import FIRST_MARK, FLOW, STEP, lasted_text
from spokeshave.formats import spoke
from spokeshave.model import flow_edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Sequence, Step, Transition
from spokeshave.model.sections import sections
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


# -- the sheet


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


# -- the code


def code_of(window, name="Roast"):
    window.show_stage(2)
    window.sequence.show_sequence(name)
    window.sequence.show_face("code")
    QApplication.processEvents()
    return window.sequence.codes[name]


def edit_text(code, old, new):
    text = code.text.toPlainText()
    assert old in text
    code.text.setPlainText(text.replace(old, new, 1))


def test_a_condition_changed_in_the_code_is_listed_first_and_then_taken_over(qtbot, window):
    code = code_of(window)
    assert not code.apply_button.isEnabled() and not code.typed
    before = window.document.project
    edit_text(code, "BeanTemp >= ChargeTemp", "BeanTemp >= ChargeTemp + 5.0")
    assert code.apply_button.isEnabled()
    code.apply()
    assert window.document.project is before, "the differences are listed first"
    item = code.list.topLevelItem(0)
    assert [item.text(i) for i in range(3)] == [
        "Roast, transition 40 to 50", "BeanTemp >= ChargeTemp", "BeanTemp >= ChargeTemp + 5.0",
    ]  # fmt: skip
    code.list.itemActivated.emit(item, 0)
    assert window.selection.place.item == "40 to 50"
    code.apply()
    q = window.document.project.sequence("Roast")
    assert next(t for _, t in q.leaving("Preheat")).condition == "BeanTemp >= ChargeTemp + 5.0"
    assert window.document.history.undo_name == "Apply 1 change of the code" and not code.typed
    window.document.undo()
    assert window.document.project is before and "ChargeTemp + 5.0" not in code.text.toPlainText()


def test_a_text_that_does_not_parse_changes_nothing_and_says_where(qtbot, window):
    code = code_of(window)
    before = window.document.project
    edit_text(code, "CASE Roast OF", "CASE Rost OF")
    assert not code.look()
    assert code.text.faults and code.note.text().startswith(f"line {code.text.faults[0].line}, column")
    code.apply()
    assert window.document.project is before and code.text.line == code.text.faults[0].line
    assert code.typed, "what was typed is still there"
    window.document.edit("elsewhere", lambda p: flow_edits.insert_step(p, "Cool", "Stir"))
    assert "Rost OF" in code.text.toPlainText(), "an edit elsewhere throws nothing away"
    code.restore_button.click()
    assert not code.typed and not code.text.faults


def test_a_state_is_added_between_two_others_in_the_text(qtbot, window):
    """The tray waits a moment before it is emptied: state 35 stands between 30 and 40, and its output is mapped below."""
    window.document.edit("alone", lambda p: replace(p, sequences=(p.sequence("Cool"),), trips=(), alarms=(), scenarios=(), home="",
                         opening="", closing="", interlocks=(), opposed=(), requirements=()))  # fmt: skip
    edit = {"Roast.Drop.X AND ": "", "DoorShut AND ": ""}
    window.document.edit("free", lambda p: replace(p, sequences=(with_conditions(p.sequences[0], edit),)))
    code = code_of(window, "Cool")
    text = code.text.toPlainText()
    assert "CASE Cool OF" in text and text.count("FirstScan") == 2
    edit_text(code, "StirrerRuns THEN Cool := 40;", "StirrerRuns THEN Cool := 35;")
    edit_text(
        code,
        "40: (* Empty *)",
        "35: (* Settle *)\n        IF CoolT >= T#1s THEN Cool := 40; END_IF;\n      40: (* Empty *)",
    )
    edit_text(
        code,
        "TrayFan := Cool_Run AND" if "Cool_Run" in text else "TrayFan := Cool = 20",
        "TrayFan := Cool = 35 OR Cool = 20",
    )
    code.apply()
    rows = [[code.list.topLevelItem(i).text(k) for k in (1, 2)] for i in range(code.list.topLevelItemCount())]
    assert ["", "step 35 Settle is new"] in rows and any("30 leads to 35" in new for _, new in rows)
    code.apply()
    q = window.document.project.sequence("Cool")
    assert [s.name for s in q.steps] == ["Ready", "Receive", "Stir", "Settle", "Empty", "CloseFlap"]
    assert [t.condition for _, t in q.leaving("Settle")] == ["Settle.T >= T#1s"] and q.step("Settle").action_on(
        "TrayFan"
    )
    assert q.step("Ready").comment == "the tray is empty", "what the text does not speak of stays"
    window.document.undo()
    assert window.document.project.sequence("Cool").step("Settle") is None


def with_conditions(q, words):
    def put(text):
        for old, new in words.items():
            text = text.replace(old, new)
        return text

    return replace(q, transitions=tuple(replace(t, condition=put(t.condition)) for t in q.transitions))


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("IF BeanTemp >= ChargeTemp", "IF Drum THEN Gate_Asked := FALSE; END_IF; IF BeanTemp >= ChargeTemp", "this stands behind the ways out"),
        ("BeanTemp >= ChargeTemp", "BeanTemp >= ChargeTmp", "there is no ChargeTmp; did you mean ChargeTemp"),
        ("BeanTemp >= ChargeTemp", "BeanTemp", "this is REAL"),
    ],
)  # fmt: skip
def test_what_is_no_condition_of_the_model_is_a_fault_at_its_line_and_no_change(window, old, new, said):
    code = code_of(window)
    before = window.document.project
    edit_text(code, old, new)
    line = next(n for n, row in enumerate(code.text.toPlainText().splitlines(), 1) if new in row)
    assert not code.look() and code.text.faults[0].line == line
    assert said in code.note.text()
    code.apply()
    assert window.document.project is before and not code.list.isVisible()


def test_a_state_is_put_into_a_chart_of_several_threads_in_its_code_and_is_one_undo(window):
    code = code_of(window)
    before = window.document.project
    edit_text(code, *("IF AirRunsHeld.Q THEN Roast2 := 35; END_IF;",
                      "IF AirRunsHeld.Q THEN Roast2 := 33; END_IF;\n33: (* Calm *) IF Roast2T >= T#1s THEN Roast2 := 35; END_IF;"))  # fmt: skip
    assert code.look(), code.note.text()
    code.apply()
    code.apply()
    assert window.document.project.sequence("Roast").step("Calm").number == 33
    assert window.document.project.sequence("Roast").step("Purged") == before.sequence("Roast").step("Purged")
    window.document.undo()
    assert window.document.project is before


def test_branches_side_by_side_are_typed_into_the_code_without_declarations(window):
    code = code_of(window)
    before = window.document.project
    light = "IF BeanTemp >= LightTemp THEN Roast := 100; END_IF;"
    edit_text(code, light, light.replace("100;", "100; Roast3 := 140;"))
    assert not code.look() and "Roast3 has no states; write CASE Roast3Was OF" in code.note.text()
    code.text.setPlainText(code.text.toPlainText().replace("100; Roast3 := 140;", "20; Roast2 := 30;"))
    assert code.look(), code.note.text()
    code.apply()
    assert code.list.topLevelItem(0).text(2).startswith("70 leads to 20 + 30 if BeanTemp")
    code.apply()
    ways = window.document.project.sequence("Roast").transitions
    assert [t.targets for t in ways if t.sources == ("RoastLight",)] == [("SpinUp", "Purge")]
    code.text.setFocus()
    QTest.keyClick(code.text, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.document.project is before, "what was applied is taken back where it was applied"
    QTest.keyClick(code.text, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert window.document.project.sequence("Roast").transitions == ways
    QTest.keyClicks(code.text, "x")
    QTest.keyClick(code.text, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert window.document.project.sequence("Roast").transitions == ways and not code.typed


def test_the_code_face_of_a_file_that_cannot_run_says_why(window):
    broken = "BeanTemp >= AND"
    window.document.edit("break it", lambda p: change_way(p, broken))
    code = code_of(window)
    assert "There is no code while the machine file cannot run: Roast, transition 40 to 50" in code.note.text()
    assert not code.text.toPlainText() and code.text.isReadOnly()
    window.document.undo()
    QApplication.processEvents()
    assert "CASE Roast OF" in code.text.toPlainText()


def change_way(project, condition):
    q = project.sequence("Roast")
    index = next(i for i, _ in q.leaving("Preheat"))
    return flow_edits.change_transition(project, "Roast", index, condition=condition)


def test_a_body_is_edited_with_its_faults_told_while_typing(qtbot, window):
    code = code_of(window)
    code.choice.setCurrentText("Body CountBatch")
    assert code.text.toPlainText() == window.document.project.sequence("Roast").bodies[1].text
    code.text.setPlainText("Batches := Batchs + 1;")
    assert not code.look() and "did you mean Batches" in code.note.text()
    code.text.setPlainText("Batches := Batches + 2;")
    code.apply()
    code.apply()
    assert window.document.project.sequence("Roast").bodies[1].text == "Batches := Batches + 2;"


def test_the_selected_step_and_the_lines_of_the_code_are_one_place(qtbot, window):
    code = code_of(window)
    window.selection.set(Place("step", "Roast", "Drop"))
    assert "(* Drop: " in code.text.toPlainText().splitlines()[code.text.line - 1]
    code.text.setFocus()
    code.text.go_to(code.lines_of()["AwaitTray"] + 1)
    assert window.selection.place.step == "AwaitTray"
    window.runner.run_for(1000)
    assert code.text.marked == {code.lines_of()["Idle"]: "active"}
    window.sequence.show_face("sheet")
    assert window.sequence.sheet.current_step() == "AwaitTray"


def test_a_chart_that_cannot_be_a_case_says_why_and_flags_can(qtbot, window):
    from tests.core.test_chart_edits import chart

    odd = chart("A > B + C", "B + C > A", "B > D", "D > B")
    window.document.replace(replace(odd, sequences=(replace(odd.sequences[0], name="Odd"),)), None)
    code = code_of(window, "Odd")
    assert "waits together with other steps and has another way out" in code.note.text() and code.text.isReadOnly()
    code.choice.setCurrentText("Phase by phase, a flag for each step")
    assert "Odd_A_X" in code.text.toPlainText() and not code.text.isReadOnly()


def test_the_editor_completes_indents_and_matches_brackets(qtbot, window):
    code = code_of(window)
    code.choice.setCurrentText("Body CountBatch")
    editor = code.text
    editor.setPlainText("")
    qtbot.keyClicks(editor, "  IF (Batc")
    assert editor.words.popup().isVisible()
    qtbot.keyClick(editor, Key.Key_Return)
    assert "Batches" in editor.toPlainText() or "BatchGoal" in editor.toPlainText()
    qtbot.keyClicks(editor, " > 1)")
    editor.words.popup().hide()
    assert len(editor._brackets()) == 2
    qtbot.keyClick(editor, Key.Key_Return)
    assert editor.textCursor().block().text() == "  ", "the next line begins where this one did"
    qtbot.keyClick(editor, Key.Key_Tab)
    assert editor.textCursor().block().text() == "    "
    editor.setPlainText("")
    for line in ("IF Home THEN", "CASE Batches OF", "1: Batches := 2;", "END_CASE;", "ELSIF FlapClosed THEN", "FOR I := 1 TO 2 DO",
                 "END_FOR;", "IF Home THEN Batches := 0; END_IF;", "END_IF;", "Batches := 1;"):  # fmt: skip
        qtbot.keyClicks(editor, line)
        editor.words.popup().hide()
        qtbot.keyClick(editor, Key.Key_Return)
    assert [len(x) - len(x.lstrip()) for x in editor.toPlainText().split("\n")] == [0, 2, 4, 2, 0, 2, 2, 2, 0, 0, 0]
    editor.undo()
    assert not editor.toPlainText().endswith("\n")
    window.toggle_dark()
    assert drawn(window)
    window.toggle_dark()


@pytest.mark.parametrize("which", ["opening", "closing"])
def test_opening_and_closing_logic_are_typed_and_taken_when_one_leaves(qtbot, window, which):
    window.show_stage(1)
    window.signals.show_part(2 if which == "opening" else 3)
    panel = getattr(window.signals, which)
    panel.text.setPlainText(panel.own + "\nDoorShutt := TRUE;")
    panel.look()
    assert "did you mean DoorShut" in panel.note.text()
    before = panel.own
    panel.text.setPlainText(f"{before}\n(* note *)")
    panel.apply()
    assert getattr(window.document.project, which).endswith("(* note *)")
    window.document.undo()
    assert panel.text.toPlainText() == before
    assert spoke.loads(spoke.dumps(window.document.project)) == window.document.project


def test_an_empty_file_has_all_faces(qtbot, window):
    window.document.replace(Project("Bare"), None)
    window.new_sequence()
    for face in ("chart", "code", "sheet"):
        window.show_face(face)
        assert drawn(window)
    assert window.sequence.view is window.sequence.sheets["Sequence"]


def test_find_looks_through_the_text_of_the_code(qtbot, window):
    code = code_of(window)
    bar = window.sequence.find_bar
    window.table.actions["edit.search"].trigger()
    bar.text.setText("roast2 :=")
    count = code.text.toPlainText().lower().count("roast2 :=")
    assert bar.count.text() == f"{count} found" and not any(b.isEnabled() for b in bar.replaces)
    bar.go(1)
    assert code.text.textCursor().selectedText() == "Roast2 :=" and bar.count.text() == f"1 of {count}"
    bar.go(-1)
    assert bar.count.text() == f"{count} of {count}"
    window.show_face("sheet")
    assert bar.count.text() == "nothing found" and all(b.isEnabled() for b in bar.replaces)


def test_findings_stand_beside_the_lines_of_their_steps(qtbot, window):
    code = code_of(window)
    assert code.text.notes == {}
    window.document.edit("x", lambda p: flow_edits.change_transition(p, "Roast", 3, condition="TRUE"))
    window.document.check()
    assert list(code.text.notes) == [code.lines_of()["Preheat"]]
    assert "never changes" in code.text.notes[code.lines_of()["Preheat"]]


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
