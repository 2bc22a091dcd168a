"""The form of modes in the desktop: what it would make is seen while it is filled in, and is one undo."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from spokeshave.desktop.sequence.modes_dialog import ModesDialog
from tests.core.test_modes import hoist
from tests.desktop.test_alarms_page import made as made


def test_modes_are_chosen_seen_made_shown_by_scenarios_and_taken_back(made, qtbot):
    window = made(hoist())
    window.show_stage(2)
    before = window.document.project
    window.table.actions["seq.modes"].trigger()
    (form,) = window.findChildren(ModesDialog)
    assert (
        "MainRun" in form.text.toPlainText()
        and "ByStep" not in form.text.toPlainText()
        and not form.by_step.isEnabled()
    )
    form.steps.click()
    assert "MainMayGo := NOT ByStep OR MainNextStepEdge.Q;" in form.text.toPlainText()
    form.hands.click()
    assert "IF ByHand THEN MainRun := FALSE; END_IF;" in form.text.toPlainText() and not form.outputs.isEnabled()
    form.hands.click()
    form.stop.setText("Raise")
    assert "Raise is no BOOL input" in form.problem.text() and not form.make.isEnabled()
    form.stop.selectAll()
    QTest.keyClicks(form.stop, "Enough")
    assert form.make.isEnabled() and form.problem.text() == ""
    form.kind.setCurrentIndex(2)
    QTest.mouseClick(form.make, Qt.MouseButton.LeftButton)
    project = window.document.project
    assert {"Enough", "NextStep", "ByStep", "Pause", "MainPaused"} <= {s.name for s in project.signals}
    assert {d.name: d.kind for d in project.devices}["ContinuousSwitch"] == "selector"
    assert all(s.permissive == "MainMayGo" for s in project.sequences[0].steps)
    qtbot.waitUntil(lambda: bool(window.document.project.scenarios), timeout=60_000)
    assert (
        len(window.document.project.scenarios) == 8 and "8 scenarios of the group Modes pass" in window.message.text()
    )
    window.document.undo()
    window.document.undo()
    assert window.document.project == before
