"""What can be done in a situation: by the operator's devices, and by inputs that no device gives."""

from __future__ import annotations

import random
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from spokeshave.engine.evolve import enabled, may_clear
from spokeshave.engine.explain import waiting
from spokeshave.engine.program import Way
from spokeshave.engine.session import Session
from spokeshave.language import checked as ck
from spokeshave.language.functions import RunStop
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Signal, SignalClass, Type
from spokeshave.verify.check.devices import value_of
from spokeshave.verify.usage import uses_in_statements

PRESS_MS = 300
TRIES = 40
"""Values of inputs that are tried for one transition."""
MOST_TURNED = 12
"""So many inputs that no device gives are turned one by one, those that are asked for first."""


@dataclass(frozen=True, slots=True)
class Deed:
    """Something that is done at once, and what is let go of later: (ms later, stimulus, target, value)."""

    words: str
    done: tuple[tuple[int, str, str, Any], ...]


class Hands:
    """The hands of a machine file."""

    def __init__(self, project: Project) -> None:
        self.project = project
        given = {signal.lower() for d in project.devices for _, signal in d.wires}
        self.free = [s for s in project.signals if s.cls is SignalClass.INPUT and s.name.lower() not in given]
        self.devices = [(i, d) for i, d in enumerate(project.devices) if d.kind in ("button", "emergency", "selector")]
        self._by_hand = {s.name.lower() for s in self.free}
        self._by_hand |= {signal.lower() for _, d in self.devices for _, signal in d.wires}
        self._numbers = _compared_with(project)
        texts = (project.opening, project.closing)
        read = {u.name for text in texts for u in uses_in_statements(text, Place("opening")) if u.how == "read"}
        self._fed = [s for s in self.free if s.name.lower() in read]
        """Free inputs out of which texts work something out."""
        self._worked_out = frozenset(s.name.lower() for s in project.variables if s.cls is SignalClass.INTERNAL)
        self._blocks = frozenset(i.name.lower() for i in project.all_instances)

    def situation(self, session: Session) -> tuple[Any, ...]:
        """What tells situations apart: active steps, trips, positions of hands, and free BOOL inputs."""
        s, slots = session.situation, session.program.slots
        steps = tuple(tuple(sorted(a)) for a in s.active)
        bits = tuple(bool(s.v[slots[x.name.lower()]]) for x in self.free if x.type is Type.BOOL)
        hands = tuple(s.dev_hand[i] for i, _ in self.devices)
        return steps, tuple(s.mode), tuple(s.trip_on), hands, bits, self.awaited(session)

    def awaited(self, session: Session) -> frozenset[tuple[str, int, str]]:
        """What is still missing of the ways out of active steps and comes by itself or not at all: a bath that is not warm yet, a switch
        of what moves. Hands and times are left out.
        """
        return frozenset(
            (w.step, a.transition, t.short)
            for w in waiting(session.program, session.situation)
            for a in w.ways
            for t in a.missing
            if not all(r.name.lower() in self._by_hand or r.name.lower().endswith(".t") for r in t.readings)
        )

    def deeds(self, session: Session) -> Iterator[Deed]:
        """What can be done now: devices first, then inputs under which a way out clears, then each input by itself."""
        s = session.situation
        for i, d in self.devices:
            now = int(s.dev_hand[i])
            if d.kind == "button":
                yield Deed(f"press {d.name}", ((0, "hand", d.name, 1), (PRESS_MS, "hand", d.name, 0)))
            elif d.kind == "emergency":
                yield Deed(f"{'release' if now else 'press'} {d.name}", ((0, "hand", d.name, 1 - now),))
            else:
                most = int(value_of(d, "positions"))
                yield from (Deed(f"turn {d.name}", ((0, "hand", d.name, p),)) for p in range(most) if p != now)
        if not self.free:
            return
        ways = [w for q in session.program.sequences for w in enabled(q, s.active[q.index])]
        asked: dict[str, None] = {}
        for w in ways:
            yield from self._clears(session, w)
            yield from self._comes_to_clear(session, w)
            asked |= dict.fromkeys(x.name.lower() for x in ck.loads(w.checked))
        slots = session.program.slots
        bits = sorted((x for x in self.free if x.type is Type.BOOL), key=lambda x: x.name.lower() not in asked)
        for x in bits[:MOST_TURNED]:
            now = int(bool(s.v[slots[x.name.lower()]]))
            if not now:
                yield Deed(f"pulse {x.name}", ((0, "set", x.name, True), (PRESS_MS, "set", x.name, False)))
            yield Deed(f"turn {x.name}", ((0, "set", x.name, not now),))

    def _clears(self, session: Session, way: Way) -> Iterator[Deed]:
        """Values of free inputs under which a way clears as soon as they stand, if some are found."""
        s, slots = session.situation, session.program.slots
        reads = {x.slot for x in ck.loads(way.checked)}
        mine = [x for x in self.free if slots[x.name.lower()] in reads]
        chance, v = random.Random(way.index), list(s.v)
        for _ in range(TRIES if mine else 0):
            values = {x.name: self._value(x, chance) for x in mine}
            for name, value in values.items():
                v[slots[name.lower()]] = value
            v[0] = []
            try:
                found = may_clear(way, v)
            except RunStop:
                found = False
            if found:
                other = {n: x for n, x in values.items() if s.v[slots[n.lower()]] != x}
                yield Deed(f"set inputs for {way.index}", tuple((0, "set", n, x) for n, x in other.items()))
                return

    def _comes_to_clear(self, session: Session, way: Way) -> Iterator[Deed]:
        """Values of free inputs under which texts make of them what a way asks for, seen by running a scan or two beside."""
        asked = {x.name.lower() for x in ck.loads(way.checked)}
        if not self._fed or not any(n in self._worked_out or n.partition(".")[0] in self._blocks for n in asked):
            return
        slots = session.program.slots
        own = {n for n in asked if n in {x.name.lower() for x in self.free}}
        mine = [x for x in self.free if x in self._fed or x.name.lower() in own]
        chance = random.Random(~way.index)
        for _ in range(TRIES):
            values = {x.name: self._value(x, chance) for x in mine}
            other = {n: x for n, x in values.items() if session.situation.v[slots[n.lower()]] != x}
            if other and _goes(session, way, other):
                yield Deed(f"set inputs for {way.index}", tuple((0, "set", n, x) for n, x in other.items()))
                return

    def _value(self, s: Signal, chance: random.Random) -> Any:
        if s.type is Type.BOOL:
            return chance.random() < 0.5
        number = chance.choice(self._numbers)
        return float(number) if s.type is Type.REAL else int(number)


