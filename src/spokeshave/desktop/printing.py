"""Each stage on paper: as PDF, and printed with a preview, from the same template as the acceptance record."""

from __future__ import annotations

import base64
import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QImage
from PySide6.QtPrintSupport import QPrinter, QPrintPreviewDialog
from PySide6.QtWidgets import QFileDialog, QWidget

from spokeshave.desktop.bench.snapshots import png_bytes
from spokeshave.desktop.machine_scene.export import scene_svg
from spokeshave.desktop.paper import Paper, layout_of, pdf_of, print_on
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.record import charts_of
from spokeshave.desktop.theme import theme
from spokeshave.formats.disk import write_bytes_atomically
from spokeshave.formats.errors import FormatError
from spokeshave.formats.spoke import fingerprint
from spokeshave.formats.tables.write import page_of
from spokeshave.verify.record import record_html

if TYPE_CHECKING:
    from spokeshave.desktop.window import MainWindow

STAGES = (
    ("Brief", ("Brief and coverage",)),
    ("Signals", ("Signals",)),
    ("Sequences", ("Sequences",)),
    ("Machine", ("Machine", "Interlocks and trips")),
    ("Bench", ("Timing diagram",)),
    ("Proof", ("Brief and coverage", "Scenarios", "Cause and effect", "Findings of the check", "Waived findings")),
)
"""What each stage is called on paper, and which parts of the record it is."""
WIDEST = 8
"""Columns of a sheet that have room on a page that stands upright."""
PICTURE_WIDTH = 640
"""Pixels of paper for a picture of a view."""


class Printing:
    """Commands that put the stage in view on paper."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self._printer: QPrinter | None = None

    def paper(self, stage: int) -> Paper:
        """A stage as it is now: of the bench what the timing diagram shows, of the proof the results that hold."""
        w, project = self.window, self.window.document.project
        subject, parts = STAGES[stage]
        ledger, today = w.document.ledger, datetime.date.today().isoformat()
        results = [found for s in project.scenarios if (found := ledger.results.get(s.name)) is not None]
        sheets = {q.name: page_of(project, q) for q in project.sequences} if stage == 2 else {}
        across = stage == 4 or any(len(s.heads) > WIDEST for s in sheets.values())
        pictures = {"board": _picture(w.machine.board)} if stage == 3 else {}
        drawn = scene_svg(project) if stage == 3 else ""
        if stage == 4:
            pictures = {"timing": _picture(w.bench.strip, 940)}
        text = record_html(
            project, results, w.document.findings, today, charts_of(project) if stage == 2 else {"": drawn} if stage == 3 and drawn else {}, paged="",
            only=parts, subject=f"{subject}, {today}", sheets=sheets, pictures=pictures, standing=ledger.standing,
        )  # fmt: skip
        return Paper(text, f"{project.name}, {subject.lower()}", fingerprint(project), across=across)

    def ask_pdf(self) -> None:
        """The stage in view as a PDF."""
        name = f"{STAGES[self.window.stage][0].lower()}.pdf"
        start = (self.window.document.path or Path.cwd() / "machine").with_name(name)
        chosen, _ = QFileDialog.getSaveFileName(self.window, "Export as PDF", str(start), "PDF (*.pdf)")
        if chosen:
            path = Path(chosen)
            self.write_pdf(path if path.suffix.lower() == ".pdf" else path.with_suffix(".pdf"))

    def write_pdf(self, path: Path) -> None:
        """Writes the stage in view."""
        try:
            write_bytes_atomically(pdf_of(self.paper(self.window.stage)), path)
        except FormatError as error:
            self.window.say_fault(str(error))
        else:
            self.window.say(f"Wrote {path.name}")

    def preview(self) -> QPrintPreviewDialog:
        """The pages of the stage in view, as the printer that is chosen there makes them."""
        paper = self.paper(self.window.stage)
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        printer.setPageLayout(layout_of(paper.across))
        printer.setDocName(paper.title)
        dialog = QPrintPreviewDialog(printer, self.window)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.setWindowTitle(plain(f"Print {paper.title}"))
        dialog.resize(900, 760)
        dialog.paintRequested.connect(lambda on: print_on(on, paper))
        self._printer = printer  # the dialog does not keep it
        dialog.open()
        return dialog


def _picture(widget: QWidget, width: int = PICTURE_WIDTH) -> str:
    """What a view shows, in light colours, as an image of a page."""
    size = widget.size() if widget.size().width() > 200 else QSize(1000, 560)
    image = QImage(size * 2, QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(2)
    image.fill(Qt.GlobalColor.white)
    with theme.on_paper():
        widget.render(image)
    data = base64.b64encode(png_bytes(image)).decode()
    return f"<img width='{min(width, size.width())}' src='data:image/png;base64,{data}'>"
