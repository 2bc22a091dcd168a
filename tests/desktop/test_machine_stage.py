"""The machine stage: wiring that proposes itself, devices made of signals, connections, groups, labels, own devices."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication, QComboBox, QPushButton

from spokeshave.desktop.machine_board import cards
from spokeshave.language.declared import declared_text, read_declared
from spokeshave.machine.device import in_words
from spokeshave.machine.kinds import KINDS, failures_of, terminals_of
from spokeshave.model import board_edits, edits, flow_edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError, new_sequence
from spokeshave.model.project import Connection, Device, Project, Signal, SignalClass, Type
from tests.looks import drawn

from ..core.test_machine_together import line, own

LEFT = Qt.MouseButton.LeftButton
IN, OUT = SignalClass.INPUT, SignalClass.OUTPUT


def show(window, project: Project):
    window.document.replace(project, None)
    window.runner.reset()
    window.show_stage(3)
    return window.machine


def bare() -> Project:
    names = [("ArmOut", OUT), ("ArmIn", OUT), ("ArmIsOut", IN), ("ArmIsIn", IN), ("Drum", OUT), ("DrumRuns", IN)]
    return new_sequence(Project(signals=tuple(Signal(n, c) for n, c in names)))


def choose(panel, *names: str) -> None:
    for i in range(panel.signals.count()):
        item = panel.signals.item(i)
        item.setSelected(item.data(Qt.ItemDataRole.UserRole) in names)


def test_a_device_is_made_of_chosen_signals_and_the_rest_wires_itself(qtbot, window):
    page = show(window, bare())
    panel = page.wiring
    assert panel.heads["signals"].text() == "6 signals without a device"
    choose(panel, "ArmOut", "ArmIn", "ArmIsOut", "ArmIsIn")
    assert panel.kind.currentData() == "actuator"
    qtbot.mouseClick(panel.make, LEFT)
    arm = window.document.project.devices[0]
    assert (arm.name, len(arm.wires)) == ("Arm", 4) and window.selection.place.item == "Arm"
    assert panel.signals.count() == 2
    page.kind.setCurrentIndex(page.kind.findData("motor"))
    page.add()
    index = len(window.document.project.devices) - 1
    window.document.edit("Name", lambda p: edits.change_item(p, "devices", index, name="Drum1"))
    assert [panel.proposed.item(i).text().split("   ")[0] for i in range(panel.proposed.count())] == [
        "Drum1.run ← Drum", "Drum1.running ← DrumRuns"
    ]  # fmt: skip
    panel.proposed.item(1).setCheckState(Qt.CheckState.Unchecked)
    qtbot.mouseClick(panel.accept, LEFT)
    assert window.document.project.devices[1].wires == (("run", "Drum"),)
    window.document.undo()
    assert window.document.project.devices[1].wires == ()
    choose(panel, "Drum")
    panel.kind.setCurrentIndex(panel.kind.findData("vessel"))
    assert panel.make_device()
    choose(panel, "DrumRuns")
    panel.kind.setCurrentIndex(panel.kind.findData("lamp"))
    assert not panel.make_device()
    assert "DrumRuns finds no terminal" in window.message.text()


def test_exchanged_switches_are_seen_on_the_board_and_put_right_by_one_click(qtbot, window):
    wires = (("extend", "Gate"), ("extended", "GateClosed"), ("retracted", "GateOpened"))
    signals = (Signal("Gate", OUT), Signal("GateOpened", IN), Signal("GateClosed", IN))
    project = new_sequence(Project(signals=signals, devices=(Device("Gate1", "actuator", wires),)))
    page = show(window, project)
    assert cards.short_names(project.devices[0])["retracted"] == "Opened"
    window.runner.run_for(100)
    wrong = page.board.grab().toImage()
    panel = page.wiring
    assert panel.proposed.item(0).text() == "⚠ Gate1: GateClosed and GateOpened look exchanged"
    assert any(d.code == "wires-exchanged" for d in window.document.findings)
    qtbot.mouseClick(panel.accept, LEFT)
    assert dict(window.document.project.devices[0].wires)["extended"] == "GateOpened"
    assert panel.proposed.count() == 0 and page.board.grab().toImage() != wrong


def test_devices_are_picked_connected_grouped_and_deleted(qtbot, window):
    page = show(window, replace(line(), connections=()))
    board = page.board

    def click(name: str, keys=Qt.KeyboardModifier.NoModifier) -> None:
        at = board.cell(window.document.project.device(name)).center().toPoint()
        qtbot.mouseClick(board, LEFT, keys, at)

    window.document.edit(
        "Spread", lambda p: replace(p, devices=tuple(replace(d, at=(i, 0)) for i, d in enumerate(p.devices)))
    )
    click("Feed")
    assert not page.connect_button.isEnabled()
    click("Bin", Qt.KeyboardModifier.ControlModifier)
    assert board.picked == ["Feed", "Bin"] and page.connect_button.isEnabled()
    before = board.grab().toImage()
    assert page.connect_picked("belt end")
    assert window.document.project.connections == (Connection("Feed", "Bin", "belt end"),)
    assert board.grab().toImage() != before
    assert not page.connect_picked("belt end"), "once is enough"
    page.group_button.click()
    assert window.document.project.groups[0].devices == ("Feed", "Bin")
    frame = cards.group_frame(window.document.project, window.document.project.groups[0])
    qtbot.mouseDClick(board, LEFT, pos=((frame.topLeft() + QPointF(12, 6)) * board.scale).toPoint())
    board._line.setText("Infeed")
    board._line.editingFinished.emit()
    assert window.document.project.groups[0].name == "Infeed"
    board._pick(["Feed", "Bin"])
    page.group_button.click()
    assert window.document.project.groups == ()
    form = window.details.fields
    click("Bin")
    form = window.details.fields
    box = form["items"]
    assert "Feed: off" in [box.itemText(i) for i in range(box.count())]
    box.setCurrentText("Feed: off")
    box.activated.emit(box.currentIndex())
    assert window.document.project.connections == (Connection("Feed", "Bin", "belt end", "off", "items"),)
    box = window.details.fields["from Feed (off)"]
    box.setCurrentText("pipe")
    box.activated.emit(0)
    assert window.document.project.connections[0].kind == "pipe"
    box = window.details.fields["items"]
    box.setCurrentText("-")
    box.activated.emit(0)
    assert window.document.project.connections == ()
    click("Feed")
    page.remove()
    assert [d.name for d in window.document.project.devices] == ["Flap", "Bin"]


def test_labels_are_typed_dragged_and_taken_away(qtbot, window):
    page = show(window, line())
    page.add_label()
    edit = page.board._line
    edit.setText("Infeed")
    edit.editingFinished.emit()
    (label,) = window.document.project.labels
    assert label.text == "Infeed"
    board = page.board
    start = cards.cell(label.at).center()
    qtbot.mousePress(board, LEFT, pos=(start * board.scale).toPoint())
    to = (cards.cell((2, 2)).center() * board.scale).toPoint()
    qtbot.mouseMove(board, to)
    qtbot.mouseRelease(board, LEFT, pos=to)
    assert window.document.project.labels[0].at == (2, 2)
    qtbot.mouseDClick(board, LEFT, pos=to)
    board._line.setText("")
    board._line.editingFinished.emit()
    assert window.document.project.labels == ()


def test_a_device_dragged_onto_another_changes_places_with_it(qtbot, window):
    page = show(window, replace(line(), devices=tuple(replace(d, at=(i, 0)) for i, d in enumerate(line().devices))))
    board = page.board
    a, b = (board.cell(window.document.project.device(n)).center().toPoint() for n in ("Feed", "Bin"))
    qtbot.mousePress(board, LEFT, pos=a)
    qtbot.mouseMove(board, b)
    qtbot.mouseRelease(board, LEFT, pos=b)
    assert {d.name: d.at for d in window.document.project.devices} == {"Feed": (2, 0), "Flap": (1, 0), "Bin": (0, 0)}


def typed(field, text):
    """Types a text and leaves the field."""
    field.setPlainText(text)
    field.document().setModified(True)
    field.left()


def test_an_own_device_is_written_in_the_details_and_its_faults_are_told(qtbot, window):
    show(window, own())
    window.selection.set(Place("device", item="Scale"))
    text = window.details.fields["Text"]
    text.setFocus()
    text.setPlainText("Half := On; Mass := 2.5;")
    text.clearFocus()
    QApplication.processEvents()
    if window.document.project.devices[0].text != "Half := On; Mass := 2.5;":
        typed(text, "Half := On; Mass := 2.5;")
    assert window.document.project.devices[0].text == "Half := On; Mass := 2.5;"
    window.runner.run_for(50)
    assert window.runner.session.situation.v[window.runner.session.program.slots["kg"]] == 2.5
    declares = window.details.fields["Declares"]
    typed(declares, "input On\noutput Half\noutput Mass REEL")
    assert "line 3: REEL is no type" in window.message.text()
    typed(declares, "input On\noutput Half\noutput Mass REAL\nvariable Level REAL := 1.5")
    assert window.document.project.devices[0].declared[-1].initial == 1.5


@pytest.mark.parametrize("bad", ["inpt On", "input", "variable N INT := x", "input On BOOL TRUE", "variable N WORD"])
def test_declarations_that_say_nothing_are_refused_with_their_line(bad):
    with pytest.raises(ValueError, match="line 2"):
        read_declared(f"input A\n{bad}")
    assert read_declared(declared_text(own().devices[0].declared)) == own().devices[0].declared


def test_edits_of_connections_and_groups_that_make_no_sense_are_refused():
    project = line()
    for words in (("Feed", "Feed", "pipe"), ("Feed", "Bin", "rope"), ("Feed", "Nothing", "pipe")):
        with pytest.raises(EditError):
            board_edits.connect(project, *words)
    coupled = board_edits.couple(project, "Bin", "outlet", "Flap", "passable")
    assert coupled.device("Bin").wired("outlet") == ""
    assert board_edits.couple(coupled, "Bin", "outlet") == replace(coupled, connections=project.connections)
    grouped = board_edits.group(board_edits.group(project, ["Feed", "Bin"]), ["Bin", "Flap"])
    assert [g.devices for g in grouped.groups] == [("Feed",), ("Bin", "Flap")]
    assert board_edits.remove_devices(grouped, ["Feed"]).groups == grouped.groups[1:]


def test_setpoints_follow_the_pointer_and_the_wheel_and_belts_take_items_by_hand(qtbot, window):
    devices = (
        Device("Speed", "setpoint", (("value", "V"),), (("most", 50.0), ("step", 5.0))),
        Device("Line", "belt", at=(1, 0)),
    )
    project = new_sequence(Project(signals=(Signal("V", IN, Type.REAL),), devices=devices))
    window.document.replace(project, None)
    window.runner.reset()
    window.show_stage(4)
    window.runner.run_for(50)
    board, r = window.bench.board, window.runner
    cell = board.cell(devices[0])
    qtbot.mousePress(board, LEFT, pos=QPoint(int(cell.center().x()), int(cell.center().y())))
    qtbot.mouseMove(board, QPoint(int(cell.right() - 2), int(cell.center().y())))
    qtbot.mouseRelease(board, LEFT, pos=QPoint(int(cell.right() - 2), int(cell.center().y())))
    r.run_for(20)
    slot = r.session.program.slots["v"]
    assert r.session.situation.v[slot] == 50.0
    at = QPointF(cell.center())
    down = QWheelEvent(at, board.mapToGlobal(at), QPoint(), QPoint(0, -120), Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
                       Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    QApplication.sendEvent(board, down)
    r.run_for(20)
    assert r.session.situation.v[slot] == 45.0
    qtbot.mouseClick(board, LEFT, pos=board.cell(devices[1]).center().toPoint())
    r.run_for(50)
    belt = r.session.program.devices[1].device
    assert len(belt.items(r.session.situation.dev_state[1], r.session.k)) == 1
    qtbot.mouseClick(board, LEFT, Qt.KeyboardModifier.ShiftModifier, pos=board.cell(devices[1]).center().toPoint())
    r.run_for(50)
    assert not belt.items(r.session.situation.dev_state[1], r.session.k)
    assert QEvent.Type.Wheel == down.type()


def test_between_two_scans_a_slow_run_draws_in_between(qtbot, window):
    window.show_stage(4)
    r = window.runner
    r.do("drive", "", True)
    r.run_for(20)
    r.do("ask", "Gate", True)
    r.run_for(200)
    program, s = r.session.program, r.session.situation
    index = next(i for i, d in enumerate(program.devices) if d.name == "ChargeGate")
    places = [cards.device_picture(cards.Sight(program, s, part), index)["position"] for part in (0.0, 0.5, 1.0)]
    assert places[0] < places[1] < places[2] and places[1] == pytest.approx((places[0] + places[2]) / 2)


def everything() -> Project:
    """One device of every kind, wired to what its names propose."""
    devices = tuple(
        Device(f"Part{i}", kind, at=(i % 5, i // 5), declared=own().devices[0].declared if kind == "own" else ())
        for i, kind in enumerate(KINDS)
    )
    return new_sequence(Project(devices=devices))


def test_a_form_shows_what_a_device_needs_first_and_folds_the_rest(window):
    bin_ = Device("Bin", "vessel", (("inlet2", "Fill"),), (("leak_l_s", 2.0),))
    signals = (Signal("Fill", SignalClass.OUTPUT),)
    show(window, replace(everything(), devices=(*everything().devices, bin_), signals=signals))
    window.selection.set(Place("device", item="Bin"))
    details = window.details
    shown = [label for label, field in details.fields.items() if field.isVisible()]
    assert {"inlet", "inlet 2", "outlet", "low", "high", "leak (l/s)", "inlet 2 (l/s)"} <= set(shown)
    assert not {"inlet 3", "pulses of the inlets", "inlet 3 (l/s)", "middle (l)"} & set(shown)
    folds = [b for b in details.findChildren(QPushButton) if b.objectName() == "fold"]
    assert [f.text() for f in folds] == ["▸ More to wire (9)", "▸ More parameters (7)"]
    folds[0].click()
    assert details.fields["pulses of the inlets"].isVisible() and folds[0].text().startswith("▾")
    assert not details.fields["middle (l)"].isVisible()
    window.selection.set(Place("signal", item="Fill"))
    window.selection.set(Place("device", item="Bin"))
    assert details.fields["inlet 3"].isVisible(), "it stays open"


def test_every_kind_is_edited_in_the_details_and_each_failure_shows_on_its_card(window):
    page = show(window, everything())
    for kind in KINDS:
        _edit_and_fail(window, page, kind)


def _edit_and_fail(window, page, kind):
    """Parameters of one device are edited in its form, and it is failed and mended by the menu of its card."""
    d = next(d for d in window.document.project.devices if d.kind == kind)
    window.selection.set(Place("device", item=d.name))
    fields = window.details.fields
    assert {t.words for t in terminals_of(d)} <= fields.keys()
    for parameter in KINDS[kind].parameters[:2]:
        # A parameter's label ends with its unit; a terminal of the same name has a list to choose from.
        words = in_words(parameter.name)
        label = next(
            n for n, w in fields.items() if words.startswith(n.split(" (")[0]) and not isinstance(w, QComboBox)
        )
        field = window.details.fields[label]
        if parameter.flag:
            field.click()
            wanted = 0.0 if parameter.default else 1.0
        else:
            wanted = parameter.default + 1
            field.setText(f"{wanted:g}")
            field.setModified(True)
            field.editingFinished.emit()
        now = dict(next(x for x in window.document.project.devices if x.name == d.name).parameters)
        assert now[parameter.name] == wanted
    window.runner.run_for(100)
    before = page.board.grab().toImage()
    menu = page.board.failure_menu(d)
    texts = [a.text() for a in menu.actions()]
    failures = failures_of(d)
    assert texts == [
        *([f"Inject: {f}" for f in failures] or ["This device cannot fail"]),
        "",
        "Where it is used\tCtrl+Alt+U",
    ]
    for action, failure in zip(menu.actions(), failures):
        action.trigger()
        window.runner.one_scan()
        index = page.board.index_of(d.name)
        assert failure in window.runner.session.situation.dev_failed[index]
    if failures:
        assert page.board.grab().toImage() != before
        mend = next(a for a in page.board.failure_menu(d).actions() if a.text() == "Clear all its failures")
        mend.trigger()
        window.runner.one_scan()
        assert not window.runner.session.situation.dev_failed[page.board.index_of(d.name)]
    menu.deleteLater()


def test_a_bad_parameter_is_told_and_stops_nothing_else(qtbot, window):
    show(window, line())
    window.selection.set(Place("device", item="Flap"))
    field = window.details.fields["extend (s)"]
    field.setText("fast")
    field.setModified(True)
    field.editingFinished.emit()
    assert "'fast' is not a number" in window.message.text()
    field = window.details.fields["extend (s)"]
    assert field.text() == "0.3"
    field.setText("-1")
    field.setModified(True)
    field.editingFinished.emit()
    assert any("extend_s: -1 s is too small" in d.message for d in window.document.findings) or window.runner.problem
    window.document.check()
    assert any("extend_s: -1 s is too small" in d.message for d in window.document.findings)
    window.document.undo()
    assert not window.runner.problem


def test_hazards_are_read_on_the_card_and_stand_in_the_diagram(qtbot, window):
    signals = (Signal("Fill", OUT),)
    bin_ = Device("Bin", "vessel", (("inlet", "Fill"),), (("volume_l", 1.0),))
    window.document.replace(
        replace(new_sequence(Project(signals=signals, devices=(bin_,))), closing="Fill := TRUE;"), None
    )
    window.runner.reset()
    window.show_stage(4)
    window.runner.run_for(900)
    calm = window.bench.board.grab().toImage()
    window.runner.run_for(300)
    assert window.runner.session.situation.hazards == {(0, "overfilled")}
    assert window.bench.board.grab().toImage() != calm
    assert [(e.k, e.text) for e in window.runner.session.trace.events if e.kind == "hazard"] == [
        (101, "Bin is overfilled")
    ]


def test_devices_are_drawn_at_rest_while_the_logic_cannot_run(window):
    window.show_stage(3)
    window.document.edit("break", lambda p: flow_edits.change_transition(p, "Roast", 0, condition="StartButton AND"))
    assert window.runner.session is None
    sight = window.machine.board.sight()
    assert [d.name for d in sight.program.devices] == [d.name for d in window.document.project.devices]
    assert drawn(window.machine.board)
    window.document.edit("two", lambda p: replace(p, devices=(*p.devices, replace(p.devices[0], kind="unheard of"))))
    assert window.machine.board.sight() is None and drawn(window.machine.board)


def test_devices_that_names_speak_of_are_made_by_one_click(qtbot, window):
    names = {
        "GateDrive": SignalClass.OUTPUT,
        "GateOpen": SignalClass.INPUT,
        "Start": SignalClass.INPUT,
        "Other": SignalClass.INPUT,
    }
    signals = tuple(Signal(n, c) for n, c in names.items())
    window.document.replace(replace(new_sequence(Project()), signals=signals), None)
    window.show_stage(3)
    QApplication.processEvents()
    page = window.machine
    make = page.empty.buttons[0]
    assert page.empty.isVisible() and make.text() == "Make 2 devices" and make.isVisible()
    page.wiring.proposed.item(1).setCheckState(Qt.CheckState.Unchecked)
    qtbot.mouseClick(make, Qt.MouseButton.LeftButton)
    assert [(d.name, d.kind) for d in window.document.project.devices] == [("Gate", "actuator")], (
        "what is not ticked is left"
    )
    assert not page.empty.isVisible() and page.wiring.proposed.count() == 1
    page.wiring.proposed.item(0).setCheckState(Qt.CheckState.Checked)
    qtbot.mouseClick(page.wiring.accept, Qt.MouseButton.LeftButton)
    assert [d.name for d in window.document.project.devices] == ["Gate", "StartButton"]
    assert page.wiring.proposed.count() == 0 and page.wiring.signals.count() == 1, "Other says nothing"
    board = page.whole.sizes()[0]
    window.document.edit("Other goes", lambda p: replace(p, signals=p.signals[:-1]))
    assert page.wiring.finished and page.wiring.done.isVisible() and not page.wiring.lists.isVisible()
    assert page.whole.sizes()[0] > board, "the board has the room of the lists"
    window.selection.set(Place("device", item="StartButton"))
    qtbot.keyClick(page.board, Qt.Key.Key_Delete)
    assert [d.name for d in window.document.project.devices] == ["Gate"] and page.wiring.lists.isVisible()
    assert page.whole.sizes()[1] > page.wiring.done.sizeHint().height()
    window.document.undo()
    window.document.undo()
    window.document.undo()
    window.document.undo()
    window.document.edit("none speaks", lambda p: replace(p, signals=(Signal("Other", SignalClass.INPUT),)))
    QApplication.processEvents()
    assert page.empty.isVisible() and not make.isVisible() and "Choose signals below" in page.empty.says.text()
