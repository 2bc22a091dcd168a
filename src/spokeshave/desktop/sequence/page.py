"""The sequence stage: sheet, chart and code of each sequence, one selection and one set of edits for all three."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Generic, TypeVar

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QSizePolicy,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.code_editor import CodeEditor
from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.icons import icon
from spokeshave.desktop.plain_text import FittingLabel, plain
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.chart_view import ChartView
from spokeshave.desktop.sequence.code_face import CodeFace
from spokeshave.desktop.sequence.editor import SequenceEditor
from spokeshave.desktop.sequence.find_bar import FindBar
from spokeshave.desktop.sequence.sheet import STEP, Sheet, targets_of
from spokeshave.desktop.sequence.sheet_view import SheetView
from spokeshave.desktop.sequence.tab import SequenceTab
from spokeshave.desktop.stage_page import StagePage
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Sequence
from spokeshave.model.sequence_edits import delete_sequence

FACES = (("sheet", "Sheet", "F6"), ("chart", "Chart", "F7"), ("code", "Code", "F8"))
HINTS = {
    "sheet": "Type to edit. Insert, Delete, Space, Alt+arrows",
    "chart": "Double-click edits, drag moves a step, wheel zooms",
    "code": "",
}


F = TypeVar("F", bound=QWidget)


class Faces(Generic[F]):
    """A face of each sequence by its name, made when somebody looks at it."""

    def __init__(self, names: Iterable[str], make: Callable[[str], F]) -> None:
        self.names, self.make, self.made = frozenset(names), make, dict[str, F]()

    def __getitem__(self, name: str) -> F:
        if name not in self.names:
            raise KeyError(name)
        if name not in self.made:
            self.made[name] = self.make(name)
        return self.made[name]

    def get(self, name: str) -> F | None:
        """The face of a sequence, None for a name that is none."""
        return self[name] if name in self.names else None

    def values(self) -> Iterable[F]:
        """Those that were looked at so far."""
        return self.made.values()


class SequencePage(StagePage):
    """Sequences side by side as tabs, and the face of choice below."""

    show_asked = Signal(object, str, int)
    """As `CodeProof.show_asked`."""

    def __init__(self, document: Document, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.document, self.runner, self.selection = document, runner, selection
        self.editor = SequenceEditor(document, selection, self._targets)
        self.editor.fallback = self._current_step
        self.editor.made.connect(self._name_new_step)
        self.face = "sheet"
        self.names: list[str] = []
        self.comments = False
        """Whether sheets have their column of comments."""
        self.follows, self.overview = True, True
        """Whether charts go with the active step, and have their overview."""
        self.sheets: Faces[SheetView] = Faces((), self._sheet)
        self.charts: Faces[ChartView] = Faces((), self._chart)
        self.codes: Faces[CodeFace] = Faces((), self._code)
        self.stack = QStackedWidget()
        self.tabs = QHBoxLayout()
        self.tabs.setSpacing(4)
        self.group = QButtonGroup(self)
        self.faces = QButtonGroup(self)
        self.hint = FittingLabel()
        self.hint.setObjectName("hint")
        self.hint.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        bar = QHBoxLayout()
        bar.setContentsMargins(8, 4, 8, 4)
        bar.addLayout(self.tabs)
        bar.addSpacing(12)
        bar.addWidget(self.hint, 1)
        for name, title, keys in FACES:
            button = QToolButton()
            button.setText(title)
            button.setIcon(icon(name))
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            button.setCheckable(True)
            button.setChecked(name == self.face)
            button.setToolTip(plain(f"Show the {title.lower()} ({keys})"))
            button.clicked.connect(lambda _=False, n=name: self.show_face(n))
            self.faces.addButton(button)
            button.setObjectName(f"face_{name}")
            bar.addWidget(button)
        self.find_bar = FindBar(self.editor)
        self.find_bar.text_in_view = self._code_in_view
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(bar)
        column.addWidget(self.find_bar)
        column.addWidget(self.stack, 1)
        document.changed.connect(self.refresh)
        self.refresh()

    @property
    def current(self) -> str:
        """The sequence in view."""
        return self.editor.current

    def show_draft(self, place: str) -> None:
        """Shows a text that is typed and not applied, such as `code Roast/Body Count`."""
        name, _, choice = place.removeprefix("code ").partition("/")
        code = self.codes.get(name)
        if code is not None:
            self.show_sequence(name)
            self.show_face("code")
            code.refresh()
            code.choice.setCurrentText(choice)

    def _code_in_view(self) -> CodeEditor | None:
        code = self.codes.get(self.current)
        return code.text if code is not None and self.face == "code" else None

    def _targets(self, sequence: Sequence) -> list[str]:
        return list(dict.fromkeys(targets_of(self.document.project, sequence)))

    def refresh(self) -> None:
        """Makes tabs for the document's sequences."""
        names = [q.name for q in self.document.project.sequences]
        if names == self.names and names:
            return
        current = self.current
        if len(names) == len(self.names) and set(names) != set(self.names):
            for old, new in zip(self.names, names):
                if old != new:  # the same sequence under another name stays in view, with what is typed in its code
                    current = new if current == old else current
                    for draft in self.document.drafts.all():
                        if draft.place.startswith(f"code {old}/"):
                            self.document.drafts.rename(draft.place, f"code {new}/{draft.place.partition('/')[2]}")
        self.names = names
        for button in self.group.buttons():
            self.group.removeButton(button)
            self.tabs.removeWidget(button)
            button.hide()
            button.deleteLater()
        while self.stack.count():
            view = self.stack.widget(0)
            assert view is not None
            self.stack.removeWidget(view)
            view.hide()
            view.deleteLater()
        self.sheets = Faces(names, self._sheet)
        self.charts = Faces(names, self._chart)
        self.codes = Faces(names, self._code)
        for name in names:
            button = SequenceTab(name)
            button.clicked.connect(lambda _=False, n=name: self.show_sequence(n))
            button.form_asked.connect(lambda n=name: self.selection.go(Place("sequence", item=n)))
            button.new_asked.connect(self.new_sequence)
            button.delete_asked.connect(lambda n=name: self._delete(n))
            self.group.addButton(button)
            self.tabs.addWidget(button)
        if not names:
            bare = QWidget()
            self.stack.addWidget(bare)
            self.empty = EmptyHint(bare, "A sequence is steps, what each drives, and what it awaits to go on. Begin with two steps, "
                                   "or make one and paste a table from a spreadsheet over them (Ctrl+V).",
                                   (("New sequence", self.new_sequence),))  # fmt: skip
            self.empty.show_while(True)
        self.show_sequence(current if current in names else names[0] if names else "")

    def new_sequence(self) -> None:
        """One more, in view."""
        if self.document.edit("New sequence", new_sequence):
            self.show_sequence(self.document.project.sequences[-1].name)

    def _delete(self, name: str) -> None:
        self.document.edit(f"Delete {name}", lambda p: delete_sequence(p, name))

    def _sheet(self, name: str) -> SheetView:
        sheet = SheetView(Sheet(self.document, name), self.editor, self.runner)
        sheet.show_comments(self.comments)
        self.stack.addWidget(sheet)
        return sheet

    def _chart(self, name: str) -> ChartView:
        chart = ChartView(self.editor, name, self.runner)
        chart.follows, chart.overview.wanted = self.follows, self.overview
        self.stack.addWidget(chart)
        return chart

    def _code(self, name: str) -> CodeFace:
        code = CodeFace(self.editor, name, self.runner)
        code.proof.show_asked.connect(self.show_asked)
        self.stack.addWidget(code)
        return code

    def first(self) -> QWidget | None:
        return self.stack.currentWidget()

    def recolour(self) -> None:
        for button in self.faces.buttons():
            button.setIcon(icon(button.objectName().removeprefix("face_")))
        for chart in self.charts.values():
            chart.redraw()

    def show_sequence(self, name: str) -> None:
        self.editor.current = name
        for button in self.group.buttons():
            button.setChecked(button.text() == name)
        self.find_bar.look()
        self.show_face(self.face)

    def show_face(self, face: str) -> None:
        self.face = face
        for button in self.faces.buttons():
            button.setChecked(button.objectName() == f"face_{face}")
        self.hint.setText(HINTS[face])
        if self.find_bar.isVisible():
            self.find_bar.look()
        view = self.view
        if view is not None:
            self.stack.setCurrentWidget(view)
            view.setFocus()

    @property
    def view(self) -> SheetView | ChartView | CodeFace | None:
        """The face on the screen."""
        views: dict[str, Faces[SheetView] | Faces[ChartView] | Faces[CodeFace]] = {
            "sheet": self.sheets, "chart": self.charts, "code": self.codes,
        }  # fmt: skip
        return views[self.face].get(self.current)

    @property
    def sheet(self) -> SheetView | None:
        return self.sheets.get(self.current)

    @property
    def chart(self) -> ChartView | None:
        """The chart, if it is the face on the screen."""
        return self.charts.get(self.current) if self.face == "chart" else None

    def _current_step(self) -> str:
        return self.sheet.current_step() if self.sheet else ""

    def go_to(self, place: Place) -> None:
        for known in self.names:
            if known.lower() == place.sequence.lower() and known != self.current:
                self.show_sequence(known)
        if place.kind == "body" and place.sequence:
            self.show_face("code")

    def _name_new_step(self, step: str) -> None:
        """Puts the cursor where the name of a new step is typed."""
        sheet = self.sheet
        if self.face != "sheet" or sheet is None:
            return
        for i, row in enumerate(sheet.sheet.flow.rows):
            if row.first and sheet.sheet.sequence.steps[row.step].name == step:
                sheet.setCurrentIndex(sheet.sheet.index(i, STEP))

    def toggle_comments(self) -> None:
        self.comments = not self.comments
        for sheet in self.sheets.values():
            sheet.show_comments(self.comments)
