"""The board: every device as a small picture of its state on a grid; buttons are pressed with the mouse."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QMenu, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.machine_board.drawings import DRAWINGS, W
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import text_font, theme
from spokeshave.machine.kinds import KINDS
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Device

CELL_W, CELL_H = 136, 104
MARGIN = 10
SCALE = 0.94


class Board(QWidget):
    """Draws the devices of the document as they are in the run.

    A click selects; on a button it presses while held, an emergency stop and a selector turn over with each click.
    A right click injects and clears failures. With `placing`, devices are dragged to other cells of the grid.
    """

    def __init__(self, document: Document, runner: Runner, selection: Selection, placing: bool = False) -> None:
        super().__init__()
        self.document, self.runner, self.selection, self.placing = document, runner, selection, placing
        self._pressed: str | None = None
        self._dragged: tuple[str, QPointF] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Board")
        self.setMouseTracking(True)
        runner.advanced.connect(self.update)
        document.changed.connect(self._grow)
        selection.changed.connect(self.update)
        self._grow()

    def _grow(self) -> None:
        self.setMinimumSize(self.sizeHint())
        self.update()

    def sizeHint(self) -> QSize:
        devices = self.document.project.devices
        columns = max((d.at[0] for d in devices), default=0) + 1
        rows = max((d.at[1] for d in devices), default=0) + 1
        return QSize(columns * CELL_W + 2 * MARGIN, rows * CELL_H + 2 * MARGIN)

    def cell(self, device: Device) -> QRectF:
        """Where a device stands."""
        return QRectF(MARGIN + device.at[0] * CELL_W, MARGIN + device.at[1] * CELL_H, CELL_W - 8, CELL_H - 8)

    def device_at(self, at: QPointF) -> Device | None:
        return next((d for d in reversed(self.document.project.devices) if self.cell(d).contains(at)), None)

    def index_of(self, name: str) -> int:
        """Index of a device in the program that runs, -1 if it is not in it."""
        session = self.runner.session
        if session is None:
            return -1
        return next((i for i, d in enumerate(session.program.devices) if d.name == name), -1)

    # -- drawing

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("surface"))
        if not self.document.project.devices:
            painter.setPen(theme.colour("faint"))
            painter.drawText(
                self.rect(), Qt.AlignmentFlag.AlignCenter, "No devices yet. Add one with Machine, Add a device."
            )
        for d in self.document.project.devices:
            self._paint_device(painter, d)

    def _paint_device(self, painter: QPainter, d: Device) -> None:
        box = self.cell(d)
        if self._dragged and self._dragged[0] == d.name:
            box.moveCenter(self._dragged[1])
        index, session = self.index_of(d.name), self.runner.session
        failed: frozenset[str] = session.situation.dev_failed[index] if session and index >= 0 else frozenset()
        chosen = self.selection.place.kind == "device" and self.selection.place.item == d.name
        painter.setBrush(theme.colour("surface"))
        painter.setPen(
            QPen(theme.colour("accent" if chosen else "late" if failed else "hairline"), 1.8 if chosen or failed else 1)
        )
        painter.drawRoundedRect(box, 6, 6)
        painter.setFont(text_font(12, bold=True))
        painter.setPen(theme.colour("ink"))
        title = painter.fontMetrics().elidedText(d.name, Qt.TextElideMode.ElideRight, int(box.width() - 16))
        painter.drawText(
            QRectF(box.left() + 8, box.top() + 4, box.width() - 16, 18), Qt.AlignmentFlag.AlignVCenter, title
        )
        if failed:
            painter.setPen(theme.colour("late"))
            painter.setFont(text_font(11, bold=True))
            text = "✕ " + ", ".join(sorted(failed))
            short = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(box.width() - 12))
            painter.drawText(
                QRectF(box.left() + 8, box.bottom() - 16, box.width() - 12, 14), Qt.AlignmentFlag.AlignVCenter, short
            )
        if session is None or index < 0:
            return
        device = session.program.devices[index].device
        k = max(0, session.k - 1)
        state = session.situation.dev_state[index]
        picture = device.picture(state, max(k, int(state[0])))
        painter.save()
        painter.translate(box.left() + (box.width() - W * SCALE) / 2, box.top() + 23)
        painter.scale(SCALE, SCALE)
        if failed:
            painter.scale(1.0, 0.9)
        DRAWINGS[d.kind](painter, picture, device.value)
        painter.restore()

    # -- hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        d = self.device_at(event.position())
        if d is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self.selection.set(Place("device", item=d.name))
        if self.placing:
            self._dragged = (d.name, self.cell(d).center())
            return
        if d.kind == "button":
            self._pressed = d.name
            self.runner.do("hand", d.name, 1)
        elif d.kind in ("emergency", "selector"):
            self.runner.do("hand", d.name, self._next_position(d))

    def _next_position(self, d: Device) -> float:
        index, session = self.index_of(d.name), self.runner.session
        if session is None or index < 0:
            return 0
        count = getattr(session.program.devices[index].device, "count", 2)
        return (session.situation.dev_hand[index] + 1) % int(count)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._dragged:
            self._dragged = (self._dragged[0], event.position())
            self.update()
        else:
            d = self.device_at(event.position())
            hand = d is not None and KINDS[d.kind].positions > 0 and not self.placing
            self.setCursor(Qt.CursorShape.PointingHandCursor if hand else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._dragged:
            name, at = self._dragged
            self._dragged = None
            column = max(0, int((at.x() - MARGIN) // CELL_W))
            row = max(0, int((at.y() - MARGIN) // CELL_H))
            self._place(name, (column, row))
            self.update()
        elif self._pressed:
            self.runner.do("hand", self._pressed, 0)
            self._pressed = None

    def _place(self, name: str, at: tuple[int, int]) -> None:
        devices = self.document.project.devices
        index = next(i for i, d in enumerate(devices) if d.name == name)
        if devices[index].at != at:
            self.document.edit(f"Place {name}", lambda p: edits.change_item(p, "devices", index, at=at))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Space presses the selected button while it is held; turns over a selector or an emergency stop."""
        d = self.document.project.device(self.selection.place.item) if self.selection.place.kind == "device" else None
        if event.key() == Qt.Key.Key_Space and d is not None and not event.isAutoRepeat() and KINDS[d.kind].positions:
            if d.kind == "button":
                self._pressed = d.name
                self.runner.do("hand", d.name, 1)
            else:
                self.runner.do("hand", d.name, self._next_position(d))
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space and self._pressed and not event.isAutoRepeat():
            self.runner.do("hand", self._pressed, 0)
            self._pressed = None
        else:
            super().keyReleaseEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        d = self.device_at(QPointF(event.pos()))
        if d is not None:
            self.selection.set(Place("device", item=d.name))
            self.failure_menu(d).exec(event.globalPos())

    def failure_menu(self, d: Device) -> QMenu:
        """One entry a failure mode; a tick means it is injected."""
        menu = QMenu(self)
        index, session = self.index_of(d.name), self.runner.session
        failed = session.situation.dev_failed[index] if session and index >= 0 else frozenset()
        for failure in KINDS[d.kind].failures:
            action = menu.addAction(f"Inject: {failure}")
            action.setCheckable(True)
            action.setChecked(failure in failed)
            action.triggered.connect(
                lambda on, name=d.name, failure=failure: self.runner.do("fail" if on else "heal", name, failure)
            )
        return menu
