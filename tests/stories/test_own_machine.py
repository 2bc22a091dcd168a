"""A machine of one's own in a real window, from nothing to code that protects: two named sequences, a latching stop with a
reset, a timer, a counter and a number output; saved, closed, opened, proven by three scenarios, exported.
"""

from __future__ import annotations

import subprocess
import sys

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit

from spokeshave.desktop.document import Document
from spokeshave.desktop.sequence.sheet import STEP
from spokeshave.formats import spoke
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project
from spokeshave.reading import read_project
from spokeshave.verify.check.remedies import remedy
from tests.stories.test_from_nothing import typed

pytestmark = pytest.mark.window
Key = Qt.Key

SIGNALS = """name	class	type	address	contact	comment
Go	input	BOOL	%IX0.0	NO	start button
StopOk	input	BOOL	%IX0.1	NC	emergency stop
Again	input	BOOL	%IX0.2	NO	reset button
AtWax	input	BOOL	%IX0.3	NO	rack in the wax
AtTop	input	BOOL	%IX0.4	NO	rack above the wax
Lower	output	BOOL	%QX0.0		rack down
Heater	output	BOOL	%QX0.1		keeps the wax warm
Pump	output	BOOL	%QX0.2		stirs the wax
Speed	output	REAL	%QD4		of the rack
Dips	internal	INT			counted
Soaked	internal	BOOL			long enough in the wax
"""
DIP = """No.	Step	Lower	Speed	Heater	Awaits	Longest	Next
10	Rest			X	RISING(Go)		Sink
20	Sink	X		X	AtWax	4s	Soak
30	Soak	X		X	Soaked	9s	Rise
40	Rise			X	AtTop	4s	Rest
"""
SCENARIOS = {
    "One dip": "at 500 ms: press GoButton\nrun for 12 s\nexpect order Dip: Rest, Sink, Soak, Rise, Rest\nexpect finally Dips = 1\n"
    "expect while Dip.Sink.X: Speed = 0.8\nexpect no alarms",
    "Soaks for two seconds": "at 500 ms: press GoButton\nrun for 12 s\nexpect Dip.Soak lasts at least 2 s\nexpect Dip.Soak lasts at most 2100 ms",
    "Stopped in the wax": "at 500 ms: press GoButton\non Dip.Soak, 500 ms later: hold Stop\nafter 1 s: release Stop\nafter 500 ms: press Reset\n"
    "run for 8 s\nexpect alarm \"trip Emergency\"\nexpect whenever NOT StopOk then within 0 ms NOT (Lower OR Heater OR Pump)\n"
    "expect finally Dip.Rest.X",
}  # fmt: skip


def field(qtbot, window, place: Place, label: str, text: str) -> None:
    """Types into a field of the details and presses Return."""
    window.selection.go(place)
    if not window.details.isVisible():
        window.toggle_details()
    edit = window.details.fields[label]
    assert isinstance(edit, QLineEdit)
    edit.setFocus()
    edit.selectAll()
    qtbot.keyClicks(edit, text)
    qtbot.keyClick(edit, Key.Key_Return)
    QApplication.processEvents()


def row_of(sheet, step: str) -> int:
    return next(i for i in range(sheet.rowCount()) if sheet.step_at(i).name == step)


