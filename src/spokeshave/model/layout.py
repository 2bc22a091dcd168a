"""Where the parts of a chart stand, from its structure alone (IEC 61131-3 and IEC 60848 drawing). Units are pixels."""

from __future__ import annotations

import re
from dataclasses import dataclass

from spokeshave.model.project import Action, Sequence, Step
from spokeshave.model.structure import Node, Structure, columns, structure

STEP_H = 34
BLOCK_H = 20
ROW_GAP = 30
COLUMN_GAP = 30
CHAR_W = 7.2
LEAST_STEP_W = 92


@dataclass(frozen=True, slots=True)
class StepBox:
    """A step: its box, and its action blocks as one table to its right (width 0 without actions)."""

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
    """A transition's bar, centred on `x`, at height `y`. `jump` names the step it runs back to, if it does."""

    transition: int
    x: float
    y: float
    jump: int | None


@dataclass(frozen=True, slots=True)
class Line:
    """A connection as a polyline; `doubled` for the line of a simultaneous branch."""

    points: tuple[tuple[float, float], ...]
    doubled: bool = False


@dataclass(frozen=True, slots=True)
class Layout:
    boxes: tuple[StepBox, ...]
    bars: tuple[Bar, ...]
    lines: tuple[Line, ...]
    width: float
    height: float


def block_text(action: Action) -> str:
    return f"{action.qualifier} {action.time} {action.target}" if action.time else f"{action.qualifier} {action.target}"


LINE_CHARS = 32


def condition_lines(text: str) -> list[str]:
    """A condition in at most two lines of about `LINE_CHARS` letters, cut behind an operator where possible.

    >>> condition_lines("GateClosed AND NOT GateOpened AND NOT DarkRoast")
    ['GateClosed AND NOT GateOpened', 'AND NOT DarkRoast']
    """
    text = " ".join(text.split())
    if len(text) <= LINE_CHARS:
        return [text]
    cuts = [m.start() for m in re.finditer(r" (?=AND |OR |XOR |& )", text) if m.start() <= LINE_CHARS]
    cut = cuts[-1] if cuts else LINE_CHARS
    rest = text[cut:].strip()
    return [text[:cut], rest if len(rest) <= LINE_CHARS else rest[: LINE_CHARS - 1] + "…"]


def step_width(step: Step) -> float:
    return max(LEAST_STEP_W, CHAR_W * (len(step.name) + len(str(step.number)) + 3) + 16)


def layout(sequence: Sequence) -> Layout:
    """Lays a sequence out: one rank below the other, branches side by side, runs back as jumps by name."""
    shape = structure(sequence)
    column = columns(shape, shape.rank)
    jumps = {a[1]: b[1] for a, b in shape.back if a[0] == "t"}
    x_of, width = _column_centres(sequence, shape, column)
    y_of, height = _rank_tops(sequence, shape)
    boxes = {}
    for kind, i in shape.nodes:
        if kind == "s":
            boxes[i] = _box(sequence.steps[i], i, x_of[column[("s", i)]], y_of[shape.rank[("s", i)]])
    bars = {
        i: Bar(i, x_of[column[("t", i)]], y_of[shape.rank[("t", i)]] + ROW_GAP / 2, jumps.get(i))
        for kind, i in shape.nodes
        if kind == "t"
    }
    lines: list[Line] = []
    for kind, i in shape.nodes:
        if kind == "s":
            lines += _below_step(boxes[i], [bars[n] for _, n in shape.onward[("s", i)]], sequence)
        else:
            targets = [boxes[n] for _, n in shape.forward(("t", i))]
            lines += _below_bar(bars[i], targets, len(sequence.transitions[i].targets) > 1)
    lines += _joins(sequence, bars, boxes)
    return Layout(tuple(boxes.values()), tuple(bars.values()), tuple(lines), width, height)


