"""What of a machine file matters for where it can come to: which variables are carried on, which inputs are looked at."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from itertools import islice, pairwise, product
from typing import Any

from spokeshave.engine.link import compilation
from spokeshave.engine.names import TextScope
from spokeshave.engine.program import LinkedStep, Program, Way
from spokeshave.engine.waits import MIRROR, first_at
from spokeshave.language import checked as ck
from spokeshave.language.compile import Choice
from spokeshave.language.syntax import Span
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, SignalClass, Type, Value
from spokeshave.verify import VerifyError
from spokeshave.verify.reach.vectorized import Beyond, can_run, evaluate, known, reads_of, slots_of, writes_of

COUNTS = 128
LOWEST = -8
"""Whole numbers are followed from here on for so many values; beyond them the study stops, and says so."""
MOST_ROWS = 256
"""Rows of tables that are tried in one comparison."""

NOWHERE = Span(1, 1, 0, 0)


class StudyError(VerifyError):
    """A study that cannot be done, and why."""


class TooMany(StudyError):
    """More than is tried at once; what was found until then stands."""


class Studied:
    """The program without its machine, and of its texts what matters. `limits` says what was left out or made simpler."""

    def __init__(
        self, project: Project, assumptions: Iterable[str] = (), together: Iterable[tuple[str, str]] = (),
        settings: Iterable[tuple[str, tuple[Value, ...]]] = (), names: Iterable[str] | None = None,
    ) -> None:  # fmt: skip
        """`assumptions` are conditions on inputs that always hold, `together` pairs of outputs to ask about, `settings`
        those that may have one of several values, `names` those of the sequences that are studied, if not all are.
        """
        bare = replace(project, devices=(), connections=(), groups=(), scenarios=(), accepted=())
        compiled = compilation(bare)
        program = compiled.program()
        if names is not None:
            program = _of_sequences(program, frozenset(names))
        self.sequences = {q.index: q for q in program.sequences}
        self.project, self.program, self.texts = project, program, compiled.texts
        self.limits: list[str] = []
        self.start = program.start
        self.of_slot = {r.slot: r for r in program.recorded}
        for s in project.signals:
            asked = program.asked[program.slots[s.name.lower()]]
            self.of_slot[asked] = replace(self.of_slot[program.slots[s.name.lower()]], slot=asked)
        self._read_texts()
        self.pairs = tuple((self.output(a), self.output(b)) for a, b in together)
        self.assumptions = tuple(self.assumption(text) for text in assumptions if text.strip())
        self.varied = {self.setting(name): values for name, values in settings}
        self._what_matters()
        self.thresholds = {(q.index, x.index): self._thresholds(x) for q in program.sequences for x in q.steps}
        self.domains = {slot: self._domain(slot) for slot in sorted(self.inputs | self.free)}

    # -- texts

    def _read_texts(self) -> None:
        program, texts = self.program, self.texts
        trees: dict[Place, Any] = {
            texts.places[n]: tuple(_spliced(tree)) if isinstance(tree, tuple) else tree
            for n, tree in texts.units
            if n >= 0 and not isinstance(tree, Choice)
        }
        opening: Any = trees.get(Place("opening"), ())
        if program.home_tree is not None:
            opening = (ck.Store(program.home_slot, "Home", Type.BOOL, program.home_tree, NOWHERE), *opening)
        self.opening: tuple[ck.CheckedStatement, ...] = opening
        self.closing: tuple[ck.CheckedStatement, ...] = trees.get(Place("closing"), ())
        self.trips: dict[int, ck.Checked] = {t.index: trees[Place("trip", item=t.name)] for t in program.trips}
        self.holds: dict[int, ck.Checked] = {
            q.index: trees[Place("sequence", item=q.name)] for q in program.sequences if q.hold is not None
        }
        self.bodies: dict[int, tuple[ck.CheckedStatement, ...]] = {}
        for b in program.blocks:
            target = program.targets[b.target]
            if target.run is not None:
                place = Place("body", self.sequences[b.sequence].name, target.name)
                self.bodies[b.target] = trees[place]
        self.edges = {slot: (kind, operand) for kind, slot, operand, _ in texts.table.edges}
        self.ways: dict[int, list[Way]] = {}
        for q in program.sequences:
            unique = {w.index: w for x in q.steps for w in x.ways}
            self.ways[q.index] = sorted(unique.values(), key=lambda w: w.order)

    @property
    def can_stand_still(self) -> bool:
        """Whether anything holds a sequence or freezes it."""
        return bool(self.program.trips) or any(q.can_hold for q in self.program.sequences)

    def output(self, name: str) -> int:
        """The slot of a BOOL output. Raises `StudyError`."""
        signal = self.project.signal(name)
        if signal is None or signal.cls is not SignalClass.OUTPUT or signal.type is not Type.BOOL:
            raise StudyError(f"{name} is no BOOL output")
        return self.program.slots[name.lower()]

    def setting(self, name: str) -> int:
        """The slot of a setting whose values can be listed. Raises `StudyError`."""
        signal = self.project.signal(name)
        if (
            signal is None
            or signal.cls is not SignalClass.SETTING
            or signal.type not in (Type.BOOL, Type.INT, Type.DINT)
        ):
            raise StudyError(f"{name} is no setting of type BOOL, INT or DINT")
        return self.program.slots[name.lower()]

    def assumption(self, text: str) -> ck.Checked:
        """A condition on inputs and settings. Raises `StudyError`."""
        done = self.texts.condition(text, Place(item="assumption"), TextScope(self.texts.table))
        if done is None:
            raise StudyError(f"the assumption {text!r}: {self.texts.found[-1].message}")
        tree: ck.Checked = done[1]
        for load in ck.loads(tree):
            if self.of_slot.get(load.slot) is None or self.of_slot[load.slot].kind not in ("input", "setting"):
                raise StudyError(f"the assumption {text!r} reads {load.name}; assumptions are about inputs")
        return tree

    def readable(self, condition: str, text: str) -> None:
        """Raises `StudyError` for a condition that cannot be read, which stands in the line `text`."""
        before = len(self.texts.found)
        if self.texts.condition(condition, Place(item="never"), TextScope(self.texts.table)) is None:
            found = self.texts.found[before:]
            del self.texts.found[before:]
            raise StudyError(f"{text}: {found[-1].message}")

    # -- what matters

    def conditions(self, way: Way) -> tuple[ck.Checked, ...]:
        return (way.checked, *(tree for _, tree, _ in way.permissives))

    def _roots(self) -> Iterator[ck.Checked]:
        for ways in self.ways.values():
            for w in ways:
                yield from self.conditions(w)
        yield from self.trips.values()
        yield from self.holds.values()
        asked = {slot for pair in self.pairs for slot in pair}
        for lock in self.program.interlocks:
            if lock.final in asked:
                yield lock.checked

    def _what_matters(self) -> None:
        """From conditions back to everything they hang on."""
        program = self.program
        wanted = {slot for tree in self._roots() for slot in slots_of(tree)}
        wanted |= {program.reset, *(q.restart for q in program.sequences)} - {-1}
        wanted |= {program.asked[slot] for pair in self.pairs for slot in pair}
        wanted |= {load.slot for tree in self.assumptions for load in ck.loads(tree)}
        statements = [*self.opening, *self.closing, *(s for body in self.bodies.values() for s in body)]
        before = -1
        while len(wanted) != before:
            before = len(wanted)
            for slot in [e for e in self.edges if e in wanted]:
                wanted |= set(slots_of(self.edges[slot][1]))
            for s in statements:
                if writes_of(s) & wanted and can_run(s):
                    wanted |= reads_of(s)
        self.wanted = wanted
        self.free: set[int] = set()
        """Variables that are not followed: each scan they may be anything."""
        for s in statements:
            if not can_run(s) and writes_of(s) & wanted:
                self.free |= writes_of(s) & wanted
        self._without_what_is_beyond(statements)
        kinds = {slot: self.of_slot[slot].kind for slot in wanted if slot in self.of_slot}
        self.inputs = {slot for slot, kind in kinds.items() if kind == "input"}
        self.free |= {slot for slot in wanted if self._is_block(slot)}
        self.opening = tuple(s for s in self.opening if writes_of(s) & wanted - self.free and can_run(s))
        self.closing = tuple(s for s in self.closing if writes_of(s) & wanted - self.free and can_run(s))
        self.bodies = {t: tuple(x for x in b if can_run(x)) for t, b in self.bodies.items()
                       if any(writes_of(x) & wanted - self.free for x in b)}  # fmt: skip
        self.stale = {e for s in self.opening for e in reads_of(s) if e in self.edges}
        """Edges that the opening logic reads: as they were in the scan before."""
        self.targets = tuple(
            n
            for n, t in enumerate(program.targets)
            if n in self.bodies or (t.run is None and t.slot in wanted - self.free)
        )
        acted = {program.targets[n].slot for n in self.targets if program.targets[n].run is None}
        written = {
            slot
            for s in (*self.opening, *self.closing, *(x for b in self.bodies.values() for x in b))
            for slot in writes_of(s)
        }
        written |= {slot for trip in program.trips for slot, _ in trip.zeroed if slot in wanted}
        self.carried = tuple(sorted(slot for slot in (acted | written) - self.free if not self._is_made_anew(slot)))
        for slot in self.carried:
            if self.of_slot.get(slot) is not None and self.of_slot[slot].type is Type.REAL:
                self.limits.append(
                    f"{self.of_slot[slot].name} is a REAL that is worked out: it is taken to be anything"
                )
                self.free.add(slot)
        self.carried = (*(s for s in self.carried if s not in self.free), *(s for s in self.varied if s in wanted))
        for slot in sorted(self.free):
            name = self.of_slot[slot].name if slot in self.of_slot else "a block's value"
            self.limits.append(f"{name} is not followed through its text: in each scan it may be anything")

    def _without_what_is_beyond(self, statements: list[ck.CheckedStatement]) -> None:
        """Conditions with functions that are not worked out cannot be studied."""
        for tree in (*self._roots(), *(operand for slot, (_, operand) in self.edges.items() if slot in self.wanted)):
            if not known(tree):
                raise StudyError(
                    "a condition uses a function that the study does not work out: put its result in an internal"
                )

    def _is_block(self, slot: int) -> bool:
        table = self.texts.table
        return table.first_instance <= slot < table.first_edge

    def _is_made_anew(self, slot: int) -> bool:
        """Whether the opening logic assigns it in every scan before anybody reads it."""
        if slot == self.program.home_slot:
            return True
        for s in self.opening:
            if isinstance(s, ck.Store) and s.slot == slot:
                return slot not in slots_of(s.value)
            if slot in reads_of(s) | writes_of(s):
                return False
        return False

    # -- times and values

    def _thresholds(self, step: LinkedStep) -> tuple[int, ...]:
        """Scans after its entry in which a comparison of a step's time turns, or it is late, or an action's time is reached."""
        program, period, v = self.program, self.program.period_ms, list(self.start)
        found: set[int] = set()
        for c in program.times.comparisons.get(step.t, ()):
            for value in map(int, self._values(c.tree, step.name)):
                if c.op in ("ge", "lt", "eq", "ne"):
                    found.add(first_at(0, value, period))
                if c.op in ("gt", "le", "eq", "ne"):
                    found.add(value // period + 1)
        if self.keeps_late(step):
            found.add(self.late_at(step))
        for b in step.varying:
            if b.rule.in_step is not None and b.target in self.targets:
                found.add(first_at(0, b.time.ms(v), period))
        if step.t in program.times.fluid:
            self.limits.append(
                f"the time of {step.name} is read as a number: only the times it is compared with are tried"
            )
        return tuple(sorted(t for t in found if t > 0))

    def _values(self, tree: ck.Checked, step: str) -> Iterator[Any]:
        """What the time of a step may be compared with: of a table every row. What else may change is told."""
        fixed = {slot for slot, r in self.of_slot.items() if r.kind == "setting"}
        changes = {load.name for load in _apart(tree) if load.slot not in fixed}
        if changes:
            self.limits.append(
                f"the time of {step} is compared with {', '.join(sorted(changes))}: only the values at the start are tried"
            )
        env = dict(enumerate(self.start))
        yield from dict.fromkeys(evaluate(one, env) for one in islice(_each_row(tree), MOST_ROWS))

    def keeps_late(self, step: LinkedStep) -> bool:
        """Whether it matters that a step is late."""
        return step.longest is not None and (step.late in self.wanted or step.response == "hold" or step.trip >= 0)

    def late_at(self, step: LinkedStep) -> int:
        """Scans after its entry in which a step is late; -1 without a window."""
        return -1 if step.longest is None else first_at(0, step.longest.ms(list(self.start)), self.program.period_ms)

    def times(self, i: int, a: int) -> tuple[int, ...]:
        """A time in ms for each code of a step: 0 while it is not active, then one between each two thresholds."""
        thresholds, period = self.thresholds[i, a], self.program.period_ms
        first = 0 if thresholds and thresholds[0] <= 1 else period
        return (0, first, *(t * period for t in thresholds))

    def _domain(self, slot: int) -> tuple[Any, ...]:
        """The values an input can have, as far as anybody can tell them apart."""
        kind = self.of_slot[slot].type if slot in self.of_slot else Type.BOOL
        if self._is_block(slot):
            kind = Type.BOOL if isinstance(self.start[slot], bool) else Type.TIME
        if kind is Type.BOOL:
            return (False, True)
        borders = sorted({x for tree in self._trees() for x in self._compared(tree, slot)})
        if not borders:
            return (self.start[slot],)
        if kind is Type.REAL:
            between = [(a + b) / 2 for a, b in pairwise(borders)]
            return tuple(sorted({borders[0] - 1.0, *borders, *between, borders[-1] + 1.0}))
        return tuple(sorted({int(x) + d for x in borders for d in (-1, 0, 1)}))

    def _trees(self) -> Iterator[ck.Checked]:
        yield from self._roots()
        yield from (operand for _, operand in self.edges.values())
        yield from self.assumptions
        for block in (self.opening, self.closing, *self.bodies.values()):
            yield from _expressions(block)

    def _compared(self, tree: ck.Checked, slot: int) -> Iterator[float]:
        if isinstance(tree, ck.Edge):
            yield from self._compared(tree.operand, slot)
        if not isinstance(tree, ck.Apply):
            return
        if tree.op in MIRROR:
            for one, other in (tree.args, tree.args[::-1]):
                if any(load.slot == slot for load in ck.loads(one)):
                    try:
                        env = dict(enumerate(self.start))
                        yield from (float(evaluate(row, env)) for row in islice(_each_row(other), MOST_ROWS))
                    except (Beyond, TypeError, ValueError):
                        self.limits.append(
                            f"{self.of_slot[slot].name} is compared with something that is not worked out"
                        )
        for a in tree.args:
            yield from self._compared(a, slot)


def _of_sequences(program: Program, names: frozenset[str]) -> Program:
    """A program of which some sequences alone are looked at, with the trips that act on them. They keep their numbers."""
    mine = tuple(q for q in program.sequences if q.name in names)
    numbers = {q.index for q in mine}
    trips = (replace(t, scope=tuple(i for i in t.scope if i in numbers)) for t in program.trips)
    return replace(
        program,
        sequences=mine,
        trips=tuple(t for t in trips if t.scope),
        blocks=tuple(b for b in program.blocks if b.sequence in numbers),
    )


def _each_row(tree: ck.Checked) -> Iterator[ck.Checked]:
    """An expression with each row of the tables that it reads by an index."""
    match tree:
        case ck.Element():
            yield from tree.loads()
        case ck.Apply():
            yield from (replace(tree, args=args) for args in product(*(tuple(_each_row(a)) for a in tree.args)))
        case _:
            yield tree


def _apart(tree: ck.Checked) -> Iterator[ck.Load]:
    """What an expression reads beside the tables that it reads by an index."""
    if isinstance(tree, ck.Element):
        return
    if isinstance(tree, ck.Load):
        yield tree
    for a in ck.operands(tree):
        yield from _apart(a)


def _spliced(block: Iterable[ck.CheckedStatement]) -> Iterator[ck.CheckedStatement]:
    """Statements with those of the blocks that they call in the place of the call, so that what cannot be worked out in one
    takes nothing else with it; a body that RETURN may end stays whole.
    """
    for s in block:
        if isinstance(s, ck.Perform) and not _leaves(s.body):
            yield from _spliced(s.body)
        else:
            yield s


def _leaves(block: Iterable[ck.CheckedStatement]) -> bool:
    return any(
        (isinstance(s, ck.Leave) and s.kind == "RETURN") or any(map(_leaves, ck.inner(s)[1]))
        for s in block
        if not isinstance(s, ck.Perform)
    )


def _expressions(block: Iterable[ck.CheckedStatement]) -> Iterator[ck.Checked]:
    for s in block:
        expressions, blocks = ck.inner(s)
        yield from expressions
        for inner in blocks:
            yield from _expressions(inner)
