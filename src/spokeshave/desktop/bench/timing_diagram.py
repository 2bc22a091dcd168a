"""The timing diagram: step bars, alarms, numbers and BOOL lanes of the run, with cursors and intervals that stay."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QWheelEvent
from PySide6.QtWidgets import QToolTip, QWidget

from spokeshave.desktop.bench.diagram_beside import Beside, paint_beside
from spokeshave.desktop.bench.diagram_marks import (
    AXIS_H,
    Interval,
    paint_alarm,
    paint_axis,
    paint_cursors,
    paint_interval,
    paint_marks,
    paint_names,
)
from spokeshave.desktop.bench.diagram_names import LEAST_W, NameColumn, paint_limits
from spokeshave.desktop.bench.lane_list import LANE_H, Lane, LaneList
from spokeshave.desktop.bench.lane_picture import Raster
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.theme import theme
from spokeshave.engine.session import Session
from spokeshave.language.literals import time_text

FAR = 20_000.0
SNAP = 5
"""How near to an edge, in pixels, a cursor is put on it."""


class TimingStrip(QWidget):
    """Wheel zooms at the pointer, Ctrl and wheel scrolls lanes; a press sets cursor A and shows everything as it was
    then, a right press sets cursor B. M keeps the interval between them; Escape goes back to the present.
    """

    scrolled = Signal()
    """Another lane is at the top, or the lanes are more or fewer."""

    def __init__(self, runner: Runner, arrangement: LaneList | None = None) -> None:
        super().__init__()
        self.runner = runner
        self.arrangement = arrangement or LaneList()
        self.label_w = LEAST_W
        self.span_ms = 60_000.0
        self.start_ms = 0.0
        self.follows = True
        self.top = 0
        self.cursors: list[float | None] = [None, None]
        self.intervals: list[Interval] = []
        self.chosen = ""
        """The lane that was pressed last: it is highlighted, and intervals stay on it."""
        self._dragged: tuple[float, float] | None = None
        self._carried = ""
        self._ticks = 0
        self.names = NameColumn()
        self.setMinimumHeight(80)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.beside: Beside | None = None
        """The accepted run that is drawn beside the one on the bench."""
        self.setAccessibleName("Timing diagram")
        self.setMouseTracking(True)
        runner.advanced.connect(self._advanced)
        runner.moment_changed.connect(self._moment_changed)
        runner.restarted.connect(self._restart)

    def _advanced(self) -> None:
        """While the run goes on, every third time is enough for lines that move by pixels."""
        self._ticks += 1
        if not self.runner.running or self._ticks % 3 == 0:
            self.update()

    def _restart(self) -> None:
        self.beside = None
        self.cursors = [None, None]
        self.intervals = []
        session = self.runner.session
        self.follows = True
        self.start_ms = 0.0
        if session is not None and session.trace.end_ms:
            self.show_span(0, session.trace.end_ms)

    def _moment_changed(self) -> None:
        if self.runner.looked_at is None:
            self.cursors[0] = None
        self.update()

    # -- what is shown

    def lanes(self, session: Session) -> list[Lane]:
        """What is shown, from above to below."""
        return self.arrangement.lanes(session)

    def show_span(self, start_ms: float, end_ms: float) -> None:
        """Shows a stretch of time with a little room around it."""
        room = max(10.0, (end_ms - start_ms) * 0.03)
        self.start_ms, self.span_ms = max(0.0, start_ms - room), (end_ms - start_ms) + 2 * room
        self.follows = False
        self.update()

    def show_moment(self, time_ms: float) -> None:
        """Puts cursor A at a moment and the moment into view."""
        self.span_ms = min(self.span_ms, 20_000.0)
        self.start_ms, self.follows = max(0.0, time_ms - self.span_ms / 2), False
        self.set_cursor(0, time_ms)

    def x_of(self, ms: float) -> float:
        """Pixels from the left; what is far out of view stays where a screen can still draw it."""
        x = self.label_w + (ms - self.start_ms) / self.span_ms * max(1, self.width() - self.label_w)
        return max(-FAR, min(FAR, x))

    def ms_at(self, x: float) -> float:
        return self.start_ms + (x - self.label_w) / max(1, self.width() - self.label_w) * self.span_ms

    def lane_at(self, y: float) -> Lane | None:
        session = self.runner.session
        at = float(AXIS_H - self.top)
        for lane in self.lanes(session) if session is not None and y >= AXIS_H else []:
            if at <= y < at + lane.height:
                return lane
            at += lane.height
        return None

    # -- drawing

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.colour("surface"))
        session = self.runner.session
        if session is None or not session.trace.scan_count:
            painter.setPen(theme.colour("faint"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Nothing has run yet. Start the run with F5.")
            return
        end = session.trace.end_ms
        if self.follows and end > self.start_ms + self.span_ms:
            self.start_ms = end - self.span_ms
        self.paint_view(painter, session)

    def paint_view(self, painter: QPainter, session: Session) -> None:
        """Lanes first as one raster picture, then what stands over them."""
        self.label_w = self.names.width_for(self.lanes(session))
        width = max(1, self.width() - self.label_w)
        raster = Raster(width, max(1, self.height() - AXIS_H), self.start_ms, self.span_ms, session)
        shown: list[tuple[Lane, int, tuple[float, float] | None]] = []
        y = AXIS_H - self.top
        for lane in self.lanes(session):
            if y + lane.height > AXIS_H and y < self.height():
                shown.append((lane, y, raster.lane(lane, y - AXIS_H)))
            y += lane.height
        painter.drawImage(QPointF(self.label_w, AXIS_H), raster.image())
        painter.save()
        painter.setClipRect(QRectF(self.label_w, AXIS_H, width, self.height() - AXIS_H))
        rows = {lane.name: (y, lane.height) for lane, y, _ in shown}
        for lane, y, _ in shown:
            if lane.kind == "steps":
                paint_names(painter, self, session, lane, y)
            elif lane.kind == "alarm":
                paint_alarm(painter, self, session, lane, y)
        if self.beside is not None:
            paint_beside(painter, self, self.beside, shown)
        for interval in self.intervals:
            if interval.lane in rows:
                paint_interval(painter, self, interval, *rows[interval.lane])
        painter.restore()
        painter.drawPixmap(0, 0, self.names.picture(self, [(lane, y) for lane, y, _ in shown]))
        for lane, y, limits in shown:
            if limits is not None and limits[1] > limits[0]:
                paint_limits(painter, self, lane, y, limits)
        paint_axis(painter, self)
        paint_marks(painter, self, session)
        paint_cursors(painter, self)
        painter.setPen(theme.colour("hairline"))
        painter.drawLine(self.label_w, 0, self.label_w, self.height())

    # -- hands

    def wheelEvent(self, event: QWheelEvent) -> None:
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier or event.position().x() < self.label_w:
            self.scroll_lanes(-event.angleDelta().y() // 4)
            return
        self.zoom(0.999 ** event.angleDelta().y(), self.ms_at(event.position().x()))

    def scroll_lanes(self, by: int) -> None:
        self.top = max(0, min(self.hidden_height(), self.top + by))
        self.scrolled.emit()
        self.update()

    def hidden_height(self) -> int:
        """How much of the lanes has no room."""
        session = self.runner.session
        total = sum(lane.height for lane in self.lanes(session)) if session else 0
        return max(0, total - (self.height() - AXIS_H))

    def zoom(self, factor: float, at_ms: float) -> None:
        """Makes the span longer or shorter, with `at_ms` staying where it is."""
        span = max(20.0, min(30 * 86_400_000.0, self.span_ms * factor))
        self.start_ms = max(0.0, at_ms - (at_ms - self.start_ms) * span / self.span_ms)
        self.span_ms, self.follows = span, False
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        x, y = event.position().x(), event.position().y()
        lane = self.lane_at(y)
        if lane is not None and lane.kind == "group" and event.button() == Qt.MouseButton.LeftButton:
            self.arrangement.fold(lane.name)
        elif x < self.label_w:
            self._carried = lane.name if lane is not None else ""
            self.chosen = self._carried
        elif event.button() == Qt.MouseButton.MiddleButton:
            self._dragged = (x, self.start_ms)
        else:
            self.chosen = lane.name if lane is not None else ""
            self.set_cursor(0 if event.button() == Qt.MouseButton.LeftButton else 1, self._snapped(x, lane))
        self.update()

    def _snapped(self, x: float, lane: Lane | None) -> float:
        """The time at a pixel, or of the edge of the lane that is very near to it."""
        ms, session = self.ms_at(x), self.runner.session
        if session is None or lane is None or lane.kind not in ("bool", "number"):
            return ms
        from spokeshave.verify.lanes import nearest_edge

        period = session.trace.period_ms
        reach = int(SNAP * self.span_ms / max(1, self.width() - self.label_w) / period)
        edge = nearest_edge(session.trace, lane.name, round(ms / period), reach)
        return ms if edge is None else float(edge * period)

    def set_cursor(self, which: int, ms: float) -> None:
        """Puts a cursor on a scan; cursor A shows everything as it was then."""
        session = self.runner.session
        period = session.program.period_ms if session else 10
        last = session.trace.end_ms - period if session is not None else 0
        at = max(0.0, min(float(max(0, last)), float(round(ms / period) * period)))
        if which == 0:
            self.runner.look_at(at)
        self.cursors[which] = at
        self.update()

    def event(self, event: QEvent) -> bool:
        """The whole name of a lane that is cut, as a tooltip."""
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            lane = self.lane_at(event.pos().y()) if event.pos().x() < self.label_w else None
            QToolTip.showText(event.globalPos(), plain(lane.name) if lane is not None else "", self)
            return True
        return super().event(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        if self._dragged is not None:
            from_x, start = self._dragged
            self.start_ms = max(0.0, start - (x - from_x) / max(1, self.width() - self.label_w) * self.span_ms)
            self.follows = False
            self.update()
        elif self._carried:
            over = self.lane_at(event.position().y())
            session = self.runner.session
            if over is not None and session is not None and over.name != self._carried:
                self.arrangement.move(self._carried, over.name, self.lanes(session))
                self.update()
        elif event.buttons() & Qt.MouseButton.LeftButton and x >= self.label_w:
            self.set_cursor(0, self.ms_at(x))
        elif event.buttons() & Qt.MouseButton.RightButton and x >= self.label_w:
            self.set_cursor(1, self.ms_at(x))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._dragged = None
        self._carried = ""

    def keep_interval(self) -> bool:
        """Lets the interval between the cursors stay on the lane that was pressed last."""
        a, b = self.cursors
        session = self.runner.session
        if a is None or b is None or a == b or session is None:
            return False
        names = [lane.name for lane in self.lanes(session) if lane.kind != "group"]
        lane = self.chosen if self.chosen in names else (names[0] if names else "")
        self.intervals.append(Interval(lane, a, b))
        self.update()
        return True

    def forget_intervals(self) -> None:
        self.intervals = []
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        session = self.runner.session
        period = session.program.period_ms if session else 10
        middle = self.start_ms + self.span_ms / 2
        key = event.key()
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            self.zoom(0.8 if key == Qt.Key.Key_Plus else 1.25, middle)
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            which = 1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0
            at = self.cursors[which]
            step = period if key == Qt.Key.Key_Right else -period
            self.set_cursor(which, middle if at is None else at + step)
        elif key == Qt.Key.Key_Home and session is not None:
            self.show_span(0, max(1000, session.trace.end_ms))
        elif key == Qt.Key.Key_End:
            self.follow()
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.scroll_lanes(-LANE_H if key == Qt.Key.Key_Up else LANE_H)
        elif key == Qt.Key.Key_M:
            self.keep_interval()
        elif key == Qt.Key.Key_Delete:
            self.forget_intervals()
        elif key == Qt.Key.Key_Escape:
            self.follow()
        else:
            super().keyPressEvent(event)

    def follow(self) -> None:
        """Back to the present, and along with it."""
        self.runner.look_at(None)
        self.cursors[0] = None
        self.follows = True
        session = self.runner.session
        if session is not None:
            self.start_ms = max(0.0, session.trace.end_ms - self.span_ms)
        self.update()

    def cursor_text(self) -> str:
        """Both cursors and their difference in words."""
        a, b = self.cursors
        if a is None or b is None:
            return ""
        return f"B - A = {time_text(int(b - a))[2:]}"
