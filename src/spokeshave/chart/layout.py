"""Where the parts of a chart stand, from its structure alone (IEC 61131-3 and IEC 60848 drawing). Units are pixels.

Steps and transitions take turns in rows, branches stand in columns. Texts keep to the right of their bar or box and
within their column, so that the gaps between columns and the bands of `routes` are free for lines.
"""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.chart.labels import LEAST_STEP_W, STEP_H, Size, bar_size, step_size
from spokeshave.chart.routes import Lanes, Routes
from spokeshave.model.project import Sequence
from spokeshave.model.structure import Node, Structure, columns, structure

MARGIN = 24.0
COLUMN_GAP = 30
LANE = 8
"""Between two lines side by side."""
NEAR = 7
"""From a box to the first line beside it."""
ABOVE = 11
"""From a bar, whose text reaches above it, up to the first line across."""


@dataclass(frozen=True, slots=True)
class StepBox:
    """A step: its box, its action blocks as one table to its right (width 0 without any), chips below."""

    step: int
    x: float
    y: float
    w: float
    h: float
    actions_x: float
    actions_w: float

    @property
    def cx(self) -> float:
        return self.x + self.w / 2


@dataclass(frozen=True, slots=True)
class Bar:
    """A transition's bar, centred on `x`, at height `y`; `step` carries it. `back` are steps it runs back to."""

    transition: int
    step: int
    x: float
    y: float
    back: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Line:
    """A connection as a polyline; `doubled` for the line of a simultaneous branch, an arrow at the end if it runs back."""

    points: tuple[tuple[float, float], ...]
    doubled: bool = False
    arrow: bool = False


@dataclass(frozen=True, slots=True)
class Layout:
    """Where everything of a chart stands, in pixels from the upper left of its drawing."""

    boxes: tuple[StepBox, ...]
    bars: tuple[Bar, ...]
    lines: tuple[Line, ...]
    width: float
    height: float


def layout(sequence: Sequence) -> Layout:
    """Lays a sequence out: one rank below the other, branches side by side, what runs back in lanes of its own."""
    return Plan(sequence).drawn()


