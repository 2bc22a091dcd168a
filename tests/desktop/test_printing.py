"""Each stage on paper: what stands there, over which pages, and the preview before it is printed."""

from __future__ import annotations

import itertools
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pypdf import PdfReader
from PySide6.QtCore import QSizeF
from PySide6.QtPrintSupport import QPrintPreviewWidget
from PySide6.QtWidgets import QFileDialog

from spokeshave.desktop.paper import LEAST_SHRUNK, cut
from spokeshave.desktop.printing import STAGES
from spokeshave.verify.scenarios import run_scenario

SAID = (
    ("After Start the drum turns", "proven", "not run"),
    ("StartButton", "green pushbutton", "NC"),
    ("SpinUp", "Sheet of Roast", "Body CountBatch"),
    ("ChargeGate", "extend: Gate", "Overheat"),
    ("Timing diagram",),
    ("Light roast in order", "expect no alarms", "Cause"),
)


def test_each_stage_is_written_as_a_pdf_that_says_what_the_stage_shows(window, tmp_path, monkeypatch):
    window.document.take_results([run_scenario(window.document.project, window.document.project.scenarios[0])])
    for stage in range(len(STAGES)):
        window.show_stage(stage)
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "out"), "PDF (*.pdf)"))
        window.table.actions["file.pdf"].trigger()
        assert window.message.text() == "Wrote out.pdf"
        pages = [re.sub(r"\s+", "", p.extract_text()) for p in PdfReader(tmp_path / "out.pdf").pages]
        for words in SAID[stage]:
            assert any(words.replace(" ", "") in page for page in pages), (stage, words)
        assert STAGES[stage][1][0].replace(" ", "") in pages[0] and f"page1of{len(pages)}" in pages[0], (
            "no page for the title alone"
        )
        assert "Signatures" not in pages[0] and "SHA-256" in pages[0]
    window.table.actions["go.dark"].trigger()
    dark = [window.printing.paper(stage) for stage in range(len(STAGES))]
    window.table.actions["go.dark"].trigger()
    light = [window.printing.paper(stage) for stage in range(len(STAGES))]
    assert dark == light, "in light colours all the same"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "no" / "out.pdf"), ""))
    window.printing.ask_pdf()
    assert window.message.text().startswith("✕") and "out.pdf" in window.message.text()


def test_the_preview_has_the_pages_that_are_printed(qtbot, window):
    window.show_stage(1)
    window.table.actions["file.print"].trigger()
    view = window.findChild(QPrintPreviewWidget)
    qtbot.waitUntil(lambda: view.pageCount() == 2, timeout=10_000)
    assert view.window().windowTitle() == "Print Roastery, signals"
    view.window().close()


@given(st.lists(st.integers(60, 4000), min_size=1, max_size=30), st.integers(200, 900), st.integers(100, 2000))
def test_a_drawing_is_cut_where_it_may_be_and_nothing_of_it_is_lost(cuts, height, width):
    cuts, whole = sorted(cuts), max(cuts) + 50
    drawing = (
        f'<svg data-cuts="{" ".join(map(str, cuts))}" width="9mm" height="9mm" viewBox="0 0 {width} {whole}"><g/></svg>'
    )
    parts = cut(drawing, QSizeF(700, height))
    boxes = [[float(x) for x in re.search(r'viewBox="([^"]*)"', p)[1].split()] for p in parts]
    assert boxes[0][1] == 0 and sum(b[3] for b in boxes) == pytest.approx(whole) and all(b[2] == width for b in boxes)
    page = height / min(1.0, 700 / width)
    for a, b in itertools.pairwise(boxes):
        assert a[1] + a[3] == pytest.approx(b[1], abs=0.01) and a[3] <= page + 0.01
        assert b[1] in cuts or not any(a[1] + 40.1 < c <= a[1] + page - 0.1 for c in cuts)
    assert len(parts) > 1 or whole * LEAST_SHRUNK <= page
