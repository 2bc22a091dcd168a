"""The desktop's widgets with a real document: edits from cells, the run followed, refusals told."""

from __future__ import annotations

import sys
from dataclasses import replace

import pytest
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtWidgets import QApplication, QCompleter, QLineEdit, QWidget

from spokeshave.desktop.code_editor import CodeEditor
from spokeshave.desktop.finder import matches
from spokeshave.desktop.plain_text import StatusLabel
from spokeshave.desktop.sequence.condition_editor import ConditionEdit
from spokeshave.desktop.sequence.sheet import FIRST_MARK, NUMBER, STEP
from spokeshave.desktop.theme import theme
from spokeshave.engine.session import Session
from spokeshave.formats import spoke
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Scenario, Signal, SignalClass, Type
from tests.looks import drawn

Key = Qt.Key


def sheet_of(window, name="Roast"):
    window.show_stage(2)
    window.sequence.show_sequence(name)
    window.sequence.show_face("sheet")
    return window.sequence.sheets[name]


def cell(view, step, column):
    sheet = view.sheet
    row = next(i for i in range(sheet.rowCount()) if sheet.step_at(i).name == step and sheet.row(i).first)
    return sheet.index(row, column)


def type_into(qtbot, view, index, text):
    """Edits a cell as a person does: select it, F2, type, Return."""
    view.setCurrentIndex(index)
    view.edit(index)
    editor = view.viewport().findChildren(QLineEdit)[-1]
    editor.selectAll()
    qtbot.keyClicks(editor, text)
    if isinstance(editor, ConditionEdit):
        editor.words.popup().hide()
    qtbot.keyClick(editor, Key.Key_Return)
    settle()


def settle():
    """The view takes a typed text with a queued call, and deletes its editor later."""
    QApplication.processEvents()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


def test_cells_of_the_sheet_edit_the_machine_file_and_undo_takes_each_back(qtbot, window):
    view, document = sheet_of(window), window.document
    before = document.project
    sheet = view.sheet
    type_into(qtbot, view, cell(view, "Charge", sheet.awaits), "GateOpened AND Charge.T >= T#4s")
    type_into(qtbot, view, cell(view, "Charge", sheet.window), "7s")
    type_into(qtbot, view, cell(view, "Charge", NUMBER), "55")
    type_into(qtbot, view, cell(view, "Charge", FIRST_MARK + sheet.targets.index("Drum")), "L 2s")
    type_into(qtbot, view, cell(view, "Charge", STEP), "Fill")
    q = document.project.sequence("Roast")
    step = q.step("Fill")
    assert (step.number, step.longest, [str(a.qualifier) for a in step.actions]) == (55, "T#7s", ["N", "L"])
    assert any(t.condition == "GateOpened AND Fill.T >= T#4s" and t.sources == ("Fill",) for t in q.transitions)
    names = []
    while document.history.undo_name:
        names.append(document.history.undo_name)
        document.undo()
    assert document.project is before
    assert names[::-1] == [
        "Condition out of Charge",
        "Window of Charge",
        "Number Charge",
        "Mark Drum in Charge",
        "Rename Charge",
    ]


def test_a_wrong_condition_is_told_while_typing_kept_and_marked_in_its_cell(qtbot, window):
    view = sheet_of(window)
    index = cell(view, "Drop", view.sheet.awaits)
    view.setCurrentIndex(index)
    view.edit(index)
    editor = view.viewport().findChild(ConditionEdit)
    editor.setText("DropOpend AND Drop.T >= T#3s")
    assert editor.note.isVisible()
    assert editor.note.text() == "there is no DropOpend; did you mean DropOpened or DropClosed?"
    qtbot.keyClick(editor, Key.Key_Return)
    settle()
    window.document.check()
    assert view.sheet.problem_at(index.row(), view.sheet.awaits).endswith("did you mean DropOpened or DropClosed?")
    assert "DropOpend" in window.runner.problem
    assert window.counts.text() == "1 error"
    window.document.undo()
    window.document.check()
    assert not view.sheet.problem_at(index.row(), view.sheet.awaits) and not window.runner.problem


def test_names_are_completed_while_typing(qtbot, window):
    view = sheet_of(window)
    index = cell(view, "Preheat", view.sheet.awaits)
    view.setCurrentIndex(index)
    view.edit(index)
    editor = view.viewport().findChild(ConditionEdit)
    editor.clear()
    qtbot.keyClicks(editor, "NOT DropOp")
    assert editor.words.popup().isVisible()
    qtbot.keyClick(editor, Key.Key_Return)
    assert editor.text() == "NOT DropOpened"


