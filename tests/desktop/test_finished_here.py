"""A machine is finished in the desktop: forms that update in place, what they reach, blocks, numbers, columns."""

from __future__ import annotations

import dataclasses
from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication

from spokeshave.desktop import detail_forms
from spokeshave.desktop.detail_rows import Fold, Note
from spokeshave.engine.session import Session
from spokeshave.formats import spoke
from spokeshave.language.homes import proposed_home
from spokeshave.model import project as model
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError, new_sequence
from spokeshave.model.numbers import number_in, put_number
from spokeshave.model.project import Instance, Project, Signal, SignalClass, Type
from spokeshave.verify.check import findings
from spokeshave.verify.check.remedies import remedy
from tests.desktop.test_window import cell, sheet_of, type_into

Key = Qt.Key


def form(window, place: Place):
    """The details of an item, in sight."""
    window.selection.go(place)
    if not window.details.isVisible():
        window.toggle_details()
    QApplication.processEvents()
    return window.details.fields


def typed(qtbot, field, text):
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, text)
    qtbot.keyClick(field, Key.Key_Return)
    QApplication.processEvents()


def test_forms_update_in_place_and_the_keyboard_stays_in_them(qtbot, window):
    window.activateWindow()
    fields = form(window, Place("step", "Roast", "Drop"))
    name, comment = fields["Name"], fields["Comment"]
    comment.setFocus()
    comment.selectAll()
    qtbot.keyClicks(comment, "into the tray")
    qtbot.keyClick(comment, Key.Key_Tab)
    QApplication.processEvents()
    assert window.document.project.sequence("Roast").step("Drop").comment == "into the tray"
    assert window.details.fields["Name"] is name and window.details.isAncestorOf(QApplication.focusWidget())
    assert QApplication.focusWidget() is not comment
    typed(qtbot, name, "Empty")
    assert window.document.project.sequence("Roast").step("Empty") is not None
    assert window.details.fields["Name"] is name and window.details.title.text() == "Step 110 Empty"
    typed(qtbot, name, "Gate")
    assert "Gate is already the name of the output Gate" in window.message.text() and name.text() == "Empty"


def test_the_file_its_sequences_signals_and_blocks_have_forms(qtbot, window):
    document = window.document
    typed(qtbot, form(window, Place("project"))["Scan period (ms)"], "20")
    typed(qtbot, window.details.fields["Reset"], "ResetButton OR StartButton")
    assert (document.project.period_ms, document.project.reset) == (20, "ResetButton OR StartButton")
    typed(qtbot, window.details.fields["Scan period (ms)"], "0")
    assert document.project.period_ms == 20 and "1 to 1000 ms" in window.message.text()
    fields = form(window, Place("sequence", item="Cool"))
    typed(qtbot, fields["Name"], "Tray")
    assert [q.name for q in document.project.sequences] == ["Roast", "Tray"]
    assert window.details.title.text() == "Sequence Tray"
    typed(qtbot, window.details.fields["Hold when"], "NOT TempOk")
    window.details.fields["Keeps its step"].click()
    window.details.fields["Run it earlier"].click()
    q = document.project.sequences[0]
    assert (q.name, q.hold_when, q.retain) == ("Tray", "NOT TempOk", True)
    form(window, Place("signal", item="Batches"))["Kept"].click()
    assert document.project.signal("Batches").retain
    document.edit("a block", lambda p: replace(p, instances=(Instance("Wait", "TON"),)))
    typed(qtbot, form(window, Place("instance", item="Wait"))["Name"], "Delay")
    assert document.project.instances == (Instance("Delay", "TON"),)
    form(window, Place("sequence", item="Roast"))["Delete the sequence"].click()
    assert [q.name for q in document.project.sequences] == ["Tray"]
    document.undo()
    assert len(document.project.sequences) == 2