def test_a_machine_of_ones_own_from_nothing_to_code_that_protects(qtbot, opened, tmp_path):
    window = opened(Document(new_sequence(Project())))
    document = window.document
    clipboard = QApplication.clipboard()

    # The file, and its signals from a spreadsheet.
    field(qtbot, window, Place("project"), "Name", "Dipping table")
    window.show_stage(1)
    clipboard.setText(SIGNALS)
    window.signals.list.view.paste()
    assert len(document.project.signals) == 11 and not window.message.text().startswith("✕")

    # Two sequences with names of their own: one from a table, one typed.
    field(qtbot, window, Place("sequence", item="Sequence"), "Name", "Dip")
    window.show_stage(2)
    view = window.sequence.sheets["Dip"]
    view.setCurrentIndex(view.sheet.index(0, STEP))
    view.setFocus()
    clipboard.setText(DIP.replace("\tSpeed", "").replace("\t\tX", "\tX").replace("X\t\tX", "X\tX"))
    view.paste()
    assert [s.name for s in document.project.sequence("Dip").steps] == ["Rest", "Sink", "Soak", "Rise"]
    for step, speed in (("Sink", "0.8"), ("Rise", "0.4")):
        typed(qtbot, view, row_of(view.sheet, step), 3 + view.sheet.targets.index("Speed"), speed)
    window.new_sequence()
    field(qtbot, window, Place("sequence", item=document.project.sequences[1].name), "Name", "Stir")
    view = window.sequence.sheets["Stir"]
    typed(qtbot, view, 0, STEP, "Still")
    typed(qtbot, view, 1, STEP, "Stirring")
    typed(qtbot, view, 0, view.sheet.awaits, "Dip.Soak.X")
    typed(qtbot, view, 1, view.sheet.awaits, "NOT Dip.Soak.X")
    view.setCurrentIndex(view.sheet.index(1, 3 + view.sheet.targets.index("Pump")))
    qtbot.keyClick(view, Key.Key_Space)

    # A counter in a body that is made from its name; a timer in the opening logic, declared by the remedy.
    window.sequence.show_sequence("Dip")
    field(qtbot, window, Place("step", "Dip", "Rise"), "Add an action", "P1 CountDip")
    window.selection.go(Place("body", "Dip", "CountDip"))
    window.show_face("code")
    QApplication.processEvents()
    code = window.sequence.codes["Dip"]
    code.choice.setCurrentText("Body CountDip")
    code.text.setPlainText("Dips := Dips + 1;")
    code.apply()
    code.apply()
    assert document.project.sequence("Dip").bodies[-1].text == "Dips := Dips + 1;"
    window.selection.go(Place("opening"))
    window.signals.opening.text.setPlainText(
        "Soaking(IN := Dip.Soak.X, PT := T#2s);\nSoaked := Soaking.Q;\nIF Dips >= 500 THEN Dips := 0; END_IF;"
    )
    window.signals.opening.apply()
    document.check()
    found = next(d for d in document.findings if d.severity == "error")
    title, mend = remedy(document.project, found)
    assert title == "Declare Soaking as TON" and document.edit(title, mend)

    # A latching stop with its reset, and what may not move.
    field(qtbot, window, Place("project"), "Reset", "RISING(Again)")
    window.show_proof(window.proof.matrix)
    panel = window.proof.matrix
    for kind, guards, text in (("trip", "Emergency", "NOT StopOk"), ("interlock", "Lower", "StopOk")):
        panel.kind.setCurrentText(kind)
        panel.guards.setCurrentText(guards)
        panel.text.setText(text)
        qtbot.keyClick(panel.text, Key.Key_Return)
    (trip,) = document.project.trips
    assert trip.latching and trip.scope is None and document.project.interlocks[0].condition == "StopOk"
    panel.go_to(Place("trip", item="Emergency"))
    for box, words in ((panel.trip.steps, "go to the initial situation"), (panel.trip.times, "go to zero")):
        box.setCurrentText(words)
        box.activated.emit(box.currentIndex())
    assert (document.project.trips[0].steps, document.project.trips[0].times) == ("restart", "zero")

    # What answers: a rack, three hands.
    window.show_stage(3)
    for kind, name, wires in (
        ("actuator", "Rack", {"extend": "Lower", "extended": "AtWax", "retracted": "AtTop"}), ("button", "GoButton", {"contact": "Go"}),
        ("emergency", "Stop", {"contact": "StopOk"}), ("button", "Reset", {"contact": "Again"}),
    ):  # fmt: skip
        window.machine.kind.setCurrentIndex(window.machine.kind.findData(kind))
        window.machine.add()
        for terminal, signal in wires.items():
            box = window.details.fields[terminal]
            assert isinstance(box, QComboBox)
            box.setCurrentText(signal)
            box.activated.emit(box.currentIndex())
        field(qtbot, window, Place("device", item=document.project.devices[-1].name), "Name", name)
    document.check()
    assert [str(d) for d in document.findings if d.severity == "error"] == []

    # Three scenarios.
    for name, text in SCENARIOS.items():
        window.add_scenario()
        scenarios = window.proof.scenarios
        scenarios.name.setText(name)
        scenarios.name.editingFinished.emit()
        scenarios.text.setPlainText(text)
        scenarios.apply_text()

    # Saved, closed, opened.
    path = tmp_path / "dipping.spoke"
    assert window._save_to(path) and not document.dirty
    window.close()
    window = opened(Document(read_project(path), path))
    assert window.document.project == spoke.read(path) == document.project
    window.run_proof()
    qtbot.waitUntil(lambda: window.proof.worker is None and len(window.document.results) == 3, timeout=300_000)
    assert window.proof.status.text() == "3 of 3 passed"

    # Code that protects, shown to do the same.
    out = tmp_path / "dipping.st"
    done = subprocess.run([sys.executable, "-m", "spokeshave", "convert", str(path), str(out), "--style", "case", "--prove"],
                          capture_output=True, text=True, timeout=200, check=False)  # fmt: skip
    assert done.returncode == 0 and "no difference" in done.stdout, done.stdout + done.stderr
    assert "IF Lower_Asked AND NOT (StopOk) THEN Lower := FALSE; END_IF;" in out.read_text()
