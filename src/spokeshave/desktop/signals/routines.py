"""Functions and blocks of the file's own: a list, and the declaration of the chosen one as text."""

from __future__ import annotations

from PySide6.QtCore import QTimer
from PySide6.QtGui import QFocusEvent
from PySide6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from spokeshave.desktop.both_bar import BothBar
from spokeshave.desktop.code_editor import CodeEditor, Fault
from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_routines import body_at, read_routine, routine_text
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project, Routine
from spokeshave.model.table_edits import new_instance, new_routine, put_routine, remove_routine
from spokeshave.reading.typed import problems_in_routine

HINT = "A block remembers from scan to scan, a function works out a value. Declare an instance of a block to call it in logic and bodies."


class _Editor(CodeEditor):
    """Leaving it takes the text over."""

    def __init__(self, panel: RoutinesPanel) -> None:
        super().__init__("Declaration")
        self.panel = panel

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.panel.leave()


class RoutinesPanel(QWidget):
    """A text with a fault is kept as it is typed, and not taken over until it can be read."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.setProperty("manual", "language#")
        self.document, self.selection = document, selection
        self.name = ""
        self.list = QListWidget()
        self.list.setAccessibleName("Functions and blocks")
        self.text = _Editor(self)
        self.note = TextLabel(HINT)
        self.note.setObjectName("hint")
        self.note.setWordWrap(True)
        self.button = QPushButton("Apply")
        self.button.setObjectName("primary")
        self.button.clicked.connect(self.apply)
        self.declare = QPushButton("Declare an instance")
        self.declare.setToolTip(plain("A block that has data of its own, to be called in logic and bodies"))
        self.declare.clicked.connect(self.instance)
        bar = QHBoxLayout()
        bar.addWidget(self.note, 1)
        bar.addWidget(self.declare)
        bar.addWidget(self.button)
        buttons = QHBoxLayout()
        for title, act in (("New block", self.new_block), ("New function", self.new_function), ("Delete", self.remove)):
            button = QPushButton(title)
            button.clicked.connect(act)
            buttons.addWidget(button)
        self.side = QWidget()
        self.side.setFixedWidth(290)
        left = QVBoxLayout(self.side)
        left.setContentsMargins(0, 0, 0, 0)
        left.addWidget(self.list, 1)
        left.addLayout(buttons)
        self.right = QWidget()
        right = QVBoxLayout(self.right)
        right.setContentsMargins(0, 0, 0, 0)
        right.addLayout(bar)
        right.addWidget(self.text, 1)
        self.both = BothBar(self.text, self.apply)
        right.addWidget(self.both)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 12)
        row.setSpacing(12)
        row.addWidget(self.side)
        row.addWidget(self.right, 1)
        self.empty = EmptyHint(
            self, "No functions and blocks of your own yet. A block is written once and serves each motor, valve or gate with data "
            "of its own.", (("New block", self.new_block), ("New function", self.new_function)),
        )  # fmt: skip
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(300)
        self._later.timeout.connect(self.look)
        self._follows = False
        self.list.currentRowChanged.connect(self._chosen)
        self.text.textChanged.connect(self._typed)
        document.changed.connect(self.refresh)
        document.drafts.changed.connect(self.refresh)
        self.refresh()

    @property
    def routine(self) -> Routine | None:
        return self.document.project.routine(self.name)

    @property
    def own(self) -> str:
        """The declaration as the file has it."""
        r = self.routine
        return "" if r is None else routine_text(r)

    @property
    def _place(self) -> str:
        return f"routine {self.name}"

    def refresh(self) -> None:
        """Follows the document; what is typed stays."""
        routines = self.document.project.routines
        titles = [f"{r.name}  {'block' if r.is_block else r.result}" for r in routines]
        self.list.blockSignals(True)
        if [self.list.item(i).text() for i in range(self.list.count())] != titles:
            self.list.clear()
            for title in titles:
                self.list.addItem(QListWidgetItem(title))
        if self.routine is None:
            self.name = routines[0].name if routines else ""
        self.list.setCurrentRow(next((i for i, r in enumerate(routines) if r.name.lower() == self.name.lower()), -1))
        self.list.blockSignals(False)
        self._show()

    def _show(self) -> None:
        r = self.routine
        self.empty.show_while(r is None)
        self.side.setVisible(r is not None)
        self.right.setVisible(r is not None)
        if r is None:
            return
        self.declare.setVisible(r.is_block)
        draft = self.document.drafts.of(self._place)
        wanted = self.own if draft is None else draft.text
        if self.text.toPlainText() != wanted:
            line = self.text.line
            self._follows = True
            self.text.setPlainText(wanted)
            self._follows = False
            self.text.go_to(line)
        self.both.show_other(self.own if draft is not None and draft.base != self.own else None)
        self.look()

    def _chosen(self, row: int) -> None:
        if 0 <= row < len(self.document.project.routines):
            self.leave()
            self.name = self.document.project.routines[row].name
            self.selection.set(Place("routine", item=self.name))
            self._show()

    def choose(self, place: Place) -> None:
        """Shows a function or block, and a line of its body."""
        self.name = place.item
        self.refresh()
        r = self.routine
        if r is not None and place.line:
            line, column, left = body_at(self.own, *others(self.document.project))
            self.text.go_to(line + place.line - 1, (place.column or 1) + (column - 1 if place.line == 1 else left))

    def _typed(self) -> None:
        self._later.start()
        if not self._follows and self.routine is not None:
            self.document.drafts.put(self._place, self.own, self.text.toPlainText(), self.apply)

    def look(self) -> None:
        """Shows what is wrong with the text as it stands."""
        self._later.stop()
        text = self.text.toPlainText()
        found = problems_in_routine(self.document.project, self.name, text)
        self.text.show_faults([Fault(p.line, p.column, p.message) for p in found])
        self.button.setEnabled(text != self.own)
        self.note.setStyleSheet(f"color: {theme.now.late};" if found else "")
        p = found[0] if found else None
        self.note.setText(HINT if p is None else f"line {p.line}: {p.message}{'; ' if p.advice else ''}{p.advice}")

    def leave(self) -> None:
        """The focus goes elsewhere: a text that can be read is taken over, but where the file has changed under it."""
        draft = self.document.drafts.of(self._place)
        if draft is not None and draft.base == self.own and self._read() is not None:
            self.apply()

    def _read(self) -> Routine | None:
        try:
            return read_routine(self.text.toPlainText(), *others(self.document.project))
        except FormatError:
            return None

    def apply(self) -> None:
        """Takes the text over. One that cannot be read stays, and is said."""
        text, old = self.text.toPlainText(), self.name
        try:
            after = read_routine(text, *others(self.document.project))
        except FormatError as error:
            self.document.refused.emit(str(error))
            return

        def change(project: Project) -> Project:
            if "\0" in text:
                raise EditError("the text has zero bytes")
            return put_routine(project, old, after)

        self.document.drafts.drop(self._place)
        if self.document.edit(f"Change {old}", change):
            self.name = after.name
        else:
            self.document.drafts.put(self._place, self.own, text, self.apply)
        self.refresh()

    def new_block(self) -> None:
        self._new(True)

    def new_function(self) -> None:
        self._new(False)

    def _new(self, block: bool) -> None:
        if self.document.edit(f"New {'block' if block else 'function'}", lambda p: new_routine(p, block)):
            self.name = self.document.project.routines[-1].name
            self.refresh()
            self.text.setFocus()

    def remove(self) -> None:
        name = self.name
        if self.routine is not None:
            self.document.drafts.drop(self._place)
            self.document.edit(f"Delete {name}", lambda p: remove_routine(p, name))

    def instance(self) -> None:
        """Declares an instance of the block and shows it."""
        r = self.routine
        if r is not None and self.document.edit(f"Declare a {r.name}", lambda p: new_instance(p, r.name)):
            self.selection.go(Place("instance", item=self.document.project.instances[-1].name))


def others(project: Project) -> tuple[list[str], list[str]]:
    """Names of the blocks and of the kinds of rows that a declaration may speak of."""
    return [r.name for r in project.routines if r.is_block], [t.row_type for t in project.tables if t.row_type]
