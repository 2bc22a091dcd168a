"""The signals stage: typed like a spreadsheet, tables taken in, positions by a form, units with copies, kept edits."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

import pytest
from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QLineEdit

from spokeshave.desktop.document import Document
from spokeshave.desktop.kept_edits import KEEP_AFTER_MS
from spokeshave.desktop.sequence.sheet import STEP
from spokeshave.desktop.signals.columns import ADDRESS, CLASS, COMMENT, HOME, NAME, STATE
from spokeshave.desktop.window import MainWindow
from spokeshave.formats.files import read_project
from spokeshave.formats.recovery import Recovery
from spokeshave.formats.signal_table import read_rows
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import new_sequence
from spokeshave.model.positions import positions
from spokeshave.model.project import Project, Signal, SignalClass
from tests.desktop.test_sheet import select

Key = Qt.Key
Mod = Qt.KeyboardModifier


@pytest.fixture
def stage(window):
    window.show_stage(1)
    QApplication.processEvents()
    return window.signals.list


def row_of(stage, name):
    return next(i for i, s in enumerate(stage.table.rows) if s.name == name)


def at(stage, name, column):
    return stage.table.index(row_of(stage, name), column)


def shown(stage):
    header = stage.view.verticalHeader()
    rows = [header.logicalIndex(v) for v in range(len(stage.table.rows))]
    return [stage.table.rows[r].name for r in rows if not stage.view.isRowHidden(r)]


def test_addresses_are_filled_down_and_comments_pasted(qtbot, window, stage):
    names = ("StartButton", "ResetButton", "EmergencyOk")
    stage.table.edit_cells({(row_of(stage, "StartButton"), ADDRESS): "%IX7.6"})
    select(stage.view, *(at(stage, n, ADDRESS) for n in names))
    qtbot.keyClick(stage.view, Key.Key_D, Mod.ControlModifier)
    assert [window.document.project.signal(n).address for n in names] == ["%IX7.6", "%IX7.7", "%IX8.0"]
    QApplication.clipboard().setText("one\ttwo\nthree\tfour\n")
    select(stage.view, at(stage, "StartButton", COMMENT))
    qtbot.keyClick(stage.view, Key.Key_V, Mod.ControlModifier)
    assert [window.document.project.signal(n).comment for n in names[:2]] == ["one", "three"]
    select(stage.view, *(at(stage, n, COMMENT) for n in names[:2]))
    qtbot.keyClick(stage.view, Key.Key_C, Mod.ControlModifier)
    assert QApplication.clipboard().text() == "one\nthree\n"
    qtbot.keyClick(stage.view, Key.Key_Delete)
    assert [window.document.project.signal(n).comment for n in names[:2]] == ["", ""]
    select(stage.view, at(stage, "StartButton", NAME))
    qtbot.keyClick(stage.view, Key.Key_Delete)
    assert window.document.project.signal("StartButton") is not None, "a name is not emptied"
    select(stage.view, at(stage, "StartButton", COMMENT), at(stage, "Gate", COMMENT))
    QApplication.clipboard().setText("both")
    stage.view.paste()
    assert window.document.project.signal("Gate").comment == "both"
    qtbot.keyClick(stage.view, Key.Key_Return)


def test_rows_pasted_below_the_last_one_become_signals(qtbot, window, stage):
    last = stage.table.rows[-1].name
    QApplication.clipboard().setText(
        f"{last}\tsetting\nExtra1\tinput\tBOOL\t%IX9.0\nExtra2\toutput\tBOOL\n9bad\tinput\n"
    )
    select(stage.view, at(stage, last, NAME))
    stage.view.paste()
    assert window.document.project.signal("Extra1") is None, "all rows are taken, or none"
    assert "Nothing was pasted. row 4: '9bad' is not a name" in window.message.text()
    QApplication.clipboard().setText(QApplication.clipboard().text().replace("9bad", "Good"))
    stage.view.paste()
    made = window.document.project.signal("Extra1")
    assert (made.cls.value, made.address) == ("input", "%IX9.0") and window.document.project.signal("Extra2")
    window.document.undo()
    assert window.document.project.signal("Extra1") is None, "one edit"


def test_a_wrong_cell_is_told_with_its_row_and_column_and_nothing_changes(window, stage):
    before = window.document.project
    select(stage.view, at(stage, "Gate", NAME))
    row = stage.view.cells()[0][0]
    QApplication.clipboard().setText("Gate\toutput\tBOOL\nDropDoor\toutputt\tBOOL\nBurner\toutput\tBIT\n")
    stage.view.paste()
    assert window.document.project is before
    assert f"row {row + 2}, Class" in window.message.text() and f"row {row + 3}, Type" in window.message.text()


def test_a_table_with_headings_goes_into_an_empty_list(qtbot):
    window = MainWindow(Document(new_sequence(Project())))
    window.asks_before_closing = False
    window.show()
    qtbot.waitExposed(window)
    window.show_stage(1)
    QApplication.clipboard().setText("Address\tSymbol\tDirection\n%IX0.0\tGo\tDI\n%QX0.0\tRun\tDO\n")
    window.signals.list.view.paste()
    assert [(s.name, s.cls.value, s.address) for s in window.document.project.signals] == [
        ("Go", "input", "%IX0.0"), ("Run", "output", "%QX0.0")]  # fmt: skip
    window.document.undo()
    QApplication.clipboard().setText("Go\tinput\nRun\toutput\n")
    window.signals.list.view.paste()
    assert [s.name for s in window.document.project.signals] == ["Go", "Run"]
    window.close()
    gone(window)


TABLE = (
    "No.\tStep\tRun\tDown\tAwaits\tLongest\tNext\n10\tRest\t\t\tGo\t\tLower\n20\tLower\tX\tL 2s\tAtWax\t5s\tRaise\n"
    "30\tRaise\tX\t\tNOT AtWax\t\tRest\n"
)


def test_a_whole_table_over_the_starter_steps_replaces_them_and_every_column_stays_in_sight(qtbot):
    signals = tuple(Signal(n, SignalClass.INPUT) for n in ("Go", "AtWax"))
    window = MainWindow(Document(replace(new_sequence(Project()), signals=signals)))
    window.asks_before_closing = False
    window.show()
    qtbot.waitExposed(window)
    view = window.sequence.sheet
    view.setCurrentIndex(view.sheet.index(0, STEP))
    QApplication.clipboard().setText(TABLE)
    view.paste()
    (q,) = window.document.project.sequences
    assert [(s.number, s.name) for s in q.steps] == [(10, "Rest"), (20, "Lower"), (30, "Raise")] and q.initial == "Rest"
    assert [(t.sources, t.targets, t.condition) for t in q.transitions] == [
        (("Rest",), ("Lower",), "Go"), (("Lower",), ("Raise",), "AtWax"), (("Raise",), ("Rest",), "NOT AtWax")]  # fmt: skip
    sheet = view.sheet
    assert not [c for c in (sheet.awaits, sheet.window, sheet.next, *range(3, sheet.awaits)) if view.isColumnHidden(c)]
    window.close()
    gone(window)


def test_clicks_on_marks_select_then_toggle_and_columns_keep_their_places(qtbot, window):
    window.show_stage(2)
    window.sequence.show_sequence("Roast")
    window.show_face("sheet")
    view = window.sequence.sheet
    sheet, heads = view.sheet, [view.sheet.targets]

    def click(step: str, target: str) -> None:
        row = next(i for i in range(sheet.rowCount()) if sheet.step_at(i).name == step and sheet.row(i).first)
        index = sheet.index(row, 3 + sheet.targets.index(target))
        view.scrollTo(index)
        qtbot.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=view.visualRect(index).center())
        assert (view.currentIndex().row(), view.currentIndex().column()) == (row, index.column())

    def marked(step: str, target: str) -> bool:
        return window.document.project.sequence("Roast").step(step).action_on(target) is not None

    view.setCurrentIndex(sheet.index(0, STEP))
    click("Charge", "Burner")
    assert not marked("Charge", "Burner"), "the first click selects"
    qtbot.keyClick(view, Key.Key_Space)
    assert marked("Charge", "Burner")
    click("Charge", "Burner")
    assert not marked("Charge", "Burner"), "a second click toggles"
    click("Drop", "Burner")
    qtbot.keyClick(view, Key.Key_Space)
    assert marked("Drop", "Burner") and window.document.project.sequence("Roast").step("X") is None
    assert sheet.targets == heads[0]


def test_a_clash_is_told_while_the_address_is_typed_and_marked_after(qtbot, window, stage):
    index = at(stage, "Gate", ADDRESS)
    stage.view.setCurrentIndex(index)
    stage.view.edit(index)
    line = stage.view.viewport().findChildren(QLineEdit)[-1]
    line.selectAll()
    qtbot.keyClicks(line, "%QX0.1")
    assert stage.note.text() == "%QX0.1 is the address of Drum (%QX0.1)" and stage.note.text() == line.toolTip()
    assert line.completer().model().rowCount() == 1, "the next free address is offered"
    qtbot.keyClick(line, Key.Key_Return)
    QApplication.processEvents()
    window.document.check()
    marked = {(stage.table.rows[r].name, c) for r, c in stage.table.marks}
    assert {("Gate", ADDRESS), ("Drum", ADDRESS)} <= marked
    stage.cls.setCurrentText("with a fault")
    assert set(shown(stage)) >= {"Gate", "Drum"} and "Air" not in shown(stage)


def test_a_name_that_is_taken_is_told_while_it_is_typed(qtbot, window, stage):
    index = at(stage, "Gate", NAME)
    stage.view.setCurrentIndex(index)
    stage.view.edit(index)
    line = stage.view.viewport().findChildren(QLineEdit)[-1]
    line.setText("Drum")
    assert stage.note.text() == "Drum is already the name of something else"
    line.setText("Gate")
    assert stage.note.text() == ""
    qtbot.keyClick(line, Key.Key_Escape)


def test_the_list_is_filtered_grouped_and_sorted_and_the_order_can_be_kept(qtbot, window, stage):
    stage.filter.setText("ChargeGate")
    assert shown(stage) == ["GateOpened", "GateClosed", "Gate"]
    stage.filter.setText("")
    stage.by.setCurrentText("by device")
    names = shown(stage)
    assert abs(names.index("Gate") - names.index("GateClosed")) <= 2 and stage.table.shaded
    stage.by.setCurrentText("as listed")
    before = [s.name for s in window.document.project.signals]
    assert shown(stage) == before
    stage.view.horizontalHeader().sectionClicked.emit(NAME)
    assert shown(stage) == sorted(before, key=str.lower)
    assert [s.name for s in window.document.project.signals] == before, "sorting shows, it does not change"
    stage.keep_order()
    assert [s.name for s in window.document.project.signals] == sorted(before, key=str.lower)
    window.document.undo()
    stage.view.horizontalHeader().sectionClicked.emit(CLASS)
    stage.view.horizontalHeader().sectionClicked.emit(CLASS)
    assert shown(stage) == before


def test_unused_and_unwired_signals_are_shown(qtbot, window, stage):
    window.document.edit("x", lambda p: edits.new_signal(p, p.signals[0].cls))
    new = window.document.project.signals[-1].name
    assert at(stage, new, STATE).data() == "unused"
    stage.cls.setCurrentText("unused")
    assert new in shown(stage) and "Gate" not in shown(stage)
    stage.cls.setCurrentText("not wired")
    assert new in shown(stage)
    stage.view.select_row(row_of(stage, new))
    assert stage.used.topLevelItem(0).text(0) == "nowhere"


def test_where_a_signal_is_used_leads_there(qtbot, window, stage):
    stage.view.select_row(row_of(stage, "GateClosed"))
    found = {
        (stage.used.topLevelItem(i).text(0), stage.used.topLevelItem(i).text(1))
        for i in range(stage.used.topLevelItemCount())
    }
    assert ("given by", "device ChargeGate") in found and ("read", "Roast, transition 60 to 70") in found
    item = next(stage.used.topLevelItem(i) for i in range(4) if "60 to 70" in stage.used.topLevelItem(i).text(1))
    stage.used.itemClicked.emit(item, 0)
    assert window.stage == 2 and window.selection.place.item == "60 to 70"


def test_a_foreign_table_is_shown_before_it_is_taken_in(qtbot, window, stage, tmp_path, monkeypatch):
    path = tmp_path / "theirs.csv"
    path.write_text("Tag;Addr;Remark;Colour\nHopper;%IX9.1;level;red\nGate;%QX0.0;charge gate, pneumatic;blue\n?;;;\n")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(path), ""))
    before = window.document.project
    stage.ask_import()
    panel = stage.panel
    assert panel.isVisible() and window.document.project is before
    assert [b.currentText() for b in panel.boxes] == ["name", "address", "comment", "left out"]
    assert "3 rows: 1 new, 1 changed, 1 with a fault; left out: Colour" in panel.says.text()
    panel.boxes[3].setCurrentText("comment")
    panel.look()
    assert "comment is chosen twice" in panel.wrong.text() and not panel.take.isEnabled()
    panel.boxes[3].setCurrentText("left out")
    panel.apply()
    assert window.document.project.signal("Hopper").address == "%IX9.1"
    assert window.document.project.signal("Gate").comment == "charge gate, pneumatic"
    assert window.document.history.undo_name == "Import signals" and not panel.isVisible()
    path.write_text("")
    stage.ask_import()
    assert "has no rows" in window.message.text()
    stage.open_table(tmp_path / "missing.xlsx")
    assert "missing.xlsx" in window.message.text()
    out = tmp_path / "ours.xlsx"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(out), ""))
    stage.ask_export()
    assert [r[0] for r in read_rows(out)][1:] == [s.name for s in window.document.project.signals]


def test_free_addresses_are_given_to_the_selected_that_have_none(qtbot, window, stage):
    new = ["Lid", "Latch"]
    for name in new:
        stage.table.setData(stage.table.index(len(stage.table.rows), NAME), name)
        stage.table.setData(at(stage, name, CLASS), "input")
    select(stage.view, *(at(stage, n, HOME) for n in new))
    stage.give_addresses()
    given = {window.document.project.signal(n).address for n in new}
    assert len(given) == 2 and all(a.startswith("%IX") for a in given)
    select(stage.view, *(at(stage, n, HOME) for n in new))
    stage.give_addresses()
    assert "all selected signals have an address" in window.message.text()
    select(stage.view, *(at(stage, n, HOME) for n in new))
    stage.remove()
    assert not any(window.document.project.signal(n) for n in new)


def test_positions_are_made_changed_and_deleted_by_the_form(qtbot, window):
    window.show_stage(1)
    window.signals.show_part(1)
    panel = window.signals.positions
    assert panel.empty.isVisible()
    qtbot.keyClicks(panel.name, "GateShut")
    panel.switch.setText("GateClosed")
    panel.opposite.setText("GateOpened")
    panel.command.setText("Gate")
    panel.settle.setText("200ms")
    assert (
        panel.says.text() == "GateShut is confirmed while GateClosed is on, GateOpened is off and Gate is off for 200ms"
    )
    panel.apply()
    assert panel.list.count() == 1 and panel.put.text() == "Change" and not panel.empty.isVisible()
    assert "GateShut_Settled(IN := GateClosed AND NOT GateOpened AND NOT Gate" in window.document.project.opening
    panel.switch.setText("")
    panel.apply()
    assert positions(window.document.project)[0].sentence.startswith("GateShut is inferred while GateOpened is off")
    panel.switch.setText("Burner")
    panel.apply()
    assert "Burner is no input" in window.message.text()
    panel.remove()
    assert positions(window.document.project) == [] and panel.list.count() == 0
    window.document.undo()
    assert panel.list.count() == 1


def test_a_unit_is_made_copied_and_follows_its_template(qtbot, window):
    window.show_stage(1)
    window.signals.show_part(7)
    panel = window.signals.units
    sequences = panel.parts.topLevelItem(0)
    cool = next(sequences.child(i) for i in range(sequences.childCount()) if sequences.child(i).text(0) == "Cool")
    cool.setCheckState(0, Qt.CheckState.Checked)
    assert "Stirrer" in panel.chosen()["signals"] and "TrayFlap" in panel.chosen()["devices"]
    panel.name.setText("Tray")
    panel.make_unit()
    panel.copy()
    assert "type the prefix" in window.message.text()
    panel.prefix.setText("B_")
    panel.copy()
    top = panel.tree.topLevelItem(0)
    assert top.child(0).text(1) == "as the template" and window.document.project.sequence("B_Cool")
    window.document.edit("x", lambda p: edits.change_step(p, "Cool", "Stir", longest="T#9s"))
    copy = panel.tree.topLevelItem(0).child(0)
    assert copy.text(1) == "1 deviation from the template" and copy.child(0).text(0) == "step Stir of B_Cool is another"
    panel.tree.setCurrentItem(copy)
    panel.take()
    assert window.document.project.sequence("B_Cool").step("Stir").longest == "T#9s"
    panel.dissolve()
    assert window.document.project.units == () and window.document.project.sequence("B_Cool")


def test_finding_the_opening_logic_opens_its_editor(qtbot, window):
    window.document.edit("x", lambda p: edits.put_items(p, "opening", p.opening + "\nDoorShutt := TRUE;"))
    window.document.check()
    place = next(d.place for d in window.document.findings if d.place.kind == "opening")
    window.selection.go(place)
    assert window.stage == 1 and window.signals.part == 2
    assert window.signals.opening.text.line == place.line
    window.selection.go(Place("signal", item="Gate"))
    assert window.signals.part == 0


# -- kept edits


def with_recovery(qtbot, project, folder):
    window = MainWindow(Document(project), Recovery(folder))
    window.asks_before_closing = False
    window.show()
    qtbot.waitExposed(window)
    return window


def gone(window):
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


def test_edits_are_kept_soon_and_forgotten_when_saved_or_closed(qtbot, roastery, tmp_path):
    window = with_recovery(qtbot, roastery, tmp_path)
    window.document.edit("x", lambda p: edits.change_step(p, "Roast", "Drop", comment="kept"))
    qtbot.waitUntil(lambda: len(list(tmp_path.glob("*.kept"))) == 1, timeout=10 * KEEP_AFTER_MS)
    window.document.save(tmp_path / "saved.spoke")
    assert not list(tmp_path.glob("*.kept"))
    window.document.edit("x", lambda p: edits.change_step(p, "Roast", "Drop", comment="again"))
    window.keeper.keep()
    assert list(tmp_path.glob("*.kept"))
    window.close()
    assert not list(tmp_path.glob("*.kept")), "closed on purpose"
    gone(window)


def left_by_another(folder: Path, *args: object) -> None:
    """Edits kept by a program that then died."""
    child = os.fork()
    if not child:
        Recovery(folder).keep(*args)
        os._exit(0)
    os.waitpid(child, 0)


def test_left_over_edits_are_offered_and_recovered_or_discarded(qtbot, roastery, tmp_path):
    for text in ("first", "second"):
        left_by_another(
            tmp_path, edits.change_step(roastery, "Roast", "Drop", comment=text), tmp_path / "roastery.spoke"
        )
    window = with_recovery(qtbot, roastery, tmp_path)
    bar = window.recovery_bar
    assert bar.isVisible() and "Edits of Roastery (roastery.spoke)" in bar.says.text() and "1 more" in bar.says.text()
    bar.recover.click()
    assert window.document.project.sequence("Roast").step("Drop").comment == "second" and window.document.dirty
    assert window.document.path == tmp_path / "roastery.spoke" and window.save()
    assert read_project(tmp_path / "roastery.spoke") == window.document.project
    bar.discard.click()
    assert not bar.isVisible() and not list(tmp_path.glob("*.kept"))
    window.close()
    gone(window)


def test_code_that_was_typed_and_not_applied_is_kept_too(qtbot, roastery, tmp_path, monkeypatch):
    monkeypatch.setattr("spokeshave.formats.recovery.is_running", lambda kept: False)
    window = with_recovery(qtbot, roastery, tmp_path)
    window.show_stage(2)
    window.show_face("code")
    QApplication.processEvents()
    code = window.sequence.codes["Roast"]
    code.choice.setCurrentText("Body CountBatch")
    code.text.setPlainText("Batches := Batches + ")
    qtbot.waitUntil(lambda: bool(list(tmp_path.glob("*.kept"))), timeout=5000)
    left = Recovery(tmp_path).left_over()
    assert [(d.place, d.text) for d in left[0].drafts] == [("code Roast/Body CountBatch", "Batches := Batches + ")]
    window.keeper.close()
    code.give_up()
    assert not window.document.drafts
    assert window.recover(left[0])
    code = window.sequence.codes["Roast"]
    assert code.text.toPlainText() == "Batches := Batches + " and code.typed
    assert window.document.project == roastery
    window.close()
    gone(window)
