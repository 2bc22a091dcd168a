"""What belongs to a unit beside its signals, sequences and devices: block instances, hand-written opening and closing
logic, trips, scenarios. And what a copy leaves behind, in words, for a person to read before the copy is made.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_statements
from spokeshave.language.references import HERE, Names, Reference, Target, Where, references
from spokeshave.model.diagnostics import quoted
from spokeshave.model.positions import without_rules
from spokeshave.model.project import (
    AlarmRule,
    Interlock,
    OpposedPair,
    Project,
    Scenario,
    Sequence,
    SignalClass,
    Trip,
    Unit,
)

_SCENARIO = Where(kind="scenario")
WORD = re.compile(r"\w+")


@dataclass(frozen=True, slots=True)
class Statement:
    """A top-level statement of opening or closing logic: its text, what it writes, calls and mentions."""

    logic: str  # opening, closing
    line: int
    text: str
    writes: frozenset[str]
    mentions: frozenset[Target]


def statements_of(project: Project, logic: str) -> list[Statement]:
    """The statements of a text that are no rules of positions; none where it cannot be read."""
    text = without_rules(project) if logic == "opening" else project.closing
    names = Names(project)
    try:
        found = parse_statements(text)
    except sx.TextError:
        return []
    out = []
    for i, s in enumerate(found):
        end = found[i + 1].span.start if i + 1 < len(found) else len(text)
        part = text[s.span.start : end]
        part = part[: part.rindex(";") + 1] if ";" in part else part
        mentions = frozenset(r.target for r in references(part, names))
        out.append(Statement(logic, s.span.line, part.strip(), frozenset(_written(s)), mentions))
    return out


def _written(s: sx.Statement) -> Iterator[str]:
    _, blocks, written = sx.children(s)
    yield from (str(n).lower() for n in written)
    for block in blocks:
        for inner in block:
            yield from _written(inner)


def texts_of(q: Sequence) -> list[str]:
    """The texts of a sequence but for the names of what its actions act on."""
    texts = [q.hold_when, q.restart_when, *(t.condition for t in q.transitions), *(b.text for b in q.bodies)]
    return texts + [x for s in q.steps for x in (s.permissive, s.longest, s.shortest, *(a.time for a in s.actions))]


class Named:
    """What the texts of a machine file name, worked out once for all its units and copies."""

    def __init__(self, project: Project) -> None:
        self.names = Names(project)
        self.statements = [*statements_of(project, "opening"), *statements_of(project, "closing")]
        self.instances = frozenset(i.name.lower() for i in project.instances)
        self.calling: dict[str, list[Statement]] = {}
        """The statements that name an instance."""
        for s in self.statements:
            for t in s.mentions:
                if t.kind == "instance":
                    self.calling.setdefault(t.name, []).append(s)
        self.callers: dict[str, list[Sequence]] = {}
        """The sequences that do."""
        for q in project.sequences:
            for name in self._called_in(q):
                self.callers.setdefault(name, []).append(q)
        self.scenarios = [
            (s, frozenset(r.target for r in references(s.text, self.names, _SCENARIO))) for s in project.scenarios
        ]
        self.conditions = {
            a.condition: frozenset(r.target for r in references(a.condition, self.names, HERE)) for a in project.alarms
        }

        self.units: dict[str, Belongings] = {}
        self._found: dict[tuple[str, Where], tuple[Reference, ...]] = {}

    def references(self, text: str, where: Where) -> tuple[Reference, ...]:
        """The names in a text that mean something. Each copy of a unit asks for the same texts."""
        key = (text, where)
        if key not in self._found:
            self._found[key] = tuple(references(text, self.names, where))
        return self._found[key]

    def _called_in(self, q: Sequence) -> set[str]:
        """The block instances that texts of a sequence name. Only texts with such a word in them are looked at."""
        if not self.instances:
            return set()
        maybe = [x for x in texts_of(q) if not self.instances.isdisjoint(WORD.findall(x.lower()))]
        found = (r.target for text in maybe for r in references(text, self.names, Where(q.name)))
        return {t.name for t in found if t.kind == "instance"}


_known: list[tuple[Project, Named]] = []
MOST_KNOWN = 4


def named_in(project: Project) -> Named:
    """What the texts of a file name; kept by its identity, since each copy of a unit asks."""
    found = next((named for p, named in _known if p is project), None)
    if found is None:
        found = Named(project)
        _known.insert(0, (project, found))
        del _known[MOST_KNOWN:]
    return found


class Belongings:
    """What belongs to a unit, worked out from what its texts name."""

    def __init__(self, project: Project, unit: Unit) -> None:
        self.project, self.unit, self.named = project, unit, named_in(project)
        self.names, self.statements = self.named.names, self.named.statements
        self.signals = {n.lower() for n in unit.signals}
        self.sequences = {n.lower() for n in unit.sequences}
        self.devices = {n.lower() for n in unit.devices}
        self.instances = {i.name for i in project.instances if self._is_own(i.name.lower())}
        self._own_instances = {i.lower() for i in self.instances}

    def _is_own(self, instance: str) -> bool:
        """Whether a block is called by texts of the unit alone."""
        called, users = self.named.calling.get(instance, []), self.named.callers.get(instance, [])
        if any(q.name.lower() not in self.sequences for q in users):
            return False
        signals = [{t.name for t in s.mentions if t.kind == "signal"} for s in called]
        return bool(users or called) and all(s <= self.signals or not s for s in signals)

    def _of_sequence(self, q: Sequence) -> set[Target]:
        texts = texts_of(q)
        texts += [a.target for s in q.steps for a in s.actions if self.project.signal(a.target) is not None]
        return {r.target for text in texts for r in references(text, self.names, Where(q.name))}

    def mine(self, t: Target) -> bool:
        if t.kind == "step":
            return t.owner in self.sequences
        own = {"signal": self.signals, "sequence": self.sequences, "device": self.devices}
        return t.name in own.get(t.kind, self._own_instances)

    def _mentions(self, text: str, where: Where = HERE) -> list[Target]:
        return [r.target for r in references(text, self.names, where) if self.mine(r.target)]

    def owns(self, s: Statement) -> bool:
        """Whether a statement writes and calls what belongs to the unit, and nothing else."""
        calls = {t.name for t in s.mentions if t.kind == "instance"}
        return (
            bool(s.writes | calls) and s.writes - self._own_instances <= self.signals and calls <= self._own_instances
        )

    def logic(self, logic: str) -> list[str]:
        """Its statements of the opening or the closing logic, in their order."""
        return [s.text for s in self.statements if s.logic == logic and self.owns(s)]

    @cached_property
    def trips(self) -> list[Trip]:
        """Trips that act on its sequences alone."""
        return [t for t in self.project.trips if t.scope and {n.lower() for n in t.scope} <= self.sequences]

    @cached_property
    def shared_trips(self) -> list[Trip]:
        """Trips that act on its sequences and on others, or name its outputs and variables."""
        own = self.trips
        named = [t for t in self.project.trips if {n.lower() for n in (*t.zeroed, *t.stays)} & self.signals or any(
            g.partition(".")[0].lower() in self.sequences for g in t.go_to)]  # fmt: skip
        return [t for t in self.project.trips if t not in own and (
            t in named or (t.scope and {n.lower() for n in t.scope} & self.sequences))]  # fmt: skip

    @cached_property
    def alarms(self) -> list[AlarmRule]:
        """Alarms of its windows, holds and trips, and those whose conditions speak of it and of nothing else that is worked out."""
        trips = {f"trip {t.name}".lower() for t in self.trips}
        return [a for a in self.project.alarms if a.key in trips or (
            a.on.partition(" ")[2].partition(".")[0].lower() in self.sequences if a.on else self._speaks_of_it_alone(a.condition))]  # fmt: skip

    def _speaks_of_it_alone(self, text: str) -> bool:
        targets = self.named.conditions[text]
        return any(map(self.mine, targets)) and all(self.mine(t) or self._is_common(t) for t in targets)

    @cached_property
    def interlocks(self) -> list[Interlock]:
        return [i for i in self.project.interlocks if i.output.lower() in self.signals]

    @cached_property
    def opposed(self) -> list[OpposedPair]:
        return [o for o in self.project.opposed if {o.first.lower(), o.second.lower()} & self.signals]

    @cached_property
    def scenarios(self) -> list[Scenario]:
        """Scenarios that speak of the unit, and beside it of inputs, settings and devices at most."""
        found = []
        for s, targets in self.named.scenarios:
            if any(map(self.mine, targets)) and all(self.mine(t) or self._is_common(t) for t in targets):
                found.append(s)
        return found

    def _is_common(self, t: Target) -> bool:
        signal = self.project.signal(t.name) if t.kind == "signal" else None
        return t.kind == "device" or (signal is not None and signal.cls in (SignalClass.INPUT, SignalClass.SETTING))

    def left_behind(self) -> list[str]:
        """What speaks of the unit and is not copied with it, a sentence each."""
        p, out = self.project, []
        for s in self.statements:
            told = sorted({t.name for t in s.mentions if self.mine(t)})
            if told and not self.owns(s):
                out.append(f"the {s.logic} logic, line {s.line}: {quoted(one_line(s.text))}")
        for lock in p.interlocks:
            if lock.output.lower() not in self.signals and self._mentions(lock.condition):
                out.append(f"the interlock of {lock.output}: {quoted(one_line(lock.condition))}")
        out += [f"the condition of trip {t.name}: {quoted(one_line(t.condition))}" for t in p.trips
                if t not in self.trips and self._mentions(t.condition)]  # fmt: skip
        out += [f"the {what} expression of the project: {quoted(one_line(text))}" for what, text in
                (("reset", p.reset), ("home", p.home)) if self._mentions(text)]  # fmt: skip
        for q in p.sequences:
            if q.name.lower() not in self.sequences and any(map(self.mine, self._of_sequence(q))):
                out.append(f"the sequence {q.name}, which speaks of the unit")
        taken = self.scenarios
        out += [f"the scenario {s.name}, which speaks of other parts too" for s in p.scenarios
                if s not in taken and self._mentions(s.text, _SCENARIO)]  # fmt: skip
        kept = {s.name.lower() for s in taken}
        out += [f"the accepted run of {a.scenario}" for a in p.accepted if a.scenario.lower() in kept]
        return out


def belongings_of(project: Project, unit: Unit) -> Belongings:
    """What belongs to a unit of a file, worked out once for all its copies."""
    units = named_in(project).units
    found = units.get(unit.name)
    if found is None or found.unit != unit:
        found = units[unit.name] = Belongings(project, unit)
    return found


def one_line(text: str) -> str:
    """A text on one line, with single blanks."""
    return " ".join(text.split())


_MARKS = re.compile(r'^(\s*(?:start\s+at|.*?:\s*mark)\s+")([^"\n]*)(")', re.IGNORECASE | re.MULTILINE)


def with_own_marks(text: str, marks: set[str], prefix: str) -> str:
    """A copied scenario whose marks have names of their own, since a mark stands once in a file."""
    return _MARKS.sub(lambda m: f"{m[1]}{prefix}{m[2]}{m[3]}" if m[2].lower() in marks else m[0], text)


def marks_in(scenarios: list[Scenario]) -> set[str]:
    """The marks that these scenarios set, in lower case."""
    return {m[2].lower() for s in scenarios for m in _MARKS.finditer(s.text) if "mark" in m[1].lower()}