def test_home_values_make_the_home_of_the_machine(window):
    document = window.document
    document.replace(
        Project(signals=(Signal("AtTop", SignalClass.INPUT), Signal("Fill", SignalClass.INPUT, Type.REAL))), None
    )
    window.show_stage(1)
    table = window.signals.list.table
    home = [c.title for c in table.columns].index("Home")
    assert table.edit_cells({(0, home): "TRUE"}) and document.project.home == "AtTop"
    assert table.edit_cells({(1, home): "0"}) and document.project.home == "AtTop AND Fill = 0.0"
    document.edit("own words", lambda p: replace(p, home="AtTop AND Fill < 0.5"))
    table.edit_cells({(0, home): "FALSE"})
    assert document.project.home == "AtTop AND Fill < 0.5", "what a person wrote stays"
    rows = detail_forms.rows_of(document.project, Place("project"), lambda *a: None)
    button = next(r for r in rows if r.label.startswith("Take the home"))
    assert button.change(document.project, "").home == proposed_home(document.project) == "NOT AtTop AND Fill = 0.0"


def test_a_number_in_a_cell_is_what_the_output_has_while_the_step_is_active(qtbot, window):
    document = window.document
    document.edit("speed", lambda p: replace(p, signals=(*p.signals, Signal("Speed", SignalClass.OUTPUT, Type.REAL))))
    view = sheet_of(window)
    column = 3 + view.sheet.targets.index("Speed")
    type_into(qtbot, view, cell(view, "Charge", column), "0.8")
    type_into(qtbot, view, cell(view, "Drop", column), "0.8")
    type_into(qtbot, view, cell(view, "SpinUp", column), "1")
    q = document.project.sequence("Roast")
    assert [number_in(document.project, q, q.step(n), "Speed") for n in ("Charge", "Drop", "SpinUp", "Idle")] == [
        "0.8",
        "0.8",
        "1.0",
        None,
    ]
    assert len([b for b in q.bodies if b.text.startswith("Speed :=")]) == 2, "steps with one number share it"
    assert not [d for d in findings(document.project) if d.severity == "error"]
    assert view.sheet.targets.count("Speed") == 1 and not [n for n in view.sheet.targets if n.startswith("Speed_")]
    index = cell(view, "SpinUp", column)
    view.sheet.edit_cells({(index.row(), index.column()): ""})
    assert len([b for b in document.project.sequence("Roast").bodies if b.text.startswith("Speed :=")]) == 1
    with pytest.raises(EditError, match="no value"):
        put_number(document.project, "Roast", "Idle", "Speed", "Speed := 3")


def test_numbers_run():
    signals = (Signal("Speed", SignalClass.OUTPUT, Type.REAL),)
    steps = (model.Step("A", 10), model.Step("B", 20))
    ways = (model.Transition(("A",), ("B",), "A.T >= T#50ms"), model.Transition(("B",), ("A",), "B.T >= T#50ms"))
    project = Project(signals=signals, sequences=(model.Sequence("Main", "A", steps, ways),))
    project = put_number(put_number(project, "Main", "A", "Speed", "0.8"), "Main", "B", "Speed", "2")
    session = Session(project)
    session.run_for(130)
    assert [session.trace.at("Speed", k) for k in (0, 4, 5, 9, 10)] == [0.8, 0.8, 2.0, 2.0, 0.8]


def test_a_number_of_an_internal_is_counted_or_set_when_its_step_is_entered(qtbot, window):
    document = window.document
    document.edit("more", lambda p: replace(p, signals=(*p.signals, Signal("Rounds", SignalClass.INTERNAL, Type.INT))))
    view = sheet_of(window)
    assert "Rounds" in view.sheet.can_be_asked() and "Rounds" not in view.sheet.targets
    view.sheet.ask_column("Rounds")
    column = 3 + view.sheet.targets.index("Rounds")
    for step, text in (("Idle", "0"), ("Charge", "+1"), ("Drop", "= -2"), ("SpinUp", "-3")):
        type_into(qtbot, view, cell(view, step, column), text)
        index = cell(view, step, column)
        assert view.sheet.text(index.row(), index.column()) == text
    texts = {b.name: b.text for b in document.project.sequence("Roast").bodies if b.text.startswith("Rounds")}
    assert texts == {"Rounds_Is0": "Rounds := 0;", "Rounds_Plus1": "Rounds := Rounds + 1;", "Rounds_Value": "Rounds := -2;",
                     "Rounds_Minus3": "Rounds := Rounds - 3;"}  # fmt: skip
    signals = (Signal("Speed", SignalClass.INTERNAL, Type.INT),)
    steps = (model.Step("A", 10), model.Step("B", 20))
    ways = (model.Transition(("A",), ("B",), "A.T >= T#50ms"), model.Transition(("B",), ("A",), "B.T >= T#50ms"))
    project = Project(signals=signals, sequences=(model.Sequence("Main", "A", steps, ways),))
    session = Session(put_number(project, "Main", "B", "Speed", "+2"))
    session.run_for(250)
    assert [session.trace.at("Speed", k) for k in (4, 5, 9, 15)] == [0, 2, 2, 4]


