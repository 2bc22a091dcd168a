"""What is drawn over the lanes of the timing diagram: axis, alarms and edits, names in bars, cursors, intervals."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from spokeshave.desktop.bench.lane_list import STEPS_H, Lane
from spokeshave.desktop.theme import text_font, theme
from spokeshave.model.alarms import phrase_of
from spokeshave.verify.lanes import tracks

if TYPE_CHECKING:
    from spokeshave.desktop.bench.timing_diagram import TimingStrip
    from spokeshave.engine.session import Session

AXIS_H = 22
MARKED = {"alarm": "late", "hazard": "late", "failure": "forced", "repair": "forced", "forced": "forced", "edit": "accent",
          "power cycle": "ink", "hand drive": "accent"}  # fmt: skip
MOST_BARS = 120
"""So many bars of a step in view are given names; more have no room for them."""


@dataclass(frozen=True)
class Interval:
    """A measured interval that stays, on a lane: times in ms."""

    lane: str
    from_ms: float
    to_ms: float


def seconds(ms: float) -> str:
    """`1.25 s`, `430 ms`, `2 min 3.5 s`."""
    if abs(ms) < 1000:
        return f"{ms:g} ms"
    minutes, rest = divmod(abs(ms) / 1000, 60)
    sign = "-" if ms < 0 else ""
    return f"{sign}{int(minutes)} min {rest:g} s" if minutes else f"{sign}{rest:.3f}".rstrip("0").rstrip(".") + " s"


def axis_step(span_ms: float, width: int) -> float:
    """The distance of the marks on the axis, at least 78 pixels: 1, 2, 5, 10 ... ms, then minutes and hours."""
    least = 78 * span_ms / max(1, width)
    steps = [m * 10**e for e in range(4) for m in (1, 2, 5)] + [10_000, 15_000, 30_000]
    steps += [60_000 * m for m in (1, 2, 5, 10, 15, 30)] + [3_600_000 * h for h in (1, 2, 6, 12, 24)]
    return next((s for s in steps if s >= least), 86_400_000.0 * max(1, round(least / 86_400_000)))


def axis_text(ms: float) -> str:
    """A time on the axis, given in ms, as short as it can be."""
    if ms >= 3_600_000:
        return f"{int(ms // 3_600_000)} h {int(ms // 60_000) % 60:02} min"
    return f"{ms / 1000:g} s" if ms < 600_000 else f"{ms / 60_000:g} min"


def paint_axis(painter: QPainter, strip: TimingStrip) -> None:
    """Paints the axis of time above the lanes."""
    painter.fillRect(QRectF(0, 0, strip.width(), AXIS_H), theme.colour("raised"))
    painter.setFont(text_font(10))
    cursors = [strip.x_of(c) for c in strip.cursors if c is not None]
    step = axis_step(strip.span_ms, strip.width() - strip.label_w)
    t = (strip.start_ms // step) * step
    while t < strip.start_ms + strip.span_ms:
        x = strip.x_of(t)
        if x >= strip.label_w:
            painter.setPen(theme.colour("hairline"))
            painter.drawLine(QPointF(x, AXIS_H - 5), QPointF(x, AXIS_H))
            if not any(c - 48 < x < c + 66 for c in cursors):  # the cursor's own time stands there
                painter.setPen(theme.colour("faint"))
                painter.drawText(QPointF(x + 3, AXIS_H - 7), axis_text(t))
        t += step
    painter.setPen(theme.colour("hairline"))
    painter.drawLine(QPointF(0, AXIS_H), QPointF(strip.width(), AXIS_H))


def paint_marks(painter: QPainter, strip: TimingStrip, session: Session) -> None:
    """Alarms, failures, forces and edits as small flags on the axis, one a pixel."""
    period, events = session.program.period_ms, session.trace.events
    low = bisect_left(events, strip.start_ms / period, key=lambda e: e.k)
    high = bisect_right(events, (strip.start_ms + strip.span_ms) / period, key=lambda e: e.k)
    painter.setPen(Qt.PenStyle.NoPen)
    last = -9.0
    for e in events[low : min(high, low + 5000)]:
        x = strip.x_of(e.k * period)
        if e.kind in MARKED and x >= strip.label_w and x >= last + 1:
            last = x
            painter.setBrush(theme.colour(MARKED[e.kind]))
            painter.drawPolygon(QPolygonF([QPointF(x, 2), QPointF(x + 8, 6), QPointF(x, 10)]))
            painter.drawRect(QRectF(x - 0.5, 2, 1, AXIS_H - 2))


def paint_names(painter: QPainter, strip: TimingStrip, session: Session, lane: Lane, y: float) -> None:
    """Numbers and names in the bars of steps, and the hatch of what is late."""
    trace, period = session.trace, session.trace.period_ms
    q = next((s for s in session.program.project.sequences if s.name == lane.name), None)
    if q is None:
        return
    places = tracks(q)
    painter.setFont(text_font(10))
    late = {(e.text, e.k) for e in trace.events if e.kind == "late"} if len(trace.events) < 5000 else set()
    first, last = strip.start_ms / period, (strip.start_ms + strip.span_ms) / period
    for s in q.steps:
        scans, values = trace.changes(trace.column(f"{q.name}.{s.name}.X"))
        a, b = (int(i) for i in scans.searchsorted([first, last]))
        if b - a > MOST_BARS:
            continue
        a = max(0, a - 1)
        for i in range(a, b):
            if not values[i]:
                continue
            end = int(scans[i + 1]) if i + 1 < len(scans) else trace.scan_count
            x, right = max(strip.x_of(int(scans[i]) * period), float(strip.label_w)), strip.x_of(end * period)
            top = y + 2 + STEPS_H * places[s.name]
            for text, k in late:
                if text == f"{q.name}.{s.name}" and scans[i] <= k <= end:
                    box = QRectF(strip.x_of(k * period), top, right - strip.x_of(k * period) - 1, STEPS_H - 4)
                    painter.fillRect(box, theme.colour("late"))
                    painter.fillRect(box, Qt.BrushStyle.BDiagPattern)
            if right - x > 24:
                painter.setPen(theme.colour("on_active"))
                box = QRectF(x + 4, top, right - x - 7, STEPS_H - 4)
                label = f"{s.number} {s.name}" if right - x > 60 else str(s.number)
                label = painter.fontMetrics().elidedText(label, Qt.TextElideMode.ElideRight, int(box.width()))
                painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, label)


def paint_alarm(painter: QPainter, strip: TimingStrip, session: Session, lane: Lane, y: float) -> None:
    """From raised to cleared, with a bar at its beginning."""
    period, since = session.program.period_ms, -1
    spans: list[tuple[int, int]] = []
    for e in session.trace.events:
        if e.kind == "alarm" and phrase_of(e.ident) == lane.name:
            since = e.k
        elif e.kind == "alarm cleared" and since >= 0 and phrase_of(e.ident) == lane.name:
            spans.append((since, e.k))
            since = -1
    if since >= 0:
        spans.append((since, session.trace.scan_count))
    for a, b in spans:
        x, end = strip.x_of(a * period), strip.x_of(b * period)
        painter.fillRect(QRectF(x, y + 5, max(2.0, end - x), lane.height - 9), theme.colour("late"))
        painter.fillRect(QRectF(x, y + 2, 2, lane.height - 3), theme.colour("ink"))


def paint_interval(painter: QPainter, strip: TimingStrip, interval: Interval, y: float, height: float) -> None:
    """An arrow from one edge to the other with its length."""
    a, b = sorted((strip.x_of(interval.from_ms), strip.x_of(interval.to_ms)))
    middle = y + height / 2
    painter.setPen(QPen(theme.colour("accent"), 1.2))
    painter.drawLine(QPointF(a, middle), QPointF(b, middle))
    for x, way in ((a, 1), (b, -1)):
        painter.drawLine(QPointF(x, y + 1), QPointF(x, y + height - 1))
        painter.drawLine(QPointF(x, middle), QPointF(x + 4 * way, middle - 3))
        painter.drawLine(QPointF(x, middle), QPointF(x + 4 * way, middle + 3))
    painter.setFont(text_font(10, bold=True))
    text = seconds(abs(interval.to_ms - interval.from_ms))
    width = painter.fontMetrics().horizontalAdvance(text) + 8
    x = (a + b) / 2 - width / 2 if b - a > width + 12 else b + 3
    box = QRectF(x, middle - 7, width, 14)
    painter.fillRect(box, theme.colour("accent_soft"))
    painter.setPen(theme.colour("accent"))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def paint_cursors(painter: QPainter, strip: TimingStrip) -> None:
    """Paints the two cursors with their times, over everything else."""
    painter.setFont(text_font(11, bold=True))
    for name, at in zip("AB", strip.cursors):
        if at is None or strip.x_of(at) < strip.label_w:
            continue
        x = strip.x_of(at)
        style = Qt.PenStyle.SolidLine if name == "A" else Qt.PenStyle.DashLine
        painter.setPen(QPen(theme.colour("ink"), 1, style))
        painter.drawLine(QPointF(x, 0), QPointF(x, strip.height()))
        text = f"{name} {at / 1000:.2f} s"
        width = painter.fontMetrics().horizontalAdvance(text) + 8
        left = x + 1 if x + width < strip.width() else x - width - 1
        box = QRectF(left, 1, width, AXIS_H - 4)
        painter.fillRect(box, theme.colour("surface"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
    a, b = strip.cursors
    if a is not None and b is not None:
        text = f"B − A = {seconds(b - a)}"
        width = painter.fontMetrics().horizontalAdvance(text) + 16
        box = QRectF(strip.width() - width - 6, 2, width, AXIS_H - 5)
        painter.fillRect(box, theme.colour("accent_soft"))
        painter.setPen(theme.colour("accent"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
