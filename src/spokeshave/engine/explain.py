"""Why a sequence does not go on: the smallest set of terms that keep a condition from being TRUE, with values."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from spokeshave.engine.evolve import enabled
from spokeshave.engine.program import LinkedSequence, LinkedStep, Program, Way
from spokeshave.engine.situation import Mode, Situation
from spokeshave.language import checked as ck
from spokeshave.language.compile import Compiled, compile_units
from spokeshave.language.literals import value_text
from spokeshave.model.project import Qualifier, SignalClass, Value

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
    """A part of a condition that stands in the way: its text, whether it should be FALSE, its variables."""

    text: str
    negated: bool
    readings: tuple[Reading, ...]
    tree: ck.Checked | None = field(default=None, compare=False, repr=False)

    def __str__(self) -> str:
        values = ", ".join(r.text if r.name == self.text else f"{r.name} = {r.text}" for r in self.readings)
        want = f"NOT {self.text}" if self.negated else self.text
        return f"{want} ({values})" if values else want


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

    @property
    def state_text(self) -> str:
        """The state in words; a late step may be held as well."""
        return "late, held" if self.held and self.state == "late" else self.state


@lru_cache(maxsize=4096)
def _compiled(tree: ck.Checked) -> Compiled:
    return compile_units([(0, tree)])[0]


def evaluate(tree: ck.Checked, v: list[Any]) -> Any:
    """The value of a checked expression now; compiled when it is first asked for."""
    return _compiled(tree)(v)


def blockers(tree: ck.Checked, text: str, v: list[Any], want: bool = True) -> tuple[Term, ...]:
    """The smallest set of terms that must change for `tree` to become `want`; empty if it is so already.

    An AND needs all its FALSE parts, an OR the easiest one; NOT turns the question round.
    """
    if bool(evaluate(tree, v)) == want:
        return ()
    if isinstance(tree, ck.Apply) and tree.op in ("and", "or"):
        parts = [blockers(a, text, v, want) for a in tree.args]
        if (tree.op == "and") == want:
            return tuple(dict.fromkeys(t for p in parts for t in p))
        return min((p for p in parts if p), key=len)
    if isinstance(tree, ck.Apply) and tree.op == "not":
        return blockers(tree.args[0], text, v, not want)
    readings = tuple(dict.fromkeys(Reading(n.name, value_text(v[n.slot], n.type), v[n.slot]) for n in ck.loads(tree)))
    return (Term(text[tree.span.start : tree.span.end], not want, readings, tree),)


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
    if isinstance(tree, ck.Apply):
        for a in tree.args:
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
        if any(a.target.lower() == name.lower() and a.qualifier is not Qualifier.R for a in s.actions)
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
    out = []
    for seq in program.sequences:
        for a in seq.by_number(s.active[seq.index]):
            out.append(_waiting_of(seq, seq.steps[a], s))
    return out


def _waiting_of(seq: LinkedSequence, step: LinkedStep, s: Situation) -> Waiting:
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
        tuple(_awaited(seq, w, s, w in open_ways) for w in step.ways),
    )


def _awaited(seq: LinkedSequence, way: Way, s: Situation, is_enabled: bool) -> Awaited:
    missing = blockers(way.checked, way.text, s.v)
    permitted = True
    if not missing:
        for _, tree, text in way.permissives:
            held = blockers(tree, text, s.v)
            permitted = permitted and not held
            missing += held
    absent = () if is_enabled else tuple(
        seq.steps[a].name for a in way.sources if a not in s.active[seq.index]
    )  # fmt: skip
    return Awaited(way.index, tuple(seq.steps[t].name for t in way.targets), missing, permitted, absent)