def test_a_block_that_is_called_and_not_declared_is_declared_by_a_remedy(window):
    window.document.edit(
        "call", lambda p: replace(p, opening="Wait(IN := StartButton, PT := T#2s);\nCount(CU := GateOpened, PV := 3);")
    )
    for kind in ("TON", "CTU"):
        found = next(d for d in findings(window.document.project) if d.severity == "error")
        title, mend = remedy(window.document.project, found)
        assert title.endswith(f"as {kind}")
        window.document.edit(title, mend)
    assert [(i.name, i.kind) for i in window.document.project.instances] == [("Wait", "TON"), ("Count", "CTU")]
    assert not [d for d in findings(window.document.project) if d.severity == "error"]


def test_blocks_are_watched_on_the_bench_and_their_times_and_counts_set(window):
    logic = "Wait(IN := Drum, PT := T#2s); Count(CU := Drum, PV := 3);"
    window.document.edit(
        "blocks", lambda p: replace(p, opening=logic, instances=(Instance("Wait", "TON"), Instance("Count", "CTU")))
    )
    window.runner.run_for(500)
    window.runner.do("hand", "Start", 1)
    window.runner.run_for(3000)
    model_ = window.bench.values.model
    rows = {r.name: i for i, r in enumerate(model_.rows)}

    def shown(name: str) -> str:
        return model_.index(rows[name], 1).data()

    began = window.runner.session.trace.windows("Drum")[0][0]
    assert shown("Wait.ET") == "T#2s" and shown("Wait.Q") == "TRUE" and shown("Count.CV") == "1"
    assert began < 100
    assert model_.setData(model_.index(rows["Count.CV"], 1), "2", Qt.ItemDataRole.EditRole)
    window.runner.run_for(50)
    assert shown("Count.CV") == "2"
    assert model_.setData(model_.index(rows["Wait.ET"], 1), "T#500ms", Qt.ItemDataRole.EditRole)
    window.runner.run_for(100)
    assert shown("Wait.Q") == "FALSE" and shown("Wait.ET") in ("T#590ms", "T#600ms")


def test_a_new_name_in_an_action_makes_a_body(qtbot, window):
    fields = form(window, Place("step", "Roast", "Rest"))
    typed(qtbot, fields["Add an action"], "P1 CountUp")
    q = window.document.project.sequence("Roast")
    assert q.step("Rest").actions[-1].target == "CountUp" and q.bodies[-1].name == "CountUp"
    assert window.details.fields["Add an action"].text() == ""


def test_internals_and_outputs_of_others_become_columns_when_asked_for(window):
    view = sheet_of(window)
    assert "Stirrer" not in view.sheet.targets
    view.sheet.ask_column("Stirrer")
    assert "Stirrer" in view.sheet.targets
    view.sheet.ask_column("stirrer")
    assert "Stirrer" not in view.sheet.targets


