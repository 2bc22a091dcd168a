"""The present machine file beside another version: what differs in words, both charts in one, single differences taken over."""

from __future__ import annotations

from dataclasses import replace
from itertools import groupby

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QPushButton,
    QSplitter,
    QTabWidget,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.changes.compare import differences, taken_over
from spokeshave.changes.words import Told, told
from spokeshave.desktop.compare_sheet import SheetOfBoth
from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.chart_small import LARGEST, SIGNS, SmallChart, marks
from spokeshave.desktop.theme import theme
from spokeshave.model.project import Project, Sequence
from spokeshave.versions.sheets import sheet_of_both

_ROLE = int(Qt.ItemDataRole.UserRole)


def both(before: Sequence, after: Sequence) -> tuple[Sequence, dict[str, str]]:
    """Two versions of a sequence as one chart, with what becomes of its steps."""
    old, new = marks(before, after)
    gone = [s for s in before.steps if old.get(s.name) == "gone" and after.step(s.name) is None]
    steps = tuple(sorted((*after.steps, *gone), key=lambda s: s.number))
    names = {s.name for s in steps}
    ends = {(t.sources, t.targets) for t in after.transitions}
    lost = [t for t in before.transitions if (t.sources, t.targets) not in ends and {*t.sources, *t.targets} <= names]
    return replace(after, steps=steps, transitions=(*after.transitions, *lost)), new | {s.name: "gone" for s in gone}


class CompareDialog(QDialog):
    """From the present file to `other`: taking a difference over puts what the other has into the present one."""

    def __init__(
        self, document: Document, selection: Selection, other: Project, name: str, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.document, self.selection, self.other = document, selection, other
        self.setWindowTitle(f"{document.project.name} beside {name}")
        self.resize(1160, 640)
        self.says = TextLabel()
        self.says.setObjectName("hint")
        self.says.setWordWrap(True)
        self.list = QTreeWidget()
        self.list.setAccessibleName("What differs")
        self.list.setHeaderHidden(True)
        self.list.setWordWrap(True)
        self.list.setSelectionMode(QTreeWidget.SelectionMode.ExtendedSelection)
        self.list.itemSelectionChanged.connect(self._chosen)
        self.list.itemActivated.connect(lambda *_: self.go())
        self.chart = SmallChart("Both charts in one")
        self.sheet = SheetOfBoth()
        self.faces = QTabWidget()
        self.faces.setDocumentMode(True)
        self.faces.addTab(self.chart, "Chart")
        self.faces.addTab(self.sheet, "Sheet")
        self.key = TextLabel(f"{SIGNS['new']} new   {SIGNS['gone']} gone   {SIGNS['changed']} changed")
        self.key.setObjectName("hint")
        side = QWidget()
        right = QVBoxLayout(side)
        right.addWidget(self.key)
        right.addWidget(self.faces, 1)
        split = QSplitter()
        split.addWidget(self.list)
        split.addWidget(side)
        split.setSizes([540, 620])
        self.take_button, self.go_button = QPushButton("Take over"), QPushButton("Go there")
        self.take_button.setObjectName("primary")
        self.take_button.setToolTip(plain(f"Puts what {name} has into the present file; one undo takes it back"))
        self.take_button.clicked.connect(self.take)
        self.go_button.clicked.connect(self.go)
        close = QPushButton("Close")
        close.clicked.connect(self.close)
        row = QHBoxLayout()
        row.addWidget(self.says, 1)
        for button in (self.go_button, self.take_button, close):
            row.addWidget(button)
        column = QVBoxLayout(self)
        column.addWidget(split, 1)
        column.addLayout(row)
        self.name = name
        document.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Compares anew: the present file has changed."""
        project = self.document.project
        self.found = told(differences(project, self.other), project, self.other)
        self.list.clear()
        for stage, group in groupby(self.found, key=lambda t: t.stage):
            top = QTreeWidgetItem([stage])
            top.setForeground(0, theme.colour("faint"))
            top.setFlags(Qt.ItemFlag.ItemIsEnabled)
            self.list.addTopLevelItem(top)
            for t in group:
                item = QTreeWidgetItem([f"{SIGNS[t.difference.kind]} {t.text}"])
                item.setData(0, _ROLE, t)
                item.setToolTip(0, plain(t.text))
                top.addChild(item)
            top.setExpanded(True)
        count = len(self.found)
        self.says.setText(f"{count} difference{'s' if count != 1 else ''} from the present file to {self.name}" if count else
                          f"{self.name} is the same as the present file")  # fmt: skip
        first = next((t for t in self.found if t.stage == "Sequence"), None)
        self._show_chart(first)
        self._chosen()

    def chosen(self) -> list[Told]:
        """The differences that are selected."""
        return [t for item in self.list.selectedItems() if isinstance(t := item.data(0, _ROLE), Told)]

    def _chosen(self) -> None:
        found = self.chosen()
        self.take_button.setEnabled(bool(found))
        self.go_button.setEnabled(len(found) == 1)
        if found and found[0].stage == "Sequence":
            self._show_chart(found[0])

    def _show_chart(self, t: Told | None) -> None:
        """Both versions of the sequence that a difference is about."""
        name = "" if t is None else t.place.sequence or t.place.item
        self.sheet.show_sheet(sheet_of_both(self.document.project, self.other, name))
        before, after = self.document.project.sequence(name), self.other.sequence(name)
        before, after = before or after, after or before
        if before is None or after is None or len(before.steps) + len(after.steps) > 2 * LARGEST:
            self.chart.show_chart(Sequence("", "", ()), {})
            return
        self.chart.show_chart(*both(before, after))

    def take(self) -> None:
        """Takes what is selected over, as one edit."""
        found = self.chosen()
        if found:
            name = found[0].text if len(found) == 1 else f"{len(found)} differences"
            self.document.edit(f"Take over: {name[:60]}", lambda p: taken_over(p, [t.difference for t in found]))

    def go(self) -> None:
        """The place of the difference in the present file."""
        found = self.chosen()
        if len(found) == 1:
            self.selection.go(found[0].place)
