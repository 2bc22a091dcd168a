"""Which outputs a trip turns off, as far as the machine file alone tells (semantics 8 and 9.3)."""

from __future__ import annotations

from collections import defaultdict

from spokeshave.language.parse import parse_statements
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Signal, SignalClass, Trip, Type
from spokeshave.verify.usage import Use, uses, uses_in_expression, uses_of

SHOWN_BY = ("lamp", "horn", "display")
"""Devices that only tell a person something: what drives them may go on."""


class TurnedOff:
    """The BOOL outputs of a machine that drive something, and what turns each of them off."""

    def __init__(self, project: Project) -> None:
        self.project = project
        self.writers: dict[str, list[Use]] = defaultdict(list)
        for use in uses(project):
            if use.how in ("act", "write") and use.place.kind != "trip":
                self.writers[use.name].append(use)
        self._causes: dict[str, set[str]] = {}
        self._locks: dict[str, list[set[str]]] = defaultdict(list)
        """What the interlocks of an output look at."""
        for lock in project.interlocks:
            self._locks[lock.output.lower()].append(self._looked_at(lock.condition))
        told = {s.lower() for d in project.devices if d.kind in SHOWN_BY for _, s in d.wires}
        moved = {s.lower() for d in project.devices if d.kind not in SHOWN_BY for _, s in d.wires}
        self.outputs: list[Signal] = [
            s
            for s in project.signals
            if s.cls is SignalClass.OUTPUT and s.type is Type.BOOL and self.writers.get(s.name.lower())
            and not (s.name.lower() in told and s.name.lower() not in moved)
        ]  # fmt: skip

    def by(self, trip: Trip, output: Signal) -> bool:
        """Whether an output is off while this trip stands: everything that turns it on stands still and stores nothing
        for it, or an interlock looks at what the trip looks at.
        """
        name = output.name.lower()
        causes = self._looked_at(trip.condition)
        if any(causes & looked_at for looked_at in self._locks.get(name, ())):
            return True
        return all(self._ends(trip, name, use, causes) for use in self.writers[name])

    def _looked_at(self, condition: str) -> set[str]:
        """The names in a condition; many trips and interlocks ask for each."""
        if condition not in self._causes:
            self._causes[condition] = {u.name for u in uses_in_expression(condition, Place())}
        return self._causes[condition]

    def _ends(self, trip: Trip, output: str, use: Use, causes: set[str]) -> bool:
        sequence = use.place.sequence
        if use.how == "act":
            return trip.acts_on(sequence) and not (
                trip.stored == "keep" and self.stores_any({sequence.lower()}, output)
            )
        if use.place.kind == "body":  # a body does not run any more: what it wrote stays, unless it is set to zero
            return trip.acts_on(sequence) and output in (n.lower() for n in trip.zeroed)
        text = self.project.opening if use.place.kind == "opening" else self.project.closing
        return bool(causes & _read_beside(text, output))

    def stores_any(self, sequences: set[str], output: str) -> bool:
        """Whether one of these sequences stores an output; names in lower case."""
        mine = (q for q in self.project.sequences if q.name.lower() in sequences)
        return any(a.qualifier.stored for q in mine for s in q.steps for a in s.actions if a.target.lower() == output)

    def missed(self) -> list[Signal]:
        """Outputs that no latching trip turns off and none is said to leave on, if any output is turned off at all."""
        trips = [t for t in self.project.trips if t.latching and t.scope != ()]
        off = [s for s in self.outputs if any(self.by(t, s) for t in trips)]
        said = {n.lower() for t in trips for n in t.stays}
        return [s for s in self.outputs if s not in off and s.name.lower() not in said] if off else []


def _read_beside(text: str, output: str) -> set[str]:
    """What the statements of a text read that write an output, in them and around them."""
    try:
        statements = parse_statements(text)
    except TextError:
        return set()
    found: set[str] = set()
    for s in statements:
        inside = list(uses_of((s,), Place()))
        if any(u.how == "write" and u.name == output for u in inside):
            found |= {u.name for u in inside if u.how == "read"}
    return found