def _goes(session: Session, way: Way, values: dict[str, Any]) -> bool:
    """Whether a way clears within two scans with these values."""
    beside = session.fork()
    q = next(q for q in session.program.sequences if any(w is way for x in q.steps for w in x.ways))
    for name, value in values.items():
        beside.do("set", name, value)
    for _ in range(2):
        beside.scan()
        if beside.stopped is not None:
            return False
        active = beside.situation.active[q.index]
        if all(a in active for a in way.targets) and not any(a in active for a in way.sources):
            return True
    return False


_NUMBER = re.compile(r"(?<![\w.#])\d+(?:\.\d+)?(?![\w.#])")


def numbers_in(text: str) -> list[float]:
    """The numbers that stand in a text, but for times, parts of names, and those too long to be meant."""
    return [float(x) for x in _NUMBER.findall(text) if len(x) < 9]


def _compared_with(project: Project) -> list[float]:
    """Numbers that stand in conditions and texts, with their neighbours, and 0."""
    texts = [project.opening, project.closing, *(t.condition for q in project.sequences for t in q.transitions)]
    texts += [t.condition for t in project.trips] + [i.condition for i in project.interlocks]
    found = {x for text in texts for x in numbers_in(text)}
    found |= {
        float(s.start)
        for s in project.signals
        if s.type in (Type.INT, Type.DINT, Type.REAL) and (s.cls is SignalClass.SETTING or s.initial is not None)
    }
    return sorted({0.0, *(x + d for x in found for d in (-1.0, 0.0, 1.0))})
