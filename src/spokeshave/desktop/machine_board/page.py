"""The machine stage: the board to place devices on, and the details of the selected one beside it."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.machine_board.board import Board
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.machine.kinds import KINDS
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Device, Project


def free_cell(project: Project) -> tuple[int, int]:
    """The first empty cell of the board, row by row, five columns wide."""
    taken = {d.at for d in project.devices}
    return next((c, r) for r in range(10_000) for c in range(5) if (c, r) not in taken)


class MachinePage(QWidget):
    """Devices are dragged on the grid; the rest is edited in the details."""

    def __init__(self, document: Document, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.board = Board(document, runner, selection, placing=True)
        area = QScrollArea()
        area.setWidget(self.board)
        area.setWidgetResizable(True)
        self.kind = QComboBox()
        self.kind.setAccessibleName("Kind of a new device")
        for kind in KINDS.values():
            self.kind.addItem(kind.title, kind.kind)
        add, remove = QPushButton("Add a device"), QPushButton("Delete")
        add.clicked.connect(self.add)
        remove.clicked.connect(self.remove)
        hint = QLabel("Drag devices to their places; parameters and wires are in the details at the right")
        hint.setObjectName("hint")
        bar = QHBoxLayout()
        bar.setSpacing(8)
        bar.setContentsMargins(12, 6, 12, 6)
        bar.addWidget(hint, 1)
        bar.addWidget(self.kind)
        bar.addWidget(add)
        bar.addWidget(remove)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(bar)
        column.addWidget(area, 1)

    def add(self) -> None:
        kind = str(self.kind.currentData())
        project = self.document.project
        stem = {"actuator": "Slide", "thermal": "Heat", "vessel": "Tank"}.get(kind, kind.capitalize())
        name = edits.free_name(stem, edits.taken_names(project))
        device = Device(name, kind, at=free_cell(project))
        if self.document.edit(f"Add {name}", lambda p: edits.add_item(p, "devices", device)):
            self.selection.set(Place("device", item=name))

    def remove(self) -> None:
        p = self.selection.place
        if p.kind != "device":
            return
        index = next((i for i, d in enumerate(self.document.project.devices) if d.name == p.item), -1)
        if index >= 0:
            self.document.edit(f"Delete {p.item}", lambda q: edits.remove_item(q, "devices", index))
