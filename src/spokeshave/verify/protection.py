"""Everything that protects, as rules with a name each; which of them act now, and which came into play in a run.

A rule is named by its kind and what it guards: `interlock Burner`, `opposed Gate/DropDoor`, `permissive Roast.Charge`,
`window Roast.Drop`, `hold Roast`, `restart Roast`, `trip Emergency`. Interlocks act term by term (semantics 8, 9).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from spokeshave.engine.explain import evaluate
from spokeshave.engine.program import LinkedSequence, LinkedStep, LinkedTrip, Program
from spokeshave.engine.situation import Mode, Situation
from spokeshave.language import checked as ck
from spokeshave.language.compile import or_false
from spokeshave.language.functions import RunStop
from spokeshave.language.terms import terms_of
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project

KINDS = ("trip", "hold", "restart", "interlock", "opposed", "permissive", "window")

Key = tuple[str, str]
"""A rule's name and, for an interlock, the term; else an empty text. A latching trip has two: `LATCHED` beside it."""
LATCHED = "its latch, which held when its cause was gone"


@dataclass(frozen=True, slots=True)
class Rule:
    """What protects: `kind` and `guards` make its name, `condition` is its text, `place` where it stands."""

    kind: str
    guards: str
    condition: str
    place: Place
    latching: bool = False

    @property
    def name(self) -> str:
        return f"{self.kind} {self.guards}"

    @property
    def keys(self) -> tuple[Key, ...]:
        """One for each thing that can act by itself."""
        if self.kind == "interlock":
            return tuple((self.name, t) for t in terms_of(self.condition))
        return ((self.name, ""), (self.name, LATCHED)) if self.latching else ((self.name, ""),)


def rules(project: Project) -> list[Rule]:
    """All rules of a machine file, by kind. Interlocks on one output are one rule after the other under one name."""
    found = [Rule("trip", t.name, t.condition, Place("trip", item=t.name), t.latching)
             for t in sorted(project.trips, key=lambda t: t.rank)]  # fmt: skip
    for q in project.sequences:
        place = Place("sequence", item=q.name)
        if q.hold_when:
            found.append(Rule("hold", q.name, q.hold_when, place))
        if q.restart_when:
            found.append(Rule("restart", q.name, q.restart_when, place))
        for s in q.steps:
            here = Place("step", q.name, s.name)
            if s.longest or s.shortest:
                span = (
                    f"{s.shortest} to {s.longest}"
                    if s.longest and s.shortest
                    else s.longest or f"{s.shortest} at least"
                )
                found.append(Rule("window", f"{q.name}.{s.name}", span, here))
            if s.permissive:
                found.append(Rule("permissive", f"{q.name}.{s.name}", s.permissive, here))
    for i, lock in enumerate(project.interlocks):
        found.append(Rule("interlock", lock.output, lock.condition, Place("interlock", item=lock.output, index=i)))
    for i, o in enumerate(project.opposed):
        dead = f"dead time {o.dead_ms} ms" if o.dead_ms else "never both"
        place = Place("opposed", item=f"{o.first}, {o.second}", index=i)
        found.append(Rule("opposed", f"{o.first}/{o.second}", dead, place))
    return sorted(found, key=lambda r: KINDS.index(r.kind))


Acts = Callable[[Situation], bool]


def tests(program: Program) -> list[tuple[Key, Acts]]:
    """For every key a function that tells whether it acts in a situation: keeps something off, back, or stops it.

    An interlock's term acts while its output is asked for and the term is FALSE; a window in the scans in which its step
    is late, or is left too early; a permissive while only it keeps its step from being entered. Where a condition has no
    value the run has stopped, or will: nothing acts.
    """
    return [(key, or_false(acts)) for key, acts in _tests(program)]


