"""A program that somebody brought: scenarios propose themselves, an alarm is added, found again, and all is kept."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QLineEdit

from spokeshave.desktop.document import Document
from spokeshave.desktop.proof.alarms import NAME, SHOWN, TEXT, WHEN
from spokeshave.formats.spoke import read
from spokeshave.model.project import Project

PROGRAM = """PROGRAM Filler
VAR_INPUT Go : BOOL; Jar : BOOL; Full : BOOL; END_VAR
VAR_OUTPUT Carry : BOOL; Pour : BOOL; END_VAR
VAR State : INT; Filled : INT; END_VAR
CASE State OF
  0: IF Go THEN State := 10; END_IF;
  10: IF Jar THEN State := 20; END_IF;
  20: IF Full THEN Filled := Filled + 1; State := 30; END_IF;
  30: IF NOT Jar AND Filled < 2 THEN State := 10; ELSIF NOT Jar THEN Filled := 0; State := 0; END_IF;
END_CASE;
Carry := State = 10 OR State = 30;
Pour := State = 20;
END_PROGRAM
"""


def type_cell(qtbot, table, column: int, text: str) -> None:
    """Types into a cell of the last row, as a person does: the first key opens it."""
    qtbot.waitUntil(lambda: not table.findChildren(QLineEdit))
    index = table.model().index(table.model().rowCount() - 1, column)
    QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=table.visualRect(index).center())
    QTest.keyClicks(table, text[0])
    line = table.findChildren(QLineEdit)[-1]
    QTest.keyClicks(line, text[1:])
    QTest.keyClick(line, Qt.Key.Key_Return)


def test_a_brought_program_is_proven_alarmed_and_kept(qtbot, opened, tmp_path, monkeypatch):
    window = opened(Document(Project()))
    file = tmp_path / "Filler.st"
    file.write_text(PROGRAM)
    window.open_path(file)
    qtbot.waitUntil(lambda: bool(window.document.project.sequences), timeout=300_000)
    window.table.actions["proof.propose"].trigger()
    scenarios = window.proof.scenarios
    qtbot.waitUntil(lambda: getattr(scenarios, "proposals", None) is not None, timeout=300_000)
    dialog = scenarios.proposals
    assert "7 of 7 ways" in dialog.proposals.said(), "five ways, two runs in a row and power cuts"
    QTest.mouseClick(dialog.bench, Qt.MouseButton.LeftButton)
    assert window.stage == 4 and dialog.isVisible()
    QTest.mouseClick(dialog.take, Qt.MouseButton.LeftButton)
    window.show_stage(5)
    QTest.mouseClick(window.proof.run_all, Qt.MouseButton.LeftButton)
    count = len(window.document.project.scenarios)
    qtbot.waitUntil(lambda: window.proof.status.text() == f"{count} of {count} passed", timeout=300_000)

    bar = window.proof.parts.tabBar()
    tab = next(i for i in range(bar.count()) if bar.tabText(i) == "Alarms")
    QTest.mouseClick(bar, Qt.MouseButton.LeftButton, pos=bar.tabRect(tab).center())
    alarms = window.proof.alarms
    QTest.mouseClick(alarms.empty.buttons[0], Qt.MouseButton.LeftButton)
    type_cell(qtbot, alarms.table, WHEN, "Pour AND NOT Jar")
    type_cell(qtbot, alarms.table, NAME, "Spilt")
    type_cell(qtbot, alarms.table, TEXT, "it pours with no jar below, {Filled} filled")
    qtbot.waitUntil(lambda: window.document.project.alarms[0].text.startswith("it pours"))
    (alarm,) = window.document.project.alarms
    assert (alarm.name, alarm.condition) == ("Spilt", "Pour AND NOT Jar")
    assert alarms.model.index(0, SHOWN).data() == "○ no scenario"

    text = 'given Go\nat 0.5 s: set Jar to TRUE\nafter 1 s: set Jar to FALSE\nrun for 3 s\nexpect alarm "Spilt"'
    window.add_scenario()
    scenarios.faces.setCurrentIndex(1)
    scenarios.text.setPlainText(text)
    QTest.mouseClick(scenarios.apply, Qt.MouseButton.LeftButton)
    QTest.mouseClick(window.proof.run_one, Qt.MouseButton.LeftButton)
    name = scenarios.scenario.name
    qtbot.waitUntil(lambda: name in window.document.results, timeout=300_000)
    assert window.document.results[name].worst is None
    QTest.mouseClick(bar, Qt.MouseButton.LeftButton, pos=bar.tabRect(tab).center())
    assert alarms.model.index(0, SHOWN).data().startswith("✓")
    QTest.mouseClick(bar, Qt.MouseButton.LeftButton, pos=bar.tabRect(0).center())

    window.table.actions["edit.everywhere"].trigger()
    panel = window.program.found
    QTest.keyClicks(panel.line, "Spilt")
    qtbot.waitUntil(lambda: panel.list.topLevelItemCount() == 2)
    QTest.keyClick(panel.line, Qt.Key.Key_Return)
    assert window.proof.parts.currentWidget() is alarms and alarms.current.source.phrase == "Spilt"

    kept = tmp_path / "Filler.spoke"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (str(kept), ""))
    window.table.actions["file.save"].trigger()
    qtbot.waitUntil(kept.exists)
    again = read(kept)
    assert again.alarms == (alarm,) and len(again.scenarios) == count + 1 and file.read_text() == PROGRAM
