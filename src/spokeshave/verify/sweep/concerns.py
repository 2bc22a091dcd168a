"""Which steps and trips point at a fault: those that have to do with what it touches.

A fault touches the signals of its device, and what follows from them: variables that the logic works out from them,
outputs that an interlock or an opposed pair keeps back because of them, devices that these outputs drive.
"""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.syntax import TextError
from spokeshave.model.alarm_sources import sources
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Sequence, SignalClass, Step, Type
from spokeshave.verify.usage import names_in, uses_of


def reads_of(text: str) -> frozenset[str]:
    """The variables of a condition; of a block instance its name."""
    try:
        return frozenset(_root(n) for n, _ in names_in(parse_expression(text))) if text.strip() else frozenset()
    except TextError:
        return frozenset()


def _root(name: str) -> str:
    return name.split(".")[0]


def _worked_out(text: str) -> Iterator[tuple[frozenset[str], frozenset[str]]]:
    """(read, written) of each statement that stands by itself."""
    try:
        statements = parse_statements(text)
    except TextError:
        return
    for statement in statements:
        uses = list(uses_of((statement,), Place()))
        reads = frozenset(_root(u.name) for u in uses if u.how == "read")
        called = {str(statement.instance).lower()} if isinstance(statement, sx.BlockCall) else set()
        yield reads, frozenset(u.name for u in uses if u.how == "write") | called


class Concerns:
    """What leads to what in a machine file."""

    def __init__(self, project: Project) -> None:
        self.project = project
        self.texts = [*_worked_out(project.opening), *_worked_out(project.closing)]
        self.leads = list(self.texts)
        self.leads += [(reads_of(i.condition), frozenset([i.output.lower()])) for i in project.interlocks]
        for o in project.opposed:
            self.leads += [
                (frozenset([a.lower()]), frozenset([b.lower()])) for a, b in ((o.first, o.second), (o.second, o.first))
            ]
        wires = {d.name.lower(): frozenset(s.lower() for _, s in d.wires) for d in project.devices}
        self.wires = wires
        self.leads += [(w, w) for w in wires.values()]
        for c in project.connections:
            if c.gives:
                self.leads.append((wires.get(c.source.lower(), frozenset()), wires.get(c.target.lower(), frozenset())))
        self.said = {x.place: x.rule.device.lower() for x in sources(project) if x.rule is not None and x.rule.device}
        """The devices that somebody said alarms point at, by what raises them."""
        self._found: dict[str, frozenset[str]] = {}

    def of(self, device: str) -> frozenset[str]:
        """The signals, in lower case, that a fault of this device touches."""
        known = self._found.get(device)
        if known is None:
            touched = set(self.wires.get(device.lower(), ()))
            while True:
                more = {w for reads, writes in self.leads if reads & touched for w in writes} - touched
                if not more:
                    break
                touched |= more
            known = self._found[device] = frozenset(touched)
        return known

    def regulated(self) -> frozenset[str]:
        """What texts work out from numbers that come in, in lower case: a heater that follows a temperature comes and goes by itself."""
        found = {s.name.lower() for s in self.project.signals if s.cls is SignalClass.INPUT and s.type is not Type.BOOL}
        while True:
            more = {w for reads, writes in self.texts if reads & found for w in writes} - found
            if not more:
                return frozenset(found)
            found |= more

    def points_at(self, place: Place, device: str) -> bool:
        """Whether an alarm of this place points at the device: its step waits for it or drives it, or runs a sequence that does, its trip or
        condition reads it, or somebody said so.
        """
        touched = self.of(device)
        if self.said.get(place) == device.lower():
            return True
        if place.kind == "trip":
            trip = next((t for t in self.project.trips if t.name == place.item), None)
            return trip is not None and bool(reads_of(trip.condition) & touched)
        if place.kind == "alarm":
            rule = next((a for a in self.project.alarms if a.name == place.item), None)
            return rule is not None and bool(reads_of(rule.condition) & touched)
        q = self.project.sequence(place.sequence)
        step = q.step(place.step) if q is not None else None
        if q is None or step is None:
            return False
        return self._has_to_do(q, step, touched, set())

    def _has_to_do(self, q: Sequence, step: Step, touched: frozenset[str], seen: set[str]) -> bool:
        """Whether a step waits for or drives something that is touched, or runs a sequence of which a step does."""
        ways = [t.condition for t in q.transitions if step.name in t.sources]
        after = [
            x.permissive for t in q.transitions if step.name in t.sources for n in t.targets for x in _step(q.step(n))
        ]
        reads = frozenset().union(*map(reads_of, (*ways, *after)))
        if (reads | {a.target.lower() for a in step.actions}) & touched:
            return True
        for called in (self.project.sequence(a.target) for a in step.actions if a.qualifier.runs):
            if called is not None and called.name not in seen:
                seen.add(called.name)
                if any(self._has_to_do(called, s, touched, seen) for s in called.steps):
                    return True
        return False


def _step(step: Step | None) -> tuple[Step, ...]:
    return () if step is None else (step,)
