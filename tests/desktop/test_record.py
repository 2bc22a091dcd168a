"""The acceptance record: everything in one file, charts as vectors in PDF, the same from window and command line."""

from __future__ import annotations

import html
import io
import re
import zlib
from dataclasses import replace
from xml.etree import ElementTree

import pytest
from pypdf import PdfReader
from PySide6.QtWidgets import QFileDialog
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.desktop.document import Document
from spokeshave.desktop.paper import Paper, pdf_of
from spokeshave.desktop.record import charts_of, write_record
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.chart_view import ChartView
from spokeshave.desktop.sequence.code_proof import run_beside
from spokeshave.desktop.sequence.editor import SequenceEditor
from spokeshave.desktop.sequence.export import write_pdf
from spokeshave.formats import spoke
from spokeshave.model.project import Requirement, Waiver
from spokeshave.verify.check import findings, look_over
from spokeshave.verify.equivalence import Comparison, Difference
from spokeshave.verify.processes import let_go
from spokeshave.verify.reach.answers import study
from spokeshave.verify.record import record_html
from spokeshave.verify.room.work import Room
from spokeshave.verify.scenarios import run_all
from spokeshave.verify.sweep.matrix import explain
from spokeshave.verify.sweep.work import sweep
from tests.conftest import EXAMPLES
from tests.core.test_sweep import slide


@pytest.fixture
def project():
    plain = slide(requirements=(Requirement("R1", "The slide comes back <again>."),))
    cell = next(c for c in sweep(plain).open() if c.fault == "Blower does not start")
    explained = explain(plain, cell, "it only keeps the dust away", every_step=True)
    finding = look_over(explained).open[0]
    return replace(explained, waivers=(Waiver(finding.code, str(finding.place), "as agreed"),))


def test_the_record_has_every_part_and_draws_nothing_from_elsewhere(project):
    results, found = run_all(project), findings(project)
    charts = charts_of(project)
    assert ElementTree.fromstring(charts["Main"]).tag.endswith("svg")
    html = record_html(project, results, found, "2031-01-02", charts, sweep(project), study(project), "SHA-256 1")
    for wanted in (
        "R1", "&lt;again&gt;", "Out and back", "expect never Fan AND NOT Slide", "SlideOut", "Cause and effect", "trip Halted",
        "Cycle: Out and back", "Blower does not start", "it only keeps the dust away", "can always get back to the initial steps",
        "inputs are free", "as agreed", "2031-01-02", "SHA-256", "Accepted by", "Signature",
    ):  # fmt: skip
        assert wanted in html, wanted
    assert html.count("<svg") == 1 + len(project.sequences), "an evidence picture and a chart"
    assert not re.findall(r"(?:src|href)=\"[^#]", html) and "http" not in re.sub(r'xmlns[:\w]*="[^"]*"', "", html)
    assert html == record_html(
        project, results, found, "2031-01-02", charts, sweep(project), study(project), "SHA-256 1"
    )
    assert html.count("<thead>") == html.count("</thead>") == html.count("<caption>") and "<th>" not in html
    for title in re.findall(r'<h2 id="([^"]+)"', html):
        assert f'href="#{title}"' in html
    bare = record_html(project, results, found, "2031-01-02")
    assert "The faults were not swept: it was not done." in bare and "was not studied: it was not done." in bare