def _tests(program: Program) -> Iterator[tuple[Key, Acts]]:
    for trip in program.trips:
        yield (f"trip {trip.name}", ""), lambda s, i=trip.index: s.trip_on[i]  # type: ignore[misc]
        if trip.latching:
            yield (f"trip {trip.name}", LATCHED), _latched(trip)
    for q in program.sequences:
        if q.hold is not None:
            yield (f"hold {q.name}", ""), _held(q)
        if q.restart >= 0:
            slot = q.restart
            yield (f"restart {q.name}", ""), lambda s, slot=slot: bool(s.v[slot])  # type: ignore[misc]
        for step in q.steps:
            if step.longest is not None or step.shortest is not None:
                yield (f"window {q.name}.{step.name}", ""), _out_of_window(q, step)
    yield from _permissives(program)
    for lock in program.interlocks:
        for text, tree in zip(terms_of(lock.text), _and_parts(lock.checked)):
            yield (f"interlock {lock.output}", text), _blocks(lock.asked, tree)
    for pair in program.pairs:
        yield (f"opposed {pair.names[0]}/{pair.names[1]}", ""), _opposes(pair.asked, pair.final)


def _latched(trip: LinkedTrip) -> Acts:
    """Only the latch keeps the trip: without it, it would have ended."""
    return lambda s: s.trip_on[trip.index] and not trip.condition(s.v)


def _held(q: LinkedSequence) -> Acts:
    def acts(s: Situation) -> bool:
        return s.mode[q.index] is Mode.HELD and q.hold is not None and bool(q.hold(s.v))

    return acts


def _out_of_window(q: LinkedSequence, step: LinkedStep) -> Acts:
    def acts(s: Situation) -> bool:
        if s.v[step.late]:
            return True
        gone = step.index in s.left[q.index] and step.index not in s.came[q.index]
        return gone and step.shortest is not None and s.v[step.t] < step.shortest.ms(s.v)

    return acts


def _blocks(asked: int, tree: ck.Checked) -> Acts:
    return lambda s: bool(s.v[asked]) and not evaluate(tree, s.v)


def _opposes(asked: tuple[int, int], final: tuple[int, int]) -> Acts:
    return lambda s: any(s.v[a] and not s.v[f] for a, f in zip(asked, final))


def _permissives(program: Program) -> Iterator[tuple[Key, Acts]]:
    for q in program.sequences:
        for way in (w for s in q.steps for w in s.ways if w.permissives):
            for target in way.targets:
                step = q.steps[target]
                for allowed, _, text in way.permissives:
                    found = program.project.sequences[q.index].step(step.name)
                    if found is not None and found.permissive == text:

                        def acts(s: Situation, q: LinkedSequence = q, way=way, allowed=allowed) -> bool:  # type: ignore[no-untyped-def]
                            waits = all(a in s.active[q.index] for a in way.sources) and way.condition(s.v)
                            return bool(waits) and not allowed(s.v)

                        yield (f"permissive {q.name}.{step.name}", ""), acts


def _and_parts(tree: ck.Checked) -> list[ck.Checked]:
    if isinstance(tree, ck.Apply) and tree.op == "and":
        return [p for a in tree.args for p in _and_parts(a)]
    return [tree]


class ActingNow:
    """Which rules act in the situations of one program."""

    def __init__(self, program: Program) -> None:
        self.program = program
        self.tests = tests(program)

    def keys(self, s: Situation) -> frozenset[Key]:
        return frozenset(key for key, acts in self.tests if acts(s))


class ActedWatch:
    """Which rules came into play in a run: `first` has each with its time in ms since the scenario started."""

    def __init__(self, program: Program, start_ms: int) -> None:
        self.open = list(_tests(program))
        self.period, self.start_ms = program.period_ms, start_ms
        self.first: dict[Key, int] = {}

    def see(self, s: Situation) -> None:
        """Looks at the situation at the end of scan `s.k - 1`."""
        try:
            came = [key for key, acts in self.open if acts(s)]
        except RunStop:  # a condition has no value: only what has one acts
            came = [key for key, acts in self.open if or_false(acts)(s)]
        if came:
            now = (s.k - 1) * self.period - self.start_ms
            for key in came:
                self.first.setdefault(key, now)
            self.open = [(key, acts) for key, acts in self.open if key not in self.first]
