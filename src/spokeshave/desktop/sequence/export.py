"""The chart on paper: SVG as one drawing, PDF and printer over pages with a frame."""

from __future__ import annotations

import math
from pathlib import Path

from PySide6.QtCore import QBuffer, QIODevice, QMarginsF, QRectF, QSize, Qt
from PySide6.QtGui import QPageLayout, QPageSize, QPainter, QPdfWriter, QPen
from PySide6.QtPrintSupport import QPrintDialog, QPrinter
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QWidget

from spokeshave.desktop.sequence.chart_items import StepItem
from spokeshave.desktop.sequence.chart_lines import LinesItem
from spokeshave.desktop.sequence.chart_view import ChartView
from spokeshave.desktop.theme import text_font, theme
from spokeshave.formats.disk import write_bytes_atomically

DPI = 144
CHART_DPI = 96
"""A pixel of the layout on paper."""
LEAST_SCALE = 0.7
TITLE = 34


def draw(view: ChartView, painter: QPainter, area: QRectF) -> None:
    """Draws the part `area` of the chart at the painter's origin, without handles or selection, in light colours."""
    hidden = [i for i in view.scene().items() if not isinstance(i, (StepItem, LinesItem)) and i.isVisible()]
    selected = view.scene().selectedItems()
    view.scene().blockSignals(True)
    for item in hidden:
        item.setVisible(False)
    view.scene().clearSelection()
    with theme.on_paper():
        view.scene().render(
            painter, QRectF(0, 0, area.width(), area.height()), area, Qt.AspectRatioMode.IgnoreAspectRatio
        )
    for item in hidden:
        item.setVisible(True)
    for item in selected:
        item.setSelected(True)
    view.scene().blockSignals(False)


def write_svg(view: ChartView, path: Path) -> None:
    """The whole chart as one SVG drawing. Raises `FormatError`."""
    write_bytes_atomically(svg_of(view), path)


def svg_of(view: ChartView) -> bytes:
    """The whole chart as one SVG drawing."""
    view.rebuild_now()
    area = view.scene().sceneRect()
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    generator = QSvgGenerator()
    generator.setOutputDevice(buffer)
    generator.setSize(QSize(math.ceil(area.width()), math.ceil(area.height())))
    generator.setViewBox(QRectF(0, 0, area.width(), area.height()))
    generator.setTitle(f"{view.document.project.name}, {view.name}")
    painter = QPainter(generator)
    draw(view, painter, area)
    painter.end()
    return bytes(buffer.data().data())


def cuts_of(view: ChartView) -> list[float]:
    """Where a chart may go on to another page: heights of its drawing at which no step, action or condition stands."""
    view.rebuild_now()
    top, cuts, below = view.scene().sceneRect().top(), list[float](), 0.0
    taken = sorted((r.top() - top, r.bottom() - top) for item in view.items_by_step.values() for r in item.areas())
    for begin, end in taken:
        if begin > below > 0:
            cuts.append((begin + below) / 2)
        below = max(below, end)
    return cuts


def pages_of(chart: QRectF, page: QSize) -> tuple[float, list[QRectF]]:
    """The scale, and the part of the chart on each page: as large as it can be read, over as few pages as it takes."""
    wide, high = page.width(), page.height() - TITLE
    scale = max(LEAST_SCALE, min(1.0, wide / max(1.0, chart.width())))
    across = math.ceil(chart.width() * scale / wide)
    down = max(1, math.ceil(chart.height() * scale / high))
    w, h = wide / scale, high / scale
    return scale, [QRectF(c * w, r * h, w, h) for r in range(down) for c in range(max(1, across))]


def _print(view: ChartView, device: QPdfWriter | QPrinter) -> None:
    view.rebuild_now()
    dpi = device.logicalDpiX()
    unit = dpi / CHART_DPI
    room = device.pageLayout().paintRectPixels(dpi)
    page = QSize(int(room.width() / unit), int(room.height() / unit))
    scale, parts = pages_of(view.scene().sceneRect(), page)
    painter = QPainter(device)
    for n, part in enumerate(parts):
        if n:
            device.newPage()
        painter.save()
        painter.scale(unit, unit)
        _frame(painter, view, page, n + 1, len(parts))
        painter.setClipRect(QRectF(0, 0, page.width(), page.height() - TITLE))
        painter.scale(scale, scale)
        draw(view, painter, part)
        painter.restore()
    painter.end()


def _frame(painter: QPainter, view: ChartView, page: QSize, sheet: int, sheets: int) -> None:
    """A line around the page; below it the title and which sheet of how many."""
    with theme.on_paper():
        painter.setPen(QPen(theme.colour("ink"), 1))
        painter.drawRect(QRectF(0, 0, page.width() - 1, page.height() - 1))
        painter.drawLine(0, page.height() - TITLE, page.width(), page.height() - TITLE)
        box = QRectF(10, page.height() - TITLE, page.width() - 20, TITLE)
        painter.setFont(text_font(13, bold=True))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, f"{view.document.project.name}, sequence {view.name}")
        painter.setFont(text_font(12))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, f"sheet {sheet} of {sheets}")


def write_pdf(view: ChartView, path: Path) -> None:
    """The chart over A4 pages. Raises `FormatError`."""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(buffer)
    writer.setResolution(DPI)
    writer.setTitle(f"{view.document.project.name}, {view.name}")
    landscape = view.scene().sceneRect().width() > view.scene().sceneRect().height()
    orientation = QPageLayout.Orientation.Landscape if landscape else QPageLayout.Orientation.Portrait
    writer.setPageLayout(
        QPageLayout(
            QPageSize(QPageSize.PageSizeId.A4), orientation, QMarginsF(10, 10, 10, 10), QPageLayout.Unit.Millimeter
        )
    )
    _print(view, writer)
    write_bytes_atomically(bytes(buffer.data().data()), path)


def ask_printer(view: ChartView, parent: QWidget) -> None:
    """Asks for a printer and prints a chart on it."""
    printer = QPrinter(QPrinter.PrinterMode.HighResolution)
    if QPrintDialog(printer, parent).exec():
        _print(view, printer)