def test_refused_edits_say_why_and_change_nothing(qtbot, window):
    view, before = sheet_of(window), window.document.project
    for column, text, why in (
        (NUMBER, "20", "number 20 is taken"), (STEP, "Drum", "already the name"), (view.sheet.next, "Nowhere", "no step Nowhere"),
        (FIRST_MARK, "Q 2s", "is not a mark"),
    ):  # fmt: skip
        type_into(qtbot, view, cell(view, "Charge", column), text)
        assert why in window.message.text()
    view.setCurrentIndex(cell(view, "Idle", STEP))
    qtbot.keyClick(view, Key.Key_Delete)
    assert "Idle is the initial step" in window.message.text()
    assert window.document.project is before


def test_insert_delete_and_marks_from_the_keyboard(qtbot, window):
    view = sheet_of(window)
    view.setCurrentIndex(cell(view, "SpinUp", STEP))
    qtbot.keyClick(view, Key.Key_Insert)
    steps = window.document.project.sequence("Roast").steps
    assert [(s.name, s.number) for s in steps[1:3]] == [("SpinUp", 20), ("Step25", 25)]
    assert view.current_step() == "Step25"
    view.setCurrentIndex(cell(view, "Step25", FIRST_MARK))
    qtbot.keyClick(view, Key.Key_Space)
    assert window.document.project.sequence("Roast").step("Step25").actions[0].target == view.sheet.targets[0]
    view.setCurrentIndex(cell(view, "Step25", STEP))
    qtbot.keyClick(view, Key.Key_Delete)
    assert window.document.project.sequence("Roast").step("Step25") is None


def test_a_bar_in_the_chart_and_a_cell_in_the_sheet_are_one_selection(qtbot, window):
    view = sheet_of(window)
    view.setCurrentIndex(cell(view, "CloseGate", view.sheet.awaits))
    window.show_face("chart")
    chart = window.sequence.charts["Roast"]
    assert [i.step.name for i in chart.scene().selectedItems()] == ["CloseGate"]
    assert chart.sequence.transitions[chart.selected_way()].sources == ("CloseGate",)
    chart.scene().clearSelection()
    chart.items_by_step["Drop"].setSelected(True)
    window.show_face("sheet")
    assert view.current_step() == "Drop"
    window.toggle_details()
    assert window.details.title.text() == "Step 110 Drop"


def test_details_edit_steps_and_devices(qtbot, window):
    window.show_stage(2)
    window.selection.set(Place("step", "Roast", "Drop"))
    window.toggle_details()
    field = window.details.fields["Longest"]
    field.selectAll()
    qtbot.keyClicks(field, "6s")
    qtbot.keyClick(field, Key.Key_Return)
    assert window.document.project.sequence("Roast").step("Drop").longest == "T#6s"
    window.selection.go(Place("device", item="DropGate"))
    assert window.stage == 3
    field = window.details.fields["extend (s)"]
    field.selectAll()
    qtbot.keyClicks(field, "slow")
    qtbot.keyClick(field, Key.Key_Return)
    assert "slow" in window.message.text()
    field = window.details.fields["extend (s)"]
    field.selectAll()
    qtbot.keyClicks(field, "1.25")
    qtbot.keyClick(field, Key.Key_Return)
    assert dict(window.document.project.device("DropGate").parameters)["extend_s"] == 1.25
    box = window.details.fields["extended"]
    box.setCurrentText("FlapOpened")
    box.activated.emit(box.currentIndex())
    assert window.document.project.device("DropGate").wired("extended") == "FlapOpened"


def test_signals_and_requirements_are_edited_in_their_tables(qtbot, window):
    window.show_stage(1)
    table, view = window.signals.list.table, window.signals.view
    row = next(i for i, s in enumerate(table.rows) if s.name == "CoolTime")
    assert table.setData(table.index(row, 5), "15s") and window.document.project.signal("CoolTime").start == 15_000
    assert not table.setData(table.index(row, 5), "soon") and "not a time" in window.message.text()
    assert table.setData(table.index(0, 0), "GoButton")
    assert "RISING(GoButton)" in spoke.dumps(window.document.project)
    view.select_row(0)
    used = window.signals.list.used
    assert [used.topLevelItem(0).text(i) for i in (0, 1)] == ["read", "Roast, transition 10 to 20+30"]
    count = len(table.rows)
    window.signals.list.add()
    assert len(table.rows) == count and view.currentIndex().row() == count, "the row to come is no signal yet"
    view.select_row(0)
    window.signals.list.insert()
    assert len(table.rows) == count + 1 and view.current_row() == 1
    window.signals.list.filter.setText("drop door")
    assert sum(not view.isRowHidden(i) for i in range(len(table.rows))) == 4
    window.show_stage(0)
    brief = window.brief.table
    assert brief.setData(brief.index(0, 3), "Two dark batches") and not brief.setData(brief.index(0, 3), "No such")
    assert "R01" in window.document.project.scenario("Two dark batches").shows
    assert brief.setData(brief.index(0, 0), "R99")
    assert "R99" in window.document.project.scenario("Two dark batches").shows
    assert brief.setData(brief.index(len(brief.rows), 1), "The drum never turns backwards.")
    assert window.document.project.requirements[-1].ident == "R23"
    assert window.document.project.requirements[-1].kind == "interlock"
    assert "1 shown by nothing yet" in window.brief.summary.text()


