"""The board: every device as a small picture of its state on a grid; buttons are pressed with the mouse."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QLineEdit, QMenu, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.machine_board import cards
from spokeshave.desktop.machine_board.device_hands import Hands
from spokeshave.desktop.measured_room import SCARCE
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.machine.kinds import KINDS, failures_of
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Device, Project

LEAST, MOST = 0.62, 1.25
"""How far the board is made smaller or larger to fit its room; beyond that it scrolls or leaves room."""


class Board(QWidget):
    """Draws the devices of the document as they are in the scan that is looked at.

    A click selects; a button is pressed while held, an emergency stop, a latching button and a selector turn over with
    each click, a setpoint follows the pointer and the wheel. In hand drive a click turns over what drives the device.
    A right click injects and clears failures. With `placing`, devices and labels are dragged on the grid; Ctrl and a
    click pick several.
    """

    picked_changed = Signal()
    delete_asked = Signal()

    def __init__(self, document: Document, runner: Runner, selection: Selection, placing: bool = False) -> None:
        super().__init__()
        self.document, self.runner, self.selection, self.placing = document, runner, selection, placing
        self.picked: list[str] = []
        self.hands = Hands(runner)
        self._turning: str | None = None
        self._dragged: tuple[str, int, QPointF] | None = None
        self._line: QLineEdit | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Board")
        self.setMouseTracking(True)
        self._seen: dict[str, object] = {}
        self._lines: object = None
        runner.advanced.connect(self.follow_run)
        runner.restarted.connect(self.update)
        document.changed.connect(self._grow)
        document.measured.connect(self.update)
        selection.changed.connect(self.update)
        self._grow()

    def _grow(self) -> None:
        self.picked = [n for n in self.picked if self.document.project.device(n) is not None]
        self._extent = width, height = cards.extent(self.document.project)
        # Where things are placed there is room for one more row.
        self.setMinimumSize(int(width * LEAST), int(height + cards.CELL_H if self.placing else height * LEAST))
        self.update()

    def sizeHint(self) -> QSize:
        width, height = self._extent
        return QSize(int(width), int(height))

    @property
    def scale(self) -> float:
        """Pixels for one unit of the cards."""
        width, height = self._extent
        if self.placing:
            return 1.0 if self.width() >= width else max(LEAST, self.width() / width)
        return max(LEAST, min(MOST, self.width() / width, self.height() / height))

    def cell(self, device: Device) -> QRectF:
        """Where a device stands, in pixels."""
        box, f = cards.cell(device.at), self.scale
        return QRectF(box.left() * f, box.top() * f, box.width() * f, box.height() * f)

    def device_at(self, at: QPointF) -> Device | None:
        return next((d for d in reversed(self.document.project.devices) if self.cell(d).contains(at)), None)

    def _label_at(self, at: QPointF) -> int:
        unit = at / self.scale
        found = [i for i, x in enumerate(self.document.project.labels) if cards.cell(x.at).contains(unit)]
        return found[-1] if found else -1

    def sight(self) -> cards.Sight | None:
        shown = self.runner.shown()
        if shown is None:
            return cards.at_rest(self.document.project)
        return cards.Sight(*shown, self.runner.part_of_scan())

    def index_of(self, name: str) -> int:
        """Index of a device in the program that runs, -1 if it is not in it."""
        session = self.runner.session
        if session is None:
            return -1
        return next((i for i, d in enumerate(session.program.devices) if d.name == name), -1)

    def follow_run(self) -> None:
        """Repaints the devices that look different now."""
        if not self.isVisible():
            return
        sight, seen = self.sight(), {}
        f, region = self.scale, self.visibleRegion().boundingRect()  # what is scrolled away need not be looked at
        view = QRectF(region.x() / f, region.y() / f, region.width() / f, region.height() / f)
        if sight is not None:
            placed = {d.name: d for d in self.document.project.devices}
            for i, linked in enumerate(sight.program.devices):
                described = placed.get(linked.name)
                if described is not None and view.intersects(cards.cell(described.at)):
                    seen[linked.name.lower()] = cards.looks(sight, i)
        lines = cards.flows(sight)
        if seen.keys() != self._seen.keys() or lines != self._lines:
            self.update()
        else:
            for d in self.document.project.devices:
                name = d.name.lower()
                if seen.get(name) != self._seen.get(name):
                    self.update(self.cell(d).adjusted(-2, -2, 2, 2).toAlignedRect())
        self._seen, self._lines = seen, lines

    # -- drawing

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("surface"))
        project = self.document.project
        painter.scale(self.scale, self.scale)
        sight = self.sight()
        cards.paint_groups(painter, project)
        for c in project.connections:
            cards.paint_connection(painter, project, c, sight)
        for i, label in enumerate(project.labels):
            chosen = self._dragged is not None and self._dragged[:2] == ("label", i)
            cards.paint_label(painter, label.at, label.text, chosen)
        place = self.selection.place
        room = QRectF(event.rect())
        indexes = {x.name.lower(): i for i, x in enumerate(sight.program.devices)} if sight is not None else {}
        for i, d in enumerate(project.devices):
            if self._dragged is None and not self.cell(d).intersects(room):
                continue
            box = cards.cell(d.at)
            if self._dragged is not None and self._dragged[:2] == ("device", i):
                box.moveCenter(self._dragged[2] / self.scale)
            chosen = place.kind == "device" and place.item == d.name
            cards.paint_device(painter, d, box, chosen, d.name in self.picked, sight, indexes.get(d.name.lower(), -1))
            self._paint_room(painter, d, box)

    def _paint_room(self, painter: QPainter, d: Device, box: QRectF) -> None:
        """Under a card how much slower or faster the device may be, the nearest; half of the bar is half as fast or twice."""
        room = self.document.room
        for x in room.of_device(d.name)[:1] if room is not None else ():
            bar = QRectF(box.left() + 8, box.bottom() - 6, box.width() - 16, 3)
            painter.fillRect(bar, theme.colour("hairline"))
            bar.setWidth(bar.width() * min(1.0, x.room / 2))
            painter.fillRect(bar, theme.colour("late" if x.room < SCARCE else "active"))

    # -- hands on the machine

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        d = self.device_at(at)
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if d is None:
            label = self._label_at(at) if self.placing else -1
            self._dragged = ("label", label, at) if label >= 0 else None
            self._pick([])
            return
        self.selection.set(Place("device", item=d.name))
        if self.placing:
            if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                self._pick([n for n in self.picked if n != d.name] if d.name in self.picked else [*self.picked, d.name])
                return
            self._pick([d.name])
            index = self.document.project.devices.index(d)
            self._dragged = ("device", index, self.cell(d).center())
            return
        box = self.cell(d)
        takes = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if not self.hands.operate(d, takes) and d.kind == "setpoint":
            self._turning = d.name
            self._turn_to(d, at)
        elif KINDS[d.kind].positions == 0:
            self.hands.drive(d, at.x() < box.center().x())

    def _pick(self, names: list[str]) -> None:
        if names != self.picked:
            self.picked = names
            self.picked_changed.emit()
            self.update()

    def _turn_to(self, d: Device, at: QPointF) -> None:
        """A setpoint goes to the place of the pointer on its rail."""
        box = self.cell(d)
        self.hands.turn_to(d, (at.x() - box.left() - 0.13 * box.width()) / (0.74 * box.width()))

    def wheelEvent(self, event: QWheelEvent) -> None:
        d = self.device_at(event.position())
        if self.placing or d is None or not self.hands.notch(d, 1 if event.angleDelta().y() > 0 else -1):
            super().wheelEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragged is not None:
            self._dragged = (*self._dragged[:2], event.position())
            self.update()
        elif self._turning is not None:
            d = self.document.project.device(self._turning)
            if d is not None:
                self._turn_to(d, event.position())
        else:
            d = self.device_at(event.position())
            hand = d is not None and (KINDS[d.kind].positions > 0 or self.hands.by_hand) and not self.placing
            self.setCursor(Qt.CursorShape.PointingHandCursor if hand else Qt.CursorShape.ArrowCursor)
            self.setToolTip(plain("" if d is None else self._told(d)))

    def _told(self, d: Device) -> str:
        """The wires of a device, for the pointer that rests on it."""
        wires = "\n".join(f"{t}: {s}" for t, s in d.wires)
        lines = [f"{KINDS[d.kind].title} {d.name}" if d.kind in KINDS else d.name, d.comment, wires]
        room = self.document.room
        lines += [x.said() for x in room.of_device(d.name)] if room is not None else []
        return "\n".join(line for line in lines if line)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._turning = None
        if self._dragged is not None:
            what, index, at = self._dragged
            self._dragged = None
            unit = at / self.scale
            column = max(0, int((unit.x() - cards.MARGIN) // cards.CELL_W))
            row = max(0, int((unit.y() - cards.MARGIN) // cards.CELL_H))
            self._place(what, index, (column, row))
            self.update()
        self.hands.release()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        """A button is not held by somebody who has gone elsewhere."""
        self.hands.release()
        super().focusOutEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Space presses the selected button while it is held, turns over others, and drives by hand in hand drive; with Shift it takes an
        item from a belt. Delete asks for the selected ones to go.
        """
        d = self.document.project.device(self.selection.place.item) if self.selection.place.kind == "device" else None
        if event.key() == Qt.Key.Key_Space and d is not None and not event.isAutoRepeat() and not self.placing:
            if not self.hands.operate(d, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)):
                self.hands.drive(d, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        elif event.key() == Qt.Key.Key_Delete:
            self.delete_asked.emit()
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space and self.hands.held and not event.isAutoRepeat():
            self.hands.release()
        else:
            super().keyReleaseEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        d = self.device_at(QPointF(event.pos()))
        if d is not None:
            self.selection.set(Place("device", item=d.name))
            self.failure_menu(d).popup(event.globalPos())

    def failure_menu(self, d: Device) -> QMenu:
        """One entry a failure mode; a tick means it is injected."""
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        index, session = self.index_of(d.name), self.runner.session
        failed = session.situation.dev_failed[index] if session and index >= 0 else frozenset()
        for failure in failures_of(d):
            action = menu.addAction(f"Inject: {failure}")
            action.setCheckable(True)
            action.setChecked(failure in failed)
            action.triggered.connect(
                lambda on, name=d.name, failure=failure: self.runner.do("fail" if on else "heal", name, failure)
            )
        if failed:
            menu.addSeparator()
            mend = menu.addAction("Clear all its failures")
            mend.triggered.connect(lambda: self._mend(d.name, failed))
        if menu.isEmpty():
            menu.addAction("This device cannot fail").setEnabled(False)
        menu.addSeparator()
        uses = menu.addAction("Where it is used\tCtrl+Alt+U")
        uses.triggered.connect(lambda: self.selection.ask_uses(Place("device", item=d.name)))
        return menu

    def _mend(self, name: str, failed: frozenset[str]) -> None:
        for failure in sorted(failed):
            self.runner.do("heal", name, failure)

    # -- the arrangement

    def _place(self, what: str, index: int, at: tuple[int, int]) -> None:
        field = "labels" if what == "label" else "devices"
        items = getattr(self.document.project, field)
        if index >= len(items) or items[index].at == at:
            return
        name = items[index].text if what == "label" else items[index].name

        def moved(project: Project) -> Project:
            """Onto a free cell, or in exchange with what stands there."""
            if what == "device":
                other = next((i for i, d in enumerate(project.devices) if d.at == at and i != index), -1)
                if other >= 0:
                    project = edits.change_item(project, "devices", other, at=project.devices[index].at)
            return edits.change_item(project, field, index, at=at)

        self.document.edit(f"Place {name}", moved)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        label = self._label_at(event.position()) if self.placing else -1
        group = cards.group_at(self.document.project, event.position() / self.scale) if self.placing else -1
        if label >= 0:
            self._dragged = None
            self.edit_label(label)
        elif group >= 0:
            self.edit_group(group)
        else:
            self.mousePressEvent(event)

    def edit_label(self, index: int) -> QLineEdit:
        """A line in the place of a label; an empty text takes the label away."""
        label = self.document.project.labels[index]
        line = self._line_at(cards.cell(label.at).topLeft() + QPointF(0, 30), label.text, "Text of the label")
        line.editingFinished.connect(lambda: self._put_label(index, line))
        return line

    def edit_group(self, index: int) -> QLineEdit:
        """A line in the place of a group's name."""
        group = self.document.project.groups[index]
        frame = cards.group_frame(self.document.project, group)
        line = self._line_at(frame.topLeft(), group.name, "Name of the group")
        line.editingFinished.connect(lambda: self._put_group(index, line))
        return line

    def _put_group(self, index: int, line: QLineEdit) -> None:
        name = line.text().strip()
        if self._line is line and name and index < len(self.document.project.groups):
            self._line = None
            line.deleteLater()
            self.document.edit(f"Name {name}", lambda p: edits.change_item(p, "groups", index, name=name))

    def _line_at(self, unit: QPointF, text: str, name: str) -> QLineEdit:
        f = self.scale
        line = QLineEdit(text, self)
        line.setAccessibleName(name)
        line.setGeometry(int(unit.x() * f), int(unit.y() * f), int(cards.CELL_W * 1.5 * f), 28)
        line.show()
        line.setFocus()
        line.selectAll()
        self._line = line
        return line

    def _put_label(self, index: int, line: QLineEdit) -> None:
        if self._line is not line:
            return
        self._line = None
        text = line.text().strip()
        line.deleteLater()
        labels = self.document.project.labels
        if index >= len(labels) or labels[index].text == text:
            return
        kept = tuple(
            replace(x, text=text) if i == index else x for i, x in enumerate(labels) if i != index or text
        )  # fmt: skip
        self.document.edit("Label", lambda p: edits.put_items(p, "labels", kept))
