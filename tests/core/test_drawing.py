"""Charts and flows on random series-parallel sequences: nothing overlaps, lines keep to their places, edits move little."""

from __future__ import annotations

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from spokeshave.chart.labels import BLOCK_H, CHAR_W, CHIP_H, LINE_H, chip_width, chips, chips_top, condition_lines
from spokeshave.chart.layout import Layout, layout
from spokeshave.engine.link import link_problems
from spokeshave.model import flow_edits
from spokeshave.model.flow import flow
from spokeshave.model.project import Action, Project, Qualifier, Sequence, Signal, SignalClass, Step, Transition
from spokeshave.model.sections import sections
from spokeshave.model.structure import structure

many = settings(
    max_examples=200, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)


class Grower:
    """Grows a chart from nested pieces: a step, pieces one after the other, alternatives, simultaneous branches."""

    def __init__(self, draw: st.DrawFn) -> None:
        self.draw = draw
        self.steps: list[Step] = []
        self.ways: list[Transition] = []

    def step(self) -> str:
        number = 10 * (len(self.steps) + 1)
        count = self.draw(st.integers(0, 3))
        actions = tuple(Action(Qualifier.N, "LongOutput"[: 3 + i]) for i in range(count))
        longest, needs = self.draw(st.sampled_from((("", ""), ("T#6s", ""), ("T#6s", "Ready AND NOT Halt"))))
        self.steps.append(Step(f"Step{number}", number, actions, longest=longest, permissive=needs))
        return f"Step{number}"

    def way(self, sources: tuple[str, ...], targets: tuple[str, ...]) -> None:
        condition = self.draw(
            st.sampled_from(("Go", "Go AND NOT Halt", "Go AND NOT Halt AND (Ready OR NOT Done) AND Again"))
        )
        self.ways.append(Transition(sources, targets, condition))

    def piece(self, depth: int) -> tuple[str, str]:
        """First and last step of a piece."""
        kind = self.draw(st.integers(0, 4)) if depth and len(self.steps) < 40 else 0
        if kind <= 1:
            name = self.step()
            return name, name
        if kind == 2:
            first, middle = self.piece(depth - 1)
            then, last = self.piece(depth - 1)
            self.way((middle,), (then,))
            return first, last
        first = self.step()
        branches = [self.piece(depth - 1) for _ in range(self.draw(st.integers(2, 3)))]
        last = self.step()
        if kind == 3:
            for start, end in branches:
                self.way((first,), (start,))
                self.way((end,), (last,))
            if self.draw(st.booleans()):
                self.way((first,), (last,))
        else:
            self.way((first,), tuple(s for s, _ in branches))
            self.way(tuple(e for _, e in branches), (last,))
        return first, last


@st.composite
def charts(draw: st.DrawFn) -> Sequence:
    """A chart that ends in a loop back to its start, often with another jump back."""
    grower = Grower(draw)
    first, last = grower.piece(draw(st.integers(1, 4)))
    if last == first:
        last = grower.step()
        grower.way((first,), (last,))
    grower.way((last,), (first,))
    found = sections(Sequence("Main", first, tuple(grower.steps), tuple(grower.ways))).of
    for _ in range(draw(st.integers(0, 3))):  # loops and jumps within a branch, or outside of all
        start, goal = (draw(st.sampled_from(grower.steps)).name for _ in range(2))
        joins = any(start in t.sources for t in grower.ways if len(t.sources) > 1)
        if found[start] == found[goal] and not joins:
            grower.way((start,), (goal,))
    return Sequence("Main", first, tuple(grower.steps), tuple(grower.ways))


def project(q: Sequence) -> Project:
    signals = [Signal(n, SignalClass.INPUT) for n in ("Go", "Halt", "Ready", "Done", "Again")]
    signals += [Signal("LongOutput"[: 3 + i], SignalClass.OUTPUT) for i in range(3)]
    return Project("Drawn", signals=tuple(signals), sequences=(q,))


def rectangles(plan: Layout) -> list[tuple[float, float, float, float]]:
    """Boxes with their action tables."""
    return [(b.x, b.y, max(b.x + b.w, b.actions_x + b.actions_w if b.actions_w else 0), b.y + b.h) for b in plan.boxes]


def apart(a: tuple[float, ...], b: tuple[float, ...]) -> bool:
    return a[2] <= b[0] or b[2] <= a[0] or a[3] <= b[1] or b[3] <= a[1]


@many
@given(charts())
def test_no_step_overlaps_another_and_all_lie_on_the_sheet(q):
    plan = layout(q)
    boxes = rectangles(plan)
    assert len(boxes) == len(q.steps) and len(plan.bars) == len(q.transitions)
    for i, a in enumerate(boxes):
        assert a[0] >= 0 and a[1] >= 0 and a[2] <= plan.width and a[3] <= plan.height
        for b in boxes[i + 1 :]:
            assert apart(a, b)


@many
@given(charts())
def test_no_transition_lies_in_a_step_or_on_another(q):
    plan = layout(q)
    bars = [(b.x - 15, b.y - 3, b.x + 15, b.y + 3) for b in plan.bars]
    for i, a in enumerate(bars):
        assert all(apart(a, box) for box in rectangles(plan))
        assert all(apart(a, b) for b in bars[i + 1 :])


