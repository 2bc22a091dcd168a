"""The tiles of the operator's page on their grid, and the laying out: choose what there is to be, drag, make larger, take away."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QHBoxLayout, QLineEdit, QPushButton, QWidget

from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.operator_panel.tiles import TILES, TileView
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.theme import theme
from spokeshave.model.panel import (
    HIGH,
    WIDE,
    PanelError,
    Tile,
    drafted,
    fits,
    offered,
    put_tile,
    with_tile,
    without_tile,
)
from spokeshave.model.project import Device, Project

GAP, CORNER, TOOLS, FOOT = 8, 18, 52, 36
WORDS = {
    "value": "Value of", "setting": "Setting", "button": "Button", "selector": "Selector", "lamp": "Lamp of", "recipes": "Choice of recipes",
    "sequence": "Sequence", "alarms": "Alarms", "scene": "Scene", "text": "Text",
}  # fmt: skip
EMPTY = "An operator's page of one's own: what is read and touched, on a grid. Begin with a draft made from the machine, and move its tiles."


class Grid(QWidget):
    """The tiles where they are; over them, while it is laid out, frames to drag. `chosen` is the name of the tile that keys work on."""

    def __init__(self, runner: Runner) -> None:
        super().__init__()
        self.runner, self.document = runner, runner.document
        self.laying, self.chosen = False, ""
        self.tiles: dict[str, TileView] = {}
        self._made: tuple[tuple[Tile, ...], tuple[Device, ...]] = ((), ())
        self._drag: tuple[Tile, QPointF, bool] | None = None
        self._ghost: Tile | None = None
        self.setAccessibleName("Tiles of the operator's page")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        runner.advanced.connect(self.follow)
        runner.restarted.connect(self.follow)
        self.document.changed.connect(self.refresh)
        self.refresh()

    # -- what is there

    def refresh(self) -> None:
        """Makes the tiles that are new or otherwise."""
        panel, devices = self.document.project.panel, self.document.project.devices
        if (panel, devices) != self._made:  # a selector has as many buttons as its device has places
            for view in self.tiles.values():
                view.hide()
                view.deleteLater()
            self.tiles = {t.name: TILES[t.kind](t, self.runner) for t in panel if t.kind in TILES}
            for view in self.tiles.values():
                view.setParent(self)
                view.show()
            self._made = panel, devices
        if self.tile() is None:
            self.chosen = ""
        self.arrange()
        self.follow()

    def follow(self) -> None:
        if self.isVisible():
            for view in self.tiles.values():
                view.follow()

    def tile(self) -> Tile | None:
        """The chosen one."""
        return next((t for t in self.document.project.panel if t.name == self.chosen), None)

    def place(self, tile: Tile) -> QRectF:
        """Where a tile is, in pixels."""
        w, h = self.width() / WIDE, self.height() / HIGH
        whole = QRectF(tile.at[0] * w, tile.at[1] * h, tile.size[0] * w, tile.size[1] * h)
        return whole.adjusted(GAP / 2, GAP / 2, -GAP / 2, -GAP / 2)

    def arrange(self) -> None:
        for t in self.document.project.panel:
            if t.name in self.tiles:
                self.tiles[t.name].setGeometry(self.place(t).toRect())
                self.tiles[t.name].setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents, self.laying)
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.arrange()

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Show:
            self.arrange()
            for view in self.tiles.values():
                view.follow()
        return super().event(event)

    # -- the laying out

    def lay(self, on: bool) -> None:
        self.laying, self._drag, self._ghost = on, None, None
        self.arrange()

    def choose(self, name: str) -> None:
        self.chosen = name
        self.update()

    def _tile_at(self, at: QPointF) -> Tile | None:
        return next((t for t in self.document.project.panel if self.place(t).contains(at)), None)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        tile = self._tile_at(event.position()) if self.laying else None
        if not self.laying:
            return
        self.choose(tile.name if tile is not None else "")
        if tile is not None:
            box = self.place(tile)
            corner = QRectF(box.right() - CORNER, box.bottom() - CORNER, CORNER, CORNER).contains(event.position())
            self._drag = (tile, event.position(), corner)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        tile, began, corner = self._drag
        by = event.position() - began
        x, y = round(by.x() / (self.width() / WIDE)), round(by.y() / (self.height() / HIGH))
        self._ghost = self._moved(tile, x, y, corner)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        ghost, self._drag, self._ghost = self._ghost, None, None
        if ghost is not None:
            self.put(ghost)
        self.update()

    @staticmethod
    def _moved(tile: Tile, x: int, y: int, larger: bool) -> Tile:
        if larger:
            return replace(tile, size=(max(1, tile.size[0] + x), max(1, tile.size[1] + y)))
        return replace(tile, at=(tile.at[0] + x, tile.at[1] + y))

    def put(self, tile: Tile) -> bool:
        """A tile as it was dragged or typed, in one edit; where it cannot be it stays as it was."""
        if tile == self.tile() or not fits(tile, self.document.project.panel):
            return False
        return self.document.edit(f"Tile {tile.title}", lambda p: put_tile(p, tile))

    def remove(self) -> None:
        if self.tile() is not None:
            name = self.chosen
            self.document.edit(f"Take away {name}", lambda p: without_tile(p, name))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ways = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        tile, way = self.tile(), ways.get(Qt.Key(event.key()))
        if not self.laying or tile is None:
            super().keyPressEvent(event)
        elif way is not None:
            self.put(self._moved(tile, *way, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)))
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.remove()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self.laying:
            return
        painter = QPainter(self)
        painter.setPen(QPen(theme.colour("faint"), 1, Qt.PenStyle.DotLine))
        for n in range(1, WIDE):
            painter.drawLine(QPointF(n * self.width() / WIDE, 0), QPointF(n * self.width() / WIDE, self.height()))
        for n in range(1, HIGH):
            painter.drawLine(QPointF(0, n * self.height() / HIGH), QPointF(self.width(), n * self.height() / HIGH))
        for t in self.document.project.panel:
            chosen = t.name == self.chosen
            painter.setPen(QPen(theme.colour("active" if chosen else "faint"), 3 if chosen else 1))
            box = self.place(t).adjusted(-2, -2, 2, 2)
            painter.drawRect(box)
            if chosen:
                painter.fillRect(
                    QRectF(box.right() - CORNER / 2, box.bottom() - CORNER / 2, CORNER / 2, CORNER / 2),
                    theme.colour("active"),
                )
        if self._ghost is not None:
            good = fits(self._ghost, self.document.project.panel)
            painter.setPen(QPen(theme.colour("active" if good else "late"), 2, Qt.PenStyle.DashLine))
            painter.drawRect(self.place(self._ghost))


class Panel(QWidget):
    """The grid, and under it the tools of the laying out while they are wanted."""

    def __init__(self, runner: Runner) -> None:
        super().__init__()
        self.runner, self.document = runner, runner.document
        self.grid = Grid(runner)
        self.tools = QWidget(self)
        self.what, self.text, self.step = QComboBox(), QLineEdit(), QDoubleSpinBox()
        self.what.setAccessibleName("What a new tile is")
        self.text.setAccessibleName("Words on the tile")
        self.text.setPlaceholderText("words on the tile")
        self.step.setAccessibleName("A press changes it by")
        self.step.setPrefix("by ")
        self.step.setRange(0.001, 1_000_000)
        self.step.setDecimals(3)
        self.add, self.drop, self.done = QPushButton("Add"), QPushButton("Take away"), QPushButton("Done")
        self.done.setObjectName("primary")
        self.says = TextLabel()
        self.says.setObjectName("hint")
        row = QHBoxLayout(self.tools)
        row.setContentsMargins(10, 6, 10, 6)
        for part in (self.what, self.add, self.text, self.step, self.drop):
            row.addWidget(part)
        row.addWidget(self.says, 1)
        row.addWidget(self.done)
        self.tools.hide()
        self.grid.setParent(self)
        self.empty = EmptyHint(self.grid, EMPTY, (("Make a draft", self.draft),))
        self.add.clicked.connect(self.add_tile)
        self.drop.clicked.connect(self.grid.remove)
        self.text.editingFinished.connect(self._say)
        self.step.editingFinished.connect(self._step)
        self.document.changed.connect(self.refresh)
        self.grid.installEventFilter(self)
        self.refresh()

    def draft(self) -> None:
        """A first page from what the machine file has."""
        self.document.edit("Draft of the operator's page", drafted)

    def lay(self, on: bool) -> None:
        """Begins or ends the laying out."""
        self.tools.setVisible(on)
        self.grid.lay(on)
        self.refresh()
        self._arrange()
        if on:
            self.grid.setFocus()

    def add_tile(self) -> None:
        kind, _, of = str(self.what.currentData() or "text").partition(" ")

        def more(p: Project) -> Project:
            return with_tile(p, kind, of)

        try:
            more(self.document.project)
        except PanelError as error:
            self.says.setText(plain(str(error)))
            return
        if self.document.edit(f"Tile {of or kind}", more):
            self.grid.choose(self.document.project.panel[-1].name)
            self.refresh()

    def _say(self) -> None:
        tile = self.grid.tile()
        if tile is not None and self.text.text() != tile.text:
            self.grid.put(replace(tile, text=self.text.text()))

    def _step(self) -> None:
        tile = self.grid.tile()
        if tile is not None and tile.kind == "setting":
            self.grid.put(replace(tile, step=self.step.value()))

    def refresh(self) -> None:
        """What can be added, and the words of the chosen tile."""
        project, tile = self.document.project, self.grid.tile()
        self.empty.show_while(not project.panel and self.grid.laying)
        if self.grid.laying:
            there = {(t.kind, t.of.lower()) for t in project.panel}
            wanted = [f"{k} {of}".strip() for k, of in offered(project) if (k, of.lower()) not in there or k == "text"]
            if [self.what.itemData(i) for i in range(self.what.count())] != wanted:
                self.what.clear()
                for choice in wanted:
                    kind, _, of = choice.partition(" ")
                    self.what.addItem(plain(f"{WORDS[kind]} {of}".strip()), choice)
        self.says.clear()
        for part in (self.text, self.drop):
            part.setEnabled(tile is not None)
        self.step.setVisible(tile is not None and tile.kind == "setting")
        if tile is not None:
            self.text.setText(tile.text)
            self.step.setValue(tile.step)

    def eventFilter(self, watched: object, event: QEvent) -> bool:
        if event.type() in (QEvent.Type.MouseButtonRelease, QEvent.Type.KeyRelease):
            self.refresh()
        return False

    def _arrange(self) -> None:
        foot = TOOLS if self.grid.laying else FOOT
        self.grid.setGeometry(GAP, GAP, self.width() - 2 * GAP, self.height() - 2 * GAP - foot)
        self.tools.setGeometry(0, self.height() - foot, self.width(), foot)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._arrange()
