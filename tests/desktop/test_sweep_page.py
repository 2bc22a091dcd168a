"""The fault sweep in the desktop: cells as they come, filters, reasons, what was accepted, and the run behind a cell."""

from __future__ import annotations

from dataclasses import replace

import pytest
from PySide6.QtCore import Qt

from spokeshave.desktop.proof.sweep_table import FILTERS
from spokeshave.verify.processes import let_go
from tests.core.test_sweep import slide
from tests.looks import drawn

Role = Qt.ItemDataRole


@pytest.fixture
def panel(qtbot, window):
    window.document.replace(slide(), None)
    window.show_proof(window.proof.sweep)
    panel = window.proof.sweep
    yield panel
    panel.stop()
    let_go()


def run(qtbot, panel) -> None:
    panel.start_button.click()
    qtbot.waitUntil(lambda: panel.sweep is None, timeout=20_000)


def choose(panel, fault, step) -> None:
    panel.view.setCurrentIndex(panel.model.index(panel.model.rows.index(fault), panel.model.matrix.steps.index(step)))


def test_a_sweep_fills_the_matrix_and_a_cell_says_what_came_of_it(qtbot, window, panel):
    assert not panel.accept_button.isEnabled() and panel.cycle.currentText() == "Out and back"
    panel.start_button.click()
    assert panel.sweep is not None and not panel.start_button.isEnabled()
    qtbot.waitUntil(lambda: panel.sweep is None, timeout=20_000)
    assert panel.model.matrix.whole and "of those that made a difference" in panel.status.text()
    choose(panel, "Carriage jammed", "Main.Away")
    assert "recovered" in panel.about.text() and "Noticed after 2.99 s" in panel.about.text()
    assert not panel.reason.isEnabled() and panel.show_button.isEnabled()
    index = panel.view.currentIndex()
    assert panel.model.data(index, Role.DisplayRole) == "recovered" and "Main.Away is late" in panel.model.data(
        index, Role.ToolTipRole
    )
    window.document.edit("longer", lambda p: replace(p, sequences=slide(longest="T#2s").sequences))
    assert "before the change of" in panel.status.text() and not panel.show_button.isEnabled()


def test_filters_reasons_and_what_was_accepted(qtbot, window, panel):
    run(qtbot, panel)
    assert "bad and not explained" in panel.status.text()
    panel.filter.setCurrentIndex(FILTERS.index("what is bad and not explained"))
    assert "Blower does not start" in panel.model.rows and "Carriage slow" not in panel.model.rows
    choose(panel, "Blower does not start", "Main.Away")
    panel.reason.setPlainText("it only keeps the dust away")
    panel.every_step.setChecked(True)
    panel.explain_button.click()
    assert "Blower does not start" not in panel.model.rows
    assert [e.reason for e in window.document.project.sweep.explained] == ["it only keeps the dust away"]
    window.table.actions["edit.undo"].trigger()
    assert "Blower does not start" in panel.model.rows
    panel.filter.setCurrentIndex(0)
    panel.worst_first.setChecked(True)
    assert panel.model.matrix.worst_of(panel.model.rows[0]).is_bad
    assert not panel.model.matrix.worst_of(panel.model.rows[-1]).is_bad
    panel.accept()
    assert window.document.project.sweep.accepted and not panel.model.matrix.changed()
    window.document.edit("no windows", lambda p: replace(p, sequences=slide(longest="").sequences))
    run(qtbot, panel)
    panel.filter.setCurrentIndex(FILTERS.index("what is otherwise than accepted"))
    assert "Carriage jammed" in panel.model.rows and "worse" in panel.status.text()
    choose(panel, "Carriage jammed", "Main.Away")
    assert "Accepted was recovered" in panel.about.text()
    assert panel.legend.textFormat() == Qt.TextFormat.RichText and panel.legend.text().startswith("<table")
    assert drawn(panel.view)


def test_a_cell_opens_its_run_beside_the_reference(qtbot, window, panel):
    run(qtbot, panel)
    choose(panel, "Carriage jammed", "Main.Away")
    cell = panel.chosen()
    panel.show_button.click()
    qtbot.waitUntil(lambda: window.stage == 4, timeout=20_000)
    beside = window.bench.strip.beside
    assert beside is not None and beside.spans("SlideOut", False)
    session = window.runner.session
    assert session.time_ms == cell.end_ms and any(
        e.text == "Main.Away is late: longer than 3000 ms" for e in session.trace.events
    )
    assert not any(a < cell.injected_ms for a, _ in beside.spans("Slide", False) + beside.spans("Main", True))
    assert drawn(window.bench.strip)


def test_a_cycle_that_cannot_be_swept_says_why_and_a_sweep_can_be_cancelled(qtbot, window, panel):
    failing = replace(slide().scenarios[0], text="run for 8 s\nexpect never Slide\n")
    window.document.edit("failing", lambda p: replace(p, scenarios=(failing,)))
    run(qtbot, panel)
    assert panel.status.text().startswith("Cannot be swept. Out and back enters no step")
    window.table.actions["edit.undo"].trigger()
    panel.start_button.click()
    panel.cancel_button.click()
    assert panel.sweep is None and not panel.accept_button.isEnabled()
