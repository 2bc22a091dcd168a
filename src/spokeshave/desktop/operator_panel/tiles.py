"""What stands in a tile of the operator's page: a number, a setting, a button, a lamp ... Each follows the run by itself."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.bench.recipe_choice import RecipeChoice
from spokeshave.desktop.machine_board.device_hands import Hands
from spokeshave.desktop.machine_scene.view import SceneView
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.theme import state_colour, text_font, theme
from spokeshave.engine.alarms import alarm_told
from spokeshave.language.literals import value_text
from spokeshave.machine.kinds import build
from spokeshave.model.panel import Tile
from spokeshave.model.project import Device, Project, Signal, Type, Value

LEAST_TOUCH = 44
"""Pixels that a finger needs."""


def wear(widget: QWidget, sheet: str) -> None:
    """Gives a widget a style sheet where it has another: one that is set again is worked out again, at each frame of a run."""
    if widget.styleSheet() != sheet:
        widget.setStyleSheet(sheet)


class TileView(QFrame):
    """A tile with its title above; `follow` takes what is new in the run."""

    def __init__(self, tile: Tile, runner: Runner) -> None:
        super().__init__()
        self.tile, self.runner = tile, runner
        self.setObjectName("tile")
        self.setAccessibleName(tile.title)
        self.title = TextLabel(plain(tile.title))
        self.title.setObjectName("hint")
        self.title.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.inner = QVBoxLayout(self)
        self.inner.setContentsMargins(10, 6, 10, 8)
        self.inner.setSpacing(4)
        self.inner.addWidget(self.title)

    @property
    def project(self) -> Project:
        return self.runner.document.project

    def signal(self) -> Signal | None:
        return self.project.signal(self.tile.of)

    def value(self) -> Value | None:
        """What its signal has now, None before a run."""
        shown = self.runner.shown()
        slot = shown[0].slots.get(self.tile.of.lower()) if shown is not None else None
        return None if shown is None or slot is None else shown[1].v[slot]

    def shown_value(self) -> str:
        """As a person reads it."""
        signal, value = self.signal(), self.value()
        if signal is None or value is None:
            return "–"
        return value_text(value, signal.type).removeprefix("T#")

    def follow(self) -> None:
        """Takes what is new in the run."""

    def letters(self, lines: float = 1.0, least: int = 12) -> int:
        """Pixels of letters that fill the room under the title, so many lines of them."""
        return max(least, min(int((self.height() - 44) / lines * 0.62), self.width() // 5, 96))


class NumberTile(TileView):
    """A value in large letters."""

    def __init__(self, tile: Tile, runner: Runner) -> None:
        super().__init__(tile, runner)
        self.number = TextLabel("–")
        self.number.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.number.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        self.inner.addWidget(self.number, 1)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.number.setFont(text_font(self.letters(), bold=True))

    def follow(self) -> None:
        self.number.setText(self.shown_value())


class SettingTile(NumberTile):
    """A setting, with a press down or up by the tile's step."""

    def __init__(self, tile: Tile, runner: Runner) -> None:
        super().__init__(tile, runner)
        self.inner.removeWidget(self.number)
        row = QHBoxLayout()
        self.less, self.more = QPushButton("−"), QPushButton("+")
        for button, word, way in ((self.less, "less", -1), (self.more, "more", 1)):
            button.setAccessibleName(f"{tile.title} {word}")
            button.setMinimumSize(LEAST_TOUCH, LEAST_TOUCH)
            button.setFont(text_font(20, bold=True))
            button.setAutoRepeat(True)
            button.clicked.connect(lambda _=False, way=way: self.change(way))
        row.addWidget(self.less)
        row.addWidget(self.number, 1)
        row.addWidget(self.more)
        self.inner.addLayout(row, 1)

    def letters(self, lines: float = 1.0, least: int = 12) -> int:
        return min(super().letters(lines, least), max(least, (self.width() - 2 * LEAST_TOUCH) // 5))

    def change(self, way: int) -> None:
        """One step up or down; a BOOL is turned over."""
        signal, value = self.signal(), self.value()
        if signal is None or value is None:
            return
        if signal.type is Type.BOOL:
            wanted: Value = not value
        elif signal.type is Type.REAL:
            wanted = round(float(value) + way * self.tile.step, 9)
        else:
            step = self.tile.step * (1000 if signal.type is Type.TIME else 1)
            wanted = int(value) + way * max(1, round(step))
        if signal.type is Type.TIME:
            wanted = max(0, int(wanted))
        self.runner.do("set", signal.name, wanted)


class ButtonTile(TileView):
    """A button of the machine, down while it is held; one that stays down is turned over. Of an input without a device: TRUE while held."""

    def __init__(self, tile: Tile, runner: Runner) -> None:
        super().__init__(tile, runner)
        self.hands = Hands(runner)
        self.title.hide()
        self.button = QPushButton(plain(tile.title))
        self.button.setAccessibleName(tile.title)
        self.button.setMinimumSize(LEAST_TOUCH, LEAST_TOUCH)
        self.button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.button.pressed.connect(self.press)
        self.button.released.connect(self.release)
        self.inner.addWidget(self.button, 1)

    def device(self) -> Device | None:
        return self.project.device(self.tile.of)

    def press(self) -> None:
        device = self.device()
        if device is not None:
            self.hands.operate(device)
        elif self.signal() is not None:
            self.runner.do("set", self.tile.of, True)

    def release(self) -> None:
        if self.device() is not None:
            self.hands.release()
        elif self.signal() is not None:
            self.runner.do("set", self.tile.of, False)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        room = (self.width() - 44) * 1.5 / max(1, len(self.tile.title))
        self.button.setFont(text_font(max(11, min(self.height() // 4, int(room), 64)), bold=True))

    def follow(self) -> None:
        """Down is seen, also where somebody else holds it."""
        device = self.device()
        at = self.hands.at(device) if device is not None else None
        down = bool(at[1]) if at is not None else self.value() is True
        self.button.setProperty("handDown", down)  # "down" is the button's own, of the finger on it
        colour = theme.now.active if down else theme.now.faint
        wear(self.button, f"QPushButton {{ border: {3 if down else 1}px solid {colour}; }}")


class SelectorTile(TileView):
    """A button for each position of a selector; less and more for a setpoint."""

    def __init__(self, tile: Tile, runner: Runner) -> None:
        super().__init__(tile, runner)
        self.hands = Hands(runner)
        device = self.project.device(tile.of)
        row = QHBoxLayout()
        row.setSpacing(4)
        self.buttons: list[QPushButton] = []
        self.number: TextLabel | None = None
        if device is not None and device.kind == "selector":
            count = int(build(device, self.project.period_ms).count)  # type: ignore[attr-defined]
            for n in range(count):
                self._add(row, str(n), f"{tile.title} to {n}", partial(runner.do, "hand", tile.of, n))
        elif device is not None:
            self._add(row, "−", f"{tile.title} less", lambda: self.hands.notch(device, -1))
            self.number = TextLabel("–")
            self.number.setAlignment(Qt.AlignmentFlag.AlignCenter)
            row.addWidget(self.number, 1)
            self._add(row, "+", f"{tile.title} more", lambda: self.hands.notch(device, 1))
        self.inner.addLayout(row, 1)

    def _add(self, row: QHBoxLayout, text: str, name: str, act: Callable[[], object]) -> None:
        button = QPushButton(text)
        button.setAccessibleName(name)
        button.setMinimumSize(LEAST_TOUCH, LEAST_TOUCH)
        button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        button.setFont(text_font(20, bold=True))
        button.clicked.connect(lambda _=False: act())
        row.addWidget(button)
        self.buttons.append(button)

    def follow(self) -> None:
        device = self.project.device(self.tile.of)
        at = self.hands.at(device) if device is not None else None
        if at is None:
            return
        if self.number is not None:
            self.number.setText(f"{at[1]:g}")
            return
        for n, button in enumerate(self.buttons):
            name = "primary" if n == int(at[1]) else ""
            if button.objectName() != name:
                button.setObjectName(name)
                button.style().unpolish(button)
                button.style().polish(button)


class LampTile(TileView):
    """A lamp that is lit while its signal is TRUE; what it says stands under it, not by colour alone."""

    def __init__(self, tile: Tile, runner: Runner) -> None:
        super().__init__(tile, runner)
        self.inner.addStretch(1)

    def follow(self) -> None:
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        on = self.value() is True
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        side = max(12.0, min(self.width() - 24.0, self.height() - 62.0))
        place = QRectF((self.width() - side) / 2, 30 + (self.height() - 58 - side) / 2, side, side)
        painter.setPen(theme.colour("active" if on else "faint"))
        painter.setBrush(theme.colour("active" if on else "surface"))
        painter.drawEllipse(place)
        painter.setPen(theme.colour("ink"))
        painter.setFont(text_font(13, bold=on))
        painter.drawText(
            QRectF(0, self.height() - 26, self.width(), 20), Qt.AlignmentFlag.AlignCenter, "on" if on else "off"
        )


class SequenceTile(TileView):
    """Where a sequence is, how long, and what it waits on."""

    def __init__(self, tile: Tile, runner: Runner) -> None:
        super().__init__(tile, runner)
        self.step, self.waits = TextLabel(), TextLabel()
        self.waits.setWordWrap(True)
        self.inner.addWidget(self.step)
        self.inner.addWidget(self.waits, 1)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.step.setFont(text_font(min(34, self.letters(2.4)), bold=True))
        self.waits.setFont(text_font(min(22, self.letters(3.4))))

    def follow(self) -> None:
        mine = [w for w in self.runner.waiting() if w.sequence.lower() == self.tile.of.lower()]
        steps = [f"{w.number} {w.step}   {w.time_ms / 1000:.1f} s" for w in mine]
        self.step.setText(plain("\n".join(steps) or "–"))
        state = next((w.state for w in mine if w.state != "runs"), "runs")
        wear(self.step, f"color: {state_colour(state).name()};")
        ways = [" and ".join(t.short for t in a.missing) for w in mine for a in w.ways]
        waits = "waits on " + " or ".join(x for x in ways if x) if any(ways) else "goes on" if mine else ""
        self.waits.setText(plain(next((w.state_text for w in mine if w.state != "runs"), waits)))


class AlarmsTile(TileView):
    """The alarms that stand or are not acknowledged, newest first; a double touch acknowledges one, the button all."""

    def __init__(self, tile: Tile, runner: Runner) -> None:
        super().__init__(tile, runner)
        self.list = QListWidget()
        self.list.setAccessibleName("Alarms")
        self.list.setWordWrap(True)
        self.list.itemDoubleClicked.connect(lambda item: runner.do("ack", str(item.data(Qt.ItemDataRole.UserRole))))
        self.all = QPushButton("Acknowledge all")
        self.all.setMinimumHeight(LEAST_TOUCH)
        self.all.clicked.connect(lambda: runner.do("ack"))
        self.inner.addWidget(self.list, 1)
        self.inner.addWidget(self.all)
        self._shown: list[tuple[str, str, bool]] = []

    def rows(self) -> list[tuple[str, str, bool]]:
        """Identifier, text and whether it stands."""
        shown = self.runner.shown()
        if shown is None:
            return []
        told = [a for a in shown[1].alarms.values() if alarm_told(shown[1], a) or a.cleared < 0]
        told = [a for a in told if a.ident not in shown[1].shelved]
        return [(a.ident, a.text, a.cleared < 0) for a in sorted(told, key=lambda a: -a.raised)]

    def follow(self) -> None:
        rows = self.rows()
        self.title.setText(plain(f"{self.tile.text or 'Alarms'}: {len(rows) or 'none'}"))
        self.all.setEnabled(bool(rows))
        if rows == self._shown:
            return
        self._shown = rows
        self.list.clear()
        for ident, text, stands in rows:
            item = QListWidgetItem(f"{'●' if stands else '○'} {text}")
            item.setData(Qt.ItemDataRole.UserRole, ident)
            item.setForeground(theme.colour("late" if stands else "faint"))
            item.setFont(text_font(16, bold=stands))
            self.list.addItem(item)


class TextTile(TileView):
    """A text of one's own."""

    def __init__(self, tile: Tile, runner: Runner) -> None:
        super().__init__(tile, runner)
        self.title.setObjectName("")
        self.title.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Expanding)
        self.title.setWordWrap(True)
        self.title.setAlignment(Qt.AlignmentFlag.AlignCenter)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.title.setFont(text_font(max(13, min(self.height() // 3, 40)), bold=True))


class WidgetTile(TileView):
    """A part of the bench in a tile: the choice of recipes, the scene."""

    def __init__(self, tile: Tile, runner: Runner) -> None:
        super().__init__(tile, runner)
        made: QWidget = (
            SceneView(runner.document, runner) if tile.kind == "scene" else RecipeChoice(runner.document, runner)
        )
        for button in made.findChildren(QWidget):
            button.setMinimumHeight(LEAST_TOUCH)
        self.title.setVisible(tile.kind != "scene" or bool(tile.text))
        self.inner.addWidget(made, 1)


TILES: dict[str, type[TileView]] = {
    "value": NumberTile, "setting": SettingTile, "button": ButtonTile, "selector": SelectorTile, "lamp": LampTile, "recipes": WidgetTile,
    "sequence": SequenceTile, "alarms": AlarmsTile, "scene": WidgetTile, "text": TextTile,
}  # fmt: skip
