"""Scenarios are proposed beside the work, read, shown on the bench, and taken over in one edit."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from spokeshave.desktop.document import Document
from spokeshave.desktop.window import MainWindow
from spokeshave.model.project import Transition
from spokeshave.verify.proposed.work import GROUP
from tests.core.test_proposed import shutter


@pytest.fixture
def window(qtbot, qapp):
    project = shutter()
    q = project.sequences[0]
    dead = Transition(("Open",), ("Closed",), "IsUp AND NOT IsUp")
    made = MainWindow(Document(replace(project, sequences=(replace(q, transitions=(*q.transitions, dead)),))))
    made.asks_before_closing = False
    qtbot.addWidget(made)
    made.show()
    yield made
    made.close()


def test_an_empty_proof_offers_them_and_what_is_ticked_is_taken(qtbot, window):
    window.show_stage(5)
    panel = window.proof.scenarios
    button = next(b for b in panel.empty.buttons if b.text().startswith("Propose"))
    assert panel.empty.isVisible()
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: getattr(panel, "proposals", None) is not None, timeout=60_000)
    dialog = panel.proposals
    assert dialog.isVisible() and dialog.list.count() == len(dialog.chosen) > 4
    assert dialog.left.text().endswith("Main, Open to Closed") and dialog.left.isVisible()
    assert dialog.text.toPlainText() == dialog.current.scenario.text and dialog.shows.text().startswith("Shows Main, ")
    QTest.mouseClick(dialog.bench, Qt.MouseButton.LeftButton)
    assert window.stage == 4 and window.runner.session.trace.scan_count > 100
    dialog.list.item(1).setCheckState(Qt.CheckState.Unchecked)
    count = dialog.list.count() - 1
    assert dialog.take.text() == f"Take {count} over"
    QTest.mouseClick(dialog.take, Qt.MouseButton.LeftButton)
    taken = window.document.project.scenarios
    assert len(taken) == count and {s.group for s in taken} == {GROUP} and panel.list.count() == count
    window.document.undo()
    assert window.document.project.scenarios == ()


def test_a_file_that_cannot_run_says_why(qtbot, window):
    said = []
    window.document.refused.connect(said.append)
    window.document.edit("break", lambda p: replace(p, opening="Nowhere := 1;"))
    window.table.actions["proof.propose"].trigger()
    qtbot.waitUntil(lambda: bool(said), timeout=30_000)
    assert "Nothing can be proposed yet" in said[-1] and "Nowhere" in said[-1] and window.stage == 5
