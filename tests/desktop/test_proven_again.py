"""What must be proven again, in the desktop: verdicts that hold, those before an edit, and what is kept beside the file."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.document import Document
from spokeshave.desktop.window import MainWindow
from spokeshave.formats import spoke
from spokeshave.formats.beside import path_beside
from spokeshave.model import edits
from spokeshave.verify.reach.answers import study
from spokeshave.verify.sweep.work import sweep
from tests.core.test_standing import gated, of_step


@pytest.fixture
def opened(qtbot):
    made = []

    def open_file(path):
        window = MainWindow(Document(spoke.read(path), path))
        window.asks_before_closing = False
        window.show()
        qtbot.waitExposed(window)
        made.append(window)
        return window

    yield open_file
    for window in made:
        window.close()
        window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


def signs(window):
    listed = window.proof.scenarios.list
    return [listed.item(i).text() for i in range(listed.count())]


def test_after_an_edit_only_what_changed_is_run_and_verdicts_are_there_when_the_file_is_opened_again(
    qtbot, tmp_path, opened
):
    file = tmp_path / "gate.spoke"
    spoke.write(gated(), file)
    window = opened(file)
    proof = window.proof
    window.show_proof(proof.scenarios)
    assert signs(window) == ["○  Shuts", "○  Idles"] and not proof.run_changed.isVisible()
    qtbot.mouseClick(proof.run_all, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(window.document.results) == 2, timeout=60_000)
    assert signs(window) == ["✓  Shuts", "✓  Idles"] and proof.status.text() == "2 of 2 passed"
    window.document.edit("note", lambda p: edits.change_step(p, "Main", "Opening", comment="why"))
    window.document.edit("fault", lambda p: edits.change_step(p, "Main", "Fault", longest="T#30s"))
    assert signs(window) == ["✓  Shuts", "✓  Idles"], "neither can matter"
    window.document.edit("longer", lambda p: edits.change_step(p, "Main", "Opening", longest="T#8s"))
    assert signs(window) == ["◌  Shuts", "✓  Idles"] and proof.status.text() == "1 of 2 passed, 1 to run again"
    assert proof.scenarios.before.text().startswith("Passed before the change of step Main.Opening: run it again.")
    window.show_stage(0)
    assert window.brief.view.model().index(0, 4).data() == "◌ proven before the change of step Main.Opening"
    window.document.undo()
    assert signs(window) == ["✓  Shuts", "✓  Idles"] and not proof.scenarios.before.isVisible()
    window.document.redo()
    window.show_proof(proof.scenarios)
    assert proof.run_changed.text() == "Run what changed (1)"
    idles = window.document.results["Idles"]
    qtbot.mouseClick(proof.run_changed, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(window.document.results) == 2, timeout=60_000)
    assert window.document.results["Idles"] is idles, "it was not run again"
    proof.sweep.take(sweep(window.document.project, "Shuts"), window.document.project)
    proof.study.take(study(window.document.project), window.document.project)
    assert window.save() and path_beside(file).exists()

    again = opened(file)
    again.show_proof(again.proof.scenarios)
    assert signs(again) == ["✓  Shuts", "✓  Idles"] and not again.document.results
    assert "nothing it depends on has changed. Run it to look at it." in again.proof.scenarios.before.text()
    assert [c.state for c in again.document.coverage()] == ["proven", "open"]
    again.show_proof(again.proof.sweep)
    assert "Nothing it depends on has changed since" in again.proof.sweep.status.text()
    again.show_proof(again.proof.study)
    assert "Nothing it depends on has changed since" in again.proof.study.status.text()
    again.document.edit("fault", lambda p: of_step(p, "Fault", longest="T#31s"))
    assert signs(again) == ["✓  Shuts", "✓  Idles"]
    assert "Since then changed: step Main.Fault" in again.proof.study.status.text()
    again.show_proof(again.proof.sweep)
    assert "Since then changed: step Main.Fault" in again.proof.sweep.status.text()

    path_beside(file).write_text("no such thing\n{}\n")
    bare = opened(file)
    assert signs(bare) == ["○  Shuts", "○  Idles"]
