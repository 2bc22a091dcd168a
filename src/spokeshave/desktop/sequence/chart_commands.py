"""Commands about the chart in view, and the dialogs of the sequence stage."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QInputDialog

from spokeshave.desktop.sequence import export
from spokeshave.desktop.sequence.chart_view import ChartView
from spokeshave.desktop.sequence.modes_dialog import ModesDialog
from spokeshave.desktop.sequence.page import SequencePage
from spokeshave.formats.errors import FormatError
from spokeshave.model.diagnostics import Place

if TYPE_CHECKING:
    from spokeshave.desktop.window import MainWindow


class ChartCommands:
    """`page` gives the sequence page that commands are about: that of the bench while the bench is shown."""

    def __init__(self, window: MainWindow, page: Callable[[], SequencePage]) -> None:
        self.window, self.page = window, page

    def ask_spacing(self) -> None:
        dialog = QInputDialog(self.window)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.setWindowTitle("Renumber")
        dialog.setLabelText("Spacing of the step numbers:")
        dialog.setInputMode(QInputDialog.InputMode.IntInput)
        dialog.setIntRange(1, 10_000)
        dialog.setIntValue(10)
        dialog.intValueSelected.connect(lambda spacing: self.page().editor.renumber(spacing))
        dialog.open()

    def show_form(self) -> None:
        """The sequence itself in the details."""
        self.window.selection.go(Place("sequence", item=self.page().current))

    def ask_modes(self) -> None:
        """The form of modes for the sequence in view."""
        ModesDialog(self.window.document, self.window.tasks, self.page().current, self.window.say, self.window).show()

    def ask_run(self) -> None:
        """Which sequence the selected step is to run."""
        editor = self.page().editor
        step, others = editor.step(), editor.others()
        if not step or not others:
            self.window.say(
                "Select a step first" if not step else "There is no other sequence yet: make one with New sequence"
            )
            return
        dialog = QInputDialog(self.window)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.setWindowTitle("Run a sequence")
        dialog.setLabelText(f"{step} starts, and goes on when it has come to its end:")
        dialog.setComboBoxItems(others)
        dialog.textValueSelected.connect(lambda name: editor.run(step, name))
        dialog.open()

    def ask_column(self) -> None:
        sheet = self.page().sheet
        if sheet is None:
            return
        names = sheet.sheet.can_be_asked()
        if not names:
            self.window.say("All outputs, internals and other sequences are columns already")
            return
        dialog = QInputDialog(self.window)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.setWindowTitle("Column")
        dialog.setLabelText("Show as a column, or hide again:")
        dialog.setComboBoxItems(names)
        dialog.textValueSelected.connect(sheet.sheet.ask_column)
        dialog.open()

    def fold_branch(self) -> None:
        page = self.page()
        if page.chart is not None and page.editor.step():
            page.chart.fold(page.editor.step())

    def show_whole_chart(self) -> None:
        page = self.page()
        if page.chart is not None:
            page.chart.fit_all()

    def toggle_follow(self) -> None:
        page = self.page()
        page.follows = not page.follows
        for chart in page.charts.values():
            chart.follows = page.follows
        self.window.say("The chart follows the active step" if page.follows else "The chart stays where it is")

    def toggle_overview(self) -> None:
        page = self.page()
        page.overview = not page.overview
        for chart in page.charts.values():
            chart.overview.wanted = page.overview
            chart.overview.place()

    def _chart_to_draw(self) -> ChartView | None:
        page = self.page()
        return page.charts.get(page.current)

    def _ask_export(self, kind: str, write: Callable[[ChartView, Path], None]) -> None:
        chart = self._chart_to_draw()
        if chart is None:
            return
        start = (self.page().document.path or Path.cwd() / "machine").with_name(f"{chart.name}.{kind}")
        name, _ = QFileDialog.getSaveFileName(self.window, "Export the chart", str(start), f"{kind.upper()} (*.{kind})")
        if name:
            try:
                write(chart, Path(name))
            except FormatError as error:
                self.window.say_fault(str(error))
            else:
                self.window.say(f"Wrote {Path(name).name}")

    def ask_svg(self) -> None:
        self._ask_export("svg", export.write_svg)

    def ask_pdf(self) -> None:
        self._ask_export("pdf", export.write_pdf)

    def ask_print(self) -> None:
        chart = self._chart_to_draw()
        if chart is not None:
            export.ask_printer(chart, self.window)