def test_buttons_on_the_board_are_pressed_held_and_released_and_failures_injected(qtbot, window):
    window.show_stage(4)
    board, runner = window.bench.board, window.runner

    def at(name) -> QPoint:
        return board.cell(window.document.project.device(name)).center().toPoint()

    runner.run_for(100)
    qtbot.mousePress(board, Qt.MouseButton.LeftButton, pos=at("Start"))
    runner.run_for(100)
    assert runner.session.trace.at("StartButton", runner.session.k - 1) is True
    qtbot.mouseRelease(board, Qt.MouseButton.LeftButton, pos=at("Start"))
    runner.run_for(100)
    assert runner.session.trace.at("StartButton", runner.session.k - 1) is False
    assert [w.step for w in runner.waiting()] == ["SpinUp", "Purge", "Ready"]
    tapped = runner.session.k
    qtbot.mouseClick(board, Qt.MouseButton.LeftButton, pos=at("Reset"))
    runner.one_scan()
    runner.run_for(30)
    seen = [runner.session.trace.at("ResetButton", k) for k in range(tapped, runner.session.k)]
    assert seen == [True, False, False, False], "a tap between two scans is seen by the next one, and by no more"
    qtbot.mouseClick(board, Qt.MouseButton.LeftButton, pos=at("Emergency"))
    runner.run_for(10)
    assert [w.state for w in runner.waiting()] == ["tripped", "tripped"]
    menu = board.failure_menu(window.document.project.device("DropGate"))
    jammed = next(a for a in menu.actions() if a.text() == "Inject: jammed")
    jammed.trigger()
    runner.one_scan()
    index = board.index_of("DropGate")
    assert runner.session.situation.dev_failed[index] == {"jammed"}
    assert drawn(board)


