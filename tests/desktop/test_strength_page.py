"""Proof, Strength: mistakes are planted, survivors read, a row and a scenario taken over, one accepted with a reason."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from spokeshave.desktop.document import Document
from spokeshave.desktop.record import record_bytes
from spokeshave.desktop.window import MainWindow
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import run_all
from tests.core.test_strength import kiln


@pytest.fixture
def panel(qtbot, qapp):
    window = MainWindow(Document(kiln()))
    window.asks_before_closing = False
    qtbot.addWidget(window)
    window.show()
    window.show_stage(5)
    window.show_proof(window.proof.strength)
    yield window.proof.strength
    window.close()


def planted(qtbot, panel) -> None:
    QTest.mouseClick(panel.start_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: panel.strength is None, timeout=60_000)


def choose(panel, words: str) -> None:
    items = [panel.list.topLevelItem(n) for n in range(panel.list.topLevelItemCount())]
    panel.list.setCurrentItem(next(i for i in items if words in i.text(1)))


def test_survivors_are_read_taken_over_and_accepted(qtbot, panel):
    document = panel.document
    assert not panel.list.isVisible() and "would anybody notice" in panel.empty.says.text()
    planted(qtbot, panel)
    count = panel.list.topLevelItemCount()
    assert f"{count} that nobody would notice" in panel.status.text() and panel.report.whole.noticed > 0
    choose(panel, "went from Rest to Warm without DoorShut")
    assert "A new scenario would" in panel.about.text() and panel.take_button.text() == "Take the scenario over"
    QTest.mouseClick(panel.take_button, Qt.MouseButton.LeftButton)
    assert len(document.project.scenarios) == 2 and panel.list.topLevelItemCount() == count - 1
    choose(panel, "Heat were in Rest")
    panel.take_over()
    assert "rows for 2 were taken over" in panel.status.text()
    assert {r.outcome for r in run_all(document.project)} == {Outcome.PASS}
    choose(panel, "kept its steps over a loss of power")
    panel.reason.setPlainText("it begins anew by hand")
    QTest.mouseClick(panel.accept_button, Qt.MouseButton.LeftButton)
    assert document.project.waivers[-1].reason == "it begins anew by hand"
    assert panel.list.topLevelItemCount() == count - 3
    panel.filter.setCurrentIndex(1)
    assert panel.list.topLevelItemCount() == 1 and panel.reason.toPlainText() == "it begins anew by hand"
    planted(qtbot, panel)
    panel.filter.setCurrentIndex(0)
    assert panel.list.topLevelItemCount() < count - 3, "what was taken over notices"
    told, _ = panel.window().proof.told()
    record = record_bytes(".html", *told).decode()
    assert "What nobody would notice" in record and "it begins anew by hand" in record
    judged_of = document.project
    document.edit("less", lambda p: replace(p, scenarios=p.scenarios[:1]))
    assert "What nobody would notice" not in record_bytes(".html", *panel.window().proof.told()[0]).decode()
    document.undo()
    assert document.project is judged_of and panel.whole() is not None
    document.edit("other", lambda p: replace(p, opening="Turns := Turns;"))
    assert "What nobody would notice" not in record_bytes(".html", *panel.window().proof.told()[0]).decode()


def test_shares_lead_to_their_mistakes_and_a_mistake_to_its_place(qtbot, panel):
    planted(qtbot, panel)
    everything = panel.list.topLevelItemCount()
    panel.shares.setCurrentItem(panel.shares.findItems("Kiln, step Warm", Qt.MatchFlag.MatchExactly)[0])
    assert 0 < panel.list.topLevelItemCount() < everything
    assert {panel.list.topLevelItem(n).text(0) for n in range(panel.list.topLevelItemCount())} == {"Kiln, step Warm"}
    panel.show_place()
    assert (panel.selection.place.kind, panel.selection.place.item) == ("step", "Warm")
    panel.groups.setCurrentIndex(1)
    panel.filter.setCurrentIndex(4)
    assert panel.list.topLevelItemCount() == len(panel.report.judged)
    panel.document.edit("other", lambda p: replace(p, opening="Turns := Turns;"))
    panel.window().show_stage(5)
    assert "the file has changed since" in panel.status.text() and not panel.take_button.isEnabled()
    panel.start()
    panel.stop()
    assert panel.strength is None and panel.start_button.isEnabled()


def test_a_file_that_cannot_run_says_why(qtbot, panel):
    panel.document.edit("break it", lambda p: replace(p, opening="Nothing := TRUE;"))
    planted(qtbot, panel)
    assert "Cannot be judged" in panel.status.text() and "Nothing" in panel.status.text()
