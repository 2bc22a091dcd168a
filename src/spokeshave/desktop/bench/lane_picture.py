"""Lanes into one picture, row by row of pixels: see `verify.lanes`."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtGui import QColor, QImage

from spokeshave.desktop.bench.lane_list import STEPS_H, Lane
from spokeshave.desktop.theme import theme

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from spokeshave.engine.session import Session
    from spokeshave.verify.lanes import Pixels


def _argb(colour: QColor) -> int:
    return int(colour.rgba()) & 0xFFFFFFFF


class Raster:
    """The picture of the lanes in view, without their names. One pixel of it is one of the screen."""

    def __init__(self, width: int, height: int, start_ms: float, span_ms: float, session: Session) -> None:
        import numpy as np

        from spokeshave.verify.lanes import borders

        trace = session.trace
        self.session, self.np = session, np
        self.at = np.minimum(borders(start_ms, span_ms, width, trace.period_ms), max(0, trace.scan_count))
        self.picture: NDArray[np.uint32] = np.full((height, width), _argb(theme.colour("surface")), np.uint32)
        self._colours: dict[str, tuple[NDArray[np.uint32], ...]] = {}
        self.run = self.at[:-1] < trace.scan_count
        """Pixels in which something has run."""

    def image(self) -> QImage:
        h, w = self.picture.shape
        self._keep = self.np.ascontiguousarray(self.picture)
        return QImage(self._keep.data, w, h, 4 * w, QImage.Format.Format_ARGB32)

    def lane(self, lane: Lane, y: int) -> tuple[float, float] | None:
        """Draws a lane with its upper edge at `y`; gives the limits of a number's scale."""
        if y + lane.height >= 1:
            if lane.kind == "group":
                self._rows(y, y + lane.height)[:] = _argb(theme.colour("window"))
            self._rows(y + lane.height - 1, y + lane.height)[:] = _argb(theme.colour("hairline"))
        if lane.kind == "bool":
            self._bool(self._pixels(lane.name), y + 3, y + lane.height - 3, "active")
        elif lane.kind == "steps":
            self._steps(lane, y)
        elif lane.kind == "number":
            return self._number(lane, y)
        return None

    def _pixels(self, name: str) -> Pixels:
        from spokeshave.verify.lanes import bool_pixels

        trace = self.session.trace
        column = trace.column(name)
        return bool_pixels(*trace.changes(column), self.at, trace.coarse(column))

    def _rows(self, top: int, bottom: int) -> NDArray[np.uint32]:
        return self.picture[max(0, top) : max(0, bottom)]

    def _bool(self, p: Pixels, top: int, bottom: int, colour: str) -> None:
        """High is filled, low a line at the bottom, an edge a needle, and what came and went a strong, wider one."""
        # 0 nothing has run, 1 low, 2 high, 3 an edge, 4 came and went
        code = self.run + (p.high & self.run).astype(self.np.uint8)
        blips = p.changes > 1
        blips[1:] |= blips[:-1] & (p.changes[1:] == 0)
        code[p.changes > 0] = 3
        code[blips] = 4
        body, head, foot = self._palettes(colour)
        self._rows(top, bottom)[:] = body[code]
        if top >= 0:
            self._rows(top, top + 1)[:] = head[code]
        if bottom >= 1:
            self._rows(bottom - 1, bottom)[:] = foot[code]

    def _palettes(self, colour: str) -> tuple[NDArray[np.uint32], ...]:
        """Colours by code: of a lane's body, its upper and its lower line."""
        if colour not in self._colours:
            fill, line, surface, ink, hair = (
                _argb(theme.colour(n)) for n in (f"{colour}_soft", colour, "surface", "ink", "hairline")
            )
            rows = (
                (surface, surface, fill, line, ink),
                (surface, surface, line, line, ink),
                (surface, hair, fill, line, ink),
            )
            self._colours[colour] = tuple(self.np.array(r, self.np.uint32) for r in rows)
        return self._colours[colour]

    def _steps(self, lane: Lane, y: int) -> None:
        from spokeshave.verify.lanes import tracks

        np = self.np
        q = next(s for s in self.session.program.project.sequences if s.name == lane.name)
        places = tracks(q)
        line = _argb(theme.colour("surface"))
        for n, s in enumerate(q.steps):
            p = self._pixels(f"{q.name}.{s.name}.X")
            on = (p.high | (p.changes > 0)) & self.run
            if not on.any():
                continue
            top = y + 2 + STEPS_H * places[s.name]
            rows = self._rows(top, top + STEPS_H - 4)
            rows[:, on] = _argb(theme.colour("active" if n % 2 else "accent"))
            begins = np.flatnonzero((p.changes > 0) & ~p.high & p.high[np.minimum(np.arange(len(on)) + 1, len(on) - 1)])
            if len(begins) * 6 < len(on):  # a gap between bars, where there is room for one
                rows[:, begins] = line

    def _number(self, lane: Lane, y: int) -> tuple[float, float]:
        from spokeshave.verify.lanes import number_pixels

        np = self.np
        trace = self.session.trace
        scans, values = trace.changes(trace.column(lane.name))
        least, most = number_pixels(scans, values, self.at)
        low, high = (float(least[self.run].min()), float(most[self.run].max())) if self.run.any() else (0.0, 1.0)
        room = high - low or 1.0
        foot, rise = lane.height - 5, lane.height - 9
        top = foot - np.rint((most - low) / room * rise).astype(np.int64)
        bottom = foot - np.rint((least - low) / room * rise).astype(np.int64)
        rows = self._rows(y, y + lane.height)
        at = np.arange(lane.height)[lane.height - len(rows) :, None] if y < 0 else np.arange(len(rows))[:, None]
        curve = (at >= top) & (at <= bottom) & self.run
        thick = curve.copy()
        thick[1:] |= curve[:-1]
        rows[thick] = _argb(theme.colour("late"))
        return low, high
