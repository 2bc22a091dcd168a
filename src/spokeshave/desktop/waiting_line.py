"""The waiting line: for each active step its time against its window, and the false terms it waits on."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFontMetrics, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.theme import code_font, state_colour, text_font, theme
from spokeshave.engine.explain import Awaited, Term, Waiting, false_for_ms, given_by

LINE_H = 24
NAME_W = 160
"""Room for the name of a sequence, in pixels."""
LEAST_W = 90
"""Room in which it is worth while to begin with another term."""
MOST_LINES = 4


class WaitingLine(QWidget):
    """A line a step. A click on a term asks for its signal, a double click for the device that gives it."""

    signal_asked = Signal(str)
    device_asked = Signal(str)
    step_asked = Signal(str, str)

    def __init__(self, runner: Runner) -> None:
        super().__init__()
        self.runner = runner
        self.lines: list[Waiting] = []
        self._hits: list[tuple[QRectF, str, str]] = []
        self._terms: list[tuple[QRectF, Term]] = []
        self._forced: frozenset[str] = frozenset()
        self.setAccessibleName("Waiting on")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        runner.advanced.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        lines = self.runner.waiting()
        grown = min(len(lines), MOST_LINES) != min(len(self.lines), MOST_LINES)
        self.lines = lines
        self._forced = self.runner.forced_names()
        if grown:
            self.updateGeometry()
        self.setAccessibleDescription("; ".join(self.text_of(w) for w in lines))
        self.update()

    def sizeHint(self) -> QSize:
        # Two lines at least, so that the page below does not jump when a section splits and joins.
        return QSize(400, 6 + LINE_H * max(2, min(MOST_LINES, len(self.lines))))

    minimumSizeHint = sizeHint

    @staticmethod
    def text_of(w: Waiting) -> str:
        """One line in words, for screen readers and tests."""
        return f"{w.sequence} {w.number} {w.step}, {w.state_text}: " + " or ".join(_way_text(a) for a in w.ways)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("surface"))
        painter.setPen(theme.colour("hairline"))
        painter.drawLine(0, 0, self.width(), 0)
        painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)
        self._hits, self._terms = [], []
        if self.runner.problem:
            painter.setPen(theme.colour("late"))
            painter.setFont(text_font())
            what = "What runs is not" if self.runner.session is not None else "Nothing runs:"
            rest = "this machine file yet." if self.runner.session is not None else "this machine file cannot yet."
            text = f"{what} {rest} {self.runner.problem}"
            short = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, self.width() - 24)
            painter.drawText(QRectF(12, 3, self.width(), LINE_H), Qt.AlignmentFlag.AlignVCenter, short)
            return
        if not self.lines:
            painter.setPen(theme.colour("faint"))
            painter.drawText(
                QRectF(12, 3, self.width(), LINE_H), Qt.AlignmentFlag.AlignVCenter, "No sequence to run yet."
            )
        for i, w in enumerate(self.lines[:MOST_LINES]):
            self._paint_line(painter, w, 3 + i * LINE_H)
        if len(self.lines) > MOST_LINES:
            painter.setPen(theme.colour("faint"))
            box = QRectF(self.width() - 90, self.height() - LINE_H, 84, LINE_H)
            painter.drawText(box, Qt.AlignmentFlag.AlignRight, f"and {len(self.lines) - MOST_LINES} more")

    def _paint_line(self, painter: QPainter, w: Waiting, y: float) -> None:
        bold, plain = text_font(13, bold=True), text_font()
        painter.setFont(plain)
        painter.setPen(theme.colour("faint"))
        name = painter.fontMetrics().elidedText(w.sequence, Qt.TextElideMode.ElideRight, NAME_W)
        painter.drawText(QRectF(12, y, NAME_W + 12, LINE_H), Qt.AlignmentFlag.AlignVCenter, name)
        painter.setFont(bold)
        label = f"{w.number} {w.step}"
        width = painter.fontMetrics().horizontalAdvance(label) + 16
        names = QFontMetrics(plain)
        room = max((names.horizontalAdvance(x.sequence) for x in self.lines[:MOST_LINES]), default=0)
        chip = QRectF(max(72, 12 + min(room, NAME_W) + 12), y + 2, width, LINE_H - 4)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(state_colour(w.state))
        painter.drawRoundedRect(chip, 4, 4)
        painter.setPen(theme.colour("on_active"))
        painter.drawText(chip, Qt.AlignmentFlag.AlignCenter, label)
        self._hits.append((chip, "step", f"{w.sequence}.{w.step}"))
        x = self._paint_time(painter, w, chip.right() + 10, y)
        painter.setFont(plain)
        for n, way in enumerate(w.ways):
            if n:
                x = self._paint_word(painter, "or", x, y)
            x = self._paint_way(painter, w, way, x, y)
        if not w.ways:
            self._paint_word(painter, "has no way out", x, y)

    def _paint_time(self, painter: QPainter, w: Waiting, x: float, y: float) -> float:
        """The time so far, and a bar that fills towards the longest time."""
        painter.setFont(text_font())
        painter.setPen(theme.colour("late" if w.state == "late" else "ink"))
        text = f"{w.time_ms / 1000:.1f} s"
        if w.longest_ms is not None:
            text += f" of {w.longest_ms / 1000:g} s"
        width = 108.0
        painter.drawText(QRectF(x, y, width, LINE_H), Qt.AlignmentFlag.AlignVCenter, text)
        if w.longest_ms:
            part = min(1.0, w.time_ms / w.longest_ms)
            painter.fillRect(QRectF(x, y + LINE_H - 4, width - 14, 2), theme.colour("hairline"))
            painter.fillRect(
                QRectF(x, y + LINE_H - 4, (width - 14) * part, 2), theme.colour("late" if part >= 1 else "active")
            )
        x += width
        if w.state != "runs":
            x = self._paint_word(painter, w.state_text, x, y, "late" if w.state != "held" else "held")
        return x

    def _paint_word(self, painter: QPainter, text: str, x: float, y: float, colour: str = "faint") -> float:
        painter.setFont(text_font())
        painter.setPen(theme.colour(colour))
        width = painter.fontMetrics().horizontalAdvance(text)
        painter.drawText(QRectF(x, y, width + 2, LINE_H), Qt.AlignmentFlag.AlignVCenter, text)
        return x + width + 8

    def _paint_way(self, painter: QPainter, w: Waiting, way: Awaited, x: float, y: float) -> float:
        if way.absent:
            return self._paint_word(painter, f"joins when {', '.join(way.absent)} is active", x, y)
        if not way.missing:
            return self._paint_word(painter, "✓ ready", x, y, "true")
        x = self._paint_word(painter, "waits on" if way.permitted else "not permitted:", x, y)
        painter.setFont(code_font())
        for n, term in enumerate(way.missing):
            if n:
                if self.width() - x - 12 < LEAST_W:
                    return self._paint_word(painter, "…", x, y)
                x = self._paint_word(painter, "and", x, y)
                painter.setFont(code_font())
            forced = bool({r.name.lower() for r in term.readings} & self._forced)
            text = f"● {term}" if forced else str(term)
            room = max(0, self.width() - x - 12)
            shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(room))
            width = painter.fontMetrics().horizontalAdvance(shown)
            painter.setPen(theme.colour("forced" if forced else "ink"))
            box = QRectF(x, y, width, LINE_H)
            painter.drawText(QRectF(x, y, width + 4, LINE_H), Qt.AlignmentFlag.AlignVCenter, shown)
            painter.setPen(QPen(theme.colour("false"), 2, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, y + LINE_H - 4), QPointF(x + width, y + LINE_H - 4))
            if term.readings:
                self._hits.append((box, "signal", term.readings[0].name))
                self._terms.append((box, term))
            x += width + 10
        return x

    # -- hands

    def _hit(self, at: QPointF) -> tuple[str, str]:
        return next(((kind, name) for box, kind, name in self._hits if box.contains(at)), ("", ""))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        kind, name = self._hit(event.position())
        if kind == "signal":
            self.signal_asked.emit(name)
        elif kind == "step":
            self.step_asked.emit(*name.split(".", 1))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        kind, name = self._hit(event.position())
        if kind == "signal":
            self.device_asked.emit(name)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        over = bool(self._hit(event.position())[0])
        self.setCursor(Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor)
        term = next((t for box, t in self._terms if box.contains(event.position())), None)
        self.setToolTip(plain(self.story_of(term) if term is not None else ""))

    def story_of(self, term: Term) -> str:
        """A term in words: its values, how long it has stood in the way, and what could change it."""
        session = self.runner.session
        if session is None:
            return str(term)
        ms = false_for_ms(session.program, session.situation, session.trace, term)
        since = f", for {ms / 1000:.2f} s" if ms >= 0 else ""
        return f"{term}{since}\ngiven by {given_by(session.program, term.readings[0].name)}"


def _way_text(a: Awaited) -> str:
    if a.absent:
        return f"joins when {', '.join(a.absent)} is active"
    if not a.missing:
        return "ready"
    prefix = "waits on " if a.permitted else "not permitted: "
    return prefix + " and ".join(map(str, a.missing))