def test_the_machine_board_places_adds_and_deletes_devices(qtbot, window):
    window.show_stage(3)
    board = window.machine.board
    start = board.cell(window.document.project.device("ChargeGate")).center().toPoint()
    qtbot.mousePress(board, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(board, QPoint(60, 60))
    qtbot.mouseRelease(board, Qt.MouseButton.LeftButton, pos=QPoint(60, 60))
    assert window.document.project.device("ChargeGate").at == (0, 0)
    window.machine.add()
    assert window.document.project.devices[-1].kind == "actuator"
    window.machine.remove()
    assert len(window.document.project.devices) == 14


def test_the_run_is_shown_live_in_sheet_chart_waiting_line_and_strip(qtbot, window):
    view = sheet_of(window)
    window.runner.run_for(500)
    window.runner.do("hand", "Start", 1)
    window.runner.run_for(3000)
    assert set(view.live.waiting) == {"Preheat"} and {"Idle", "SpinUp"} <= view.live.was and "burner" in view.live.on
    text = window.waiting.text_of(window.waiting.lines[0])
    assert text.startswith("Roast 40 Preheat, runs: waits on BeanTemp >= ChargeTemp (BeanTemp = ")
    asked = []
    window.waiting.signal_asked.connect(asked.append)
    assert drawn(window.waiting)
    box = next(b for b, kind, name in window.waiting._hits if kind == "signal")
    qtbot.mouseClick(window.waiting, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    assert asked == ["BeanTemp"] and window.stage == 1
    window.show_stage(4)
    strip = window.bench.strip
    strip.set_cursor(0, 1003)
    strip.set_cursor(1, 2507)
    assert strip.cursors == [1000, 2510] and strip.cursor_text() == "B - A = 1s510ms"
    strip.zoom(0.25, 1000)
    assert drawn(strip)
    window.runner.back()
    assert window.cluster.clock.text() == "00:03.49"


def test_the_run_can_be_started_paused_stepped_and_edited_while_running(qtbot, window):
    runner = window.runner
    runner.set_speed(10.0)
    window.table.actions["run.start"].trigger()
    qtbot.waitUntil(lambda: runner.session.k > 50, timeout=4000)
    document = window.document
    from spokeshave.model import edits

    document.edit("Set", lambda p: edits.change_item(p, "signals", 31, initial=2))
    assert runner.running and runner.session.program.project is document.project
    assert runner.session.situation.v[runner.session.program.slots["batchgoal"]] == 2
    window.table.actions["run.start"].trigger()
    k = runner.session.k
    window.table.actions["run.scan"].trigger()
    assert not runner.running and runner.session.k == k + 1
    runner.do("hand", "Start", 1)
    window.table.actions["run.nextstep"].trigger()
    assert "SpinUp" in {w.step for w in runner.waiting()}
    window.table.actions["run.reset"].trigger()
    assert runner.session.k == 0 and window.cluster.clock.text() == "00:00.00"


def test_proof_runs_all_shows_verdicts_and_goes_to_the_place_that_decided(qtbot, window):
    window.run_proof()
    qtbot.waitUntil(
        lambda: len(window.document.results) == 19 and window.proof.worker is None,
        timeout=60_000,
    )
    assert window.proof.status.text() == "19 of 19 passed"
    assert [b.state for b in window.ribbon.buttons] == ["proven", "proven", "proven", "proven", "nothing", "proven"]
    panel = window.proof.scenarios
    panel.list.setCurrentRow([s.name for s in window.document.project.scenarios].index("Jammed drop door"))
    late = panel.rows.lines.index('expect alarm "Roast.Drop is late"')
    assert panel.rows.index(late, 2).data() == "✓ pass" and panel.rows.index(late, 3).data() == "31.79 s"
    panel.show_row(late)
    window.tasks.finish()
    assert window.stage == 4 and window.bench.strip.cursors[0] == 31_790
    window.show_stage(5)
    panel.faces.setCurrentIndex(1)
    panel.text.setPlainText("run for 1 s\nexpect never Drumm")
    assert "Row 2: there is no Drumm; did you mean Drum or DrumRuns?" in panel.fault.text()
    panel.text.setPlainText("run for 1 s\nexpect finally Drum")
    window.proof.run_selected()
    qtbot.waitUntil(lambda: window.proof.worker is None, timeout=10_000)
    assert panel.result().worst.because == "Drum (FALSE)"
    assert window.ribbon.buttons[5].state == "open"


def test_a_long_proof_can_be_cancelled(qtbot, window):
    beat = Signal("Beat", SignalClass.INTERNAL, Type.DINT)  # something new in every scan: ten hours take minutes
    window.document.edit("slow", lambda p: replace(
        p, signals=(*p.signals, beat), closing=f"{p.closing}\nBeat := Beat + 1;",
        scenarios=(Scenario("Long", "run for 36000 s\nexpect finally TRUE"),)))  # fmt: skip
    cancel = window.table.actions["proof.cancel"]
    assert not cancel.isEnabled()
    window.run_proof()
    qtbot.waitUntil(lambda: window.proof.status.text().startswith("runs"), timeout=10_000)
    assert cancel.isEnabled()
    cancel.trigger()
    qtbot.waitUntil(lambda: window.proof.worker is None, timeout=5000)
    assert not window.document.results and not cancel.isEnabled()


def test_an_editor_keeps_one_list_of_words_however_often_it_changes(qtbot, window):
    window.show_stage(2)
    editor = CodeEditor("Body")
    qtbot.addWidget(editor)
    for n in range(20):
        editor.set_words([f"Word{n}"])
    assert len(editor.findChildren(QCompleter)) == 1
    assert "Word19" in editor.words.model().stringList() and "Word1" not in editor.words.model().stringList()


def test_files_are_saved_opened_and_bad_ones_told_without_losing_the_present_one(qtbot, window, tmp_path):
    path = tmp_path / "mine.spoke"
    assert window._save_to(path) and not window.document.dirty
    sheet_of(window)
    window.sequence.editor.do("after")
    assert window.document.dirty and window.windowTitle().startswith("•")
    bad = tmp_path / "bad.spoke"
    bad.write_text('{"format": "spokeshave machine file", "version": 1, "signals": [')
    before = window.document.project
    assert not window.open_path(bad)
    assert "bad.spoke:1" in window.message.text() and window.document.project is before
    assert (
        window.open_path(path) and window.document.project.name == "Roastery" and not window.document.history.undo_name
    )


def test_the_palette_finds_commands_and_items(qtbot, window):
    finder = window.open_finder()
    qtbot.keyClicks(finder.line, "signal drumruns")
    qtbot.keyClick(finder.line, Key.Key_Return)
    assert window.stage == 1 and window.selection.place == Place("signal", item="DrumRuns")
    assert matches("inst", "Insert a step") and not matches("xq", "Insert a step")


def test_every_command_has_a_name_a_menu_and_a_shortcut_of_its_own(window):
    commands = list(window.table.commands.values())
    keys = [c.shortcut for c in commands if c.shortcut]
    assert len(keys) == len(set(keys))
    assert all(c.name and c.menu for c in commands)
    assert all(a.toolTip() for a in window.table.actions.values())


@pytest.mark.parametrize("dark", [False, True])
def test_each_stage_paints_in_both_themes_and_names_what_can_be_focused(window, dark):
    if dark != theme.dark:
        window.toggle_dark()
    for stage in range(6):
        window.show_stage(stage)
        window.runner.run_for(1000)
        picture = window.grab().toImage()
        assert (picture.pixelColor(5, picture.height() // 2).lightness() < 128) is dark, stage
        _look_at_names(window)
    if dark:
        window.toggle_dark()


def test_what_says_how_things_stand_follows_the_theme(window):
    label = StatusLabel(parent=window)
    label.say("late", "ink")
    before = label.styleSheet()
    window.toggle_dark()
    inks = before, label.styleSheet(), f"color: {theme.colour('ink').name()}"
    window.toggle_dark()
    assert inks[0] != inks[1] == inks[2] and label.styleSheet() == before and label.text() == "late"


def _look_at_names(window):
    """Everything in view that can have the focus says what it is."""
    focusable = [
        w for w in window.pages.currentWidget().findChildren(QWidget) if w.focusPolicy() & Qt.FocusPolicy.TabFocus
    ]
    nameless = [w for w in focusable if w.isVisible() and not (w.accessibleName() or getattr(w, "text", lambda: "")()
                or getattr(w, "placeholderText", lambda: "")())]  # fmt: skip
    inner = [w for w in nameless if w.objectName().startswith("qt_")]  # Qt's own parts, such as the line of a spin box
    assert not [(type(w).__name__, w.objectName(), type(w.parentWidget()).__name__) for w in nameless if w not in inner]


def test_every_editor_of_code_follows_the_theme(window):
    def inks() -> dict[str, str]:
        return {
            e.accessibleName(): e.colours.formats["word"].foreground().color().name()
            for e in window.findChildren(CodeEditor)
        }

    for stage in range(6):
        window.show_stage(stage)
    before = inks()
    assert {"Opening logic", "Closing logic"} <= set(before) and set(before.values()) == {theme.colour("accent").name()}
    window.toggle_dark()
    assert set(inks().values()) == {theme.colour("accent").name()} and not set(before.values()) & set(inks().values())
    window.toggle_dark()
    assert inks() == before


def test_void_qt_calls_keep_the_reference_count_of_none_flat(window):
    """A loss of one reference a call would end in a crash after some thousands."""
    widget = QWidget()
    before = sys.getrefcount(None)
    for _ in range(100_000):
        widget.update()
    assert abs(sys.getrefcount(None) - before) < 500


def test_a_session_made_by_a_scenario_is_only_shown_and_reset_begins_anew(qtbot, window, roastery):
    session = Session(roastery)
    session.run_scans(10)
    window.runner.show(session)
    assert window.runner.session is session
    window.runner.reset()
    assert window.runner.session is not session and window.runner.session.k == 0


def test_no_stage_presses_on_the_outline_or_the_details_of_another(qtbot, window):
    """The widest page, the proof, shows without them; the others leave room for names at 1280 x 800."""
    window.resize(1280, 800)
    for stage in (5, 3, 4, 2, 0, 1):
        window.show_stage(stage)
        if stage == 3:
            window.selection.set(Place("device", item="ChargeGate"))
        qtbot.waitUntil(lambda: window.width() == 1280)
        QApplication.processEvents()
        assert not window.outline.isVisible() or window.outline.width() >= 160, stage
        assert not window.details.isVisible() or window.details.width() >= 232, stage
    window.show_stage(3)
    assert window.outline.isVisible() and window.details.isVisible()


def test_rows_of_a_scenario_are_as_high_as_their_text(qtbot, window):
    window.resize(1280, 800)
    window.show_stage(5)
    QApplication.processEvents()
    view = window.proof.scenarios.view
    heights = [view.rowHeight(r) for r in range(view.rows.rowCount())]
    long = next(r for r, line in enumerate(view.rows.lines) if line.startswith("expect order Roast"))
    assert heights[long] > heights[0] >= 28 and max(heights) < 80
    view.resizeRowsToContents()
    assert heights == [view.rowHeight(r) for r in range(view.rows.rowCount())], "nothing is left to settle"
