"""From an empty file in a real window: a sequence that runs another one, modes by hand, and a page for the operator who works with it."""

from __future__ import annotations

import subprocess
import sys

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu

from spokeshave.desktop.document import Document
from spokeshave.desktop.sequence.modes_dialog import ModesDialog
from spokeshave.desktop.sequence.sheet import STEP
from spokeshave.formats import spoke
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project
from tests.stories.test_own_machine import field, row_of

pytestmark = pytest.mark.window
Key, Left = Qt.Key, Qt.MouseButton.LeftButton
SIGNALS = """name	class	type	comment
Inlet	output	BOOL	water in
Outlet	output	BOOL	water out
Fan	output	BOOL	dries the sieve
"""
MAIN = """No.	Step	Fan	Awaits	Longest	Next
10	Rest		TRUE		Clean
20	Clean		TRUE	9s	Dry
30	Dry	X	Dry.T >= T#1s		Rest
"""
WASH = """No.	Step	Inlet	Outlet	Awaits	Longest	Next
10	Ready			TRUE		Fill
20	Fill	X		Fill.T >= T#1s		Drain
30	Drain		X	Drain.T >= T#1s		Ready
"""


def sequence(qtbot, window, old: str, name: str, rows: str) -> None:
    """Names a sequence and pastes its rows."""
    field(qtbot, window, Place("sequence", item=old), "Name", name)
    window.show_stage(2)
    window.sequence.show_sequence(name)
    view = window.sequence.sheets[name]
    view.setCurrentIndex(view.sheet.index(0, STEP))
    view.setFocus()
    QApplication.clipboard().setText(rows)
    view.paste()
    assert not window.message.text().startswith("✕"), window.message.text()


def test_a_shared_washing_by_hand_and_by_an_operator(qtbot, opened, tmp_path):
    window = opened(Document(new_sequence(Project())))
    document = window.document
    field(qtbot, window, Place("project"), "Name", "Sieve")
    window.show_stage(1)
    QApplication.clipboard().setText(SIGNALS)
    window.signals.list.view.paste()
    sequence(qtbot, window, "Sequence", "Sieve", MAIN)
    window.new_sequence()
    sequence(qtbot, window, document.project.sequences[1].name, "Wash", WASH)

    # The step runs the other sequence, from its menu in the sheet.
    window.sequence.show_sequence("Sieve")
    view = window.sequence.sheets["Sieve"]
    menu = view.menu(view.sheet.index(row_of(view.sheet, "Clean"), STEP))
    next(m for m in menu.findChildren(QMenu) if m.title() == "Run a sequence").actions()[0].trigger()
    menu.deleteLater()
    q = document.project.sequence("Sieve")
    assert [a.target for a in q.step("Clean").actions] == ["Wash"] and q.transitions[1].condition == "Wash.Done.X"

    # Modes: a start, a stop, by hand; the scenarios that show them pass.
    window.table.actions["seq.modes"].trigger()
    (form,) = window.findChildren(ModesDialog)
    qtbot.mouseClick(form.hands, Left, pos=QPoint(8, form.hands.height() // 2))
    assert form.hand.isEnabled()
    qtbot.mouseClick(form.make, Left)
    qtbot.waitUntil(lambda: bool(document.project.scenarios), timeout=300_000)
    assert " pass" in window.message.text() and "does not" not in window.message.text(), window.message.text()
    assert {"Start", "ByHand", "FanByHand"} <= {s.name for s in document.project.signals}

    # A page for the operator: a draft, one tile more, one with words of its own.
    page = window.bench_commands.show_operator(full=False)
    page.resize(1280, 800)
    qtbot.waitExposed(page)
    qtbot.mouseClick(page.lay, Left)
    qtbot.mouseClick(page.panel.empty.buttons[0], Left)
    page.panel.what.setCurrentIndex(page.panel.what.findData("lamp Inlet"))
    qtbot.mouseClick(page.panel.add, Left)
    page.panel.text.setFocus()
    qtbot.keyClicks(page.panel.text, "Water")
    qtbot.keyClick(page.panel.text, Key.Key_Return)
    assert document.project.panel[-1].text == "Water"
    qtbot.mouseClick(page.panel.done, Left)

    # It is worked by touch: the start, and what runs is seen on the tiles.
    tiles = page.panel.grid.tiles
    window.runner.reset()
    window.runner.run_for(100)
    QTest.mousePress(tiles["StartButton"].button, Left)
    window.runner.run_for(100)
    QTest.mouseRelease(tiles["StartButton"].button, Left)
    window.runner.run_for(400)
    assert (
        "Clean" in tiles["Sieve"].step.text() and "Fill" in tiles["Wash"].step.text() and tiles["Inlet"].value() is True
    )
    window.runner.run_for(3000)
    assert "Rest" in tiles["Sieve"].step.text() and "Ready" in tiles["Wash"].step.text()
    qtbot.mouseClick(tiles["ByHandSwitch"].buttons[1], Left)
    window.runner.run_for(50)
    QTest.mousePress(tiles["FanByHandButton"].button, Left)
    window.runner.run_for(50)
    assert window.runner.session.situation.v[window.runner.session.program.slots["fan"]] is True
    QTest.mouseRelease(tiles["FanByHandButton"].button, Left)
    window.runner.run_for(50)
    assert window.runner.session.situation.v[window.runner.session.program.slots["fan"]] is False
    qtbot.keyClick(tiles["FanByHandButton"].button, Key.Key_Escape)
    qtbot.waitUntil(lambda: window.bench_commands.operator is None)

    # Saved, it is the same without a window.
    file = tmp_path / "sieve.spoke"
    assert window._save_to(file) and spoke.read(file) == document.project
    done = subprocess.run(
        [sys.executable, "-m", "spokeshave", "verify", str(file)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0 and done.stdout.count("pass") == len(document.project.scenarios), (
        done.stdout + done.stderr
    )
