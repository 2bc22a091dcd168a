"""The wiring below the board: what proposes itself, what is left over on both sides, and devices made of signals."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.seen import while_seen
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.machine.kinds import KINDS, one_of
from spokeshave.machine.proposed_devices import NewDevice, make_proposed, proposed_devices
from spokeshave.machine.wiring import Proposal, exchange, exchanged, likely_kind, make_device, proposals, unwired, wire
from spokeshave.model.board_edits import free_cell
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project

_ROLE = Qt.ItemDataRole.UserRole


def _many(count: int, what: str) -> str:
    return f"{count} {what}{'' if count == 1 else 's'}"


class WiringPanel(QWidget):
    """Three lists side by side: proposals to accept, loose terminals, loose signals. `looked` comes when they are of the file as it is."""

    looked = Signal()

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.finished = False
        """Whether nothing is left to wire."""
        self.new_devices = 0
        """How many devices are proposed that are not there yet."""
        self.proposed = self._list("Proposed wires")
        self.terminals = self._list("Terminals without a signal")
        self.signals = self._list("Signals without a device")
        self.signals.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.accept = QPushButton("Make and wire what is ticked")
        self.accept.clicked.connect(self.accept_ticked)
        self.kind = QComboBox()
        self.kind.setAccessibleName("Kind of device to make")
        self.kind.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.kind.setMinimumContentsLength(12)
        for kind in KINDS.values():
            if kind.kind != "own":
                self.kind.addItem(f"Make {one_of(kind.kind)} of these", kind.kind)
        self.make = QPushButton("Make")
        self.make.clicked.connect(self.make_device)
        self.signals.itemSelectionChanged.connect(self._guess)
        self.terminals.itemClicked.connect(self._go)
        self.proposed.itemClicked.connect(self._go)
        self.lists = QWidget()
        self.done = TextLabel("✓ Every device is wired, and every input and output has a device")
        self.done.setObjectName("hint")
        self.done.setContentsMargins(10, 6, 10, 6)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addWidget(self.lists, 1)
        whole.addWidget(self.done)
        row = QHBoxLayout(self.lists)
        row.setContentsMargins(10, 6, 10, 8)
        row.setSpacing(10)
        kinds = QHBoxLayout()
        kinds.addWidget(self.kind, 1)
        kinds.addWidget(self.make)
        accepting = QHBoxLayout()
        accepting.addWidget(self.accept)
        self.heads: dict[str, QLabel] = {}
        parts = (
            ("proposed", self.proposed, accepting, 4),
            ("terminals", self.terminals, None, 3),
            ("signals", self.signals, kinds, 4),
        )
        for name, widget, foot, share in parts:
            column = QVBoxLayout()
            column.setSpacing(3)
            head = TextLabel()
            head.setObjectName("hint")
            head.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
            self.heads[name] = head
            column.addWidget(head)
            column.addWidget(widget, 1)
            if foot is not None:
                column.addLayout(foot)
            row.addLayout(column, share)
        while_seen(self, document.changed, self.refresh)
        self.refresh()

    def _list(self, name: str) -> QListWidget:
        view = QListWidget()
        view.setAccessibleName(name)
        view.setUniformItemSizes(True)
        return view

    def refresh(self) -> None:
        """Looks again at what is wired; ticks of proposals that are still there stay."""
        project = self.document.project
        off = {self._key(i) for i in self._items(self.proposed) if i.checkState() == Qt.CheckState.Unchecked}
        self.proposed.clear()
        for device, one, other in exchanged(project):
            d = project.device(device)
            assert d is not None
            item = QListWidgetItem(f"⚠ {device}: {d.wired(one)} and {d.wired(other)} look exchanged")
            item.setData(_ROLE, (device, one, other))
            item.setForeground(theme.colour("late"))
            self._add(self.proposed, item, off)
        for p in proposals(project):
            item = QListWidgetItem(f"{p.device}.{p.terminal} ← {p.signal}   {100 * p.score:.0f} %")
            item.setData(_ROLE, p)
            self._add(self.proposed, item, off)
        new_devices = proposed_devices(project)
        self.new_devices = len(new_devices)
        for new in new_devices:
            item = QListWidgetItem(f"{new.name}, {KINDS[new.kind].title.lower()} ← {', '.join(new.signals)}")
            item.setData(_ROLE, new)
            item.setToolTip("A device that is not there yet")
            self._add(self.proposed, item, off)
        loose = unwired(project)
        self.terminals.clear()
        for device, terminal in loose.terminals:
            item = QListWidgetItem(f"{device}.{terminal}")
            item.setData(_ROLE, (device, terminal))
            self.terminals.addItem(item)
        chosen = {i.data(_ROLE) for i in self.signals.selectedItems()}
        self.signals.clear()
        for names, what in ((loose.inputs, "input"), (loose.outputs, "output")):
            for name in names:
                item = QListWidgetItem(f"{what} {name}")
                item.setData(_ROLE, name)
                self.signals.addItem(item)
                item.setSelected(name in chosen)
        count = self.proposed.count()
        self.heads["proposed"].setText(f"{count} proposed" if count else "✓ nothing more to propose")
        self.heads["terminals"].setText(
            f"{_many(len(loose.terminals), 'terminal')} without a signal"
            if loose.terminals
            else "✓ every device is wired"
        )
        left = self.signals.count()
        self.heads["signals"].setText(
            f"{_many(left, 'signal')} without a device" if left else "✓ every input and output has a device"
        )
        self.accept.setEnabled(count > 0)
        self.make.setEnabled(left > 0)
        self.finished = not (count or loose.terminals or left)
        self.lists.setVisible(not self.finished)
        self.done.setVisible(self.finished)
        self.looked.emit()

    def _add(self, view: QListWidget, item: QListWidgetItem, off: set[object]) -> None:
        item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
        item.setCheckState(Qt.CheckState.Unchecked if self._key(item) in off else Qt.CheckState.Checked)
        view.addItem(item)

    @staticmethod
    def _key(item: QListWidgetItem) -> object:
        data = item.data(_ROLE)
        return data if isinstance(data, (Proposal, NewDevice)) else tuple(data)

    @staticmethod
    def _items(view: QListWidget) -> list[QListWidgetItem]:
        return [view.item(i) for i in range(view.count())]

    def accept_ticked(self) -> bool:
        """Wires what is ticked, in one edit that can be undone."""
        ticked = [i.data(_ROLE) for i in self._items(self.proposed) if i.checkState() == Qt.CheckState.Checked]
        if not ticked:
            return False

        def wired(project: Project) -> Project:
            for item in ticked:
                if isinstance(item, NewDevice):
                    project = make_proposed(project, [item])
                else:
                    project = wire(project, [item]) if isinstance(item, Proposal) else exchange(project, *item)
            return project

        new = sum(isinstance(item, NewDevice) for item in ticked)
        what = [_many(new, "device")] if new else []
        what += [f"wires of {_many(len(ticked) - new, 'terminal')}"] if len(ticked) > new else []
        return self.document.edit(f"Make {' and '.join(what)}", wired)

    def chosen(self) -> list[str]:
        return [i.data(_ROLE) for i in self._items(self.signals) if i.isSelected()]

    def _guess(self) -> None:
        kind = likely_kind(self.document.project, self.chosen())
        if kind:
            self.kind.setCurrentIndex(self.kind.findData(kind))

    def make_device(self) -> bool:
        """A device of the chosen signals, on the first free place."""
        names, kind = self.chosen(), str(self.kind.currentData())
        at = free_cell(self.document.project)
        if not self.document.edit("Make a device of signals", lambda p: make_device(p, kind, names, at)):
            return False
        self.selection.set(Place("device", item=self.document.project.devices[-1].name))
        self.signals.setFocus()
        return True

    def _go(self, item: QListWidgetItem) -> None:
        data = item.data(_ROLE)
        if isinstance(data, NewDevice):
            return
        self.selection.set(Place("device", item=data.device if isinstance(data, Proposal) else data[0]))
