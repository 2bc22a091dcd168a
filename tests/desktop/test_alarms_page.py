"""Proof, Alarms: made and spoken in the table; on the bench shelved and taken back."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit, QMenu

from spokeshave.desktop.document import Document
from spokeshave.desktop.proof.alarms import CLASS, DEVICE, NAME, SHOWN, TEXT, WHEN
from spokeshave.desktop.window import MainWindow
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import AlarmRule, Project, Scenario
from tests.core.test_semantics import gate, main


@pytest.fixture
def made(qtbot, qapp):
    windows = []

    def make(project: Project) -> MainWindow:
        window = MainWindow(Document(project))
        window.asks_before_closing = False
        qtbot.addWidget(window)
        window.show()
        windows.append(window)
        return window

    yield make
    for window in windows:
        window.close()


def type_into(table, row: int, column: int, text: str) -> None:
    index = table.model().index(row, column)
    table.setCurrentIndex(index)
    table.edit(index)
    line = table.findChildren(QLineEdit)[-1]
    line.selectAll()
    QTest.keyClicks(line, text)
    QTest.keyClick(line, Qt.Key.Key_Return)
    QApplication.processEvents()


def texts(panel, row: int) -> list[str]:
    return [panel.model.index(row, c).data() for c in range(panel.model.columnCount())]


def test_an_alarm_is_made_in_an_empty_file_typed_named_and_taken_away(made):
    window = made(gate())
    window.show_proof(window.proof.alarms)
    panel = window.proof.alarms
    assert panel.empty.isVisible() and not panel.write.isEnabled()
    QTest.mouseClick(panel.empty.buttons[0], Qt.MouseButton.LeftButton)
    assert not panel.empty.isVisible() and panel.table.currentIndex().column() == NAME
    type_into(panel.table, 0, WHEN, "Go AND Shut")
    type_into(panel.table, 0, NAME, "Both")
    type_into(panel.table, 0, TEXT, "pressed {Count} times")
    assert window.document.project.alarms == (AlarmRule("Both", "Go AND Shut", "pressed {Count} times"),)
    assert texts(panel, 0)[SHOWN] == "○ no scenario" and panel.says.text() == "1 alarm, 1 of them in no scenario"
    QTest.mouseClick(panel.drop, Qt.MouseButton.LeftButton)
    assert window.document.project.alarms == () and panel.empty.isVisible()
    window.document.undo()
    assert texts(panel, 0)[:3] == ["Both", "Go AND Shut", "pressed {Count} times"]


def test_a_window_gets_words_and_leads_to_its_step_and_its_scenario(made, tmp_path):
    project = main(gate(), steps=tuple(replace(s, longest="T#1s") for s in gate().sequences[0].steps))
    project = replace(project, scenarios=(Scenario("Stuck", 'run for 2 s\nexpect alarm "Main.Closed is late"'),))
    window = made(project)
    panel, said = window.proof.alarms, []
    window.show_proof(panel)
    window.document.refused.connect(said.append)
    type_into(panel.table, 0, NAME, "Other")
    type_into(panel.table, 0, WHEN, "Go")
    assert len(said) == 2 and "rename the step" in said[0] and window.document.project is project
    type_into(panel.table, 0, TEXT, "look at the gate")
    panel.model.setData(panel.model.index(0, CLASS), "fault")
    panel.model.setData(panel.model.index(0, DEVICE), "Leaf")
    rule = AlarmRule("", text="look at the gate", cls="fault", device="Leaf", on="late Main.Closed")
    assert window.document.project.alarms == (rule,)
    panel.table.select_row(0)
    QTest.mouseClick(panel.go, Qt.MouseButton.LeftButton)
    assert window.selection.place == Place("step", "Main", "Closed") and window.stage == 2
    window.show_proof(panel)
    panel.table.doubleClicked.emit(panel.model.index(0, SHOWN))
    assert (
        window.proof.scenarios.scenario.name == "Stuck" and window.proof.parts.currentWidget() is window.proof.scenarios
    )
    window.selection.go(Place("alarm", item="late Main.Open"))
    assert window.proof.parts.currentWidget() is panel and panel.current.source.phrase == "Main.Open is late"
    panel.write_table(tmp_path / "alarms.csv")
    assert (
        "look at the gate,fault" in (tmp_path / "alarms.csv").read_text()
        and panel.says.text() == "written to alarms.csv"
    )
    panel.write_table(tmp_path / "none" / "alarms.csv")
    assert "could not be written: No such file" in panel.says.text()


def test_an_alarm_of_the_run_is_acknowledged_shelved_and_taken_back(made):
    window = made(replace(gate(), alarms=(AlarmRule("Both", "Go", "both", cls="fault"),)))
    window.show_stage(4)
    runner, alarms = window.runner, window.bench.alarms

    def choose(word: str) -> None:
        """An action of the menu of the first alarm."""
        alarms.setCurrentItem(alarms.topLevelItem(0))
        alarms.customContextMenuRequested.emit(alarms.visualItemRect(alarms.topLevelItem(0)).center())
        menu = alarms.findChildren(QMenu)[-1]
        next(a for a in menu.actions() if word in a.text()).trigger()
        menu.close()
        runner.one_scan()

    runner.do("set", "Go", True)
    runner.one_scan()
    assert [alarms.topLevelItem(0).text(i) for i in (0, 4)] == ["● stands", "‼ both"] and runner.standing_alarms == 1
    choose("Shelve")
    assert alarms.topLevelItem(0).text(0) == "◌ shelved" and runner.standing_alarms == 0
    choose("back")
    assert alarms.topLevelItem(0).text(0) == "● stands" and not alarms.topLevelItem(0).text(2)
    choose("Acknowledge")
    assert alarms.topLevelItem(0).text(2)
