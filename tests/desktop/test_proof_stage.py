"""The proof stage and the brief: rows with completion, what protects, accepted runs, sentences and their numbers."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QComboBox

from spokeshave.desktop.proof.row_line import RowLine
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Accepted, Scenario
from spokeshave.verify.scenarios import run_scenario
from tests.looks import drawn

Key, Ctrl, Alt = Qt.Key, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.AltModifier


@pytest.fixture
def panel(window):
    window.show_proof(window.proof.scenarios)
    return window.proof.scenarios


def choose(panel, name):
    panel.list.setCurrentRow([s.name for s in panel.document.project.scenarios].index(name))


def typing(view, column) -> RowLine | None:
    """The line that is open in a cell of the current row."""
    line = view.indexWidget(view.currentIndex())
    return line if isinstance(line, RowLine) and view.currentIndex().column() == column else None


def editor(qtbot, view, row, column) -> RowLine:
    view.go_to(row, column)
    view.edit(view.currentIndex())
    line = typing(view, column)
    assert line is not None
    return line


def results(window, *names):
    project = window.document.project
    window.document.take_results([run_scenario(project, s) for s in project.scenarios if not names or s.name in names])


def test_rows_are_typed_with_completion_and_the_text_says_the_same(qtbot, window, panel):
    window.table.actions["proof.new"].trigger()
    name = panel.scenario.name
    assert panel.rows.lines == panel.text.toPlainText().splitlines()
    line = editor(qtbot, panel.view, 4, 0)
    qtbot.keyClicks(line, "exp")
    assert line.listed.stringList() == ["expect"]
    qtbot.keyClick(line, Key.Key_Tab)
    assert line.text() == "expect"
    qtbot.keyClick(line, Key.Key_Return)
    qtbot.waitUntil(lambda: typing(panel.view, 1) is not None)  # on to what is expected
    line = typing(panel.view, 1)
    qtbot.keyClicks(line, "never Bur")
    assert line.listed.stringList()[0] == "Burner"
    qtbot.keyClick(line, Key.Key_Return)
    qtbot.keyClicks(line, "   and  not Drumm")
    qtbot.keyClick(line, Key.Key_Return)
    qtbot.waitUntil(lambda: "Drumm" in panel.rows.lines[4])
    assert panel.rows.lines[4] == "expect never Burner AND NOT Drumm"
    assert panel.rows.index(4, 4).data() == "there is no Drumm; did you mean Drum or DrumRuns?"
    assert panel.rows.setData(panel.rows.index(4, 1), "never Burner AND NOT Drum")
    assert window.document.project.scenario(name).text.splitlines()[4] == "expect never Burner AND NOT Drum"
    panel.faces.setCurrentIndex(1)
    panel.text.setPlainText(panel.text.toPlainText() + "EXPECT no   hazards")
    panel.faces.setCurrentIndex(0)
    assert panel.rows.lines[5] == "EXPECT no   hazards"
    window.table.actions["proof.tidy"].trigger()
    assert panel.rows.lines[5] == "expect no hazards" and panel.text.toPlainText().endswith("expect no hazards\n")


def test_rows_are_inserted_moved_copied_and_deleted_each_in_one_undo(qtbot, window, panel):
    choose(panel, "Jammed drop door")
    before, project = list(panel.rows.lines), window.document.project
    view = panel.view
    view.go_to(3)
    view.setFocus()
    qtbot.keyClick(view, Key.Key_Down, Alt)
    assert panel.rows.lines[3:5] == [before[4], before[3]] and view.currentIndex().row() == 4
    qtbot.keyClick(view, Key.Key_Insert)
    assert panel.rows.lines[5] == "" and view.currentIndex().row() == 5
    view.go_to(0)
    qtbot.keyClick(view, Key.Key_C, Ctrl)
    view.go_to(5)
    qtbot.keyClick(view, Key.Key_V, Ctrl)
    assert panel.rows.lines[6] == before[0]
    view.selectRow(6)
    qtbot.keyClick(view, Key.Key_Delete)
    view.selectRow(5)
    qtbot.keyClick(view, Key.Key_Delete)
    assert panel.rows.lines == [*before[:3], before[4], before[3], *before[5:]]
    for _ in range(5):
        window.table.actions["edit.undo"].trigger()
    assert window.document.project is project and panel.rows.lines == before


def test_scenarios_have_groups_and_a_run_for_each_choice_of_their_lists(qtbot, window, panel):
    choose(panel, "Charge gate that sticks")
    window.proof.run_selected()
    qtbot.waitUntil(lambda: window.proof.worker is None and panel.result() is not None, timeout=30_000)
    assert panel.cases.count() == 2 and "extended stuck off" in panel.cases.itemText(0)
    row = panel.rows.lines.index("expect never Roast.RoastLight.X")
    assert panel.rows.index(row, 2).data() == "✓ pass"
    choose(panel, "By hand")
    panel.group.setCurrentText("Manual")
    assert [panel.list.item(i).isHidden() for i in range(panel.list.count())].count(False) == 1
    assert window.proof.run_group.text() == "Run Manual"
    window.proof.run_of_group()
    qtbot.waitUntil(lambda: window.proof.worker is None and "By hand" in window.document.results, timeout=30_000)
    panel.group_name.setText("Hands")
    panel.group_name.editingFinished.emit()
    assert panel.scenario.group == "Hands"
    panel.name.setText("Two dark batches")
    panel.name.editingFinished.emit()
    assert panel.scenario.name == "By hand" and "already" in window.message.text()


def test_a_failing_run_is_kept_to_look_at_until_the_next_one(qtbot, window, panel):
    choose(panel, "Light roast in order")
    document, row = window.document, panel.list.currentRow()
    condition = document.project.sequence("Roast").transitions[4].condition
    document.edit("short", lambda p: _charge(p, "Charge.T >= T#300ms"))
    results(window, "Light roast in order")
    assert panel.list.item(row).text().startswith("✕") and panel.view.currentIndex().data() == "it lasted 0.3 s"
    document.edit("mended", lambda p: _charge(p, condition))
    assert panel.list.item(row).text().startswith("◌") and panel.before.isVisible() and not document.results
    assert {c.state for c in document.coverage() if "Light roast in order" in c.scenarios} == {"not run"}
    lasts = panel.rows.lines.index("expect Roast.Charge lasts at least 3 s")
    assert panel.rows.index(lasts, 4).data() == "it lasted 0.3 s"
    panel.show_row(lasts)
    window.tasks.finish()
    assert window.stage == 4 and window.bench.strip.cursors[0] == 13_030
    results(window, "Light roast in order")
    assert not panel.before.isVisible() and panel.list.item(row).text().startswith("✓") and not document.ledger.earlier


def _charge(project, condition):
    def edit(q):
        ways = tuple(replace(t, condition=condition) if t.sources == ("Charge",) else t for t in q.transitions)
        return replace(q, transitions=ways)

    return edits.edit_sequence(project, "Roast", edit)


def test_a_row_that_was_never_done_says_so(qtbot, window, panel):
    text = "at 0.5 s: press Start\non Roast.Drop: press Emergency\nrun for 20 s\nexpect no hazards"
    window.document.edit("late", lambda p: replace(p, scenarios=(Scenario("Late", text),)))
    choose(panel, "Late")
    results(window, "Late")
    assert (
        panel.rows.index(1, 4).data() == "never done, since its moment did not come"
        and not panel.rows.index(1, 3).data()
    )
    assert panel.rows.index(0, 4).data() == "" and panel.rows.index(3, 4).data() == "none was raised"
    with qtbot.waitSignal(panel.show_asked) as asked:
        panel.show_row(1)
    assert asked.args[2] == 0, "there is no place to show but the start"


def test_what_no_scenario_shows_is_marked_and_what_one_shows_leads_there(qtbot, window):
    window.show_proof(window.proof.matrix)
    matrix = window.proof.matrix
    model = matrix.model

    def row(name):
        return next(i for i, c in enumerate(model.matrix.causes) if name in c.names)

    assert model.index(row("window Roast.Drop"), 2).data() == "◔ not run"
    results(window, "Jammed drop door")
    assert model.index(row("window Roast.Drop"), 2).data() == "✓ Jammed drop door"
    assert model.index(row("window Roast.Stop"), 2).data() == "○ nothing yet"
    assert matrix.summary.text().startswith("31 causes") or "shown by nothing yet" in matrix.summary.text()
    matrix.view.setCurrentIndex(model.index(row("window Roast.Drop"), 1))
    assert "Jammed drop door at 31.79 s" in matrix.about.text()
    matrix.about.linkActivated.emit("show:Jammed drop door")
    window.tasks.finish()
    assert window.stage == 4 and window.bench.strip.cursors[0] == 31_790
    window.show_proof(window.proof.matrix)
    matrix.view.setCurrentIndex(model.index(row("interlock DropDoor"), 1))
    matrix.about.linkActivated.emit("signal:FlapClosed")
    assert window.stage == 1
    window.selection.go(Place("trip", item="Overheat"))
    assert window.stage == 5 and matrix.chosen().names == ("trip Overheat",)


def test_the_cause_that_acts_now_is_marked_while_the_bench_runs(qtbot, window):
    window.show_proof(window.proof.matrix)
    matrix, runner = window.proof.matrix, window.runner
    row = next(i for i, c in enumerate(matrix.model.matrix.causes) if "trip Emergency" in c.names)
    runner.run_for(100)
    assert not matrix.model.acts(row)
    runner.do("hand", "Emergency", 1)
    runner.run_for(50)
    assert matrix.model.acts(row) and matrix.model.index(row, 0).data() == "● trip"
    assert drawn(window)
    window.show_stage(4)
    assert window.bench.side.isVisible() and "trip Emergency" in window.bench.acting.texts()
    runner.do("hand", "Emergency", 0)
    runner.do("hand", "Reset", 1)
    runner.run_for(100)
    assert "trip Emergency" not in window.bench.acting.texts()


def test_the_matrix_edits_causes_effects_and_rules(qtbot, window):
    window.show_proof(window.proof.matrix)
    matrix, document = window.proof.matrix, window.document
    model, before = matrix.model, document.project

    def cause(name):
        return next((i, c) for i, c in enumerate(model.matrix.causes) if name == c.condition or name in c.names)

    column = next(i for i, e in enumerate(model.matrix.effects) if e.name == "Drum") + 3
    row = cause("TempOk")[0]
    index = model.index(row, column)
    matrix.view.setCurrentIndex(index)
    matrix.view.edit(index)
    box = next(b for b in matrix.view.findChildren(QComboBox) if b.isVisible())
    box.setCurrentText("off")
    box.activated.emit(box.currentIndex())
    qtbot.waitUntil(lambda: document.history.undo_name != "", timeout=2000)
    assert [x.output for x in document.project.interlocks if "TempOk" in x.condition] == ["Burner", "Drum"]
    assert model.setData(model.index(cause("TempOk")[0], 1), "TempOk OR NOT Burner")
    assert document.project.interlocks[-1].condition == "TempOk OR NOT Burner"
    assert (
        not model.setData(model.index(cause("window Roast.Drop")[0], 1), "soon") and "no time" in window.message.text()
    )
    matrix.kind.setCurrentText("hold")
    matrix.guards.setCurrentText("Cool")
    matrix.text.setText("ResetButton")
    qtbot.keyClick(matrix.text, Key.Key_Return)
    assert document.project.sequence("Cool").hold_when == "ResetButton"
    matrix.view.setCurrentIndex(model.index(cause("hold Cool")[0], 1))
    qtbot.mouseClick(matrix.delete, Qt.MouseButton.LeftButton)
    while document.history.undo_name:
        document.undo()
    assert document.project is before


def test_one_rule_behind_the_other_is_typed_without_a_mouse(qtbot, window):
    window.document.replace(replace(window.document.project, interlocks=()), None)
    window.show_proof(window.proof.matrix)
    panel = window.proof.matrix
    panel.kind.setCurrentText("interlock")
    line = panel.guards.lineEdit()
    for output in ("Drum", "Air"):
        window.activateWindow()
        line.setFocus()
        QApplication.processEvents()
        qtbot.keyClicks(line, output)
        qtbot.keyClick(line, Key.Key_Return)
        assert panel.text.hasFocus(), "on to what must be TRUE"
        qtbot.keyClicks(panel.text, "EmergencyOk")
        qtbot.keyClick(panel.text, Key.Key_Return)
        assert window.message.text() == "" and panel.text.text() == ""
    assert [i.output for i in window.document.project.interlocks] == ["Drum", "Air"]


def test_a_trip_is_said_in_words_and_its_picture_follows(qtbot, window):
    window.show_proof(window.proof.matrix)
    window.proof.matrix.go_to(Place("trip", item="Emergency"))
    words, document = window.proof.matrix.trip, window.document
    assert (words.rank.value(), words.when.text(), words.latched.currentText()) == (
        1,
        "NOT EmergencyOk",
        "the reset: ResetButton",
    )

    def on(name):
        lane = next(x for x in words.picture.lanes if x.name == name)
        return any(lane.values[60:65])

    assert on("Rest") and not on("Stored output")
    words.stored.setCurrentIndex(1)
    words.stored.activated.emit(1)
    words.steps.setCurrentIndex(0)
    words.steps.activated.emit(0)
    assert (document.project.trips[0].stored, document.project.trips[0].steps) == ("keep", "freeze")
    assert on("Work") and on("Stored output")
    words.name.setText("Guard")
    words.name.editingFinished.emit()
    assert document.project.trips[0].name == "Guard" and document.project.requirements[7].shown_by == ("trip Guard",)
    words.reset.setText("ResetButton OR StartButton")
    words.reset.editingFinished.emit()
    assert document.project.reset == "ResetButton OR StartButton" and words.latched.currentText().endswith(
        "StartButton"
    )
    words.zeroed.setText("Batches, Nothing")
    words.zeroed.editingFinished.emit()
    assert "there is no signal Nothing" in window.message.text() and document.project.trips[0].zeroed == ()
    assert drawn(window)


def test_accepted_runs_are_kept_compared_and_their_differences_drawn(qtbot, window):
    window.show_proof(window.proof.accepted)
    accepted, document = window.proof.accepted, window.document
    assert "No run is accepted yet" in accepted.status.text() and not accepted.accept_passed()
    results(window, "Light roast in order")
    qtbot.mouseClick(accepted.accept_all, Qt.MouseButton.LeftButton)
    assert [type(a) for a in document.project.accepted] == [Accepted]
    window.tasks.finish()
    assert accepted.list.item(0).text() == "✓  Light roast in order"
    row = [s.name for s in document.project.signals].index("CoolTime")
    document.edit("slower", lambda p: edits.change_item(p, "signals", row, initial=14_000))
    assert accepted.list.item(0).text() == "◔  Light roast in order"
    results(window, "Light roast in order")
    window.tasks.finish()
    assert accepted.list.item(0).text() == "✕  Light roast in order"
    assert [accepted.table.topLevelItem(0).text(i) for i in (2, 3)] == [
        "Cool.Stir",
        "lasted 2 s longer: 14 s, accepted 12 s",
    ]
    accepted.show_difference(0)
    window.tasks.finish()
    beside = window.bench.strip.beside
    assert window.stage == 4 and beside is not None and beside.spans("Cool", True) and not beside.spans("Burner", False)
    assert drawn(window)
    window.runner.reset()
    assert window.bench.strip.beside is None
    window.show_proof(window.proof.accepted)
    accepted.within_ms.setValue(2500)
    accepted.within_ms.editingFinished.emit()
    window.tasks.finish()
    assert accepted.list.item(0).text() == "✓  Light roast in order"
    accepted.remove()
    assert not document.project.accepted


def test_numbers_of_a_sentence_become_settings_and_links_lead_to_what_shows_it(qtbot, window, tmp_path):
    window.show_stage(0)
    about, document = window.brief.about, window.document
    window.brief.view.select_row(3, 1)
    assert "185 °C is <a href='signal:LightTemp'>" in about.words.text()
    assert [about.number.itemText(i) for i in range(about.number.count())] == ["4 s"]
    about.name.setText("RestTime")
    qtbot.mouseClick(about.make_button, Qt.MouseButton.LeftButton)
    made = document.project.signal("RestTime")
    assert (made.initial, made.comment) == (4000, "4 s of R04") and not about.number.isVisible()
    about.link.setCurrentText("check branches-overlap")
    assert about.add_link() and document.project.requirements[3].shown_by == ("check branches-overlap",)
    about.link.setCurrentText("By hand")
    assert about.add_link() and "R04" in document.project.scenario("By hand").shows
    about.words.linkActivated.emit("link:By hand")
    assert window.stage == 5 and window.proof.scenarios.scenario.name == "By hand"
    path = tmp_path / "more.txt"
    path.write_text("The hopper is filled by hand. It is never empty.")
    assert window.brief.take_in(path)
    assert [r.kind for r in document.project.requirements[-2:]] == ["manual", "interlock"]
    QApplication.clipboard().setText("One more sentence.")
    assert window.brief.paste() and document.project.requirements[-1].text == "One more sentence."
    path.write_text("\0")
    assert not window.brief.take_in(path) and "zero bytes" in window.message.text()
