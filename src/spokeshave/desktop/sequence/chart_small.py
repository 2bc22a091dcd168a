"""Two small charts side by side: a sequence as it is and as an edit would make it, with what comes, goes and changes marked."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from spokeshave.chart.layout import Layout, layout
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.theme import text_font, theme
from spokeshave.model.project import Sequence, Step

SIGNS = {"new": "+", "gone": "−", "changed": "≠"}
COLOURS = {"new": "true", "gone": "late", "changed": "accent"}
LARGEST = 120
"""Steps of a chart that is drawn so small."""
HEIGHT = 300
LEAST_WORD = 10
"""Height of a box, in pixels, that a number is read in."""


def marks(before: Sequence, after: Sequence) -> tuple[dict[str, str], dict[str, str]]:
    """What becomes of the steps of each of two sequences: new, gone or changed, by number first and then by name."""
    was = {s.number: s for s in before.steps}
    now = {s.number: s for s in after.steps}
    old: dict[str, str] = {}
    new: dict[str, str] = {}
    for s in before.steps:
        other = now.get(s.number) or after.step(s.name)
        if other is None:
            old[s.name] = "gone"
        elif other != s or _ways(before, s) != _ways(after, other):
            old[s.name], new[other.name] = "changed", "changed"
    for s in after.steps:
        if was.get(s.number) is None and before.step(s.name) is None:
            new[s.name] = "new"
    return old, new


def _ways(q: Sequence, s: Step) -> list[tuple[tuple[int, ...], str]]:
    numbers = {x.name: x.number for x in q.steps}
    return [(tuple(numbers.get(n, -1) for n in t.targets), t.condition) for _, t in q.leaving(s.name)]


class SmallChart(QWidget):
    """One chart, as large as it fits; `marked` are steps with what becomes of them."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.sequence = Sequence("", "", ())
        self.marked: dict[str, str] = {}
        self.words_always = True
        """Whether steps have their numbers also where the boxes have to grow for them."""
        self.plan = Layout((), (), (), 0, 0)

    def show_chart(self, sequence: Sequence, marked: dict[str, str]) -> None:
        self.sequence, self.marked = sequence, marked
        self.plan = layout(sequence)
        said = "; ".join(f"{what}: {name}" for name, what in marked.items())
        self.setAccessibleDescription(said or "nothing is new, gone or changed")
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(260, HEIGHT)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        plan = self.plan
        if not plan.width:
            return
        f = min((self.width() - 12) / plan.width, (self.height() - 8) / plan.height, 1.0)
        painter.translate((self.width() - plan.width * f) / 2, 4)
        painter.setPen(QPen(theme.colour("faint"), 1))
        for line in plan.lines:
            painter.drawPolyline(QPolygonF([QPointF(x * f, y * f) for x, y in line.points]))
        font = text_font(11)
        font.setPixelSize(max(8, min(12, int(13 * f * 1.6))))
        painter.setFont(font)
        for b in plan.boxes:
            step = self.sequence.steps[b.step]
            what = self.marked.get(step.name, "")
            words = self.words_always or b.h * f >= LEAST_WORD
            least = (10.0, 9.0) if words else (2.0, 2.0)
            box = QRectF(b.x * f, b.y * f, max(least[0], b.w * f), max(least[1], b.h * f))
            colour = theme.colour(COLOURS[what]) if what else theme.colour("faint")
            painter.setPen(
                QPen(colour, 2 if what else 1, Qt.PenStyle.DashLine if what == "gone" else Qt.PenStyle.SolidLine)
            )
            painter.setBrush(theme.colour("raised"))
            painter.drawRect(box)
            if not words:
                continue
            painter.setPen(theme.colour("ink"))
            text = f"{SIGNS[what]} {step.number}" if what else str(step.number)
            named = f"{text} {step.name}"
            wide = painter.fontMetrics().horizontalAdvance(named) < box.width() - 4
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, named if wide else text)


class BeforeAfter(QWidget):
    """The chart now and then."""

    def __init__(self) -> None:
        super().__init__()
        self.now, self.then = SmallChart("The chart now"), SmallChart("The chart then")
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 4, 8, 4)
        for title, chart in (("Now", self.now), ("Then", self.then)):
            column = QVBoxLayout()
            label = TextLabel(title)
            label.setObjectName("hint")
            column.addWidget(label)
            column.addWidget(chart, 1)
            row.addLayout(column, 1)

    def show_both(self, before: Sequence | None, after: Sequence | None) -> None:
        """Draws both; nothing where a sequence is too large to be seen so small, or its chart stays the same."""
        fits = before is not None and after is not None and len(before.steps) <= LARGEST >= len(after.steps)
        same = before == after
        self.setVisible(fits and not same)
        if before is not None and after is not None and fits and not same:
            old, new = marks(before, after)
            self.now.show_chart(before, old)
            self.then.show_chart(after, new)
