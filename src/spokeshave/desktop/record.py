"""The acceptance record with its charts, as HTML or PDF: the same for the command line and for the window."""

from __future__ import annotations

import re
import secrets
from pathlib import Path
from typing import Any

from PySide6.QtCore import QBuffer, QIODevice, QMarginsF, QRectF, QSizeF, Qt
from PySide6.QtGui import (
    QGuiApplication,
    QPageLayout,
    QPageSize,
    QPainter,
    QPdfWriter,
    QPyTextObject,
    QTextCharFormat,
    QTextDocument,
    QTextFormat,
)
from PySide6.QtSvg import QSvgRenderer

from spokeshave.desktop.application import make_app_without_screen
from spokeshave.desktop.document import Document
from spokeshave.desktop.record_pages import OBJECT, Heading, headings_of, keep_together, number_contents, with_bookmarks
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.chart_view import ChartView
from spokeshave.desktop.sequence.editor import SequenceEditor
from spokeshave.desktop.sequence.export import svg_of
from spokeshave.desktop.theme import text_font, theme
from spokeshave.formats.disk import write_bytes_atomically
from spokeshave.formats.spoke import fingerprint
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.project import Project
from spokeshave.verify.progress import look
from spokeshave.verify.reach.answers import Study
from spokeshave.verify.record import NOT_RUN, record_html
from spokeshave.verify.scenarios import Result
from spokeshave.verify.sweep.matrix import Matrix

DPI = 96
MARGIN_MM = 14
PICTURE = int(QTextFormat.ObjectTypes.UserObject) + 1
SVG = 1
"""The property of a character that stands for a picture."""

Told = tuple[Project, list[Result], list[Diagnostic], str, Matrix | str, Study | str]
"""What a record is made of: machine file, results, findings, date, sweep, study."""


def write_record(
    path: Path, project: Project, results: list[Result], found: list[Diagnostic], date: str,
    sweep: Matrix | str = NOT_RUN, study: Study | str = NOT_RUN,
) -> None:  # fmt: skip
    """Writes the record; its suffix says as what. Raises `FormatError`."""
    write_bytes_atomically(record_bytes(path.suffix, project, results, found, date, sweep, study), path)


def record_bytes(
    suffix: str, project: Project, results: list[Result], found: list[Diagnostic], date: str,
    sweep: Matrix | str = NOT_RUN, study: Study | str = NOT_RUN,
) -> bytes:  # fmt: skip
    """The record as HTML, or as PDF for the suffix `.pdf`; it can be made in a process of the proof."""
    if QGuiApplication.instance() is None:
        make_app_without_screen()
    paged = f"p{secrets.token_hex(6)}-" if suffix.lower() == ".pdf" else ""  # which no text of a person can have
    digest = fingerprint(project)
    text = record_html(project, results, found, date, charts_of(project), sweep, study, digest, paged)
    look(0.3)
    return (
        pdf_of(text, f"{project.name}, acceptance record", paged, digest) if suffix.lower() == ".pdf" else text.encode()
    )


def charts_of(project: Project) -> dict[str, str]:
    """An SVG drawing of each sequence, as it stands in a text."""
    document = Document(project)
    runner = Runner(document)
    editor = SequenceEditor(document, Selection(), lambda q: [])
    found = {}
    for n, q in enumerate(project.sequences):
        view = ChartView(editor, q.name, runner)
        drawing = svg_of(view).decode()
        found[q.name] = drawing[drawing.index("<svg") :]
        view.deleteLater()
        look(0.3 * n / len(project.sequences))
    return found


class _Picture(QPyTextObject):
    """A drawing as a character of a text: lines and letters, no pixels."""

    def __init__(self, width: float, height: float) -> None:
        super().__init__()
        self.room = QSizeF(width, height)

    def intrinsicSize(self, doc: Any, position: int, form: Any) -> QSizeF:
        size = QSvgRenderer(form.property(SVG)).viewBoxF().size()
        scale = min(1.0, self.room.width() / max(1.0, size.width()), self.room.height() / max(1.0, size.height()))
        return QSizeF(size.width() * scale, size.height() * scale)

    def drawObject(self, painter: QPainter, box: Any, doc: Any, position: int, form: Any) -> None:
        QSvgRenderer(form.property(SVG)).render(painter, QRectF(box))


def pdf_of(text: str, title: str, paged: str = "", foot: str = "") -> bytes:
    """A record as PDF on A4 pages with numbers, and `foot` below each; its pictures stay vectors, its text can be taken out again.

    Its headings are bookmarks, and the n-th part's page stands where the contents have `<paged><n>.`.
    """
    with theme.on_paper():
        data, headings = _pdf_of(text, title, paged, foot)
    return with_bookmarks(data, headings)


def _pdf_of(text: str, title: str, paged: str, foot_text: str) -> tuple[bytes, list[Heading]]:
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(buffer)
    writer.setResolution(DPI)
    writer.setTitle(title)
    writer.setPageLayout(
        QPageLayout(
            QPageSize(QPageSize.PageSizeId.A4), QPageLayout.Orientation.Portrait,
            QMarginsF(MARGIN_MM, MARGIN_MM, MARGIN_MM, MARGIN_MM), QPageLayout.Unit.Millimeter,
        )
    )  # fmt: skip
    page = writer.pageLayout().paintRectPixels(DPI)
    foot = 26
    room = QSizeF(page.width(), page.height() - foot)
    document, picture = QTextDocument(), _Picture(room.width() - 8, room.height() - 160)
    document.documentLayout().registerHandler(PICTURE, picture)
    document.setDefaultFont(text_font(11))
    document.setDocumentMargin(0)
    pieces = re.split(r"(<svg.*?</svg>)", text, flags=re.DOTALL)
    drawings = pieces[1::2]
    mark = secrets.token_hex(8)  # which no text of a person can have
    pieces[1::2] = [f"[picture {mark} {n}]" for n in range(len(drawings))]
    document.setHtml("".join(pieces).replace("margin: 32px auto; padding: 0 24px", "margin: 0"))
    for n, drawing in enumerate(drawings):
        _put(document, f"[picture {mark} {n}]", drawing)
    document.setPageSize(room)
    keep_together(document, room.height())
    headings = headings_of(document, room.height())
    if paged:
        number_contents(document, headings, paged)
    painter = QPainter(writer)
    for n in range(document.pageCount()):
        look(0.4 + 0.6 * n / document.pageCount())
        if n:
            writer.newPage()
        painter.save()
        painter.translate(0, -n * room.height())
        document.drawContents(painter, QRectF(0, n * room.height(), room.width(), room.height()))
        painter.restore()
        painter.setFont(text_font(10))
        line = QRectF(0, room.height() + 8, page.width(), 16)
        painter.drawText(line, f"{title}, page {n + 1} of {document.pageCount()}")
        painter.setFont(text_font(7))
        painter.drawText(line, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, foot_text)
    painter.end()
    return bytes(buffer.data().data()), headings


def _put(document: QTextDocument, mark: str, drawing: str) -> None:
    """In the place of its mark."""
    cursor = document.find(mark)
    form = QTextCharFormat()
    form.setObjectType(PICTURE)
    form.setProperty(SVG, _plain(drawing).encode())
    cursor.insertText(OBJECT, form)


def _plain(drawing: str) -> str:
    """An SVG drawing that stands in a page as a file of its own."""
    if "xmlns=" not in drawing[: drawing.index(">")]:
        drawing = drawing.replace("<svg", '<svg xmlns="http://www.w3.org/2000/svg"', 1)
    return drawing
