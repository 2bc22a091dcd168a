"""The column of names in the timing diagram, and the limits of curves. Painted anew only when something in it differs."""

from __future__ import annotations

from heapq import nlargest
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetrics, QPainter, QPixmap

from spokeshave.desktop.bench.lane_list import Lane
from spokeshave.desktop.theme import text_font, theme

if TYPE_CHECKING:
    from spokeshave.desktop.bench.timing_diagram import TimingStrip


LEAST_W, MOST_W = 132, 260
"""How wide the column of names may be, in pixels."""


class NameColumn:
    """A kept picture of the names, and what it was painted from."""

    def __init__(self) -> None:
        self._key: object = None
        self._picture = QPixmap()
        self._names: tuple[str, ...] = ()
        self._width = LEAST_W

    def width_for(self, lanes: list[Lane]) -> int:
        """How wide the column has to be for the names and a value behind them, in pixels; long ones are cut at `MOST_W`."""
        names = tuple(lane.name for lane in lanes if lane.kind != "group")
        if names != self._names:
            metrics = QFontMetrics(text_font(11, bold=True))
            longest = max((metrics.horizontalAdvance(n) for n in nlargest(8, names, key=len)), default=0)
            self._names, self._width = names, max(LEAST_W, min(MOST_W, longest + 58))
        return self._width

    def picture(self, strip: TimingStrip, rows: list[tuple[Lane, int]]) -> QPixmap:
        """Names, values and marks of the lanes at their heights."""
        texts = value_texts(strip, [lane for lane, _ in rows])
        forced = strip.runner.forced_names()
        folded = frozenset(strip.arrangement.folded)
        past = strip.runner.looked_at is not None
        key = (tuple(rows), tuple(texts), forced, folded, strip.chosen, strip.height(), strip.label_w, theme.dark, past)
        if self._key != key:
            f = strip.devicePixelRatioF()
            picture = QPixmap(int(strip.label_w * f), int(strip.height() * f))
            picture.setDevicePixelRatio(f)
            picture.fill(theme.colour("surface"))
            painter = QPainter(picture)
            for (lane, y), text in zip(rows, texts):
                _paint_name(painter, strip, lane, y, text, lane.name.lower() in forced)
            painter.end()
            self._key, self._picture = key, picture
        return self._picture


def _paint_name(painter: QPainter, strip: TimingStrip, lane: Lane, y: float, text: str, forced: bool) -> None:
    """The name of a lane, and its value where the screen is."""
    box = QRectF(0, y, strip.label_w, lane.height)
    if lane.kind == "group":
        painter.fillRect(box, theme.colour("window"))
    elif lane.name == strip.chosen:
        painter.fillRect(box, theme.colour("selection"))
    painter.setPen(theme.colour("hairline"))
    painter.drawLine(QPointF(0, y + lane.height - 0.5), QPointF(strip.label_w, y + lane.height - 0.5))
    painter.setFont(text_font(11, bold=lane.kind in ("steps", "group")))
    painter.setPen(theme.colour("forced" if forced else "faint" if lane.kind == "group" else "ink"))
    width = painter.fontMetrics().horizontalAdvance(text) + 8 if text else 0
    name = ("▸ " if lane.name in strip.arrangement.folded else "▾ ") + lane.name if lane.kind == "group" else lane.name
    name = ("● " if forced else "") + name
    name = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(strip.label_w - 14 - width))
    painter.drawText(box.adjusted(8, 0, -4, 0), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, name)
    if text:
        painter.setPen(theme.colour("accent" if strip.runner.looked_at is not None else "faint"))
        painter.drawText(box.adjusted(0, 0, -6, 0), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, text)


def paint_limits(painter: QPainter, strip: TimingStrip, lane: Lane, y: float, limits: tuple[float, float]) -> None:
    """The limits of a curve's scale at its left."""
    painter.setFont(text_font(9))
    painter.setPen(theme.colour("faint"))
    veil = QColor(theme.colour("surface"))
    veil.setAlpha(215)
    metrics = painter.fontMetrics()
    for text, top in ((f"{limits[1]:g}", y + 1), (f"{limits[0]:g}", y + lane.height - 2 - metrics.height())):
        box = QRectF(strip.label_w + 2, top, metrics.horizontalAdvance(text) + 4, metrics.height())
        painter.fillRect(box, veil)  # the curve goes on under the figures, and both are read
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def value_texts(strip: TimingStrip, lanes: list[Lane]) -> list[str]:
    """The values of numbers, and of all signals while the past is looked at."""
    shown, past = strip.runner.shown(), strip.runner.looked_at is not None
    out = []
    for lane in lanes:
        slot = -1 if shown is None else shown[0].slots.get(lane.name.lower(), -1)
        if shown is None or slot < 0 or not (lane.kind == "number" or (lane.kind == "bool" and past)):
            out.append("")
        else:
            value = shown[1].v[slot]
            out.append(f"{value:g}" if lane.kind == "number" else str(int(value)))
    return out
