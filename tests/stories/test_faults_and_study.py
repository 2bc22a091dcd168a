"""What nobody thought of, by hand: a feedback is left out, the sweep shows it, it is mended; what can be reached is studied."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog

from spokeshave.desktop.document import Document
from spokeshave.desktop.proof.sweep_table import FILTERS
from spokeshave.examples.mistakes import MISTAKES, planted
from spokeshave.model.project import Project, Sequence
from spokeshave.verify.processes import let_go
from tests.stories.test_first_job import press

Key, Ctrl = Qt.Key, Qt.KeyboardModifier.ControlModifier
Left = Qt.MouseButton.LeftButton


def tab(qtbot, window, title: str) -> None:
    """Clicks a part of the proof."""
    bar = window.proof.parts.tabBar()
    at = next(i for i in range(bar.count()) if bar.tabText(i) == title)
    qtbot.mouseClick(bar, Left, pos=bar.tabRect(at).center())


def swept(qtbot, window) -> None:
    qtbot.mouseClick(window.proof.sweep.start_button, Left)
    assert window.proof.sweep.sweep is not None
    qtbot.waitUntil(lambda: window.proof.sweep.sweep is None, timeout=300_000)


def test_a_fault_that_nobody_is_told_of_is_found_seen_mended_and_written_down(
    qtbot, opened, roastery, tmp_path: Path, monkeypatch
):
    window = opened(Document(planted(roastery, next(m for m in MISTAKES["roastery"] if m.name == "drum-unwatched"))))
    document, panel = window.document, window.proof.sweep

    # All scenarios pass; the sweep does not.
    press(qtbot, window, Key.Key_6, Ctrl)
    qtbot.mouseClick(window.proof.run_all, Left)
    qtbot.waitUntil(lambda: window.proof.worker is None and bool(document.results), timeout=300_000)
    assert window.proof.status.text() == "19 of 19 passed"
    tab(qtbot, window, "Fault sweep")
    qtbot.mouseClick(panel.start_button, Left)
    qtbot.waitUntil(lambda: ("RoastDrum does not start", "Roast.CoolDown") in panel.model.matrix.cells, timeout=300_000)
    qtbot.mouseClick(panel.cancel_button, Left)
    assert panel.sweep is None and "bad and not explained" in panel.status.text(), "enough was seen"

    # The worst of it, and its run beside the reference.
    panel.filter.setCurrentIndex(FILTERS.index("what is bad and not explained"))
    row = panel.model.rows.index("RoastDrum does not start")
    column = panel.model.matrix.steps.index("Roast.CoolDown")
    at = panel.model.index(row, column)
    panel.view.scrollTo(at)
    qtbot.mouseClick(panel.view.viewport(), Left, pos=panel.view.visualRect(at).center())
    assert "Roast.CoolDown was left with RoastDrum not where it belongs" in panel.about.text()
    qtbot.mouseClick(panel.show_button, Left)
    qtbot.waitUntil(lambda: window.stage == 4, timeout=30_000)
    beside = window.bench.strip.beside
    assert beside is not None and beside.spans("DrumRuns", False)
    failures = [e.text for e in window.runner.session.trace.events if e.kind == "failure"]
    assert failures == ["RoastDrum does not start"]

    # Mended in the chart, it is told.
    sequence = roastery.sequence("Roast")
    document.edit("ask for the drum", lambda p: planted_back(p, sequence))
    press(qtbot, window, Key.Key_6, Ctrl)
    assert "before the change of" in panel.status.text()
    swept(qtbot, window)
    assert panel.status.text().endswith("nothing bad that is not explained")

    # What can be reached, then the record of all of it.
    tab(qtbot, window, "Reachability")
    study = window.proof.study
    study.text.setPlainText(study.text.toPlainText() + "\ntogether Gate, Flap")
    qtbot.mouseClick(study.start_button, Left)
    qtbot.waitUntil(lambda: study.found is not None, timeout=300_000)
    assert "nothing bad" not in study.status.text()
    answer = next(a for a in study.found.answers if a.about == "Gate and Flap, after interlocks")
    assert answer.way is not None and answer.way.replays
    study.answers.setCurrentItem(study.answers.topLevelItem(study.found.answers.index(answer)))
    qtbot.mouseClick(study.show_button, Left)
    window.tasks.finish()
    assert window.stage == 4
    v, slots = window.runner.session.situation.v, window.runner.session.program.slots
    assert v[slots["gate"]] and v[slots["flap"]]
    press(qtbot, window, Key.Key_6, Ctrl)
    qtbot.mouseClick(window.proof.run_all, Left)
    qtbot.waitUntil(lambda: window.proof.worker is None, timeout=300_000)
    file = tmp_path / "record.pdf"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(file), "PDF (*.pdf)"))
    window.table.actions["proof.record"].trigger()
    qtbot.waitUntil(lambda: not window.tasks.busy, timeout=300_000)
    assert file.read_bytes().startswith(b"%PDF") and file.stat().st_size > 50_000
    let_go()


def planted_back(project: Project, sequence: Sequence) -> Project:
    """The roastery's own sequence in the place of the one with the mistake."""
    return replace(project, sequences=tuple(sequence if q.name == sequence.name else q for q in project.sequences))
