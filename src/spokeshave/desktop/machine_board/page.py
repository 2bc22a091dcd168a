"""The machine stage: the board to place devices on, the wiring below, the details of the selected one beside it."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSplitter,
    QTabWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.machine_board.board import Board
from spokeshave.desktop.machine_board.wiring_panel import WiringPanel
from spokeshave.desktop.machine_scene.panel import ScenePanel
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.stage_page import StagePage
from spokeshave.machine.kinds import KINDS
from spokeshave.model import board_edits, edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import CONNECTION_KINDS, Device, Label

BOARD, LISTS = 470, 170
"""Heights of the board and of the lists of what is left to wire, which share what there is."""


class MachinePage(StagePage):
    """Devices are dragged on the grid; several are picked with Ctrl. The rest is edited in the details."""

    def __init__(self, document: Document, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.board = Board(document, runner, selection, placing=True)
        self.wiring = WiringPanel(document, selection)
        area = QScrollArea()
        area.setAccessibleName("Board of the machine")
        area.setWidget(self.board)
        area.setWidgetResizable(True)
        self.kind = QComboBox()
        self.kind.setAccessibleName("Kind of a new device")
        for kind in KINDS.values():
            self.kind.addItem(kind.title, kind.kind)
        add, remove = QPushButton("Add a device"), QPushButton("Delete")
        add.clicked.connect(self.add)
        remove.clicked.connect(self.remove)
        self.connect_button = QToolButton()
        self.connect_button.setText("Connect")
        self.connect_button.setToolTip(
            "Draws a line from the device picked first to the one picked second (Ctrl and click)"
        )
        self.connect_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.connect_button)
        for name in CONNECTION_KINDS:
            menu.addAction(f"With a {name}").triggered.connect(lambda _=False, name=name: self.connect_picked(name))
        self.connect_button.setMenu(menu)
        self.group_button = QToolButton()
        self.group_button.setText("Group")
        self.group_button.setToolTip("Puts the picked devices in a frame, or takes it away")
        self.group_button.clicked.connect(self.group_picked)
        label = QToolButton()
        label.setText("Label")
        label.setToolTip("A text on the board; double-click changes it, an empty one takes it away")
        label.clicked.connect(self.add_label)
        self.hint = TextLabel()
        self.hint.setObjectName("hint")
        self.hint.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        bar = QHBoxLayout()
        bar.setSpacing(8)
        bar.setContentsMargins(12, 6, 12, 6)
        bar.addWidget(self.kind)
        bar.addWidget(add)
        bar.addWidget(remove)
        bar.addSpacing(8)
        bar.addWidget(self.connect_button)
        bar.addWidget(self.group_button)
        bar.addWidget(label)
        bar.addWidget(self.hint, 1)
        self.whole = whole = QSplitter(Qt.Orientation.Vertical)
        whole.addWidget(area)
        whole.addWidget(self.wiring)
        whole.setSizes([BOARD, LISTS])
        self._short = False
        whole.setStretchFactor(0, 1)
        devices = QWidget()
        column = QVBoxLayout(devices)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(bar)
        column.addWidget(whole, 1)
        self.scene = ScenePanel(document, runner, selection)
        self.parts = QTabWidget()
        self.scene.devices_asked.connect(lambda: self.parts.setCurrentIndex(0))
        self.parts.setDocumentMode(True)
        self.parts.tabBar().setDrawBase(False)  # white in the dark theme
        self.parts.setAccessibleName("Devices or scene")
        self.parts.tabBar().setAccessibleName("Devices or scene")
        self.parts.addTab(devices, "Devices")
        self.parts.addTab(self.scene, "Scene")
        self.parts.setTabToolTip(1, "The machine drawn: shapes that move as the devices do")
        all_of_it = QVBoxLayout(self)
        all_of_it.setContentsMargins(0, 0, 0, 0)
        all_of_it.addWidget(self.parts)
        self.empty = EmptyHint(area, "", (("Make the devices", self.wiring.accept_ticked), ("Add a device", self.add)))
        self.wiring.looked.connect(self._show_empty)
        self.wiring.looked.connect(self._give_room)
        self._show_empty()
        self._give_room()
        self.board.picked_changed.connect(self.refresh)
        self.board.delete_asked.connect(self.remove)
        document.changed.connect(self.refresh)
        self.refresh()

    def first(self) -> QWidget:
        return self.scene.editor if self.parts.currentIndex() else self.board

    def go_to(self, place: Place) -> None:
        """A device is shown among the devices, a shape in the scene."""
        if place.kind == "device" and not self.scene.isVisible():
            self.parts.setCurrentIndex(0)
        elif place.item.startswith("scene"):
            self.parts.setCurrentIndex(1)
            self.scene.editor.choose(place.item.partition(", ")[2])

    def refresh(self) -> None:
        picked = self.board.picked
        self.connect_button.setEnabled(len(picked) == 2)
        self.group_button.setEnabled(len(picked) > 1 or self._group_of(picked) >= 0)
        text = f"{picked[0]} to {picked[1]}" if len(picked) == 2 else f"{len(picked)} picked" if len(picked) > 2 else ""
        self.hint.setText(text or "Drag places; Ctrl and click picks several")

    def _show_empty(self) -> None:
        """What stands for the machine, before there is a device: those that the names of signals speak of."""
        empty, new = not self.document.project.devices, self.wiring.new_devices
        if empty:
            make = self.empty.buttons[0]
            make.setVisible(bool(new))
            make.setText(f"Make {new} device{'' if new == 1 else 's'}")
            self.empty.says.setText(
                "The machine stands in for the real one. The names of the signals speak of devices, listed below: take them, and change what differs."
                if new else "The machine stands in for the real one. Choose signals below and make a device of them, or add one."
            )  # fmt: skip
        self.empty.show_while(empty)

    def _give_room(self) -> None:
        """The board has the room of the lists while nothing is left to wire."""
        if self.wiring.finished is not self._short:
            self._short = self.wiring.finished
            self.whole.setSizes(
                [BOARD + LISTS, self.wiring.done.sizeHint().height()] if self._short else [BOARD, LISTS]
            )

    def add(self) -> None:
        kind = str(self.kind.currentData())
        project = self.document.project
        stems = {"actuator": "Slide", "thermal": "Heat", "vessel": "Tank", "own": "Part", "emergency": "Stop"}
        name = edits.free_name(stems.get(kind, kind.capitalize()), edits.taken_names(project))
        device = Device(name, kind, at=board_edits.free_cell(project))
        if self.document.edit(f"Add {name}", lambda p: edits.add_item(p, "devices", device)):
            self.selection.set(Place("device", item=name))

    def remove(self) -> None:
        """Deletes the picked devices, or the selected one, with their connections."""
        p = self.selection.place
        names = self.board.picked or ([p.item] if p.kind == "device" else [])
        if names:
            what = names[0] if len(names) == 1 else f"{len(names)} devices"
            self.document.edit(f"Delete {what}", lambda q: board_edits.remove_devices(q, names))

    def connect_picked(self, kind: str) -> bool:
        if len(self.board.picked) != 2:
            return False
        one, other = self.board.picked
        return self.document.edit(f"Connect {one}", lambda p: board_edits.connect(p, one, other, kind))

    def _group_of(self, picked: list[str]) -> int:
        groups = self.document.project.groups
        return next((i for i, g in enumerate(groups) if picked and set(picked) <= set(g.devices)), -1)

    def group_picked(self) -> bool:
        picked, index = list(self.board.picked), self._group_of(self.board.picked)
        if index >= 0:
            return self.document.edit("Take the group away", lambda p: edits.remove_item(p, "groups", index))
        if len(picked) < 2:
            return False
        return self.document.edit("Group", lambda p: board_edits.group(p, picked))

    def add_label(self) -> None:
        at = board_edits.free_cell(self.document.project)
        if self.document.edit("Label", lambda p: edits.add_item(p, "labels", Label("Label", at))):
            self.board.edit_label(len(self.document.project.labels) - 1)