def texts(q: Sequence, plan: Layout) -> list[tuple[float, float, float, float]]:
    """What a line must not run through: boxes, action tables, chips, and conditions beside their bars."""
    found = []
    for b in plan.boxes:
        step = q.steps[b.step]
        found.append((b.x, b.y, b.x + b.w, b.y + b.h))
        if b.actions_w:
            found.append((b.actions_x, b.y, b.actions_x + b.actions_w, b.y + BLOCK_H * len(step.actions)))
        if chips(step):
            top = b.y + chips_top(step)
            found.append((b.cx + 5, top, b.cx + sum(chip_width(c) + 4 for c in chips(step)), top + CHIP_H))
    for bar in plan.bars:
        lines = condition_lines(q.transitions[bar.transition].condition)
        right = bar.x + 22 + CHAR_W * max(map(len, lines))
        found.append((bar.x + 16, bar.y - 8, right, bar.y + 6 + LINE_H * (len(lines) - 1)))
    return found


@many
@given(charts())
def test_lines_run_through_no_text_and_texts_not_over_each_other(q):
    plan = layout(q)
    boxes = texts(q, plan)
    for i, a in enumerate(boxes):
        assert all(apart(a, b) for b in boxes[i + 1 :])
    for line in plan.lines:
        for (x1, y1), (x2, y2) in zip(line.points, line.points[1:]):
            assert x1 == x2 or y1 == y2
            track = (
                min(x1, x2) + 0.5 * (x1 != x2),
                min(y1, y2) + 0.5 * (y1 != y2),
                max(x1, x2) - 0.5 * (x1 != x2),
                max(y1, y2) - 0.5 * (y1 != y2),
            )
            for b in boxes:
                clear = track[2] <= b[0] or b[2] <= track[0] or track[3] <= b[1] or b[3] <= track[1]
                assert clear, (line, b)


@many
@given(charts())
def test_lines_across_that_lie_over_each_other_belong_together(q):
    """Two rails at one height share a stretch only where ways of one step, or ways into one step, meet."""
    plan = layout(q)
    rails: dict[float, list[tuple[float, float, frozenset[tuple[float, float]]]]] = {}
    for line in plan.lines:
        ends = frozenset((line.points[0], line.points[-1]))
        for (x1, y1), (x2, y2) in zip(line.points, line.points[1:]):
            if y1 == y2:
                rails.setdefault(y1, []).append((min(x1, x2), max(x1, x2), ends))
    for spans in rails.values():
        for i, (a, b, ends) in enumerate(spans):
            for c, d, others in spans[i + 1 :]:
                if max(a, c) + 1 < min(b, d):
                    one_goal = {x for x, _ in ends} & {x for x, _ in others}
                    assert one_goal, "two rails in one lane belong to different steps"


@many
@given(charts())
def test_flow_runs_down_and_only_back_where_the_chart_runs_back(q):
    shape = structure(q)
    assert len(shape.roots) == 1
    for a in shape.nodes:
        for b in shape.forward(a):
            assert shape.rank[b] > shape.rank[a]
    assert all(b[0] == "s" and shape.rank[b] < shape.rank[a] for a, b in shape.back)


@many
@given(charts())
def test_tracks_of_the_sheet_pass_no_dot_and_no_other_track(q):
    plan = flow(q)
    dots = {(plan.first_row(i), lane) for i, lane in enumerate(plan.lane)}
    runs: dict[int, list[tuple[int, int, int]]] = {}
    for link in plan.links:
        low, high = sorted((link.row, link.to_row))
        assert not {(r, link.via) for r in range(low + 1, high)} & dots
        goal = next(i for i, r in enumerate(plan.rows) if i == link.to_row)
        for a, b, other in runs.get(link.via, []):
            assert other == goal or high <= a or b <= low, "two tracks in one lane lead to different steps"
        runs.setdefault(link.via, []).append((low, high, goal))
    assert plan.lanes == 1 + max([*plan.lane, *(link.via for link in plan.links)])


@many
@given(charts(), st.data())
def test_inserting_a_step_anywhere_keeps_the_chart_drawn_and_running(q, data):
    name = data.draw(st.sampled_from(q.steps)).name
    after = flow_edits.insert_step(project(q), "Main", name)
    assert not link_problems(after)
    new = after.sequences[0]
    assert len(new.steps) == len(q.steps) + 1
    numbers = [s.number for s in new.steps]
    assert numbers == sorted(set(numbers))
    boxes = rectangles(layout(new))
    assert all(apart(a, b) for i, a in enumerate(boxes) for b in boxes[i + 1 :])
    added = next(s.name for s in new.steps if q.step(s.name) is None)
    if len(q.steps) > 2:
        back = flow_edits.delete_step(after, "Main", added).sequences[0]
        ends = lambda chart: sorted((t.sources, t.targets) for t in chart.transitions)  # noqa: E731
        assert [s.name for s in back.steps] == [s.name for s in q.steps] and ends(back) == ends(q)


@given(charts())
@settings(max_examples=40, deadline=None)
def test_a_layout_is_a_function_of_the_chart(q):
    assert layout(q) == layout(q) and flow(q) == flow(q)
