"""Finding in the whole machine file, and where something is used: a panel beside the work."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLineEdit, QTreeWidget, QTreeWidgetItem, QVBoxLayout

from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.side_panel import SidePanel
from spokeshave.language.references import Target
from spokeshave.model.diagnostics import Place
from spokeshave.verify.find import Found, find_everywhere, target_of, used_where

WAIT_MS = 120
"""So long after the last key the file is looked through."""
MOST = 500
"""So many lines are shown; a word that is found more often is no help."""
AHEAD = 24
"""Characters of a line that are shown before what was found."""
_ROLE = Qt.ItemDataRole.UserRole


def _around(f: Found) -> str:
    """A line from a little before what was found, so that it is in sight."""
    return f.line if f.begin <= AHEAD else f"… {f.line[f.begin - AHEAD // 2 :]}"


class FoundPanel(SidePanel):
    """Return and the arrow keys go from line to line, each shown at its place. What was found follows edits of the file."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__("search")
        self.document, self.selection = document, selection
        self.setProperty("manual", "desktop#Finding")
        self.setMinimumWidth(340)
        self.used: Target | None = None
        """Whose uses are shown; None while a text is looked for."""
        self.line = QLineEdit()
        self.line.setPlaceholderText("Find in the whole file: a name, a word, 5 s")
        self.line.setAccessibleName("Find in the whole file")
        self.line.setClearButtonEnabled(True)
        self.whole = QCheckBox("Whole names")
        self.count = TextLabel()
        self.count.setObjectName("hint")
        self.list = QTreeWidget()
        self.list.setAccessibleName("What was found")
        self.list.setHeaderHidden(True)
        self.list.setRootIsDecorated(False)
        self.list.setUniformRowHeights(True)
        self.list.currentItemChanged.connect(lambda item, _: self._show(item))
        self.list.itemClicked.connect(self._show)
        self.empty = EmptyHint(self.list, "", ())
        self._wait = QTimer(self)
        self._wait.setSingleShot(True)
        self._wait.setInterval(WAIT_MS)
        self._wait.timeout.connect(self.look)
        self.line.textChanged.connect(self._typed)
        self.line.returnPressed.connect(lambda: self.step(1))
        self.whole.toggled.connect(self.look)
        document.changed.connect(self._wait.start)
        head = QHBoxLayout()
        head.addWidget(self.line, 1)
        head.addWidget(self.close_button)
        below = QHBoxLayout()
        below.addWidget(self.count, 1)
        below.addWidget(self.whole)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        column.addLayout(head)
        column.addLayout(below)
        column.addWidget(self.list, 1)

    def begin(self) -> None:
        """Ready to be typed into, with what was looked for last chosen."""
        self.line.setFocus()
        self.line.selectAll()
        self.look()

    def show_uses(self, place: Place) -> None:
        """Where the thing at a place is used."""
        self.used = target_of(self.document.project, place)
        if self.used is not None:
            self.line.blockSignals(True)
            self.line.setText(place.step or place.item)
            self.line.blockSignals(False)
        self.begin()

    def _typed(self) -> None:
        self.used = None
        self._wait.start()

    def look(self) -> None:
        """Looks through the file again."""
        self._wait.stop()
        if not self.isVisible():
            return
        project = self.document.project
        if self.used is not None:
            found = used_where(project, self.used)
        else:
            found = find_everywhere(project, self.line.text(), self.whole.isChecked())
        self.whole.setVisible(self.used is None)
        self._fill(found)

    def _fill(self, found: list[Found]) -> None:
        at = self.list.currentIndex().row()
        self.list.blockSignals(True)
        self.list.clear()
        for f in found[:MOST]:
            what = "" if f.what in str(f.place) else f"  ({f.what})"
            item = QTreeWidgetItem([f"{f.place}{what}\n{_around(f)}"])
            item.setData(0, _ROLE, f.place)
            item.setToolTip(0, plain(f.line))
            self.list.addTopLevelItem(item)
        self._choose(at)
        self.list.blockSignals(False)
        many = f"{len(found)} line{'s' if len(found) != 1 else ''}"
        more = f", the first {MOST} are shown" if len(found) > MOST else ""
        what = "is used in" if self.used is not None else "found in"
        self.count.setText(f"{what} {many}{more}" if self.line.text().strip() else "")
        wanted = self.line.text().strip()
        self.empty.says.setText(
            f"{wanted} stands nowhere in this file."
            if wanted
            else "Names, words of texts, rows of scenarios, times however they are written."
        )
        self.empty.show_while(not found)

    def _choose(self, row: int) -> None:
        item = self.list.topLevelItem(row)
        if item is not None:
            self.list.setCurrentItem(item)

    def step(self, by: int) -> None:
        """The next line that was found, or the one before."""
        if self._wait.isActive():
            self.look()
        count = self.list.topLevelItemCount()
        if count:
            at = self.list.currentIndex().row()
            self._choose((at + by) % count)

    def _show(self, item: QTreeWidgetItem | None) -> None:
        place = item.data(0, _ROLE) if item is not None else None
        if isinstance(place, Place):
            self.selection.go(place)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Down and self.line.hasFocus():
            self.list.setFocus()
            self.step(1)
        else:
            super().keyPressEvent(event)
