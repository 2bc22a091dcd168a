"""What is on the paper of a chart: its items, laid out from the structure, kept in step with the document and the run."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QRectF, QTimer
from PySide6.QtWidgets import QGraphicsScene, QGraphicsView

from spokeshave.chart.layout import Bar, Layout, Line, Plan
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.sequence.chart_items import StepItem
from spokeshave.desktop.sequence.chart_lines import LinesItem
from spokeshave.desktop.sequence.editor import SequenceEditor
from spokeshave.desktop.sequence.live import Live
from spokeshave.engine.explain import Awaited
from spokeshave.model.flow import same_flow
from spokeshave.model.fold import Folded, foldable, folded
from spokeshave.model.project import Sequence

LARGE = 400
"""Steps of a chart that takes longer to lay out than a person takes for the next key."""
ROOM, ROOM_ABOVE = 100.0, 30.0
"""What a new step takes in a sketch, and from the bar above down to it."""


class ChartPaper(QGraphicsView):
    """The drawing of one sequence; `drawn` is called after it was laid out. A view adds zoom, selection and edits."""

    def __init__(self, editor: SequenceEditor, name: str, runner: Runner) -> None:
        super().__init__()
        self.editor, self.document, self.name, self.runner = editor, editor.document, name, runner
        self.live = Live()
        self.sequence = Sequence(name, "", ())
        self.folds: frozenset[str] = frozenset()
        self.folded = Folded(self.sequence, (), {})
        self.plan = Layout((), (), (), 0, 0)
        self.follows = True
        self.drop: tuple[str, str] | None = None
        """While a step is dragged: the step under it, and why it cannot go behind that."""
        self.items_by_step: dict[str, StepItem] = {}
        self.carrier: dict[int, StepItem] = {}
        """The item that shows a transition, by its index in the whole sequence."""
        self._planned = Plan(Sequence(name, "", ()))
        self._awaited: dict[int, Awaited] = {}
        self._problems: dict[tuple[str, object], str] = {}
        self.setScene(QGraphicsScene(self))
        self.lines = LinesItem()
        self.scene().addItem(self.lines)
        self._rough = False
        """Whether an edit was only sketched: items stand elsewhere than the plan says until all is laid out."""
        self._draw_later = QTimer(self)
        self._draw_later.setSingleShot(True)
        self._draw_later.setInterval(120)
        self._draw_later.timeout.connect(self._draw)
        self.document.changed.connect(self.rebuild)
        self.document.checked.connect(self.take_findings)
        self.take_findings()

    def drawn(self) -> None:
        """Items stand where they belong."""

    def selected_way(self) -> int:
        """The selected transition of this sequence, -1 for none."""
        way = self.editor.way()
        return -1 if way is None or self.editor.current.lower() != self.name.lower() else way

    # -- drawing

    @property
    def initial(self) -> str:
        return self.sequence.initial

    def rebuild(self) -> None:
        """Follows the document; only what differs is moved or redrawn. A hidden chart waits until it is shown."""
        sequence = self.document.project.sequence(self.name)
        if sequence is not None and sequence is not self.sequence and self.isVisible():
            before, self.sequence = self.sequence, sequence
            large = len(self.items_by_step) > LARGE and not self.folds and not self._rough
            if large and not same_flow(before, sequence) and self._sketch(before):
                self._rough = True
                self._draw_later.start()
            else:
                self._draw()

    def rebuild_now(self) -> None:
        """Follows the document even while hidden."""
        self.finish()
        sequence = self.document.project.sequence(self.name)
        if sequence is not None and sequence is not self.sequence:
            self.sequence = sequence
            self._draw()

    def _sketch(self, before: Sequence) -> bool:
        """Shows a small edit of a large chart at once, roughly; the whole is laid out a moment later.

        FALSE for edits that cannot be shown so.
        """
        q, items = self.sequence, self.items_by_step
        if len(q.steps) == len(before.steps):
            return all(s.name in items for s in q.steps) and self._sketch_ways(before)
        if len(q.steps) + 1 == len(before.steps):
            left = {s.name for s in q.steps}
            for name in [n for n in items if n not in left]:
                self.scene().removeItem(items.pop(name))
            return True
        new = [s for s in q.steps if s.name not in items]
        entering = [t for _, t in q.entering(new[0].name)] if len(new) == 1 else []
        if len(q.steps) != len(before.steps) + 1 or len(entering) != 1 or len(entering[0].sources) != 1:
            return False
        above = items[entering[0].sources[0]]
        if not above.bars:
            return False
        edge = above.pos().y() + above.bars[0].y - above.box.y + ROOM_ABOVE
        box = replace(above.box, x=above.x(), y=edge, w=above.box.w, actions_w=0.0)
        seen = self.mapToScene(self.viewport().rect()).boundingRect().bottom()
        for item in items.values():
            if edge - ROOM_ABOVE < item.y() < seen + ROOM:  # the others move when all is laid out
                item.moveBy(0, ROOM)
        self.lines.open_gap(edge - ROOM_ABOVE, ROOM)
        self.scene().setSceneRect(self.sceneRect().adjusted(0, 0, 0, ROOM))
        items[new[0].name] = made = StepItem(self, new[0], box, (), ())
        self.scene().addItem(made)
        return True

    def _sketch_ways(self, before: Sequence) -> bool:
        """Ways that are new or lead elsewhere, as lines around the left of what stands between."""
        known = {(t.sources, t.targets) for t in before.transitions}
        for t in self.sequence.transitions:
            if (t.sources, t.targets) in known:
                continue
            for name in t.targets:
                a, b = self.items_by_step[t.sources[-1]], self.items_by_step[name]
                x, low, high = min(a.x(), b.x()) - 14, a.y() + a.box.h + 10, b.y() - 7
                middle = b.x() + b.box.w / 2
                way = ((a.x() + a.box.w / 2, low - 10), (a.x() + a.box.w / 2, low), (x, low), (x, high), (middle, high))
                self.lines.add(Line(way, arrow=True))
        self.lines.update()
        return True

    def finish(self) -> None:
        """Lays out what was only sketched so far."""
        if self._rough:
            self._draw()

    def _draw(self) -> None:
        rough, self._rough = self._rough, False
        self._draw_later.stop()
        self.folded = folded(self.sequence, self.folds)
        drawn = self.folded.sequence
        if not rough and same_flow(self._planned.sequence, drawn) and self.items_by_step:
            found = self._planned.with_texts(drawn)
            if found is not None:
                self.plan = found[0]
                self._redraw_texts(found[1])
                return
        self._planned = Plan(drawn, self._planned)
        self.plan = plan = self._planned.drawn()
        bars: dict[int, list[Bar]] = {}
        for bar in plan.bars:
            bars.setdefault(bar.step, []).append(bar)
        scene = self.scene()
        scene.blockSignals(True)
        items: dict[str, StepItem] = {}
        self.carrier = {}
        for box in plan.boxes:
            step = drawn.steps[box.step]
            own = bars.get(box.step, [])
            ways = tuple(drawn.transitions[b.transition] for b in own)
            renumbered = tuple(Bar(self.folded.ways[b.transition], b.step, b.x, b.y, b.back) for b in own)
            item = self.items_by_step.pop(step.name, None)
            if item is None:
                item = StepItem(self, step, box, renumbered, ways)
                scene.addItem(item)
            else:
                item.place(step, box, renumbered, ways)
            items[step.name] = item
            for b in renumbered:
                self.carrier[b.transition] = item
        for gone in self.items_by_step.values():
            scene.removeItem(gone)
        self.items_by_step = items
        area = QRectF(0, 0, plan.width + 40, plan.height + 40)
        self.lines.show_lines(plan.lines, area)
        scene.blockSignals(False)
        scene.setSceneRect(area)
        self.drawn()

    def _redraw_texts(self, changed: set[int]) -> None:
        """Draws only steps whose texts are others; everything stands where it stood."""
        drawn = self.folded.sequence
        for i in changed:
            step = drawn.steps[i]
            item = self.items_by_step[step.name]
            ways = tuple(drawn.transitions[b.transition] for b in self.plan.bars if b.step == i)
            item.place(step, self._planned.boxes[i], item.bars, ways)

    def redraw(self) -> None:
        """Draws everything anew, for another theme."""
        self.scene().update()
        self.drawn()

    def hidden_in(self, step: str) -> int:
        """How many steps a folded branch stands for."""
        return len(self.folded.within.get(step, ()))

    def fold(self, step: str) -> None:
        """Folds the branch that begins with a step, or opens it again."""
        self.finish()
        if step in self.folds:
            self.folds -= {step}
        elif foldable(self.sequence, step):
            self.folds |= {step}
        else:
            self.document.refused.emit(f"{step} begins no branch of several steps; select the first step of one")
            return
        self._draw()

    def take_findings(self) -> None:
        found: dict[tuple[str, object], str] = {}
        for d in self.document.findings:
            p = d.place
            if p.sequence.lower() == self.name.lower() and d.severity != "advice":
                found.setdefault(("way", p.index) if p.kind == "transition" else ("step", p.step), d.message)
        if found != self._problems:
            self._problems = found
            self.viewport().update()

    def problem_of(self, step: str) -> str:
        return self._problems.get(("step", step), "")

    def problem_of_way(self, way: int) -> str:
        return self._problems.get(("way", way), "")

    # -- the run

    def awaited(self, transition: int) -> Awaited | None:
        """What a transition waits on, if one of its predecessors is active."""
        return self._awaited.get(transition)
