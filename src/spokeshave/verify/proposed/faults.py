"""Rules that come into play only when something breaks, or when an output is asked for by hand."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.machine.kinds import failures_of
from spokeshave.model.project import Device, Project, SignalClass, Type
from spokeshave.verify.proposed.goals import Goal
from spokeshave.verify.proposed.hands import PRESS_MS, Deed
from spokeshave.verify.proposed.search import Node, Run, Search
from spokeshave.verify.protection import LATCHED
from spokeshave.verify.sweep.concerns import Concerns, reads_of

MOST_TRIED, FEW_TRIED = 120, 40
"""Runs that are tried for one rule, first with what may happen to its devices, then with inputs set in their place."""
LONG_MS = 150_000
"""So long is waited for what comes of a fault."""
MANY_DEVICES = 8


class Faults:
    """Looks for a run in which a rule acts, from the situations that a search has met."""

    def __init__(self, search: Search) -> None:
        self.search, self.project = search, search.program.project
        self.concerns = Concerns(self.project)

    def run_to(self, goal: Goal) -> Node | None:
        """A run in which the rule of a goal acts, if one is found."""
        if goal.key[1] == LATCHED:
            return self._latched(goal)
        for node, deed in self._tries(goal):
            run = Run(node, self.search.tests)
            if deed is not None:
                run.do(deed)
            run.on(self._long_ms(goal, node), lambda run=run: goal.key in run.acted)  # type: ignore[misc]
            if goal.key in run.acted:
                run.settle()
                return run.node()
        return None

    def _long_ms(self, goal: Goal, node: Node) -> int:
        """So long is waited for what comes of a deed: for a window as long as it is, and what leads to its step."""
        if goal.kind != "window":
            return LONG_MS
        q = next(q for q in self.search.program.sequences if q.name == goal.place.sequence)
        longest = next(x for x in q.steps if x.name == goal.place.step).longest
        return LONG_MS + (0 if longest is None else longest.ms(node.session.situation.v))

    def _tries(self, goal: Goal) -> Iterator[tuple[Node, Deed | None]]:
        """Where one begins and what is done there: at the step of the rule first, else wherever a run has been."""
        nodes = self._nodes(goal)
        if goal.kind == "window":
            yield from ((n, None) for n in nodes[:2])
        tries = [
            (self._far(goal, deed), n, node, deed) for n, node in enumerate(nodes) for deed in self._deeds(goal, node)
        ]
        tries.sort(key=lambda x: x[:2])
        own = [(node, deed) for *_, node, deed in tries if not self._takes_over(deed)]
        yield from own[:MOST_TRIED]
        yield from [(node, deed) for *_, node, deed in tries if self._takes_over(deed)][:FEW_TRIED]

    def _far(self, goal: Goal, deed: Deed) -> bool:
        """Whether a deed is done to a device that gives nothing of what the rule looks at: such ones are tried later."""
        reads = reads_of(_text(goal, self.project))
        devices = [
            d
            for _, do, target, _ in deed.done
            if do in ("fail", "hand") and (d := self.project.device(target)) is not None
        ]
        return bool(devices) and not any(signal.lower() in reads for d in devices for _, signal in d.wires)

    def _takes_over(self, deed: Deed) -> bool:
        """Whether a deed sets an input that a device gives: that is tried last."""
        free = self.search.hands.free
        return any(do == "set" and self.project.signal(name) not in free for _, do, name, _ in deed.done)

    def _nodes(self, goal: Goal) -> list[Node]:
        """The situations in which the rule can act: its step is active, its output asked for; all of them where none is."""
        s = self.search
        if goal.kind in ("window", "permissive"):
            q = next(q for q in s.program.sequences if q.name == goal.place.sequence)
            step = next(x for x in q.steps if x.name == goal.place.step)
            at = (
                {step.index}
                if goal.kind == "window"
                else {a for x in q.steps for w in x.ways if step.index in w.targets for a in w.sources}
            )
            near = [n for n in s.nodes if at & set(n.session.situation.active[q.index])]
            return [*near, *(n for n in s.nodes if n not in near)]
        if goal.kind == "interlock":
            slot = s.program.asked[s.program.slots[goal.place.item.lower()]]
            asked = [n for n in s.nodes if n.session.situation.v[slot]]
            return [*asked, s.nodes[0]]
        return s.nodes

    def _deeds(self, goal: Goal, node: Node) -> Iterator[Deed]:
        project = self.project
        if goal.kind == "opposed":
            a, b = (n.strip() for n in goal.place.item.split(","))
            yield by_hand(a, b)
        false = list(self._otherwise(goal, node))
        yield from false
        if goal.kind == "interlock":
            asks = by_hand(goal.place.item).done
            yield by_hand(goal.place.item)
            yield from (Deed(f"{deed.words}, by hand", (*deed.done, *asks)) for deed in false)
            others = [
                x.name
                for x in project.signals
                if x.cls is SignalClass.OUTPUT and x.name.lower() in reads_of(str(goal.key[1]))
            ]
            yield from (by_hand(goal.place.item, other) for other in others)

    def _otherwise(self, goal: Goal, node: Node) -> Iterator[Deed]:
        """What makes the signals of a rule stand otherwise: devices that fail, hands, inputs that no device gives."""
        for d in self._devices(goal):
            yield from (Deed(f"{d.name} {failure}", ((0, "fail", d.name, failure),)) for failure in failures_of(d))
            if d.kind in ("emergency", "button"):
                yield Deed(f"hold {d.name}", ((0, "hand", d.name, 1),))
        for name in sorted(reads_of(_text(goal, self.project))):
            signal = self.project.signal(name)
            if signal is not None and signal.cls is SignalClass.INPUT and signal.type is Type.BOOL:
                now = node.session.situation.v[node.session.program.slots[name]]
                yield Deed(f"turn {signal.name}", ((0, "set", signal.name, not now),))

    def _devices(self, goal: Goal) -> list[Device]:
        """The devices that the rule has to do with; for a window those that its step awaits or drives."""
        found = []
        reads = reads_of(_text(goal, self.project))
        for d in self.project.devices:
            if goal.kind == "window":
                if self.concerns.points_at(goal.place, d.name):
                    found.append(d)
            elif reads & self.concerns.of(d.name):
                found.append(d)
        near = [d for d in found if any(signal.lower() in reads for _, signal in d.wires)]
        return [*near, *(d for d in found if d not in near)][:MANY_DEVICES]

    def _latched(self, goal: Goal) -> Node | None:
        """The trip comes, then what caused it goes: only its latch holds it."""
        trip = Goal(goal.kind, (str(goal.key[0]), ""), goal.words, goal.place)
        known = [n for n in self.search.nodes if trip.key in n.acted][:2]
        node = known[0] if known else self.run_to(trip)
        if node is None:
            return None
        emergencies = {d.name for d in self.project.devices if d.kind == "emergency"}
        broken = dict.fromkeys((st.target, st.value) for st in node.done if st.do == "fail")
        pressed = dict.fromkeys(
            st.target for st in node.done if st.do == "hand" and st.value and st.target in emergencies
        )
        turned = [st for st in node.done if st.do == "set"][-1:]
        deeds = [(0, "heal", *fault) for fault in broken] + [(0, "hand", name, 0) for name in pressed]
        deeds += [(0, "set", st.target, not st.value) for st in turned if isinstance(st.value, bool)]
        run = Run(node, self.search.tests)
        run.do(Deed("put right", tuple(deeds)))
        run.on(LONG_MS, lambda: goal.key in run.acted)
        if goal.key not in run.acted:
            return None
        run.settle()
        return run.node()


def by_hand(*outputs: str) -> Deed:
    """Hand drive, and outputs asked for in it."""
    return Deed(
        f"{', '.join(outputs)} by hand", ((0, "drive", "", True), *((PRESS_MS, "ask", o, True) for o in outputs))
    )


def _text(goal: Goal, project: Project) -> str:
    """What the rule of a goal looks at."""
    if goal.kind == "trip":
        return next((t.condition for t in project.trips if t.name == goal.place.item), "")
    if goal.kind == "interlock":
        return str(goal.key[1])
    q = project.sequence(goal.place.sequence or goal.place.item)
    if q is None:
        return ""
    step = q.step(goal.place.step)
    return {"hold": q.hold_when, "restart": q.restart_when, "permissive": step.permissive if step else ""}.get(
        goal.kind, ""
    )