class Plan:
    """A layout in the making. `before` is a plan whose sizes of steps and transitions that are still there are taken."""

    def __init__(self, sequence: Sequence, before: Plan | None = None) -> None:
        self.sequence = sequence
        self.index = {s.name: i for i, s in enumerate(sequence.steps)}
        self.shape: Structure = structure(sequence)
        self.column = columns(self.shape, self.shape.rank)
        self.routes = Routes(sequence, self.shape, self.column)
        known: dict[int, Size] = (
            {} if before is None else {id(s): z for s, z in zip(before.sequence.steps, before.steps)}
        )
        self.steps: list[Size] = [known.get(id(s)) or step_size(s) for s in sequence.steps]
        self.ways = [bar_size(t) for t in sequence.transitions]
        self.left: list[float] = []
        self.right: list[float] = []
        self.down: list[float] = []
        self.centre: list[float] = []
        self.edge: list[float] = []
        """Where the lanes beside a column end."""
        self.top: list[float] = []
        self.bar_y: dict[int, float] = {}
        self.below_y: dict[int, float] = {}
        self.width = self._columns()
        self.height = self._rows()
        self.boxes: dict[int, StepBox] = {}
        self.bars: dict[int, Bar] = {}
        self.lines: list[Line] = []

    def _columns(self) -> float:
        """A column is as wide as its widest step, actions or condition; lanes beside it come on top."""
        count = max(self.column.values(), default=0) + 1
        left, right = [LEAST_STEP_W / 2] * count, [LEAST_STEP_W / 2] * count
        self.left, self.right = left, right
        for (kind, i), at in self.column.items():
            size: Size = self.steps[i] if kind == "s" else self.ways[i]
            if size.left > left[at]:
                left[at] = size.left
            if size.right > right[at]:
                right[at] = size.right
        x = MARGIN
        for at in range(count):
            lanes = self.routes.beside[at].count if at in self.routes.beside else 0
            x += lanes * LANE
            self.edge.append(x)
            x += (NEAR if lanes else 0) + left[at]
            self.centre.append(x)
            x += right[at] + COLUMN_GAP
        return x

    def _rows(self) -> float:
        shape, routes = self.shape, self.routes
        down = self.down = [0.0] * (max(shape.rank.values(), default=0) + 1)
        for (kind, i), rank in shape.rank.items():
            need = self.steps[i].down if kind == "s" else self.ways[i].down
            if need > down[rank]:
                down[rank] = need
        none = Lanes()
        y = MARGIN + LANE * routes.bottom.get(-1, none).count
        for rank, h in enumerate(down):
            self.top.append(y)
            if rank % 2:
                self.bar_y[rank] = y + NEAR + ABOVE + LANE * max(0, routes.top.get(rank, none).count - 1)
                self.below_y[rank] = self.bar_y[rank] + h
                y = (
                    self.below_y[rank]
                    + LANE * (routes.below.get(rank, none).count + routes.bottom.get(rank, none).count)
                    + NEAR
                )
            else:
                y += h
        return y + MARGIN

    def drawn(self) -> Layout:
        shape, sequence = self.shape, self.sequence
        for node in shape.nodes:
            kind, i = node
            x, rank = self.centre[self.column[node]], shape.rank[node]
            if kind == "s":
                size = self.steps[i]
                w = size.box_w
                self.boxes[i] = StepBox(i, x - w / 2, self.top[rank], w, STEP_H, x + w / 2 + 12, size.actions_w)
            else:
                carrier = max(self.index[s] for s in sequence.transitions[i].sources)
                self.bars[i] = Bar(i, carrier, x, self.bar_y[rank], tuple(self.routes.back.get(i, ())))
        for i, box in self.boxes.items():
            self._out_of_step(i, box)
        for i, bar in self.bars.items():
            self._into_join(i, bar)
            self._out_of_bar(i, bar)
        return Layout(tuple(self.boxes.values()), tuple(self.bars.values()), tuple(self.lines), self.width, self.height)

    def with_texts(self, sequence: Sequence) -> tuple[Layout, set[int]] | None:
        """The layout of a sequence with the same flow whose other texts fit where the old ones stood, and the steps
        that have to be drawn again; None if something has to move.
        """
        changed: set[int] = set()
        boxes = dict(self.boxes)
        for i, (old, new) in enumerate(zip(self.sequence.steps, sequence.steps)):
            if old is not new:
                size = step_size(new)
                if not self._fits(("s", i), self.steps[i], size):
                    return None
                self.steps[i], box = size, boxes[i]
                boxes[i] = StepBox(
                    i, box.cx - size.box_w / 2, box.y, size.box_w, STEP_H, box.cx + size.box_w / 2 + 12, size.actions_w
                )
                changed.add(i)
        for i, (was, now) in enumerate(zip(self.sequence.transitions, sequence.transitions)):
            if was is not now:
                size = bar_size(now)
                if not self._fits(("t", i), self.ways[i], size):
                    return None
                self.ways[i] = size
                changed.add(self.bars[i].step)
        self.sequence, self.boxes = sequence, boxes
        return Layout(
            tuple(boxes.values()), tuple(self.bars.values()), tuple(self.lines), self.width, self.height
        ), changed

    def _fits(self, node: Node, old: Size, new: Size) -> bool:
        """Whether an item may have another size without moving the others: neither its old nor its new one decides."""
        at, rank = self.column[node], self.shape.rank[node]
        return all(
            a == b or (a < most and b <= most)
            for a, b, most in (
                (old.left, new.left, self.left[at]),
                (old.right, new.right, self.right[at]),
                (old.down, new.down, self.down[rank]),
            )
        )

    def _line(self, *points: tuple[float, float]) -> None:
        self.lines.append(Line(points))

    def _double(self, xs: list[float], y: float) -> None:
        self.lines.append(Line(((min(xs) - 14, y), (max(xs) + 14, y)), doubled=True))

    def _top_y(self, rank: int, lane: int) -> float:
        return self.bar_y[rank] - ABOVE - LANE * lane

    def _bottom_y(self, rank: int, lane: int) -> float:
        """Of a lane above the steps of a row."""
        return self.top[rank] - NEAR - LANE * lane

    def _out_of_step(self, i: int, box: StepBox) -> None:
        node, bottom = ("s", i), box.y + box.h
        rank = self.shape.rank[node] + 1
        lanes = self.routes.top.get(rank)
        for _, n in self.shape.onward[node]:
            bar = self.bars[n]
            if len(self.sequence.transitions[n].sources) > 1:
                continue
            if bar.x == box.cx:
                self._line((box.cx, bottom), (bar.x, bar.y))
            elif lanes is not None:
                rail = self._top_y(rank, lanes.of[node])
                self._line((box.cx, bottom), (box.cx, rail), (bar.x, rail), (bar.x, bar.y))

    def _into_join(self, i: int, bar: Bar) -> None:
        """The doubled line above a transition with several predecessors."""
        t = self.sequence.transitions[i]
        if len(t.sources) < 2:
            return
        rank = self.shape.rank[("t", i)]
        rail = self._top_y(rank, self.routes.top[rank].of[("t", i)])
        sources = [self.boxes[self.index[s]] for s in t.sources]
        self._double([bar.x, *(s.cx for s in sources)], rail)
        self._line((bar.x, rail), (bar.x, bar.y))
        for s in sources:
            self._line((s.cx, s.y + s.h), (s.cx, rail))

    def _out_of_bar(self, i: int, bar: Bar) -> None:
        node = ("t", i)
        rank = self.shape.rank[node]
        targets = [self.boxes[n] for _, n in self.shape.forward(node)]
        if len(self.sequence.transitions[i].targets) > 1 and targets:
            rail = self._bottom_y(rank + 1, self.routes.bottom[rank].of[node])
            self._line((bar.x, bar.y), (bar.x, rail))
            self._double([bar.x, *(b.cx for b in targets)], rail)
            for b in targets:
                self._line((b.cx, rail), (b.cx, b.y))
        else:
            for b in targets:
                self._down_to(bar, b)
        for goal in bar.back:
            self._back_to(i, bar, self.boxes[goal])

    def _down_to(self, bar: Bar, box: StepBox) -> None:
        if box.cx == bar.x:
            self._line((bar.x, bar.y), (box.cx, box.y))
        else:
            rail = self._entry(box)
            self._line((bar.x, bar.y), (bar.x, rail), (box.cx, rail), (box.cx, box.y))

    def _entry(self, box: StepBox) -> float:
        """Height at which ways from elsewhere come in above a step."""
        rank = self.shape.rank[("s", box.step)]
        return self._bottom_y(rank, self.routes.bottom[rank - 1].of[("s", box.step)])

    def _back_to(self, i: int, bar: Bar, box: StepBox) -> None:
        node, at = ("s", box.step), self.column[("s", box.step)]
        rank = self.shape.rank[("t", i)]
        low = self.below_y[rank] + LANE * self.routes.below[rank].of[("t", i)]
        x = self.edge[at] - LANE * self.routes.beside[at].of[node]
        rail = self._entry(box)
        self.lines.append(Line(((bar.x, bar.y), (bar.x, low), (x, low), (x, rail), (box.cx, rail)), arrow=True))
        self._line((box.cx, rail), (box.cx, box.y))
