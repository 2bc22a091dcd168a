"""Why a sequence does not go on: the smallest set of terms that keep a condition from being TRUE, with values."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import lru_cache
from itertools import islice
from typing import TYPE_CHECKING, Any

from spokeshave.engine.evolve import enabled
from spokeshave.engine.program import LinkedSequence, LinkedStep, Program, Way
from spokeshave.engine.situation import Mode, Situation
from spokeshave.language import checked as ck
from spokeshave.language.compile import Compiled, compile_units
from spokeshave.language.functions import RunStop
from spokeshave.language.literals import value_text
from spokeshave.model.project import SignalClass, Value

if TYPE_CHECKING:
    from spokeshave.engine.trace import Trace


@dataclass(frozen=True, slots=True)
class Reading:
    """A variable in a term and its present value as text."""

    name: str
    text: str
    value: Value


@dataclass(frozen=True, slots=True)
class Term:
    """A part of a condition that stands in the way: its text, whether it should be FALSE, its variables.

    `left` says how long a HELD or a timer in it still takes; `instead` are other terms that would do as well.
    """

    text: str
    negated: bool
    readings: tuple[Reading, ...]
    tree: ck.Checked | None = field(default=None, compare=False, repr=False)
    left: str = field(default="", compare=False)
    instead: tuple[tuple[Term, ...], ...] = field(default=(), compare=False)

    def __str__(self) -> str:
        # A value alone would read as if NOT had been applied to it already.
        alone = not self.negated
        values = [r.text if r.name == self.text and alone else f"{r.name} = {r.text}" for r in self.readings]
        values += [self.left] if self.left else []
        want = f"NOT {self.text}" if self.negated else self.text
        own = f"{want} ({', '.join(values)})" if values else want
        return " or ".join([own, *(" and ".join(map(str, terms)) for terms in self.instead)])

    @property
    def short(self) -> str:
        """What has to come, without values."""
        own = f"NOT {self.text}" if self.negated else self.text
        return " or ".join([own, *(" and ".join(t.short for t in terms) for terms in self.instead)])


@dataclass(frozen=True, slots=True)
class Awaited:
    """A way out of an active step that is not taken: where it leads, and what is missing.

    `permitted` is FALSE when the condition is TRUE and only a permissive holds it; `missing` are its terms then.
    `absent` are predecessors of a join that are not active.
    """

    transition: int
    targets: tuple[str, ...]
    missing: tuple[Term, ...]
    permitted: bool
    absent: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Waiting:
    """An active step: how long, its window, what state it is in, and what each way out waits on."""

    sequence: str
    step: str
    number: int
    time_ms: int
    longest_ms: int | None
    state: str  # runs, held, late (held or not), tripped
    held: bool
    ways: tuple[Awaited, ...]
    because: str = ""
    """What holds or trips it, and how that ends."""

    @property
    def state_text(self) -> str:
        """The state in words; a late step may be held as well."""
        state = "late, held" if self.held and self.state == "late" else self.state
        return f"{state} {self.because}" if self.because else state


@lru_cache(maxsize=4096)
def _compiled(tree: ck.Checked) -> Compiled:
    return compile_units([(0, tree)])[0]


def evaluate(tree: ck.Checked, v: list[Any]) -> Any:
    """The value of a checked expression now, None where it has none; compiled when it is first asked for."""
    try:
        return _compiled(tree)(v)
    except RunStop:
        return None


Left = Callable[[ck.Checked], str]
"""How long a HELD or a timer in a term still takes, in words; see `what_is_left`."""


def blockers(
    tree: ck.Checked, text: str, v: list[Any], want: bool = True, left: Left = lambda _: ""
) -> tuple[Term, ...]:
    """The smallest set of terms that must change for `tree` to become `want`; empty if it is so already.

    An AND needs all its FALSE parts, an OR the easiest one, beside which the others are told; NOT turns the question
    round.
    """
    if bool(evaluate(tree, v)) == want:
        return ()
    if isinstance(tree, ck.Apply) and tree.op in ("and", "or"):
        parts = [blockers(a, text, v, want, left) for a in tree.args]
        if (tree.op == "and") == want:
            return tuple(dict.fromkeys(t for p in parts for t in p))
        best = min((p for p in parts if p), key=len)
        others = tuple(dict.fromkeys(p for p in parts if p and p != best))
        return (*best[:-1], replace(best[-1], instead=(*best[-1].instead, *others)))
    if isinstance(tree, ck.Apply) and tree.op == "not":
        return blockers(tree.args[0], text, v, not want, left)
    read = _read_now(tree, v)
    readings = tuple(dict.fromkeys(Reading(n.name, value_text(v[n.slot], n.type), v[n.slot]) for n in read))
    return (Term(text[tree.span.start : tree.span.end], not want, readings, tree, left(tree)),)


def _read_now(tree: ck.Checked, v: list[Any]) -> Iterator[ck.Load]:
    """As `loads`, of a table the cell in the row that is read now; none where there is no such row."""
    if isinstance(tree, ck.Element):
        row = evaluate(tree.index, v)
        if row is not None and tree.first <= row <= tree.last:
            yield from islice(tree.loads(), row - tree.first, row - tree.first + 1)
    if isinstance(tree, ck.Load):
        yield tree
    parts = (tree.operand, tree.time) if isinstance(tree, ck.Edge) else ck.operands(tree)
    for part in parts:
        if part is not None:
            yield from _read_now(part, v)


def what_is_left(program: Program, s: Situation) -> Left:
    """How long each HELD, TON, TP or TOF in a term still takes at the end of scan `s.k - 1`."""
    held = {e.slot: i for i, e in enumerate(program.edges) if e.kind == "HELD"}
    timers = {base + 2: (kind, base) for kind, base in program.instances.values() if kind in ("TON", "TOF", "TP")}

    def of(tree: ck.Checked) -> str:
        for part in _parts(tree):
            if isinstance(part, ck.Edge) and part.slot in held and not s.v[part.slot]:
                edge, since = program.edges[held[part.slot]], s.held_from[held[part.slot]]
                if since >= 0 and edge.time is not None:
                    return f"{_seconds(edge.time(s.v) - (s.k - 1 - since) * program.period_ms)} left"
            if isinstance(part, ck.Load) and part.slot in timers:
                kind, base = timers[part.slot]
                on, needed, output = s.v[base : base + 3]
                elapsed = (s.k - 1) * program.period_ms - s.v[base + 4]  # what ET shows may be of an earlier scan
                if (on and not output) if kind == "TON" else (output and not on) if kind == "TOF" else output:
                    return f"{_seconds(needed - elapsed)} left"
        return ""

    return of


def _seconds(ms: int) -> str:
    return f"{max(0, ms)} ms" if ms < 1000 else f"{ms / 1000:g} s"


def why_not(program: Program, s: Situation, index: int) -> str:
    """What holds or trips sequence `index`, and how that ends; empty if it runs (semantics 9.2, 9.3, 9.5)."""
    mode, project = s.mode[index], program.project
    reset = f"the reset: {project.reset}" if project.reset.strip() else "a reset, which the file does not have"
    if mode is Mode.TRIPPED:
        standing = [t for t in program.trips if s.trip_on[t.index] and index in t.scope]
        if not standing:
            return ""
        trip = min(standing, key=lambda t: (t.rank, t.index))
        condition = project.trips[trip.index].condition
        gone = not trip.condition(s.v)
        if not trip.latching:
            return f"by {trip.name}, until {condition} is FALSE"
        return f"by {trip.name}, until {reset}" if gone else f"by {trip.name}, until {condition} is FALSE, then {reset}"
    if mode is Mode.HELD:
        seq = program.sequences[index]
        if s.hand is not None:
            return "by hand drive, until it ends"
        if s.late_hold[index]:
            return f"because it was late, until {reset}"
        if seq.hold is not None:
            return f"while {project.sequences[index].hold_when}"
    return ""


MOST_LOOKS = 500


def false_for_ms(program: Program, s: Situation, trace: Trace, term: Term) -> int:
    """How long a term has stood in the way, looked up in the trace; -1 where the trace does not tell.

    A term is followed back through the changes of the signals and step flags it reads. Terms that read a step time, an
    edge or a value that is not recorded are not followed.
    """
    if term.tree is None or isinstance(term.tree, ck.Edge) or not s.k:
        return -1
    columns = {r.slot: i for i, r in enumerate(trace.recorded)}
    by_asked = {asked: final for final, asked in program.asked.items()}
    read = {n.slot: columns.get(by_asked.get(n.slot, n.slot), -1) for n in ck.loads(term.tree)}
    if -1 in read.values() or any(isinstance(p, ck.Edge) for p in _parts(term.tree)):
        return -1
    v = list(s.v)
    changes = [(int(k), slot, i) for slot, c in read.items() for i, k in enumerate(trace.changes(c)[0])]
    since = 0
    for k, slot, i in sorted(changes, reverse=True)[:MOST_LOOKS]:
        if bool(evaluate(term.tree, v)) == (not term.negated):
            break
        since = k
        if i:
            v[slot] = trace.value(read[slot], float(trace.changes(read[slot])[1][i - 1]))
    return (s.k - since) * program.period_ms


def _parts(tree: ck.Checked) -> Iterator[ck.Checked]:
    yield tree
    for a in ck.operands(tree):
        yield from _parts(a)


def given_by(program: Program, name: str) -> str:
    """What could make a term TRUE: the device that gives a signal, the steps that act on it, or the text that writes it."""
    slot = program.slots.get(name.lower())
    for d in program.devices:
        if slot is not None and any(at == slot for _, at in d.sensors):
            return f"device {d.name}"
    steps = [
        f"{q.name}.{s.name}"
        for q in program.project.sequences
        for s in q.steps
        if any(a.target.lower() == name.lower() and not a.qualifier.resets for a in s.actions)
    ]
    if steps:
        return f"step {', '.join(steps)}"
    parts = name.split(".")
    if len(parts) == 3:
        return f"sequence {parts[0]}"
    if slot is not None:
        signal = program.project.signal(name)
        return f"{signal.cls} without a device" if signal is not None and signal.cls == SignalClass.INPUT else "logic"
    return "time"


def waiting(program: Program, s: Situation) -> list[Waiting]:
    """For every active step what it waits on, sequences in listed order, steps by number."""
    out, left = [], what_is_left(program, s)
    for seq in program.sequences:
        because = why_not(program, s, seq.index)
        for a in seq.by_number(s.active[seq.index]):
            out.append(_waiting_of(seq, seq.steps[a], s, left, because))
    return out


def _waiting_of(seq: LinkedSequence, step: LinkedStep, s: Situation, left: Left, because: str) -> Waiting:
    mode = s.mode[seq.index]
    state = "tripped" if mode is Mode.TRIPPED else "held" if mode is Mode.HELD else "runs"
    if state != "tripped" and s.v[step.late]:
        state = "late"
    open_ways = enabled(seq, s.active[seq.index])
    return Waiting(
        seq.name,
        step.name,
        step.number,
        s.v[step.t],
        None if step.longest is None else step.longest.ms(s.v),
        state,
        mode is Mode.HELD,
        tuple(_awaited(seq, w, s, w in open_ways, left) for w in step.ways),
        because,
    )


def _awaited(seq: LinkedSequence, way: Way, s: Situation, is_enabled: bool, left: Left) -> Awaited:
    missing = blockers(way.checked, way.text, s.v, left=left)
    permitted = True
    if not missing:
        for _, tree, text in way.permissives:
            held = blockers(tree, text, s.v, left=left)
            permitted = permitted and not held
            missing += held
    absent = () if is_enabled else tuple(
        seq.steps[a].name for a in way.sources if a not in s.active[seq.index]
    )  # fmt: skip
    return Awaited(way.index, tuple(seq.steps[t].name for t in way.targets), missing, permitted, absent)
