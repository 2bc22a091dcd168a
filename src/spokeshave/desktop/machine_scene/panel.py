"""The scene in the machine stage: its editor, the shapes in a row above, the fields of the chosen one beside it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QByteArray, Qt, Signal
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QSplitter,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.machine_scene.editor import SceneEditor
from spokeshave.desktop.machine_scene.form import WORDS, ShapeForm
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.machine.scene import first_drawing
from spokeshave.model.scene import KINDS, Shape, add_shapes, raise_shape, remove_shapes

LARGEST_SVG = 1_000_000
"""Bytes of a drawing that is taken into the file."""


class ScenePanel(QWidget):
    """A new shape stands where there is room, is chosen, and is dragged from there."""

    failed = Signal(str)
    devices_asked = Signal()
    """Somebody wants to draw devices, and there are none yet."""

    def __init__(self, document: Document, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.document = document
        self.setProperty("manual", "scene")
        self.editor = SceneEditor(document, runner, selection)
        self.form = ShapeForm(document)
        self.editor.chosen_changed.connect(self._chosen)
        self.form.renamed.connect(self.editor.keep_chosen)
        area = QScrollArea()
        area.setAccessibleName("Scene")
        area.setWidget(self.editor)
        area.setWidgetResizable(True)
        self.empty = EmptyHint(area, "The machine drawn: shapes that move, turn, fill, light up and carry items as the devices do. Draw a first "
                               "one from the devices, then move and change it.",
                               (("Draw from the devices", self.draw), ("Add a box", lambda: self.add("box"))))  # fmt: skip
        bar = QHBoxLayout()
        bar.setContentsMargins(12, 6, 12, 6)
        self.add_button = QToolButton()
        self.add_button.setText("Add a shape   ")  # room for the mark of the menu
        self.add_button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.add_button)
        self.adds = {kind: menu.addAction(WORDS.get(kind, kind).capitalize()) for kind in KINDS}
        for kind, action in self.adds.items():
            action.triggered.connect(lambda _=False, kind=kind: self.add(kind))
        self.add_button.setMenu(menu)
        bar.addWidget(self.add_button)
        self.front, self.back = QPushButton("Front"), QPushButton("Back")
        self.front.clicked.connect(lambda: self.raise_chosen(True))
        self.back.clicked.connect(lambda: self.raise_chosen(False))
        self.remove_button = QPushButton("Delete")
        self.remove_button.clicked.connect(self.remove)
        self.svg_button = QPushButton("Drawing ...")
        self.svg_button.setToolTip("An SVG whose parts have names (id); each part is a shape then")
        self.svg_button.clicked.connect(self.ask_svg)
        self.hint = TextLabel("Drag places; the corner makes larger; arrows, Delete")
        self.hint.setObjectName("hint")
        bar.addSpacing(8)
        for button in (self.front, self.back, self.remove_button, self.svg_button):
            bar.addWidget(button)
        self.hint.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        bar.addSpacing(8)
        bar.addWidget(self.hint, 1)
        fields = QScrollArea()
        fields.setWidget(self.form)
        fields.setWidgetResizable(True)
        fields.setAccessibleName("Fields of the shape")
        fields.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        fields.setMinimumWidth(self.form.minimumSizeHint().width() + 18)
        whole = QSplitter()
        whole.addWidget(area)
        whole.addWidget(fields)
        whole.setSizes([860, 330])
        whole.setStretchFactor(0, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(bar)
        column.addWidget(whole, 1)
        document.changed.connect(self.refresh)
        self.form.show_shape("")
        self.refresh()

    def refresh(self) -> None:
        scene, chosen = self.document.project.scene, self.editor.shape()
        self.empty.show_while(not scene)
        self.empty.buttons[0].setText("Draw from the devices" if self.document.project.devices else "Add devices first")
        for button in (self.front, self.back, self.remove_button):
            button.setEnabled(chosen is not None)
        self.adds["part"].setEnabled(bool(self.document.project.svg.strip()))
        if self.form.shape() is None and self.editor.chosen:
            self.form.show_shape(self.editor.chosen)

    def _chosen(self) -> None:
        self.form.show_shape(self.editor.chosen)
        self.refresh()

    def draw(self) -> None:
        """Shapes for the devices, where they stand on the board."""
        if not self.document.project.devices:
            self.devices_asked.emit()
            return
        self.document.edit("Draw the scene", lambda p: add_shapes(p, first_drawing(p)))

    def add(self, kind: str) -> None:
        """One more shape, in front."""
        scene = self.document.project.scene
        taken = {s.at for s in scene}
        at = next((x, y) for y in range(2, 90, 3) for x in range(2, 60, 4) if (x, y) not in taken)
        size = {"line": (16, 1), "text": (14, 3), "round": (8, 8)}.get(kind, (12, 8))
        colour = "ink" if kind in ("line", "text") else "metal"
        new = Shape(kind.capitalize(), kind, at, size, colour, "Text" if kind == "text" else "")
        if self.document.edit(f"Add a {kind}", lambda p: add_shapes(p, [new])):
            self.editor.choose(self.document.project.scene[-1].name)
            self.editor.setFocus()

    def remove(self) -> None:
        name = self.editor.chosen
        self.document.edit(f"Delete {name}", lambda p: remove_shapes(p, [name]))

    def raise_chosen(self, forward: bool) -> None:
        name = self.editor.chosen
        self.document.edit(f"Put {name} {'in front' if forward else 'behind'}", lambda p: raise_shape(p, name, forward))

    def ask_svg(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A drawing with named parts", "", "SVG (*.svg)")
        if name:
            self.take_svg(Path(name))

    def take_svg(self, path: Path) -> None:
        """Takes a drawing into the file; one that is none is told."""
        try:
            if path.stat().st_size > LARGEST_SVG:
                raise ValueError(f"it is larger than {LARGEST_SVG:,} bytes")
            text = path.read_text(encoding="utf-8")
            if not QSvgRenderer(QByteArray(text.encode())).isValid():
                raise ValueError("it is no drawing")
        except (OSError, ValueError) as error:
            self.failed.emit(f"{path.name} cannot be taken: {error}")
            return
        self.document.edit(f"Take {path.name}", lambda p: replace(p, svg=text))
