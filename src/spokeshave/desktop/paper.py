"""Text with drawings on pages: for PDF, for the printer and for its preview."""

from __future__ import annotations

import re
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QBuffer, QIODevice, QMarginsF, QRectF, QSizeF, Qt
from PySide6.QtGui import (
    QPageLayout,
    QPageSize,
    QPainter,
    QPdfWriter,
    QPyTextObject,
    QTextCharFormat,
    QTextDocument,
    QTextFormat,
)
from PySide6.QtPrintSupport import QPrinter
from PySide6.QtSvg import QSvgRenderer

from spokeshave.desktop.record_pages import OBJECT, Heading, headings_of, keep_together, number_contents, with_bookmarks
from spokeshave.desktop.theme import text_font, theme
from spokeshave.verify.progress import look

DPI = 96
"""A pixel of a text on paper."""
MARGIN_MM = 14
FOOT = 26
PICTURE = int(QTextFormat.ObjectTypes.UserObject) + 1
SVG = 1
"""The property of a character that stands for a picture."""


@dataclass(frozen=True, slots=True)
class Paper:
    """A text to be put on paper: what stands below each page at the left and at the right, and whether pages lie across.

    The n-th part's page stands where the text has `<paged><n>.`.
    """

    text: str
    title: str
    foot: str = ""
    paged: str = ""
    across: bool = False


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
        painter.save()
        # Of a drawing on several pages, only what belongs here.
        painter.setClipRect(QRectF(box), Qt.ClipOperation.IntersectClip)
        QSvgRenderer(form.property(SVG)).render(painter, QRectF(box))
        painter.restore()


def layout_of(across: bool) -> QPageLayout:
    """A4 with margins."""
    orientation = QPageLayout.Orientation.Landscape if across else QPageLayout.Orientation.Portrait
    margins = QMarginsF(MARGIN_MM, MARGIN_MM, MARGIN_MM, MARGIN_MM)
    return QPageLayout(QPageSize(QPageSize.PageSizeId.A4), orientation, margins, QPageLayout.Unit.Millimeter)


def pdf_of(paper: Paper) -> bytes:
    """A text as PDF; its pictures stay vectors, its text can be taken out again, its headings are bookmarks."""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(buffer)
    writer.setResolution(DPI)
    writer.setTitle(paper.title)
    writer.setPageLayout(layout_of(paper.across))
    headings = print_on(writer, paper)
    return with_bookmarks(bytes(buffer.data().data()), headings)


def print_on(device: QPdfWriter | QPrinter, paper: Paper) -> list[Heading]:
    """Prints a text on the pages of a device, in light colours, and gives its headings with their pages."""
    with theme.on_paper():
        dpi = device.logicalDpiX()
        unit = dpi / DPI
        page = device.pageLayout().paintRectPixels(dpi)
        room = QSizeF(page.width() / unit, page.height() / unit - FOOT)
        document, picture = laid_out(paper, room)  # the picture is asked to draw while the document lives
        headings = headings_of(document, room.height())
        if paper.paged:
            number_contents(document, headings, paper.paged)
        painter = QPainter(device)
        painter.scale(unit, unit)
        _paint(painter, document, room, paper, device.newPage)
        painter.end()
        del picture
    return headings


def _paint(
    painter: QPainter, document: QTextDocument, room: QSizeF, paper: Paper, new_page: Callable[[], bool]
) -> None:
    for n in range(document.pageCount()):
        look(0.4 + 0.6 * n / document.pageCount())
        if n:
            new_page()
        painter.save()
        painter.translate(0, -n * room.height())
        document.drawContents(painter, QRectF(0, n * room.height(), room.width(), room.height()))
        painter.restore()
        painter.setFont(text_font(10))
        line = QRectF(0, room.height() + 8, room.width(), 16)
        painter.drawText(line, f"{paper.title}, page {n + 1} of {document.pageCount()}")
        painter.setFont(text_font(7))
        painter.drawText(line, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, paper.foot)


def laid_out(paper: Paper, room: QSizeF) -> tuple[QTextDocument, QPyTextObject]:
    """A text laid out on pages of some room, and what draws its pictures."""
    document, picture = QTextDocument(), _Picture(room.width() - 8, room.height() - 160)
    document.documentLayout().registerHandler(PICTURE, picture)
    document.setDefaultFont(text_font(11))
    document.setDocumentMargin(0)
    pieces = re.split(r"(<svg.*?</svg>)", paper.text, flags=re.DOTALL)
    drawings: list[str] = []
    mark = secrets.token_hex(8)  # which no text of a person can have
    for i in range(1, len(pieces), 2):
        parts = cut(pieces[i], picture.room)
        pieces[i] = "</p><p>".join(f"[picture {mark} {len(drawings) + n}]" for n in range(len(parts)))
        drawings += parts
    document.setHtml("".join(pieces).replace("margin: 32px auto; padding: 0 24px", "margin: 0"))
    for n, drawing in enumerate(drawings):
        _put(document, f"[picture {mark} {n}]", drawing)
    document.setPageSize(room)
    keep_together(document, room.height(), bool(paper.paged))
    return document, picture


LEAST_SHRUNK = 0.8
"""How much a drawing is made smaller to stay on one page."""


def cut(drawing: str, room: QSizeF) -> list[str]:
    """A drawing in as many as it takes to be read on pages of some room, cut where it says (`data-cuts`) it may be."""
    head = drawing[: drawing.index(">") + 1]
    cuts, box = (re.search(rf'\b{name}="([^"]*)"', head) for name in ("data-cuts", "viewBox"))
    if cuts is None or box is None:
        return [drawing]
    at = [float(y) for y in cuts[1].split()]
    left, top, width, height = (float(x) for x in box[1].split())
    page = room.height() / min(1.0, room.width() / max(1.0, width))
    if height * LEAST_SHRUNK <= page:
        return [drawing]
    parts, y = [], top
    while y < top + height:
        rest = top + height - y
        fits = [c for c in at if y + 40 < c <= y + page]
        end = top + height if rest <= page else max(fits, default=y + page)
        new = re.sub(r'\sheight="[^"]*"', "", re.sub(r'\bwidth="[^"]*"', "", head))
        parts.append(new.replace(box[0], f'viewBox="{left:g} {y:g} {width:g} {end - y:g}"') + drawing[len(head) :])
        y = end
    return parts


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
