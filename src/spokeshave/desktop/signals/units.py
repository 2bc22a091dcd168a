"""Units: mark what belongs to one, make copies under other prefixes, see where a copy is not as its template."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.seen import Waiting
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.language.unit_deviations import deviations
from spokeshave.language.units import (
    add_copy,
    belongings,
    common_prefix,
    copied_name,
    left_behind,
    new_unit,
    take_over,
)
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import remove_item
from spokeshave.model.project import Project, Unit

_ROLE = Qt.ItemDataRole.UserRole


class UnitsPanel(QWidget):
    """Units with their copies and deviations on the left; on the right what a new unit is made of."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.tree = QTreeWidget()
        self.tree.setAccessibleName("Units")
        self.tree.setHeaderLabels(["Unit", "State"])
        self.tree.header().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.tree.itemActivated.connect(self._go)
        self.tree.itemDoubleClicked.connect(self._go)
        self.prefix = QLineEdit()
        self.prefix.setPlaceholderText("prefix, for example B_")
        self.prefix.setAccessibleName("Prefix of the copy")
        self.prefix.returnPressed.connect(self.copy)
        self.copy_button, self.take_button, self.drop_button = (
            QPushButton("Make a copy"),
            QPushButton("Take over from the template"),
            QPushButton("Dissolve the unit"),
        )
        self.copy_button.clicked.connect(self.copy)
        self.take_button.clicked.connect(self.take)
        self.drop_button.clicked.connect(self.dissolve)
        left_bar = QHBoxLayout()
        left_bar.addWidget(self.prefix)
        for button in (self.copy_button, self.take_button, self.drop_button):
            left_bar.addWidget(button)
        self.name = QLineEdit()
        self.name.setPlaceholderText("name of the unit")
        self.name.setAccessibleName("Name of the unit")
        self.parts = QTreeWidget()
        self.parts.setAccessibleName("What belongs to the unit")
        self.parts.setHeaderHidden(True)
        self.parts.itemChanged.connect(self._checked)
        self.make = QPushButton("Make it a unit")
        self.make.setObjectName("primary")
        self.make.clicked.connect(self.make_unit)
        hint = TextLabel("Check a sequence: what only it speaks of is checked with it.")
        hint.setObjectName("hint")
        hint.setWordWrap(True)
        card = QFrame()
        card.setObjectName("card")
        card.setFixedWidth(320)
        inner = QVBoxLayout(card)
        title = TextLabel("A new unit")
        title.setObjectName("heading")
        for widget in (title, hint, self.name):
            inner.addWidget(widget)
        inner.addWidget(self.parts, 1)
        inner.addWidget(self.make)
        self.left = TextLabel()
        self.left.setWordWrap(True)
        self.left.setAccessibleName("What a copy leaves behind")
        self.left.setObjectName("hint")
        left = QVBoxLayout()
        left.addWidget(self.tree, 1)
        left.addWidget(self.left)
        left.addLayout(left_bar)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 12)
        row.setSpacing(12)
        row.addLayout(left, 1)
        row.addWidget(card)
        self.tree.currentItemChanged.connect(lambda *_: self._enable())
        self.tree.currentItemChanged.connect(lambda *_: self._tell_left())
        self.name.textChanged.connect(lambda _: self._enable())
        seen = Waiting(self, self.refresh)
        document.changed.connect(seen.come)
        seen.come()

    def refresh(self) -> None:
        p = self.document.project
        at = self._chosen()
        self.tree.clear()
        for unit in p.units:
            counts = (("sequence", unit.sequences), ("signal", unit.signals), ("device", unit.devices))
            parts = ", ".join(f"{len(n)} {what}{'s' if len(n) != 1 else ''}" for what, n in counts if n)
            top = self._item(self.tree.invisibleRootItem(), unit.name, f"template: {parts}", (unit.name, None))
            for prefix in unit.copies:
                found = deviations(p, unit, prefix)
                state = (
                    f"{len(found)} deviation{'s' if len(found) != 1 else ''} from the template"
                    if found
                    else "as the template"
                )
                item = self._item(top, f"copy {prefix}", state, (unit.name, prefix))
                item.setForeground(1, theme.colour("false" if found else "true"))
                for d in found:
                    self._item(item, d.text, "", d.place)
            top.setExpanded(True)
            for i in range(top.childCount()):
                child = top.child(i)
                if child is not None:
                    child.setExpanded(True)
                    if at == child.data(0, _ROLE):
                        self.tree.setCurrentItem(child)
        first = self.tree.topLevelItem(0)
        if self.tree.currentItem() is None and first is not None:
            self.tree.setCurrentItem(first)
        self._list_parts(p)
        self._enable()
        self._tell_left()

    def _tell_left(self) -> None:
        """What a copy of the chosen unit would leave behind, before it is made."""
        unit = self._unit()
        left = left_behind(self.document.project, unit[0]) if unit is not None and self.isVisible() else []
        self.left.setVisible(bool(left))
        self.left.setText("A copy leaves behind: " + "; ".join(left) + "." if left else "")
        self.left.setToolTip(plain("\n".join(left)))

    @staticmethod
    def _item(parent: QTreeWidgetItem, text: str, state: str, data: object) -> QTreeWidgetItem:
        item = QTreeWidgetItem(parent, [text, state])
        item.setData(0, _ROLE, data)
        return item

    def _list_parts(self, p: Project) -> None:
        taken = {n.lower() for u in p.units for n in (*u.signals, *u.sequences, *u.devices)}
        taken |= {
            copied_name(u, c, n).lower()
            for u in p.units
            for c in u.copies
            for n in (*u.signals, *u.sequences, *u.devices)
        }
        before = self.chosen()
        self.parts.blockSignals(True)
        self.parts.clear()
        for title, names in (
            ("sequences", [q.name for q in p.sequences]),
            ("devices", [d.name for d in p.devices]),
            ("signals", [s.name for s in p.signals]),
        ):
            top = QTreeWidgetItem(self.parts, [title])
            top.setExpanded(True)
            for n in names:
                if n.lower() not in taken:
                    item = QTreeWidgetItem(top, [n])
                    item.setCheckState(0, Qt.CheckState.Checked if n in before[title] else Qt.CheckState.Unchecked)
        self.parts.blockSignals(False)

    def chosen(self) -> dict[str, list[str]]:
        """Names that are checked, by `sequences`, `devices` and `signals`."""
        found: dict[str, list[str]] = {"sequences": [], "devices": [], "signals": []}
        for i in range(self.parts.topLevelItemCount()):
            top = self.parts.topLevelItem(i)
            for j in range(top.childCount() if top is not None else 0):
                item = top.child(j) if top is not None else None
                if top is not None and item is not None and item.checkState(0) is Qt.CheckState.Checked:
                    found[top.text(0)].append(item.text(0))
        return found

    def check(self, names: set[str]) -> None:
        """Checks items by their names."""
        self.parts.blockSignals(True)
        for i in range(self.parts.topLevelItemCount()):
            top = self.parts.topLevelItem(i)
            for j in range(top.childCount() if top is not None else 0):
                item = top.child(j) if top is not None else None
                if item is not None and item.text(0) in names:
                    item.setCheckState(0, Qt.CheckState.Checked)
        self.parts.blockSignals(False)
        self._enable()

    def _checked(self, item: QTreeWidgetItem) -> None:
        parent = item.parent()
        if parent is not None and parent.text(0) == "sequences" and item.checkState(0) is Qt.CheckState.Checked:
            signals, devices = belongings(self.document.project, tuple(self.chosen()["sequences"]))
            self.check({*signals, *devices})
        self._enable()

    def _chosen(self) -> object:
        item = self.tree.currentItem()
        return item.data(0, _ROLE) if item is not None else None

    def _unit(self) -> tuple[str, str | None] | None:
        """The unit and copy of the selected row, or of the row it stands under."""
        item = self.tree.currentItem()
        while item is not None:
            data = item.data(0, _ROLE)
            if isinstance(data, (tuple, list)) and not isinstance(data, Place) and len(data) == 2:
                return str(data[0]), None if data[1] is None else str(data[1])
            item = item.parent()
        return None

    def _enable(self) -> None:
        unit = self._unit()
        self.copy_button.setEnabled(unit is not None)
        self.drop_button.setEnabled(unit is not None)
        self.take_button.setEnabled(unit is not None and unit[1] is not None)
        self.make.setEnabled(bool(self.name.text().strip()) and any(self.chosen().values()))

    def _go(self, item: QTreeWidgetItem) -> None:
        place = item.data(0, _ROLE)
        if isinstance(place, Place):
            self.selection.go(place)

    # -- edits

    def make_unit(self) -> None:
        found = self.chosen()
        names = [*found["signals"], *found["sequences"], *found["devices"]]
        unit = Unit(
            self.name.text().strip(),
            common_prefix(names),
            tuple(found["signals"]),
            tuple(found["sequences"]),
            tuple(found["devices"]),
        )
        if self.document.edit(f"Make {unit.name} a unit", lambda p: new_unit(p, unit)):
            self.name.clear()

    def copy(self) -> None:
        unit, prefix = self._unit(), self.prefix.text().strip()
        if unit is None:
            return
        if not prefix:
            self.document.refused.emit("type the prefix of the copy first")
            return
        if self.document.edit(f"Copy {unit[0]} as {prefix}", lambda p: add_copy(p, unit[0], prefix)):
            self.prefix.clear()

    def take(self) -> None:
        unit = self._unit()
        if unit is not None and unit[1] is not None:
            name, prefix = unit[0], unit[1]
            self.document.edit(f"Take {name} over into {prefix}", lambda p: take_over(p, name, prefix))

    def dissolve(self) -> None:
        """The items stay; they are no unit any more."""
        unit = self._unit()
        if unit is not None:
            index = next(i for i, u in enumerate(self.document.project.units) if u.name == unit[0])
            self.document.edit(f"Dissolve {unit[0]}", lambda p: remove_item(p, "units", index))