def test_alarms_recipes_and_room_are_parts_where_there_are_some():
    carousel = spoke.read(EXAMPLES / "carousel.spoke")
    room = Room(carousel, draws=4, turn=False)
    while not room.done:
        room.poll()
    page = record_html(carousel, [], [], "2031-01-02", measured=room.report)
    titles = re.findall(r'<h2 id="([^"]+)"', page)
    assert {"alarms", "recipes", "room"} <= set(titles) and all(f'href="#{t}"' in page for t in titles)
    text = html.unescape(re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", page)))
    assert "The wax has {BathTemp:0} °C" in text and "Pillar" in text and "Plan[1].Dip 4s 4s 2s500ms 6s" in text
    assert "Dipping.Lower longest T#4s T#1s500ms T#2s500ms" in text and "4 of 4 cycles pass" in text
    assert page.count("<thead>") == page.count("</thead>") == page.count("<caption>")
    bare = record_html(replace(carousel, recipes=()), [], [], "2031-01-02")
    assert 'id="recipes"' not in bare and 'id="room"' not in bare and 'id="alarms"' in bare


def streams(data: bytes) -> list[bytes]:
    found = re.findall(rb"stream\r?\n(.*?)\r?\nendstream", data, re.DOTALL)
    return [zlib.decompressobj().decompress(x) for x in found if x[:1] == b"x"]


def test_a_pdf_has_its_pages_numbered_and_no_pixels(project, tmp_path, qapp):
    file = tmp_path / "record.pdf"
    write_record(file, project, run_all(project), findings(project), "2031-01-02", sweep(project), study(project))
    data = file.read_bytes()
    assert (
        data.startswith(b"%PDF") and b"/Subtype /Image" not in data and len(re.findall(rb"/Type\s*/Page\b", data)) >= 3
    )
    lines = sum(len(re.findall(rb"\bl\n", s)) for s in streams(data))
    without = tmp_path / "bare.pdf"
    write_record(without, replace(project, sequences=()), [], [], "2031-01-02")
    assert lines > 30 + sum(len(re.findall(rb"\bl\n", s)) for s in streams(without.read_bytes())), "the chart is lines"


def test_no_heading_of_a_pdf_is_alone_no_row_is_cut_and_the_contents_say_the_pages(qapp):
    """Every page begins with the heads of its table or a heading, and every heading has the first row below it."""
    parts = ""
    for n in range(3):
        rows = "".join(
            f"<tr><td>row{k}x</td><td>{'words ' * (3 * (k % 40))}end{k}x</td></tr>"
            for k in range(100 * n, 100 * n + 50)
        )
        parts += f"<h2>Part {n}</h2><h3>Section {n}</h3><table><caption>Table {n}</caption><thead><tr><th>HEAD</th></tr></thead>{rows}</table>"
    contents = "".join(f"<p>Part {n} on M{n}.</p>" for n in range(3))
    data = pdf_of(Paper(f"<html><body><h1>All</h1>{contents}{parts}</body></html>", "All", "digest", "M"))
    reader = PdfReader(io.BytesIO(data))
    pages = [re.sub(r"[ \t]+", " ", page.extract_text()) for page in reader.pages]
    assert len(pages) >= 5
    for number, page in enumerate(pages[1:], 2):
        begun, ended = re.findall(r"row(\d+)x", page), re.findall(r"end(\d+)x", page)
        assert begun == ended and begun, "a row on two pages"
        assert "HEAD" in page and f"page {number} of {len(pages)}" in page and "digest" in page
    marks = [item for item in reader.outline[1] if not isinstance(item, list)]
    assert [m.title for m in marks] == ["Part 0", "Part 1", "Part 2"]
    for n, mark in enumerate(marks):
        page = reader.get_destination_page_number(mark)
        assert f"Part {n} on {page + 1}" in pages[0]
        assert f"Section {n}" in pages[page] and f"row{100 * n}x" in pages[page]


def test_text_taken_out_of_a_record_reads_as_it_looks(project, tmp_path, qapp):
    """Every word of the page with a digit in it, and the texts of its charts, are found in the text of the PDF."""
    file, results, found = tmp_path / "record.pdf", run_all(project), findings(project)
    swept, studied = sweep(project), study(project)
    write_record(file, project, results, found, "2031-01-02", swept, studied)
    taken = re.sub(r"\s", "", "".join(page.extract_text() for page in PdfReader(file).pages))
    page = record_html(project, results, found, "2031-01-02", charts_of(project), swept, studied)
    shown = re.sub(r"<style>.*?</style>|<title>.*?</title>", " ", page, flags=re.DOTALL)
    texts = html.unescape(re.sub(r"<[^>]+>", " ", shown)).split()
    wanted = {w for w in texts if re.search(r"\d", w)}
    assert len(wanted) > 15 and {"R1", "10", "T#3s"} <= wanted
    assert {w for w in wanted if w not in taken} == set()
    chart = tmp_path / "chart.pdf"
    document = Document(project)
    view = ChartView(SequenceEditor(document, Selection(), lambda q: []), "Main", Runner(document))
    write_pdf(view, chart)
    drawn = "".join(page.extract_text() for page in PdfReader(chart).pages)
    for s in project.sequences[0].steps:
        assert str(s.number) in drawn and s.name in drawn
    view.deleteLater()


def test_the_command_and_the_window_write_the_same(qtbot, window, project, tmp_path, monkeypatch):
    file = tmp_path / "slide.spoke"
    spoke.write(project, file)
    said = CliRunner().invoke(whole_app(), ["verify", str(file), "--report", str(tmp_path / "a.html")])
    assert said.exit_code in (0, 1) and "pass" in said.output
    window.document.replace(project, file)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "b"), "HTML (*.html)"))
    told: list[str] = []
    monkeypatch.setattr(window, "say", told.append)
    window.showing.ask_record()
    qtbot.waitUntil(lambda: not window.tasks.busy, timeout=60_000)
    assert told == ["Wrote b.html; not in it: scenarios that were not run, the fault sweep, the reachability study"]
    window.document.check()
    window.document.take_results(run_all(project))
    for panel in (window.proof.sweep, window.proof.study):
        window.show_proof(panel)
        panel.start_button.click()
        qtbot.waitUntil(lambda panel=panel: panel.start_button.isEnabled(), timeout=20_000)
    let_go()
    window.showing.ask_record()
    qtbot.waitUntil(lambda: not window.tasks.busy, timeout=60_000)
    assert told[-1] == "Wrote b.html", window.message.text()
    assert (tmp_path / "b.html").read_text() == (tmp_path / "a.html").read_text()
    said = CliRunner().invoke(whole_app(), ["verify", str(file), "--report", str(tmp_path / "a.txt")])
    assert said.exit_code == 2 and "use .html or .pdf" in said.output


def test_the_code_face_shows_that_code_and_chart_do_the_same_and_where_they_do_not(qtbot, window, monkeypatch):
    window.document.replace(slide(), None)
    window.show_stage(2)
    window.show_face("code")
    proof = window.sequence.codes["Main"].proof
    proof.button.click()
    qtbot.waitUntil(lambda: proof.found is not None, timeout=30_000)
    assert "✓ the same in" in proof.said.text() and "4 runs" in proof.said.text() and not proof.show_button.isVisible()
    found = run_beside(slide(), "flags")
    assert isinstance(found, Comparison) and found.difference is None
    wrong = replace(found, difference=Difference("scenario Out and back", 1110, "Slide", "TRUE", "FALSE"))
    proof.found, proof._of = wrong, window.document.project
    proof._edited()
    assert proof.show_button.isVisibleTo(proof)
    proof.show_difference()
    window.tasks.finish()
    assert window.stage == 4 and window.runner.session.time_ms == 8000
    window.document.edit("shorter", lambda p: replace(p, sequences=slide(longest="T#2s").sequences))
    assert proof.found is None and not proof.said.text()
    let_go()
