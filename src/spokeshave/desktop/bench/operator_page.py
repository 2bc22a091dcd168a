"""The operator's page: sequences, what they wait on and alarms, large enough to be read from three metres."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QPushButton, QWidget

from spokeshave.desktop.machine_board.cards import Sight
from spokeshave.desktop.machine_scene.painting import fitting, paint_scene, seen
from spokeshave.desktop.operator_panel.panel import Panel
from spokeshave.desktop.operator_panel.tiles import wear
from spokeshave.desktop.run_cluster import clock_text
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.theme import state_colour, style_sheet, text_font, theme
from spokeshave.engine.explain import Waiting

LEAST_PX = 22
"""Letters of this height, on a screen of about 90 dots an inch, are 6 mm high: to be read from three metres."""

LEAST_TEXT, LEAST_SCENE = 880, 300
"""Pixels that what is written needs in such letters, and that a scene is worth."""


class OperatorPage(QWidget):
    """Full screen. It lays itself out, or stands as somebody has laid it out. Escape or F12 leaves it."""

    def __init__(self, runner: Runner, name: str) -> None:
        super().__init__()
        self.runner, self.name = runner, name
        self.setWindowTitle(f"{name} - operator")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setAccessibleName("Operator page")
        self.resize(1280, 800)
        self.panel = Panel(runner)
        self.panel.setParent(self)
        self.panel.done.clicked.connect(lambda: self.lay_out(False))
        self.lay = QPushButton("Lay out", self)
        self.lay.setToolTip("A page of one's own: numbers, settings, buttons, lamps on a grid")
        self.lay.clicked.connect(lambda: self.lay_out(True))
        runner.document.changed.connect(self._arrange)
        runner.advanced.connect(self.update)
        self._arrange()

    def lay_out(self, on: bool) -> None:
        """Begins or ends the laying out of the page."""
        self.panel.lay(on)
        self._arrange()

    @property
    def own(self) -> bool:
        """Whether the page is one that somebody has laid out, or is laying out."""
        return bool(self.runner.document.project.panel) or self.panel.grid.laying

    def _arrange(self) -> None:
        wear(self, style_sheet(theme.now))
        self.panel.setVisible(self.own)
        self.panel.setGeometry(self.rect())
        self.lay.setVisible(not self.panel.grid.laying)
        self.lay.move(
            self.width() - self.lay.sizeHint().width() - 12, self.height() - self.lay.sizeHint().height() - 10
        )
        self.lay.raise_()
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._arrange()

    def lines(self) -> list[Waiting]:
        return self.runner.waiting()

    def alarms(self) -> list[tuple[str, str, bool]]:
        """When each alarm was raised, its text, whether it stands; standing ones first, newest first."""
        shown = self.runner.shown()
        if shown is None:
            return []
        program, s = shown
        found = sorted(
            (a for a in s.alarms.values() if a.ident not in s.shelved), key=lambda a: (a.cleared >= 0, -a.raised)
        )
        return [(clock_text(a.raised * program.period_ms), a.text, a.cleared < 0) for a in found]

    def text_width(self) -> int:
        """Pixels for what is written; a scene has the rest, on the right, where letters keep their size beside it."""
        text = max(LEAST_TEXT, int(self.width() * 0.54))
        drawn = self.runner.document.project.scene and self.width() - text >= LEAST_SCENE
        return text if drawn else self.width()

    def _draw_scene(self, painter: QPainter) -> None:
        project, shown = self.runner.document.project, self.runner.shown()
        left = self.text_width()
        if left == self.width():
            return
        room = QRectF(left, LEAST_PX, self.width() - left - LEAST_PX, self.height() - 2 * LEAST_PX)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("surface"))
        painter.drawRoundedRect(room, 8, 8)
        sight = Sight(*shown, self.runner.part_of_scan()) if shown is not None else None
        painter.save()
        painter.setTransform(fitting(room, project.scene), True)
        paint_scene(painter, project, seen(sight, project.scene))
        painter.restore()

    def unit(self) -> float:
        """Pixels of a line of text, so that everything fits."""
        rows = 2 + 2.6 * max(1, len(self.lines())) + 1.3 * max(1, min(6, len(self.alarms())))
        return max(float(LEAST_PX), min(self.height() / (rows + 2), self.text_width() / 26, 64.0))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("window"))
        if self.own:
            return
        self._draw_scene(painter)
        u = self.unit()
        left, width = u, self.text_width() - 2 * u
        self._say(painter, QRectF(left, u * 0.5, width, u * 1.3), self.name, u * 0.8, "faint")
        self._say(
            painter, QRectF(left, u * 0.5, width, u * 1.3), clock_text(self.runner.shown_ms), u * 0.8, "ink", right=True
        )
        y = u * 2.1
        for w in self.lines():
            self._line(painter, w, QRectF(left, y, width, u * 2.4), u)
            y += u * 2.6
        y += u * 0.4
        alarms = self.alarms()
        if not alarms:
            self._say(painter, QRectF(left, y, width, u * 1.2), "✓ no alarms", u * 0.8, "true")
        for time, text, stands in alarms[: max(1, int((self.height() - y) // (u * 1.3)))]:
            box = QRectF(left, y, width, u * 1.15)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("late" if stands else "raised"))
            painter.drawRoundedRect(box, 6, 6)
            colour = "on_active" if stands else "faint"
            self._say(
                painter,
                box.adjusted(u * 0.4, 0, -u * 0.4, 0),
                f"{'●' if stands else '○'} {time}  {text}",
                u * 0.66,
                colour,
            )
            y += u * 1.3

    def _line(self, painter: QPainter, w: Waiting, box: QRectF, u: float) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("surface"))
        painter.drawRoundedRect(box, 8, 8)
        painter.setBrush(state_colour(w.state))
        painter.drawRoundedRect(QRectF(box.left(), box.top(), u * 0.4, box.height()), 4, 4)
        upper = box.adjusted(u * 0.8, u * 0.1, -u * 0.5, -box.height() / 2)
        lower = box.adjusted(u * 0.8, box.height() / 2, -u * 0.5, -u * 0.1)
        self._say(painter, upper, f"{w.sequence}   {w.number} {w.step}", u * 0.95, "ink", bold=True)
        limit = f" of {w.longest_ms / 1000:g} s" if w.longest_ms is not None else ""
        state = "" if w.state == "runs" else f"{w.state_text}, "
        time = f"{state}{w.time_ms / 1000:.1f} s{limit}"
        self._say(painter, upper, time, u * 0.8, "late" if w.state in ("late", "tripped") else "ink", right=True)
        ways = [" and ".join(t.short for t in a.missing) for a in w.ways]
        text = "waits on " + " or ".join(x for x in ways if x) if any(ways) else "goes on"
        self._say(painter, lower, text, u * 0.72, "false" if any(ways) else "true")

    def _say(self, painter: QPainter, box: QRectF, text: str, px: float, colour: str, right: bool = False,
             bold: bool = False) -> None:  # fmt: skip
        painter.setFont(text_font(max(LEAST_PX // 2, int(px)), bold=bold))
        painter.setPen(theme.colour(colour))
        short = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(box.width()))
        align = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | align, short)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Escape, Qt.Key.Key_F12):
            self.close()
        else:
            super().keyPressEvent(event)
