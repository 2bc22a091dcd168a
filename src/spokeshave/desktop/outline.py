"""The outline: everything in the machine file as a tree, with a filter."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QLineEdit, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import SignalClass

LONG = 600
"""Entries of an outline that is not made anew with every key."""
_ROLE = Qt.ItemDataRole.UserRole
_MARK = Qt.ItemDataRole.UserRole + 1


class Outline(QWidget):
    """Everything in the file as a tree with a filter; a click leads there."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Find in the outline")
        self.filter.setClearButtonEnabled(True)
        self.filter.textChanged.connect(self._filter)
        self.tree = QTreeWidget()
        self.tree.setHeaderHidden(True)
        self.tree.setIndentation(14)
        self.tree.setAccessibleName("Outline")
        self.tree.itemClicked.connect(self._chosen)
        self.tree.itemActivated.connect(self._chosen)
        self._names: object = None
        self._marked_in: object = None
        """The colours in which items were marked."""
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(300)
        self._later.timeout.connect(self._make)
        column = QVBoxLayout(self)
        column.setContentsMargins(6, 6, 0, 6)
        column.setSpacing(6)
        column.addWidget(self.filter)
        column.addWidget(self.tree, 1)
        document.changed.connect(self.refresh)
        document.checked.connect(self._mark)
        self.refresh()

    def refresh(self) -> None:
        """Makes the tree anew if something in it has another name; a long one when nobody types any more."""
        p = self.document.project
        names = (
            [(q.name, tuple((s.number, s.name) for s in q.steps)) for q in p.sequences],
            p.name, [t.name for t in p.tables], [r.name for r in p.routines],
            [(i.name, i.kind) for i in p.instances], [(s.name, s.cls) for s in p.signals],
            [d.name for d in p.devices],
            [s.name for s in p.scenarios], [(r.ident, r.text) for r in p.requirements],
        )  # fmt: skip
        if names == self._names:
            return
        self._names = names
        count = len(p.signals) + len(p.devices) + len(p.requirements) + sum(len(q.steps) for q in p.sequences)
        if count > LONG and self.tree.topLevelItemCount():
            self._later.start()
        else:
            self._make()

    def recolour(self) -> None:
        """Follows another theme."""
        self._make()

    def _make(self) -> None:
        """Makes the tree, keeping what was folded."""
        folded = {item.text(0).split("  ")[0] for item in self._groups() if not item.isExpanded()}
        first = self.tree.topLevelItemCount() == 0
        self.tree.clear()
        p = self.document.project
        self._group(p.name, [("Name, scan, reset, home", Place("project"))], Place("project"))
        for q in p.sequences:
            steps = [(f"{s.number} {s.name}", Place("step", q.name, s.name)) for s in q.steps]
            self._group(q.name, steps, Place("sequence", item=q.name))
        for cls, title in zip(SignalClass, ("Inputs", "Outputs", "Internals", "Settings")):
            self._group(title, [(s.name, Place("signal", item=s.name)) for s in p.signals if s.cls is cls])
        self._group("Instances", [(f"{i.name} {i.kind}", Place("instance", item=i.name)) for i in p.instances])
        self._group("Tables", [(t.name, Place("table", item=t.name)) for t in p.tables])
        self._group("Functions and blocks", [(r.name, Place("routine", item=r.name)) for r in p.routines])
        self._group("Devices", [(d.name, Place("device", item=d.name)) for d in p.devices])
        self._group("Scenarios", [(s.name, Place("scenario", item=s.name)) for s in p.scenarios])
        self._group(
            "Requirements", [(f"{r.ident} {r.text}", Place("requirement", item=r.ident)) for r in p.requirements]
        )
        sequences = {q.name for q in p.sequences}
        for item in self._groups():
            name = item.text(0).split("  ")[0]
            item.setExpanded(name in sequences if first else name not in folded)
        self._filter()
        self._mark()

    def _group(self, title: str, entries: list[tuple[str, Place]], place: Place | None = None) -> None:
        """A heading with its entries; `place` is what the heading itself stands for."""
        if not entries:
            return
        top = QTreeWidgetItem([f"{title}  {len(entries)}" if place is None or place.kind != "project" else title])
        top.setForeground(0, theme.colour("faint"))
        if place is not None:
            top.setData(0, _ROLE, place)
            top.setToolTip(0, plain(f"Click to edit {title} in the details"))
        for text, place in entries:
            item = QTreeWidgetItem([text])
            item.setData(0, _ROLE, place)
            item.setToolTip(0, plain(text))
            top.addChild(item)
        self.tree.addTopLevelItem(top)

    def _groups(self) -> list[QTreeWidgetItem]:
        found = (self.tree.topLevelItem(i) for i in range(self.tree.topLevelItemCount()))
        return [item for item in found if item is not None]

    @staticmethod
    def _entries(top: QTreeWidgetItem) -> list[QTreeWidgetItem]:
        return [child for j in range(top.childCount()) if (child := top.child(j)) is not None]

    def _filter(self) -> None:
        wanted = self.filter.text().lower()
        for top in self._groups():
            shown = 0
            for child in self._entries(top):
                hit = wanted in child.text(0).lower()
                child.setHidden(not hit)
                shown += hit
            top.setHidden(not shown)
            if wanted and shown:
                top.setExpanded(True)

    def _mark(self) -> None:
        """Items with an error or warning are written in vermilion with a sign behind."""
        bad = {(d.place.kind, d.place.sequence, d.place.item.split(" ")[0]): d.message
               for d in self.document.findings if d.severity != "advice"}  # fmt: skip
        anew, self._marked_in = self._marked_in is not theme.now, theme.now
        for top in self._groups():
            for child in self._entries(top):
                place: Place = child.data(0, _ROLE)
                message = bad.get((place.kind, place.sequence, place.item), "")
                if not anew and child.data(0, _MARK) == message:
                    continue
                child.setData(0, _MARK, message)
                child.setForeground(0, theme.colour("late" if message else "ink"))
                text = child.text(0).removesuffix("  !")
                child.setText(0, f"{text}  !" if message else text)
                child.setToolTip(0, plain(message or text))

    def _chosen(self, item: QTreeWidgetItem) -> None:
        place = item.data(0, _ROLE)
        if isinstance(place, Place):
            self.selection.go(place)
