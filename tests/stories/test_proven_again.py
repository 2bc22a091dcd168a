"""A machine is proven, saved, edited, proven again where it has to be, compared with what was saved, put on paper and opened again."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtPrintSupport import QPrintPreviewWidget
from PySide6.QtWidgets import QFileDialog, QPushButton

from spokeshave.desktop.compare_dialog import CompareDialog
from spokeshave.desktop.document import Document
from spokeshave.formats import spoke
from spokeshave.formats.beside import path_beside, read_beside
from tests.core.test_standing import gated
from tests.stories.test_first_job import press
from tests.stories.test_from_nothing import typed

Key, Ctrl = Qt.Key, Qt.KeyboardModifier.ControlModifier
Left = Qt.MouseButton.LeftButton


def shown(window) -> list[str]:
    listed = window.proof.scenarios.list
    return [listed.item(i).text() for i in range(listed.count())]


def row_of(sheet, name: str) -> int:
    return next(i for i in range(sheet.sheet.rowCount()) if sheet.sheet.step_at(i).name == name)


def test_an_edit_is_proven_again_and_everything_else_stays_proven(qtbot, opened, tmp_path, monkeypatch):
    file = tmp_path / "gate.spoke"
    spoke.write(gated(), file)
    window = opened(Document(spoke.read(file), file))
    document, proof = window.document, window.proof

    # Proven once, and saved with its verdicts.
    press(qtbot, window, Key.Key_R, Ctrl)
    qtbot.waitUntil(lambda: proof.worker is None and len(document.results) == 2, timeout=300_000)
    assert shown(window) == ["✓  Shuts", "✓  Idles"]
    press(qtbot, window, Key.Key_S, Ctrl)
    assert len(read_beside(file).verdicts) == 2

    # What no run entered does not matter, what one entered does.
    press(qtbot, window, Key.Key_3, Ctrl)
    sheet = window.sequence.sheets["Main"]
    typed(qtbot, sheet, row_of(sheet, "Fault"), sheet.sheet.window, "30s")
    assert shown(window) == ["✓  Shuts", "✓  Idles"]
    typed(qtbot, sheet, row_of(sheet, "Opening"), sheet.sheet.window, "8s")
    assert shown(window) == ["◌  Shuts", "✓  Idles"]
    press(qtbot, window, Key.Key_1, Ctrl)
    assert "proven before the change of step Main.Opening" in window.brief.view.model().index(0, 4).data()

    # Beside the saved one: in words, in the chart and in the sheet.
    window.table.actions["file.compare.saved"].trigger()
    dialog = window.findChild(CompareDialog)
    dialog.faces.setCurrentIndex(1)
    heads = [dialog.sheet.verticalHeaderItem(r).text() for r in range(dialog.sheet.rowCount())]
    assert [h for h in heads if h.startswith("≠")] == ["≠ 20 Opening", "≠ 90 Fault"]
    dialog.close()

    # Only what changed is run again.
    press(qtbot, window, Key.Key_6, Ctrl)
    kept = document.results["Idles"]
    assert proof.run_changed.text() == "Run what changed (1)"
    qtbot.mouseClick(proof.run_changed, Left)
    qtbot.waitUntil(lambda: proof.worker is None and len(document.results) == 2, timeout=300_000)
    assert shown(window) == ["✓  Shuts", "✓  Idles"] and document.results["Idles"] is kept
    assert not proof.run_changed.isVisible()

    # The proof on paper: looked at first, then written.
    press(qtbot, window, Key.Key_P, Ctrl)
    preview = window.findChild(QPrintPreviewWidget)
    qtbot.waitUntil(lambda: preview.pageCount() >= 2, timeout=20_000)
    preview.window().close()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "proof.pdf"), "PDF (*.pdf)"))
    window.table.actions["file.pdf"].trigger()
    assert (tmp_path / "proof.pdf").read_bytes().startswith(b"%PDF") and window.message.text() == "Wrote proof.pdf"

    # Opened again, it is proven without a run; without the file beside nothing is known.
    press(qtbot, window, Key.Key_S, Ctrl)
    again = opened(Document(spoke.read(file), file))
    press(qtbot, again, Key.Key_6, Ctrl)
    assert shown(again) == ["✓  Shuts", "✓  Idles"] and not again.document.results
    assert all(b.text() != "Run what changed (2)" for b in again.findChildren(QPushButton) if b.isVisible())
    path_beside(file).unlink()
    bare = opened(Document(spoke.read(file), file))
    press(qtbot, bare, Key.Key_6, Ctrl)
    assert shown(bare) == ["○  Shuts", "○  Idles"]
