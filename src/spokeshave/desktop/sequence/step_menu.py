"""The menu of a step, in chart and sheet: the edits that are possible there, and why another one is not."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMenu, QWidget

from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.sequence.editor import SequenceEditor
from spokeshave.model.diagnostics import Place

BRANCHES = (("after", "Insert a step after", "Ins"), ("before", "Insert a step before", "Shift+Ins"),
            ("alternative", "Add an alternative branch", "Ctrl+B"), ("simultaneous", "Add a simultaneous branch", "Ctrl+Shift+B"))  # fmt: skip
ENDS = (("close", "Close the branch", ""), ("branch", "Delete the branch", ""))
"""Edits of the flow around a step: what they are to `SequenceEditor.do`, their name and keys."""


class StepMenu(QMenu):
    """Edits that are not legal are grey and say why."""

    def __init__(self, parent: QWidget, editor: SequenceEditor, step: str) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setToolTipsVisible(True)
        self.editor, self.step = editor, step

    def add(self, text: str, run: Callable[[], object], keys: str = "", why: str = "") -> None:
        """An entry; `why` says why it is not possible."""
        action = self.addAction(f"{text}\t{keys}" if keys else text)
        action.triggered.connect(lambda _=False: run())
        action.setEnabled(not why)
        action.setToolTip(plain(why or text))

    def add_edits(self, edits: tuple[tuple[str, str, str], ...]) -> None:
        """Edits of the flow around the step."""
        for kind, text, keys in edits:
            self.add(text, partial(self.editor.do, kind, self.step), keys, self.editor.why_not(kind, self.step))

    def add_runs(self) -> None:
        """Sequences that the step can run."""
        runs = self.addMenu("Run a sequence")
        others = self.editor.others()
        runs.setEnabled(bool(others))
        for name in others:
            why = self.editor.why_not_run(self.step, name)
            action = runs.addAction(name)
            action.triggered.connect(lambda _=False, name=name: self.editor.run(self.step, name))
            action.setEnabled(not why)
            action.setToolTip(plain(why or f"{self.step} starts {name}, and goes on when that has come to its end"))
        runs.setToolTipsVisible(True)

    def add_uses(self) -> None:
        """Where the step is named."""
        place = Place("step", self.editor.current, self.step)
        self.add("Where it is used", lambda: self.editor.selection.ask_uses(place), "Ctrl+Alt+U")

    def add_initial(self) -> None:
        """Whether the sequence begins here."""
        self.add_edits((("initial", "Begin with this step", ""),))