ELSEWHERE = {
    "Requirement": "the brief's table", "Scenario": "the proof's rows and text", "Accepted": "*Accept* in the proof", "Unit": "the units panel",
    "Waiver": "*Waive* in the findings", "Interlock": "the cause-and-effect matrix", "OpposedPair": "the cause-and-effect matrix",
    "Trip": "the cause-and-effect matrix and its words", "SweepPlan": "the sweep's page", "Explained": "the sweep's page",
    "StudyPlan": "the study's text", "Label": "the board", "Group": "the board", "Table": "the tables panel", "Column": "the tables panel",
    "Routine": "its declaration", "Member": "its declaration",
    "BusPoint": "*Serve*", "Shape": "the scene's form", "Tile": "*Lay out* on the operator's page",
    "Recipe": "the recipes' table", "AlarmRule": "the alarms' table", "Conflict": "*Mend* and *Keep mine in all conflicts*",
}  # fmt: skip
"""Types that have an editor of their own."""
REACHED = {
    "Project": {"signals", "opening", "closing", "interlocks", "opposed", "trips", "alarms", "recipes", "devices", "connections", "labels", "groups",
                "scenarios",
                "units", "waivers", "accepted", "sweep", "study", "requirements", "tables", "routines", "foreign", "conflicts", "modbus",
                "low_word_first", "scene", "svg", "panel", "tolerances"},
    "Device": {"kind", "at"}, "Connection": {"source", "target", "gives", "takes"}, "Action": {"qualifier", "time"},
    "Transition": {"sources", "targets"}, "Sequence": {"steps", "transitions", "bodies"}, "Step": {"actions"}, "Body": {"text"},
    "Declared": {"name", "role", "type", "initial"},
}  # fmt: skip
"""Fields that are edited in a table, on a face or on the board: lists by their items, marks in the sheet, wires on the board; `foreign` is
kept for other programs and nobody's to edit."""


def test_every_field_of_the_machine_file_is_reached_by_an_editor(roastery):
    project = replace(roastery, instances=(Instance("Wait", "TON"),))
    q = project.sequences[0]
    places = [Place("project"), Place("sequence", item=q.name), Place("step", q.name, q.steps[1].name), Place("instance", item="Wait"),
              Place("transition", q.name, "", 0), Place("body", q.name, q.bodies[0].name), Place("sequence", item=project.sequences[1].name),
              *(Place("signal", item=s.name) for s in project.signals), *(Place("device", item=d.name) for d in project.devices)]  # fmt: skip
    reached = {
        r.reaches
        for p in places
        for r in detail_forms.rows_of(project, p, lambda *a: None)
        if not isinstance(r, (Fold, Note))
    }
    reached |= {
        "Connection.kind",
        "Device.declared",
        "Device.text",
    }  # own and coupled devices, which the roastery has none of
    for name, spec in {"Project": spoke.schema(), **spoke.schema()["$defs"]}.items():
        if spec.get("type") != "object" or name in ELSEWHERE:
            continue
        fields = set(spec["properties"]) - {"format", "version"}
        missing = {f for f in fields if f"{name}.{f}" not in reached} - REACHED.get(name, set())
        assert not missing, f"no editor reaches {name}: {missing}"
    known = {n for n, x in vars(model).items() if dataclasses.is_dataclass(x)}
    assert set(ELSEWHERE) - {"SweepPlan", "Explained", "StudyPlan"} <= known


def test_empty_views_say_the_next_step_and_offer_it(qtbot, window):
    window.document.replace(Project(), None)
    window.show_stage(2)
    window.sequence.empty.buttons[0].click()
    assert [len(q.steps) for q in window.document.project.sequences] == [2] and window.sequence.current
    window.document.replace(new_sequence(Project()), None)
    for stage, hint in (
        (0, window.brief.empty),
        (1, window.signals.list.empty),
        (4, window.bench.empty),
        (5, window.proof.scenarios.empty),
    ):
        window.show_stage(stage)
        QApplication.processEvents()
        assert hint.isVisible() and hint.says.text() and hint.buttons[0].isVisible(), stage
        hint.buttons[0].click()
        QApplication.processEvents()
        if stage < 2:  # a row to type in, and no item before something is typed
            view = window.brief.view if stage == 0 else window.signals.list.view
            line = view.indexWidget(view.currentIndex())
            qtbot.keyClicks(line, "Gate")
            qtbot.keyClick(line, Qt.Key.Key_Return)
            qtbot.waitUntil(lambda h=hint: not h.isVisible())
    project = window.document.project
    assert window.stage == 5 and len(project.requirements) == len(project.signals) == len(project.scenarios) == 1
    assert not window.proof.scenarios.empty.isVisible() and not window.brief.empty.isVisible()
