"""Lists, outline, strip, chart and theme: what they show, where a click leads, and that text can be read."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QWheelEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox, QTextBrowser

from spokeshave.desktop.machine_board.operator_drawings import DRAWINGS
from spokeshave.desktop.ribbon import stage_states
from spokeshave.desktop.run_cluster import clock_text
from spokeshave.desktop.theme import DARK, LIGHT
from spokeshave.formats.files import read_project
from spokeshave.machine.device import State
from spokeshave.machine.kinds import KINDS, build
from spokeshave.model import edits, flow_edits
from spokeshave.model.board_edits import free_cell
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Device, Project, Scenario
from tests.looks import drawn

Key = Qt.Key


def contrast(a: str, b: str) -> float:
    """Contrast of two colours as accessibility guidelines count it."""

    def light(colour: str) -> float:
        c = QColor(colour)
        parts = [x / 12.92 if x <= 0.03928 else ((x + 0.055) / 1.055) ** 2.4 for x in (c.redF(), c.greenF(), c.blueF())]
        return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]

    low, high = sorted((light(a), light(b)))
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("colours", [LIGHT, DARK], ids=["light", "dark"])
def test_text_can_be_read_in_both_themes(colours):
    for ink in ("ink", "faint", "accent", "late", "false", "true", "active", "forced"):
        for paper in ("surface", "raised", "window"):
            least = 7 if ink == "ink" else 3.9
            assert contrast(getattr(colours, ink), getattr(colours, paper)) >= least, (ink, paper)
    for fill in ("active", "late", "held"):
        assert contrast(colours.on_active, getattr(colours, fill)) >= 3, fill


def test_findings_lead_to_their_places(qtbot, window):
    document = window.document
    document.edit("break", lambda p: flow_edits.change_transition(p, "Cool", 1, condition="DoorShutt"))
    document.check()
    window.toggle_lower()
    item = window.findings.list.topLevelItem(0)
    assert item.text(1).startswith("Cool, transition 20 to 30") and "did you mean DoorShut?" in item.text(3)
    window.show_stage(0)
    window.findings.list.itemClicked.emit(item, 0)
    assert window.stage == 2 and window.sequence.current == "Cool"
    sheet = window.sequence.sheets["Cool"]
    assert sheet.currentIndex().column() == sheet.sheet.awaits and sheet.current_step() == "Receive"
    assert window.ribbon.buttons[2].state == "open"
    window.table.actions["edit.undo"].trigger()
    document.check()
    assert window.findings.list.topLevelItemCount() == 0 and window.counts.text() == "no findings to mend"
    window.lists.setCurrentWidget(window.alarms)
    shown = []
    for _ in range(2):
        window.counts.click()
        shown.append((window.lists.isVisible(), window.lists.currentWidget() is window.findings))
    assert shown == [(True, True), (False, True)]


def test_the_outline_filters_marks_and_leads_to_items(qtbot, window):
    outline = window.outline
    outline.filter.setText("drop")
    shown = [c.text(0) for top in outline._groups() for c in outline._entries(top) if not c.isHidden()]
    assert {"110 Drop", "DropOpened", "DropClosed", "DropDoor", "DropGate", "Jammed drop door"} <= set(shown)
    gate = next(c for top in outline._groups() for c in outline._entries(top) if c.text(0) == "DropGate")
    outline.tree.itemClicked.emit(gate, 0)
    assert window.stage == 3 and window.details.title.text() == "Linear actuator: DropGate"
    outline.filter.clear()
    for kind, item, stage in (("scenario", "Two dark batches", 5), ("requirement", "R03", 0), ("signal", "Batches", 1)):
        window.selection.go(Place(kind, item=item))
        assert window.stage == stage
    assert window.proof.scenarios.scenario.name == "Two dark batches" and window.brief.view.current_row() == 2
    assert window.signals.list.table.rows[window.signals.view.current_row()].name == "Batches"
    window.document.edit("odd", lambda p: edits.new_signal(p, p.signals[20].cls))
    window.document.check()
    marked = [c.text(0) for top in outline._groups() for c in outline._entries(top) if c.text(0).endswith("!")]
    assert marked == ["Out1  !"]


def test_alarms_are_listed_with_their_times_and_acknowledged_by_a_double_click(qtbot, window):
    runner = window.runner
    runner.do("fail", "ExhaustFan", "does not start")
    runner.run_for(500)
    runner.do("hand", "Start", 1)
    runner.run_for(7000)
    alarms = window.alarms
    said = {alarms.topLevelItem(i).text(4).split()[0] for i in range(alarms.topLevelItemCount())}
    assert said == {"Roast.Purge", "Roast.SpinUp"}
    item = alarms.topLevelItem(0)
    assert item.text(0) == "● stands" and item.text(1) == "00:05.50" and item.text(2) == ""
    alarms.itemDoubleClicked.emit(item, 0)
    runner.one_scan()
    assert alarms.topLevelItem(0).text(2) == "00:07.50" and alarms.topLevelItem(0).text(0) == "✓ stands"
    assert window.counts.text().endswith("2 alarms")


def test_the_clock_shows_minutes_seconds_and_hundredths():
    assert [clock_text(ms) for ms in (0, 999, 61_230, 3_600_000)] == ["00:00.00", "00:00.99", "01:01.23", "60:00.00"]


def wheel(widget, at: QPointF, turn: int, modifiers=Qt.KeyboardModifier.NoModifier) -> None:
    event = QWheelEvent(
        at,
        widget.mapToGlobal(at),
        QPoint(),
        QPoint(0, turn),
        Qt.MouseButton.NoButton,
        modifiers,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(widget, event)


def test_the_strip_zooms_at_the_pointer_scrolls_lanes_and_keeps_cursors_on_scans(qtbot, window):
    window.show_stage(4)
    window.runner.run_for(60_000)
    strip = window.bench.strip
    strip.show_span(0, 60_000)
    at = QPointF(strip.x_of(20_000), 60)
    before, span = strip.ms_at(at.x()), strip.span_ms
    wheel(strip, at, 240)
    assert strip.span_ms < span and strip.ms_at(at.x()) == pytest.approx(before)
    wheel(strip, at, -1200)
    assert strip.span_ms > span
    wheel(strip, at, -480, Qt.KeyboardModifier.ControlModifier)
    assert strip.top > 0
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(int(strip.x_of(20_000)), 40))
    qtbot.mouseClick(strip, Qt.MouseButton.RightButton, pos=QPoint(int(strip.x_of(30_000)), 40))
    assert all(c is not None and c % 10 == 0 for c in strip.cursors)
    a = strip.cursors[0]
    qtbot.keyClick(strip, Key.Key_Right)
    assert strip.cursors[0] == a + 10
    qtbot.keyClick(strip, Key.Key_Home)
    assert strip.start_ms == 0
    qtbot.keyClick(strip, Key.Key_Plus)
    qtbot.keyClick(strip, Key.Key_Up)
    assert drawn(strip)
    names = [lane.name for lane in strip.lanes(window.runner.session)]
    assert names[:5] == ["Sequences", "Roast", "Cool", "Numbers", "BeanTemp"] and "ChargeTemp" not in names


def test_a_pulse_of_one_scan_is_visible_when_an_hour_is_shown(qtbot, window):
    window.show_stage(4)
    window.runner.run_for(1_000_000)
    window.runner.do("force", "Flap", True)
    window.runner.one_scan()
    window.runner.do("unforce", "Flap")
    window.runner.run_for(2_000_000)
    strip = window.bench.strip
    strip.resize(900, 500)
    strip.show_span(0, 3_600_000)
    picture = strip.grab().toImage()
    lanes = strip.lanes(window.runner.session)
    top = 22 + sum(lane.height for lane in lanes[: [lane.name for lane in lanes].index("Flap")]) + 8
    ratio = picture.devicePixelRatio()
    row = [picture.pixelColor(int(x * ratio), int(top * ratio)).name().upper() for x in range(130, 700)]
    assert LIGHT.ink in row


def test_the_chart_zooms_with_the_wheel_and_follows_the_active_step(qtbot, window):
    window.show_stage(4)
    chart = window.bench.faces.charts["Roast"]
    before = chart.transform().m11()
    wheel(chart.viewport(), QPointF(50, 50), 240)
    assert chart.transform().m11() > before
    window.runner.run_for(500)
    window.runner.do("hand", "Start", 1)
    window.runner.run_for(26_500)
    item = chart.items_by_step["Drop"]
    assert chart.live.waiting.get("Drop") is not None
    shown = chart.mapToScene(chart.viewport().rect()).boundingRect()
    assert shown.intersects(item.sceneBoundingRect())
    assert [t.text for t in chart.awaited(11).missing] == ["DropOpened", "Drop.T >= T#3s"]


def test_stages_without_content_say_what_to_do_next(qtbot, window):
    window.document.replace(Project("Empty"), None)
    window.runner.reset()
    assert "one sentence each" in window.brief.summary.text()
    assert window.signals.summary.text() == "List inputs and outputs before any logic."
    assert window.waiting.lines == []
    assert stage_states(window.document, False) == ("nothing",) * 6
    for stage in range(6):
        window.show_stage(stage)
        assert drawn(window)
    window.new_sequence()
    assert window.stage == 2 and window.sequence.names == ["Sequence"]
    window.new_file()
    assert [q.name for q in window.document.project.sequences] == ["Sequence"]


def test_saving_under_a_name_opening_and_leaving_with_unsaved_edits(qtbot, window, tmp_path, monkeypatch):
    target = tmp_path / "named"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(target), ""))
    window.document.edit("Add", lambda p: edits.new_signal(p, p.signals[0].cls))
    assert window.save() and read_project(tmp_path / "named.spoke") == window.document.project
    record = tmp_path / "record.html"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(record), ""))
    window.showing.ask_record()
    qtbot.waitUntil(lambda: not window.tasks.busy, timeout=60_000)
    assert "Acceptance record" in record.read_text()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(tmp_path / "named.spoke"), ""))
    window.ask_open()
    assert window.document.path == tmp_path / "named.spoke" and not window.document.dirty
    window.asks_before_closing = True
    window.document.edit("Add", lambda p: edits.new_signal(p, p.signals[0].cls))
    answers = [QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.Discard]
    monkeypatch.setattr(QMessageBox, "question", lambda *a, **k: answers.pop(0))
    assert not window.close() and window.isVisible()
    assert window.close()
    window.asks_before_closing = False


def test_a_folder_that_cannot_be_written_is_told_and_the_edits_stay(qtbot, window, tmp_path):
    window.document.edit("Add", lambda p: edits.new_signal(p, p.signals[0].cls))
    assert not window._save_to(tmp_path / "no" / "such" / "folder.spoke")
    assert "could not be written" in window.message.text() and window.document.dirty


def test_verdicts_go_with_the_edit_that_could_change_them_and_stay_with_one_that_cannot(qtbot, window):
    window.proof.list.setCurrentRow(1)
    window.proof.run_selected()
    qtbot.waitUntil(lambda: window.proof.worker is None and len(window.document.results) == 1, timeout=20_000)
    document = window.document
    document.edit("word", lambda p: edits.change_item(p, "requirements", 0, text="Another sentence."))
    document.edit("place", lambda p: edits.change_item(p, "devices", 0, at=(5, 5)))
    assert len(document.results) == 1
    document.edit(
        "rows", lambda p: replace(p, scenarios=(*p.scenarios, Scenario("More", "run for 1 s\nexpect no alarms")))
    )
    assert len(document.results) == 1
    document.edit("time", lambda p: edits.change_step(p, "Roast", "Drop", longest="T#9s"))
    assert document.results == {}


def test_choices_are_offered_in_cells_that_have_them(qtbot, window):
    window.show_stage(1)
    view = window.signals.view
    assert type(view.itemDelegateForColumn(1)).__name__ == "ChoiceDelegate"
    index = view.model().index(24, 1)
    editor = view.itemDelegateForColumn(1).createEditor(view.viewport(), None, index)
    view.itemDelegateForColumn(1).setEditorData(editor, index)
    assert editor.currentText() == "output" and editor.count() == 4
    editor.setCurrentText("internal")
    view.itemDelegateForColumn(1).setModelData(editor, view.model(), index)
    assert window.document.project.signals[24].cls == "internal"


def test_new_devices_find_a_free_cell(roastery):
    assert free_cell(roastery) not in {d.at for d in roastery.devices}
    assert free_cell(Project()) == (0, 0)


def test_help_lists_every_command_with_its_key(qtbot, window):
    window.table.actions["help.keys"].trigger()
    page = window.findChild(QTextBrowser)
    assert all(c.name in page.toPlainText() for c in window.table.commands.values())
    assert page.window().height() < window.height()
    page.window().close()


def test_rows_move_with_their_transitions_and_ways_are_added_and_deleted(qtbot, window):
    window.show_stage(2)
    view = window.sequence.sheets["Roast"]
    window.selection.set(Place("step", "Roast", "Rest"))
    before = set(window.document.project.sequence("Roast").transitions)
    window.table.actions["seq.up"].trigger()
    q = window.document.project.sequence("Roast")
    assert [s.name for s in q.steps[8:10]] == ["Rest", "RoastDark"] and set(q.transitions) == before
    assert view.current_step() == "Rest"
    window.table.actions["seq.way"].trigger()
    q = window.document.project.sequence("Roast")
    assert [t.targets for _, t in q.leaving("Rest")] == [("AwaitTray",), ("Idle",)]
    row = next(
        i for i in range(view.sheet.rowCount()) if view.sheet.step_at(i).name == "Rest" and not view.sheet.row(i).first
    )
    view.setCurrentIndex(view.sheet.index(row, view.sheet.awaits))
    window.table.actions["seq.delete"].trigger()
    assert [t.targets for _, t in window.document.project.sequence("Roast").leaving("Rest")] == [("AwaitTray",)]
    window.table.actions["seq.renumber"].trigger()
    assert [s.number for s in window.document.project.sequence("Roast").steps] == list(range(10, 160, 10))


@pytest.mark.parametrize("kind", sorted(KINDS))
@pytest.mark.parametrize("driven", [False, True])
def test_each_device_draws_its_state_within_its_card(kind, driven):
    """Something is drawn, nothing outside of 132 x 78, and what is driven looks different."""
    device = build(Device("D", kind), 10)
    n = len(device.drive_terminals())
    still = device.turn(device.start(), 0, (False,) * n, frozenset(), 0)
    moved = device.turn(still, 0, tuple(driven and i == 0 for i in range(n)), frozenset(), int(driven))

    def drawn(state: State) -> QImage:
        image = QImage(172, 118, QImage.Format.Format_ARGB32)
        image.fill(Qt.GlobalColor.transparent)
        painter = QPainter(image)
        painter.translate(20, 20)
        own = {"<On": float(driven and state is moved)} if kind == "own" else {}
        DRAWINGS[kind](painter, device.picture(state, 400) | own, device.value, {})
        painter.end()
        return image

    image = drawn(moved)
    marks = [(x, y) for x in range(image.width()) for y in range(image.height()) if image.pixelColor(x, y).alpha()]
    assert len(marks) > 200
    assert min(x for x, _ in marks) >= 18 and max(x for x, _ in marks) <= 20 + 134
    assert min(y for _, y in marks) >= 18 and max(y for _, y in marks) <= 20 + 80
    assert (image == drawn(still)) is not driven


def test_findings_are_filtered_mended_by_one_click_and_waived_with_a_reason(qtbot, window):
    wrong = edits.change_step(window.document.project, "Roast", "Charge", longest="")
    wrong = edits.add_item(wrong, "signals", replace(wrong.signals[0], name="Spare", address=""))
    window.document.replace(wrong, None)
    panel = window.findings
    codes = [d.code for d in panel._rows]
    assert {"no-longest", "read-nowhere"} <= set(codes)
    panel.filter.setText("spare")
    assert [d.code for d in panel._rows] == ["read-nowhere"]
    panel.list.setCurrentItem(panel.row(0))
    assert panel.mend.text() == "Delete Spare"
    qtbot.mouseClick(panel.mend, Qt.MouseButton.LeftButton)
    assert window.document.project.signal("Spare") is None and panel._rows == []
    window.document.undo()
    assert window.document.project.signal("Spare") is not None
    panel.filter.clear()
    window.document.check()
    panel.list.setCurrentItem(panel.row([d.code for d in panel._rows].index("no-longest")))
    panel.reason.setText("why")
    qtbot.keyClick(panel.reason, Key.Key_Return)
    assert "say why it may stand" in window.message.text()
    panel.reason.setText("beans are let in by hand")
    qtbot.keyClick(panel.reason, Key.Key_Return)
    assert "no-longest" not in [d.code for d in panel._rows]
    panel.shown.setCurrentText("waived")
    assert panel.row(0).text(3) == "beans are let in by hand"
    panel.list.setCurrentItem(panel.row(0))
    assert panel.waive.text() == "Take the waiver away"
    qtbot.mouseClick(panel.waive, Qt.MouseButton.LeftButton)
    assert window.document.project.waivers == ()
