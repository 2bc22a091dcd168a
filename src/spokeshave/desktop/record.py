"""The acceptance record with its charts, as HTML or PDF: the same for the command line and for the window."""

from __future__ import annotations

import secrets
from pathlib import Path

from PySide6.QtGui import QGuiApplication

from spokeshave.desktop.application import make_app_without_screen
from spokeshave.desktop.document import Document
from spokeshave.desktop.machine_scene.export import scene_svg
from spokeshave.desktop.paper import Paper, pdf_of
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.chart_view import ChartView
from spokeshave.desktop.sequence.editor import SequenceEditor
from spokeshave.desktop.sequence.export import cuts_of, svg_of
from spokeshave.formats.disk import write_bytes_atomically
from spokeshave.formats.spoke import fingerprint
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.project import Project
from spokeshave.verify.progress import look
from spokeshave.verify.reach.answers import Study
from spokeshave.verify.record import NOT_RUN, record_html
from spokeshave.verify.room.work import RoomReport
from spokeshave.verify.scenarios import Result
from spokeshave.verify.strength.report import Report
from spokeshave.verify.sweep.matrix import Matrix

Told = tuple[Project, list[Result], list[Diagnostic], str, Matrix | str, Study | str, Report | None, RoomReport | None]
"""What a record is made of: machine file, results, findings, date, sweep, study, planted mistakes, room."""


def write_record(
    path: Path, project: Project, results: list[Result], found: list[Diagnostic], date: str,
    sweep: Matrix | str = NOT_RUN, study: Study | str = NOT_RUN, judged: Report | None = None,
    measured: RoomReport | None = None,
) -> None:  # fmt: skip
    """Writes the record; its suffix says as what. Raises `FormatError`."""
    write_bytes_atomically(
        record_bytes(path.suffix, project, results, found, date, sweep, study, judged, measured), path
    )


def record_bytes(
    suffix: str, project: Project, results: list[Result], found: list[Diagnostic], date: str,
    sweep: Matrix | str = NOT_RUN, study: Study | str = NOT_RUN, judged: Report | None = None,
    measured: RoomReport | None = None,
) -> bytes:  # fmt: skip
    """The record as HTML, or as PDF for the suffix `.pdf`; it can be made in a process of the proof."""
    if QGuiApplication.instance() is None:
        make_app_without_screen()
    paged = f"p{secrets.token_hex(6)}-" if suffix.lower() == ".pdf" else ""  # which no text of a person can have
    digest = fingerprint(project)
    text = record_html(
        project, results, found, date, charts_of(project), sweep, study, digest, paged, judged=judged, measured=measured
    )
    look(0.3)
    if suffix.lower() != ".pdf":
        return text.encode()
    return pdf_of(Paper(text, f"{project.name}, acceptance record", digest, paged))


def charts_of(project: Project) -> dict[str, str]:
    """An SVG drawing of each sequence, as it stands in a text; under an empty name that of the machine, where there is one."""
    document = Document(project)
    runner = Runner(document)
    editor = SequenceEditor(document, Selection(), lambda q: [])
    found = {}
    for n, q in enumerate(project.sequences):
        view = ChartView(editor, q.name, runner)
        drawing = svg_of(view).decode()
        cuts = " ".join(f"{y:.0f}" for y in cuts_of(view))
        found[q.name] = f'<svg data-cuts="{cuts}"' + drawing[drawing.index("<svg") + 4 :]
        view.deleteLater()
        look(0.3 * n / len(project.sequences))
    if scene := scene_svg(project):
        found[""] = scene
    return found
