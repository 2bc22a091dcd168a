"""That the code does what the chart does, shown: both run side by side under the scenarios and under random hands."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.process_work import Elsewhere
from spokeshave.desktop.theme import theme
from spokeshave.engine.link import LinkError
from spokeshave.formats.code.as_run import as_project
from spokeshave.formats.code.write import generate
from spokeshave.formats.errors import FormatError
from spokeshave.model.project import Project
from spokeshave.verify.equivalence import Comparison, compare, runs_of


def run_beside(project: Project, style: str) -> Comparison | str:
    """In a process: the comparison, or why there is none."""
    try:
        code = generate(project, style)
        return compare(project, as_project(code), {c: code.flag(c) for c in code.active}, runs_of(project))
    except (FormatError, LinkError) as error:
        return str(error)


class CodeProof(QWidget):
    """`show_asked` carries the run that differs, what it is, and the time in ms of its first difference."""

    show_asked = Signal(object, str, int)

    def __init__(self, document: Document, style: Callable[[], str]) -> None:
        super().__init__()
        self.document, self.code_style = document, style
        self.found: Comparison | None = None
        self.elsewhere = Elsewhere(self)
        self._of: Project | None = None
        self.button = QPushButton("Run beside the chart")
        self.button.setToolTip(
            "Runs code and chart under every scenario and under random hands, and tells the first scan that differs"
        )
        self.button.clicked.connect(self.start)
        self.show_button = QPushButton("Show on the bench")
        self.show_button.clicked.connect(self.show_difference)
        self.show_button.hide()
        self.said = TextLabel()
        self.said.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 2, 8, 4)
        for w in (self.button, self.said, self.show_button):
            row.addWidget(w, 1 if w is self.said else 0)
        document.changed.connect(self._edited)

    def start(self) -> None:
        """Compares the machine file as it is, in a process."""
        if not self.elsewhere.busy:
            self._of, self.found = self.document.project, None
            self.elsewhere.ask(self._take, run_beside, self._of, self.code_style())
            self._say("both run ...", "ink")

    def _take(self, found: Comparison | str) -> None:
        if isinstance(found, str):
            self._say(found, "late")
            return
        self.found = found
        scans = f"{found.scans:,} scans of {found.runs} runs"
        if found.difference is None:
            self._say(f"✓ the same in {scans}", "true")
        else:
            self._say(f"✕ {found.difference}", "late")
        self._edited()

    def _edited(self) -> None:
        now = self._of is not None and self.document.project.runs_like(self._of)
        if self.found is not None and not now:
            self.found = None
            self._say("", "ink")
        self.show_button.setVisible(self.found is not None and self.found.difference is not None)

    def _say(self, text: str, colour: str) -> None:
        self.said.setText(text)
        self.said.setToolTip(plain(text))
        self.said.setStyleSheet(f"color: {theme.colour(colour).name()}")

    def show_difference(self) -> None:
        """The chart's run at the first scan that differs."""
        if self.found is None or self.found.difference is None:
            return
        difference = self.found.difference
        run = next(r for r in runs_of(self.document.project) if r.name == difference.run)
        self.show_asked.emit(run.of(self.document.project), f"{difference}", difference.time_ms)
