"""Somebody else's version put into the present file: what comes in, and a choice for each thing that both changed."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.changes.compare import differences
from spokeshave.changes.words import told
from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.sequence.chart_small import SIGNS
from spokeshave.desktop.theme import theme
from spokeshave.model.edits import EditError
from spokeshave.model.project import Conflict, Project
from spokeshave.versions.merge import faults_of, made_worse, merge

_ROLE = int(Qt.ItemDataRole.UserRole)
MINE, THEIRS = 1, 2
"""Columns of the two sides."""
IN_WORDS = 40
"""Conflicts that are said in words; more are said by their place in the file."""


class MergeDialog(QDialog):
    """Puts `theirs` into the present file. What nobody chooses stays mine, with an error finding; all of it is one undo."""

    def __init__(
        self, document: Document, base: Project, theirs: Project, name: str, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.document, self.base, self.mine, self.theirs, self.name = document, base, document.project, theirs, name
        self.decided: dict[str, bool] = {}
        self._known = faults_of(self.mine, theirs)
        self.setWindowTitle(f"{name} into {document.project.name}")
        self.resize(980, 560)
        self.list = QTreeWidget()
        self.list.setAccessibleName("What comes in, and what both changed")
        self.list.setHeaderLabels(["What", "Mine", "Theirs"])
        self.list.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.list.header().setStretchLastSection(False)
        for column in (MINE, THEIRS):
            self.list.setColumnWidth(column, 220)
        self.list.setWordWrap(True)
        self.list.setSelectionMode(QTreeWidget.SelectionMode.ExtendedSelection)
        self.list.itemClicked.connect(self._clicked)
        self.says = TextLabel()
        self.says.setObjectName("hint")
        self.says.setWordWrap(True)
        self.keep_button, self.take_button = QPushButton("Keep mine"), QPushButton("Take theirs")
        self.keep_button.clicked.connect(lambda: self.choose(False))
        self.take_button.clicked.connect(lambda: self.choose(True))
        for button in (self.keep_button, self.take_button):
            button.setToolTip("For the rows that are selected, or for all of them")
        self.done_button, cancel = QPushButton("Put together"), QPushButton("Cancel")
        self.done_button.setObjectName("primary")
        self.done_button.clicked.connect(self.put_together)
        cancel.clicked.connect(self.close)
        row = QHBoxLayout()
        row.addWidget(self.keep_button)
        row.addWidget(self.take_button)
        row.addWidget(self.says, 1)
        row.addWidget(cancel)
        row.addWidget(self.done_button)
        column_box = QVBoxLayout(self)
        column_box.addWidget(self.list, 1)
        column_box.addLayout(row)
        self.conflicts: list[Conflict] = []
        self._fill()

    def _fill(self) -> None:
        """Both groups of rows, with nothing chosen."""
        found = merge(self.base, self.mine, self.theirs)
        self.conflicts = found.conflicts
        if self.conflicts:
            top = self._top("Both changed it: choose")
            for c in self.conflicts:
                item = QTreeWidgetItem(top, [self._words(c), "", ""])
                item.setData(0, _ROLE, c)
                for cell, text in enumerate((item.text(0), c.mine, c.theirs)):
                    item.setToolTip(cell, plain(text))
        comes = [t for t in told(differences(self.mine, found.project), self.mine, found.project) if t.stage != "File"]
        if comes:
            top = self._top("Comes in from theirs")
            for t in comes:
                item = QTreeWidgetItem(top, [f"{SIGNS[t.difference.kind]} {t.text}"])
                item.setToolTip(0, plain(t.text))
                item.setFirstColumnSpanned(True)
        self.list.expandAll()
        for button in (self.keep_button, self.take_button):
            button.setVisible(bool(self.conflicts))
        self.coming = len(comes)
        self._refresh()

    def _top(self, text: str) -> QTreeWidgetItem:
        top = QTreeWidgetItem(self.list, [text])
        top.setFirstColumnSpanned(True)
        top.setForeground(0, theme.colour("faint"))
        top.setFlags(Qt.ItemFlag.ItemIsEnabled)
        return top

    def _words(self, c: Conflict) -> str:
        """What a conflict is about: what differs between taking mine and taking theirs, without the values."""
        if len(self.conflicts) <= IN_WORDS:
            one, other = (merge(self.base, self.mine, self.theirs, {c.path: side}).project for side in (False, True))
            said = [t.text for t in told(differences(one, other), one, other) if t.stage != "File"]
            if said:
                text = said[0].removesuffix(f" is {c.theirs}, was {c.mine}")
                return text + (f" (and {len(said) - 1} more)" if len(said) > 1 else "")
        return c.path.replace("/", ", ")

    def _rows(self) -> list[QTreeWidgetItem]:
        top = self.list.topLevelItem(0)
        count = top.childCount() if top is not None and self.conflicts else 0
        return [item for i in range(count) if top is not None and (item := top.child(i)) is not None]

    def _refresh(self) -> None:
        """The choices, and what would come of them."""
        for item in self._rows():
            c: Conflict = item.data(0, _ROLE)
            side = self.decided.get(c.path)
            for column, text, chosen in ((MINE, c.mine, side is False), (THEIRS, c.theirs, side is True)):
                item.setText(column, f"{'●' if chosen else '○'} {text or 'nothing'}")
                font = item.font(column)
                font.setBold(chosen)
                item.setFont(column, font)
        open_ones = len(self.conflicts) - len(self.decided)
        words = [
            f"{self.coming} change{'s' if self.coming != 1 else ''} of theirs come{'s' if self.coming == 1 else ''} in"
        ]
        if open_ones:
            words.append(f"{open_ones} to choose: mine stays, and a finding says both")
        broken = self.broken()
        if broken:
            words.append(f"neither version had this: {broken[0]}")
        self.says.setText("; ".join(words))
        self.says.setStyleSheet(f"color: {theme.now.late};" if broken else "")
        self.done_button.setEnabled(bool(self.coming or self.conflicts))

    def broken(self) -> list[str]:
        """What is wrong with the result and with neither side."""
        made = merge(self.base, self.mine, self.theirs, self.decided).project
        return [f"{d.place}: {d.message}" for d in made_worse(made, self._known)]

    def _clicked(self, item: QTreeWidgetItem, column: int) -> None:
        c = item.data(0, _ROLE)
        if isinstance(c, Conflict) and column in (MINE, THEIRS):
            self.decided[c.path] = column == THEIRS
            self._refresh()

    def choose(self, theirs: bool) -> None:
        """One side for the conflicts that are selected, or for all of them."""
        chosen = [i for i in self.list.selectedItems() if isinstance(i.data(0, _ROLE), Conflict)]
        for item in chosen or self._rows():
            self.decided[item.data(0, _ROLE).path] = theirs
        self._refresh()

    def put_together(self) -> None:
        """The result becomes the present file, as one edit."""
        made = merge(self.base, self.mine, self.theirs, self.decided).project

        def change(project: Project) -> Project:
            if project is not self.mine:
                raise EditError("the machine file has changed meanwhile; merge once more")
            return made

        if self.document.edit(f"Merge {self.name}", change):
            self.document.check()
            self.close()
