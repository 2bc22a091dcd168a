"""The accepted run beside the one on the bench: its edges dashed, and hatched where the two were apart."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPen

from spokeshave.desktop.bench.lane_list import Lane
from spokeshave.desktop.theme import theme
from spokeshave.model.project import Accepted
from spokeshave.verify.accepted import Change, apart, kept

if TYPE_CHECKING:
    from spokeshave.desktop.bench.timing_diagram import TimingStrip
    from spokeshave.verify.scenarios import Run


@dataclass(frozen=True)
class Beside:
    """An accepted run: `start_ms` is where its scenario starts in the run on the bench."""

    start_ms: int
    lanes: dict[str, list[Change]]
    apart: dict[str, list[tuple[int, int]]]

    @staticmethod
    def of(accepted: Accepted, run: Run) -> Beside:
        lanes = {name.lower(): changes for name, changes in kept(accepted.lanes).items()}
        return Beside(run.start_ms, lanes, {n.lower(): spans for n, spans in apart(accepted, run).items()})

    def spans(self, lane: str, steps: bool) -> list[tuple[int, int]]:
        """Where a signal, or any step of a sequence, was otherwise."""
        name = lane.lower()
        if not steps:
            return self.apart.get(name, [])
        return [
            span for n, found in self.apart.items() if n.startswith(f"{name}.") and n.endswith(".x") for span in found
        ]


def paint_beside(
    painter: QPainter, strip: TimingStrip, beside: Beside, shown: list[tuple[Lane, int, tuple[float, float] | None]]
) -> None:
    """Over the lanes in view."""
    hatch = QBrush(theme.colour("late"), Qt.BrushStyle.BDiagPattern)
    veil = QColor(theme.colour("late"))
    veil.setAlpha(110)
    for lane, y, _ in shown:
        for a, b in beside.spans(lane.name, lane.kind == "steps"):
            left, right = strip.x_of(a + beside.start_ms), strip.x_of(b + beside.start_ms)
            box = QRectF(left, y + 2, max(2.0, right - left), lane.height - 4)
            painter.fillRect(box, veil)
            painter.fillRect(box, hatch)
            painter.setPen(QPen(theme.colour("late"), 1))
            painter.drawLine(box.topLeft(), box.bottomLeft())
            painter.drawLine(box.topRight(), box.bottomRight())
        if lane.kind != "steps" and beside.spans(lane.name, False):
            _dashed(painter, strip, beside, lane, y)


def _dashed(painter: QPainter, strip: TimingStrip, beside: Beside, lane: Lane, y: int) -> None:
    """A BOOL signal as it was in the accepted run."""
    painter.setPen(QPen(theme.colour("ink"), 1, Qt.PenStyle.DashLine))
    high, low = y + 4.0, y + lane.height - 4.0
    x, level = strip.x_of(beside.start_ms), low
    for t, value in beside.lanes.get(lane.name.lower(), ()):
        to, after = strip.x_of(t + beside.start_ms), high if value else low
        painter.drawLine(QPointF(x, level), QPointF(to, level))
        painter.drawLine(QPointF(to, level), QPointF(to, after))
        x, level = to, after
    painter.drawLine(QPointF(x, level), QPointF(strip.width(), level))
