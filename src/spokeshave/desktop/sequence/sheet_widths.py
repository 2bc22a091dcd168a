"""How wide the columns of a sheet are, found from their longest texts."""

from __future__ import annotations

from collections.abc import Iterable
from heapq import nlargest

from PySide6.QtGui import QFontMetrics

from spokeshave.chart.labels import window_text
from spokeshave.desktop.sequence.flow_painter import flow_width
from spokeshave.desktop.sequence.sheet import FIRST_MARK, FLOW, NUMBER, STEP, Sheet, lasted_text
from spokeshave.desktop.theme import code_font, text_font
from spokeshave.formats.sequencer_table import mark_text

AWAITS = 250
"""Conditions get at most so much where there is no room left."""
LASTED = 92
"""Width of the column of lasted times, in which its heading has room."""


def usual_widths(sheet: Sheet) -> dict[int, int]:
    """The width of each column in pixels but that of conditions and of the bars, which share what is left."""
    q = sheet.sequence
    plain, bold = QFontMetrics(text_font(13)), QFontMetrics(text_font(13, bold=True))
    marks: dict[str, set[str]] = {}
    for s in q.steps:
        for a in s.actions:
            marks.setdefault(a.target.lower(), set()).add(mark_text(s, a.target))
    widths = {
        FLOW: flow_width(sheet.flow),
        NUMBER: 46,
        STEP: _room((s.name for s in q.steps), bold, 26, 90, 260),
        sheet.window: _room(map(window_text, q.steps), plain, 20, 64, 130),
        sheet.clock: 76,
        sheet.next: _room((sheet.text(r, sheet.next) for r in range(sheet.rowCount())), plain, 20, 80, 280),
        sheet.comment: _room((s.comment for s in q.steps), plain, 20, 120, 260),
        sheet.measured: _room(map(lasted_text, sheet.lasted.values()), plain, 18, LASTED, 150),
    }
    return widths | {
        FIRST_MARK + i: _room(marks.get(n.lower(), ()), bold, 12, 30, 120) for i, n in enumerate(sheet.targets)
    }


def awaits_width(sheet: Sheet, free: int) -> int:
    """Conditions get what room is `free`, as far as they need it."""
    conditions = (t.condition for t in sheet.sequence.transitions)
    return _room(conditions, QFontMetrics(code_font()), 30, 180, max(AWAITS, free))


def _room(texts: Iterable[str], metrics: QFontMetrics, more: int, least: int, most: int) -> int:
    """The room of the widest of the longest texts and `more` around it."""
    longest = nlargest(8, set(texts), key=len)
    return max(least, min(most, max(map(metrics.horizontalAdvance, longest), default=0) + more))
