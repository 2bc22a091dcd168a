"""The timing strip: step bars, BOOL lanes and number curves of the run, with two cursors.

Cost follows pixels, not edges: each lane looks its changes up at the borders of the pixels it draws.
"""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QWidget

from spokeshave.desktop.runner import Runner
from spokeshave.desktop.theme import text_font, theme
from spokeshave.engine.session import Session
from spokeshave.engine.trace import Trace
from spokeshave.language.literals import time_text
from spokeshave.model.project import Type

LABEL_W = 128
LANE_H, STEPS_H, CURVE_H, AXIS_H = 17, 21, 34, 20


@dataclass(frozen=True)
class Lane:
    """One lane: the steps of a sequence, a BOOL signal or a number."""

    kind: str  # steps, bool, number
    name: str
    height: int


class TimingStrip(QWidget):
    """Wheel zooms at the pointer, Ctrl and wheel scrolls lanes; click sets cursor A, right click cursor B."""

    def __init__(self, runner: Runner) -> None:
        super().__init__()
        self.runner = runner
        self.span_ms = 60_000.0
        self.start_ms = 0.0
        self.follows = True
        self.top = 0
        self.cursors: list[float | None] = [None, None]
        self._dragged: tuple[float, float] | None = None
        self.setMinimumHeight(80)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Timing strip")
        self.setMouseTracking(True)
        runner.advanced.connect(self.update)
        runner.restarted.connect(self._restart)

    def _restart(self) -> None:
        self.cursors = [None, None]
        session = self.runner.session
        self.follows = True
        self.start_ms = 0.0
        if session is not None and session.trace.end_ms:
            self.show_span(0, session.trace.end_ms)

    # -- what is shown

    def lanes(self, session: Session) -> list[Lane]:
        """Sequences first, then numbers, then BOOL outputs and inputs that changed at least once or are outputs."""
        program, trace = session.program, session.trace
        lanes = [Lane("steps", q.name, STEPS_H * self._tracks(session, q.name)) for q in program.sequences]
        signals = [r for r in trace.recorded if r.kind != "step"]
        lanes += [Lane("number", r.name, CURVE_H) for r in signals if r.type is Type.REAL and r.kind != "setting"]
        for kind in ("output", "input", "internal"):
            for r in signals:
                if r.kind == kind and r.type is Type.BOOL:
                    lanes.append(Lane("bool", r.name, LANE_H))
        lanes += [
            Lane("number", r.name, CURVE_H) for r in signals if r.type is not Type.BOOL and r.type is not Type.REAL
            and r.kind not in ("setting",)
        ]  # fmt: skip
        return lanes

    def _tracks(self, session: Session, name: str) -> int:
        """How many steps of a sequence may be active side by side, from its simultaneous branches."""
        q = session.program.project.sequence(name)
        return max((len(t.targets) for t in q.transitions), default=1) if q else 1

    def show_span(self, start_ms: float, end_ms: float) -> None:
        """Shows a stretch of time with a little room around it."""
        room = max(10.0, (end_ms - start_ms) * 0.03)
        self.start_ms, self.span_ms = max(0.0, start_ms - room), (end_ms - start_ms) + 2 * room
        self.follows = False
        self.update()

    def show_moment(self, time_ms: float) -> None:
        """Puts cursor A at a moment and the moment into view."""
        self.cursors[0] = time_ms
        self.span_ms = min(self.span_ms, 20_000.0)
        self.start_ms, self.follows = max(0.0, time_ms - self.span_ms / 2), False
        self.update()

    def x_of(self, ms: float) -> float:
        return LABEL_W + (ms - self.start_ms) / self.span_ms * max(1, self.width() - LABEL_W)

    def ms_at(self, x: float) -> float:
        return self.start_ms + (x - LABEL_W) / max(1, self.width() - LABEL_W) * self.span_ms

    # -- drawing

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.colour("surface"))
        session = self.runner.session
        if session is None or not session.trace.scan_count:
            painter.setPen(theme.colour("faint"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Nothing has run yet. Start the run with F5.")
            return
        trace = session.trace
        if self.follows and trace.end_ms > self.start_ms + self.span_ms:
            self.start_ms = trace.end_ms - self.span_ms
        y = float(AXIS_H - self.top)
        for lane in self.lanes(session):
            if y + lane.height > AXIS_H and y < self.height():
                self._paint_lane(painter, session, lane, y)
            y += lane.height
        painter.fillRect(QRectF(0, 0, self.width(), AXIS_H), theme.colour("raised"))
        self._paint_axis(painter)
        self._paint_marks(painter, session)
        self._paint_cursors(painter)
        painter.setPen(theme.colour("hairline"))
        painter.drawLine(LABEL_W, 0, LABEL_W, self.height())

    def _paint_axis(self, painter: QPainter) -> None:
        painter.setFont(text_font(10))
        step = 1.0
        while step * (self.width() - LABEL_W) / self.span_ms < 70:
            step *= 2.5 if str(int(step))[0] == "2" else 2
        t = max(0.0, (self.start_ms // step) * step)
        while t < self.start_ms + self.span_ms:
            x = self.x_of(t)
            if x >= LABEL_W:
                painter.setPen(theme.colour("hairline"))
                painter.drawLine(QPointF(x, AXIS_H - 5), QPointF(x, self.height()))
                painter.setPen(theme.colour("faint"))
                painter.drawText(QPointF(x + 3, AXIS_H - 6), f"{t / 1000:g} s")
            t += step

    def _paint_label(self, painter: QPainter, lane: Lane, y: float, text: str = "") -> None:
        painter.setFont(text_font(11, bold=lane.kind == "steps"))
        painter.setPen(theme.colour("ink"))
        name = painter.fontMetrics().elidedText(lane.name, Qt.TextElideMode.ElideRight, LABEL_W - (58 if text else 14))
        box = QRectF(8, y, LABEL_W - 12, lane.height)
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, name)
        if text:
            painter.setPen(theme.colour("faint"))
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, text)

    def _paint_lane(self, painter: QPainter, session: Session, lane: Lane, y: float) -> None:
        trace = session.trace
        painter.setPen(theme.colour("hairline"))
        painter.drawLine(QPointF(0, y + lane.height - 0.5), QPointF(self.width(), y + lane.height - 0.5))
        painter.save()
        painter.setClipRect(QRectF(LABEL_W, max(AXIS_H, y), self.width() - LABEL_W, lane.height))
        text = ""
        if lane.kind == "steps":
            self._paint_steps(painter, session, lane, y)
        elif lane.kind == "bool":
            self._paint_bool(painter, trace, lane, y)
        else:
            text = self._paint_number(painter, trace, lane, y)
        painter.restore()
        self._paint_label(painter, lane, y, text)

    def _visible(self, trace: Trace) -> tuple[int, int]:
        period = trace.period_ms
        first = max(0, int(self.start_ms // period))
        return first, min(trace.scan_count, int((self.start_ms + self.span_ms) // period) + 2)

    def _paint_steps(self, painter: QPainter, session: Session, lane: Lane, y: float) -> None:
        trace, period = session.trace, session.trace.period_ms
        first, last = self._visible(trace)
        q = next(s for s in session.program.sequences if s.name == lane.name)
        painter.setFont(text_font(10))
        late = [(e.k, e.text) for e in trace.events if e.kind == "late"]
        bars = sorted((a, b, n) for n, s in enumerate(q.steps) for a, b in trace.windows(f"{q.name}.{s.name}.X"))
        until: list[int] = []
        for a, b, n in bars:
            # Simultaneous steps stand one below the other: each takes the first track that is free.
            track = next((i for i, end_k in enumerate(until) if end_k <= a), len(until))
            until[track : track + 1] = [b]
            s = q.steps[n]
            if b >= first and a <= last:
                top = y + 2 + STEPS_H * track
                x, end = self.x_of(a * period), self.x_of(b * period)
                bar = QRectF(x, top, max(1.5, end - x - 1), STEPS_H - 4)
                painter.fillRect(bar, theme.colour("active" if n % 2 else "accent"))
                for k, text in late:
                    if text == f"{q.name}.{s.name}" and a <= k <= b:
                        from_x = self.x_of(k * period)
                        painter.fillRect(QRectF(from_x, top, end - from_x - 1, bar.height()), theme.colour("late"))
                if bar.width() > 26:
                    painter.setPen(theme.colour("on_active"))
                    label = f"{s.number} {s.name}" if bar.width() > 60 else str(s.number)
                    painter.drawText(bar.adjusted(4, 0, -2, 0), Qt.AlignmentFlag.AlignVCenter, label)

    def _paint_bool(self, painter: QPainter, trace: Trace, lane: Lane, y: float) -> None:
        period, (first, last) = trace.period_ms, self._visible(trace)
        painter.setPen(QPen(theme.colour("hairline"), 1))
        base = y + lane.height - 4
        painter.drawLine(QPointF(LABEL_W, base), QPointF(self.x_of(trace.end_ms), base))
        drawn = -1.0
        for a, b in trace.windows(lane.name):
            if b < first:
                continue
            if a > last:
                break
            x, end = self.x_of(a * period), self.x_of(b * period)
            if end < drawn:
                continue
            drawn = max(x + 2.0, end)
            painter.fillRect(QRectF(x, y + 4, drawn - x, lane.height - 8), theme.colour("active"))

    def _paint_number(self, painter: QPainter, trace: Trace, lane: Lane, y: float) -> str:
        import numpy as np

        scans, values = trace.changes(trace.column(lane.name))
        low, high = float(values.min()), float(values.max())
        if high == low:
            high = low + 1
        xs = np.arange(LABEL_W, self.width() + 1, 2)
        ks = (self.start_ms + (xs - LABEL_W) / max(1, self.width() - LABEL_W) * self.span_ms) / trace.period_ms
        at = np.clip(np.searchsorted(scans, ks, side="right") - 1, 0, len(values) - 1)
        shown = values[at]
        inside = ks <= trace.scan_count
        ys = y + lane.height - 4 - (shown - low) / (high - low) * (lane.height - 8)
        line = QPolygonF([QPointF(float(a), float(b)) for a, b in zip(xs[inside], ys[inside])])
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("late"), 1.4))
        painter.drawPolyline(line)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        return f"{float(values[-1]):g}"

    def _paint_marks(self, painter: QPainter, session: Session) -> None:
        """Alarms, failures and edits as small flags on the axis."""
        period = session.program.period_ms
        colours = {"alarm": "late", "failure": "forced", "repair": "forced", "edit": "accent", "hazard": "late"}
        for e in session.trace.events:
            if e.kind not in colours:
                continue
            x = self.x_of(e.k * period)
            if x >= LABEL_W:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(theme.colour(colours[e.kind]))
                painter.drawPolygon(QPolygonF([QPointF(x, 2), QPointF(x + 8, 6), QPointF(x, 10)]))
                painter.drawRect(QRectF(x - 0.5, 2, 1, AXIS_H - 2))

    def _paint_cursors(self, painter: QPainter) -> None:
        painter.setFont(text_font(11, bold=True))
        for name, at in zip("AB", self.cursors):
            if at is None:
                continue
            x = self.x_of(at)
            if x < LABEL_W:
                continue
            style = Qt.PenStyle.SolidLine if name == "A" else Qt.PenStyle.DashLine
            painter.setPen(QPen(theme.colour("ink"), 1, style))
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
            label = QRectF(x + 1, 1, 62, AXIS_H - 3)
            painter.fillRect(label, theme.colour("surface"))
            painter.drawText(label.adjusted(3, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, f"{name} {at / 1000:.2f} s")
        a, b = self.cursors
        if a is not None and b is not None:
            text = f"B − A = {(b - a) / 1000:.2f} s"
            box = QRectF(self.width() - 150, 2, 144, AXIS_H - 4)
            painter.fillRect(box, theme.colour("accent_soft"))
            painter.setPen(theme.colour("accent"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    # -- hands

    def wheelEvent(self, event: QWheelEvent) -> None:
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier or event.position().x() < LABEL_W:
            self.scroll_lanes(-event.angleDelta().y() // 4)
            return
        self.zoom(0.999 ** event.angleDelta().y(), self.ms_at(event.position().x()))

    def scroll_lanes(self, by: int) -> None:
        session = self.runner.session
        total = sum(lane.height for lane in self.lanes(session)) if session else 0
        self.top = max(0, min(self.top + by, total + AXIS_H - self.height()))
        self.update()

    def zoom(self, factor: float, around_ms: float) -> None:
        """Makes the shown span `factor` times as long; the moment under the pointer stays where it is."""
        session = self.runner.session
        least = 20.0 * (session.program.period_ms if session else 10)
        span = max(least, min(self.span_ms * factor, 86_400_000.0))
        part = (around_ms - self.start_ms) / self.span_ms
        self.start_ms, self.span_ms = max(0.0, around_ms - part * span), span
        self.follows = session is not None and self.start_ms + span >= session.trace.end_ms
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.position().x() < LABEL_W:
            return
        if event.button() == Qt.MouseButton.MiddleButton:
            self._dragged = (event.position().x(), self.start_ms)
            return
        which = 1 if event.button() == Qt.MouseButton.RightButton else 0
        self.set_cursor(which, self.ms_at(event.position().x()))

    def set_cursor(self, which: int, ms: float) -> None:
        """Sets cursor A (0) or B (1) to the nearest scan."""
        session = self.runner.session
        period = session.program.period_ms if session else 10
        self.cursors[which] = max(0.0, round(ms / period) * period)
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        if self._dragged is not None:
            from_x, start = self._dragged
            self.start_ms = max(0.0, start - (x - from_x) / max(1, self.width() - LABEL_W) * self.span_ms)
            self.follows = False
            self.update()
        elif event.buttons() & Qt.MouseButton.LeftButton and x >= LABEL_W:
            self.set_cursor(0, self.ms_at(x))
        elif event.buttons() & Qt.MouseButton.RightButton and x >= LABEL_W:
            self.set_cursor(1, self.ms_at(x))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._dragged = None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        session = self.runner.session
        period = session.program.period_ms if session else 10
        middle = self.start_ms + self.span_ms / 2
        if event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            self.zoom(0.8 if event.key() == Qt.Key.Key_Plus else 1.25, middle)
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            which = 1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0
            at = self.cursors[which]
            step = period if event.key() == Qt.Key.Key_Right else -period
            self.set_cursor(which, middle if at is None else at + step)
        elif event.key() == Qt.Key.Key_Home and session is not None:
            self.show_span(0, max(1000, session.trace.end_ms))
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.scroll_lanes(-LANE_H if event.key() == Qt.Key.Key_Up else LANE_H)
        else:
            super().keyPressEvent(event)

    def cursor_text(self) -> str:
        """Both cursors and their difference in words."""
        a, b = self.cursors
        if a is None or b is None:
            return ""
        return f"B - A = {time_text(int(b - a))[2:]}"
