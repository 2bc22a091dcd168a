"""The code face: what is typed, completed, found and read back, and what is no code."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from spokeshave.formats import spoke
from spokeshave.model import flow_edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project
from tests.looks import drawn

Key = Qt.Key
Mod = Qt.KeyboardModifier


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