def _box(step: Step, index: int, cx: float, y: float) -> StepBox:
    w = step_width(step)
    actions = max((len(block_text(a)) for a in step.actions), default=0)
    return StepBox(index, cx - w / 2, y, w, STEP_H, cx + w / 2 + 12, actions * CHAR_W + 18 if actions else 0)


def _column_centres(sequence: Sequence, shape: Structure, column: dict[Node, int]) -> tuple[list[float], float]:
    """Centre of each column, and the whole width. A column is as wide as its widest step, actions or condition."""
    count = max(column.values(), default=0) + 1
    left, right = [LEAST_STEP_W / 2] * count, [LEAST_STEP_W / 2] * count
    for node, at in column.items():
        kind, i = node
        if kind == "s":
            box = _box(sequence.steps[i], i, 0.0, 0.0)
            left[at] = max(left[at], box.w / 2)
            right[at] = max(right[at], box.w / 2, box.actions_x + box.actions_w if box.actions_w else 0)
        else:
            text = max(map(len, condition_lines(sequence.transitions[i].condition)))
            right[at] = max(right[at], 20 + CHAR_W * text)
    centres, x = [], 24.0
    for at in range(count):
        x += left[at]
        centres.append(x)
        x += right[at] + COLUMN_GAP
    return centres, x


def _rank_tops(sequence: Sequence, shape: Structure) -> tuple[list[float], float]:
    deepest = max(shape.rank.values(), default=0)
    heights = [0.0] * (deepest + 1)
    for (kind, i), rank in shape.rank.items():
        need = max(STEP_H, BLOCK_H * len(sequence.steps[i].actions)) + 14 if kind == "s" else ROW_GAP + 20
        heights[rank] = max(heights[rank], need)
    tops, y = [], 24.0
    for h in heights:
        tops.append(y)
        y += h
    return tops, y + 24


def _below_step(box: StepBox, bars: list[Bar], sequence: Sequence) -> list[Line]:
    """From a step down to its ways out: straight, or along a line that carries the alternatives."""
    lines = []
    bottom = box.y + box.h
    for bar in bars:
        if len(sequence.transitions[bar.transition].sources) > 1:
            continue
        if bar.x == box.cx:
            lines.append(Line(((box.cx, bottom), (bar.x, bar.y))))
        else:
            rail = bar.y - 14
            lines.append(Line(((box.cx, bottom), (box.cx, rail), (bar.x, rail), (bar.x, bar.y))))
    return lines


def _below_bar(bar: Bar, targets: list[StepBox], simultaneous: bool) -> list[Line]:
    """From a bar down to its successors; a doubled line where several are entered."""
    lines = []
    if simultaneous and targets:
        rail = bar.y + 14
        xs = [bar.x, *(t.cx for t in targets)]
        lines.append(Line(((bar.x, bar.y), (bar.x, rail))))
        lines.append(Line(((min(xs) - 14, rail), (max(xs) + 14, rail)), doubled=True))
        lines += [Line(((t.cx, rail), (t.cx, t.y))) for t in targets]
    else:
        for t in targets:
            if t.cx == bar.x:
                lines.append(Line(((bar.x, bar.y), (t.cx, t.y))))
            else:
                rail = t.y - 9
                lines.append(Line(((bar.x, bar.y), (bar.x, rail), (t.cx, rail))))
    return lines


def _joins(sequence: Sequence, bars: dict[int, Bar], boxes: dict[int, StepBox]) -> list[Line]:
    """The doubled line above a transition with several predecessors."""
    index = {s.name: i for i, s in enumerate(sequence.steps)}
    lines = []
    for i, bar in bars.items():
        sources = [boxes[index[s]] for s in sequence.transitions[i].sources]
        if len(sources) > 1:
            rail = bar.y - 14
            xs = [bar.x, *(s.cx for s in sources)]
            lines.append(Line(((min(xs) - 14, rail), (max(xs) + 14, rail)), doubled=True))
            lines.append(Line(((bar.x, rail), (bar.x, bar.y))))
            lines += [Line(((s.cx, s.y + s.h), (s.cx, rail))) for s in sources]
    return lines
