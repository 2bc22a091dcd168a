"""The fields of a shape: what it is, what it follows, and how it shows that."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QFormLayout, QHBoxLayout, QLineEdit, QSpinBox, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.machine.scene import numbers_of
from spokeshave.model.scene import ACTS, COLOURS, HIGH, HINGES, KINDS, WIDE, SceneError, Shape, change_shape, shape_of

NOTHING = "nothing"
ON_GROUND = "the ground"
WORDS = {
    "stands": "stands still", "moves": "moves along", "turns": "turns", "fills": "fills", "lights": "lights up",
    "shows": "shows its number", "carries": "carries its items", "part": "part of the drawing",
}  # fmt: skip
"""Words for the kinds and acts that say less by themselves."""
SAYS = {
    "moves": "Moved by so many grid lines to the right and down when the number is at its end.",
    "turns": "Turned by so many degrees when the number is at its end; a motor turns on and on.",
    "fills": "Filled from below, or from its hinge, as far as the number is on its way.",
    "lights": "Coloured while the number is in the upper half of its way; a signal while it is on.",
    "shows": "The number, and what is written behind it.",
    "carries": "Each item of a belt where it lies, from the left, or from its hinge.",
    "stands": "It only stands there, or rides on another shape.",
}


def spin(least: int, most: int, name: str) -> QSpinBox:
    """A field for a whole number."""
    field = QSpinBox()
    field.setRange(least, most)
    field.setAccessibleName(name)
    field.setMinimumWidth(56)
    return field


class ShapeForm(QWidget):
    """The chosen shape, edited in place. `renamed` comes before the file has the shape under its new name."""

    renamed = Signal(str)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self._name = ""
        self._loading = False
        self.name, self.text = QLineEdit(), QLineEdit()
        self.kind, self.colour = self._choice(KINDS, "What it is"), self._choice(COLOURS, "Colour")
        self.follows, self.number = QComboBox(), QComboBox()
        self.act, self.hinge = self._choice(ACTS, "How it shows it"), self._choice(HINGES, "Hinge")
        self.rides = QComboBox()
        self.by_x, self.by_y = spin(-1440, 1440, "By, to the right or in degrees"), spin(-HIGH, HIGH, "By, down")
        self.low, self.high = QDoubleSpinBox(), QDoubleSpinBox()
        self.at_x, self.at_y = spin(0, WIDE, "Place, to the right"), spin(0, HIGH, "Place, down")
        self.wide, self.tall = spin(1, 2 * WIDE, "Width"), spin(1, 2 * WIDE, "Height")
        self.says = TextLabel("")
        self.says.setObjectName("hint")
        self.says.setWordWrap(True)
        self.fault = TextLabel("")
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        for field, name in ((self.low, "Number at the beginning"), (self.high, "Number at the end")):
            field.setRange(-1e6, 1e6)
            field.setDecimals(2)
            field.setMinimumWidth(64)
            field.setAccessibleName(name)
            field.editingFinished.connect(self.apply)
        for box, name in (
            (self.follows, "What it follows"),
            (self.number, "Which number"),
            (self.rides, "What it rides on"),
        ):
            box.setAccessibleName(name)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(5)
            box.activated.connect(self.apply)
        for line, name in ((self.name, "Name of the shape"), (self.text, "What is written on it")):
            line.setAccessibleName(name)
            line.editingFinished.connect(self.apply)
        for whole in (self.by_x, self.by_y, self.at_x, self.at_y, self.wide, self.tall):
            whole.editingFinished.connect(self.apply)
        self._arrange()
        document.changed.connect(self.refresh)

    def _choice(self, items: Sequence[str], name: str) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(name)
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(5)
        for item in items:
            box.addItem(WORDS.get(item, item), item)
        box.activated.connect(self.apply)
        return box

    @staticmethod
    def _pair(*parts: QWidget | str) -> QHBoxLayout:
        row = QHBoxLayout()
        for part in parts:
            row.addWidget(TextLabel(part) if isinstance(part, str) else part, 0 if isinstance(part, str) else 1)
        return row

    def _arrange(self) -> None:
        form = QFormLayout(self)
        form.setContentsMargins(12, 8, 12, 8)
        form.addRow("Name", self.name)
        form.addRow("It is a", self._pair(self.kind, self.colour))
        form.addRow("On it", self.text)
        form.addRow("Follows", self._pair(self.follows, self.number))
        form.addRow("And", self.act)
        form.addRow(self.says)
        form.addRow("By", self._pair(self.by_x, self.by_y))
        form.addRow("About its", self.hinge)
        form.addRow("From", self._pair(self.low, "to", self.high))
        form.addRow("Rides on", self.rides)
        form.addRow("Place", self._pair(self.at_x, self.at_y))
        form.addRow("Size", self._pair(self.wide, "by", self.tall))
        form.addRow(self.fault)

    def show_shape(self, name: str) -> None:
        """Another shape, or none."""
        self._name = name
        self.fault.clear()
        self.refresh()

    def shape(self) -> Shape | None:
        return shape_of(self.document.project.scene, self._name) if self._name else None

    def refresh(self) -> None:
        shape, project = self.shape(), self.document.project
        self.setEnabled(shape is not None)
        if shape is None:
            return
        self._loading = True
        self.name.setText(shape.name)
        self.text.setText(shape.text)
        for box, value in (
            (self.kind, shape.kind),
            (self.colour, shape.colour),
            (self.act, shape.act),
            (self.hinge, shape.hinge),
        ):
            box.setCurrentIndex(max(0, box.findData(value)))
        self._fill(
            self.follows,
            NOTHING,
            [*(d.name for d in project.devices), *(s.name for s in project.signals)],
            shape.follows,
        )
        device = project.device(shape.follows)
        numbers = numbers_of(device, project.period_ms) if device is not None else []
        self._fill(self.number, numbers[0] if numbers else "", numbers[1:], shape.number)
        self.number.setEnabled(bool(numbers))
        self._fill(self.rides, ON_GROUND, [s.name for s in project.scene if s is not shape], shape.rides)
        for field, whole in ((self.by_x, shape.by[0]), (self.by_y, shape.by[1]), (self.at_x, shape.at[0]), (self.at_y, shape.at[1]),
                             (self.wide, shape.size[0]), (self.tall, shape.size[1])):  # fmt: skip
            field.setValue(whole)
        self.low.setValue(shape.low)
        self.high.setValue(shape.high)
        self.says.setText(SAYS[shape.act])
        self.by_x.setSuffix("°" if shape.act == "turns" else "")
        self.by_x.setEnabled(shape.act in ("moves", "turns"))
        self.by_y.setEnabled(shape.act == "moves")
        self.hinge.setEnabled(shape.act in ("turns", "fills", "carries"))
        for end in (self.low, self.high):
            end.setEnabled(shape.act in ("moves", "turns", "fills", "lights"))
        self._loading = False

    @staticmethod
    def _fill(box: QComboBox, none: str, names: list[str], now: str) -> None:
        """A list with what stands for nothing first, and what is chosen even where it is not there any more."""
        box.clear()
        box.addItem(none, "")
        for name in names:
            box.addItem(name, name)
        if now and box.findData(now) < 0:
            found = next((i for i in range(box.count()) if str(box.itemData(i)).lower() == now.lower()), -1)
            if found >= 0:
                now = str(box.itemData(found))
            elif now != none:
                box.addItem(now, now)
        box.setCurrentIndex(max(0, box.findData(now if now != none else "")))

    def apply(self) -> None:
        """Takes what is in the fields; what cannot be is told, and stays to be changed."""
        shape = self.shape()
        if self._loading or shape is None:
            return
        old, new = self._name, self.name.text().strip()
        follows = str(self.follows.currentData() or "")
        changes = {
            "name": new, "text": self.text.text(), "kind": self.kind.currentData(), "colour": self.colour.currentData(),
            "follows": follows, "number": str(self.number.currentData() or "") if follows == shape.follows else "",
            "act": self.act.currentData(), "hinge": self.hinge.currentData(), "rides": str(self.rides.currentData() or ""),
            "by": (self.by_x.value(), self.by_y.value()), "low": self.low.value(), "high": self.high.value(),
            "at": (self.at_x.value(), self.at_y.value()), "size": (self.wide.value(), self.tall.value()),
        }  # fmt: skip
        if all(getattr(shape, field) == value for field, value in changes.items()):
            return
        try:
            made = change_shape(self.document.project, old, **changes)
        except SceneError as error:
            self.fault.setText(f"✕ {error}")
            return
        self.fault.clear()
        if new != old:
            self._name = new
            self.renamed.emit(new)
        self.document.edit(f"Change {new}", lambda _: made)
