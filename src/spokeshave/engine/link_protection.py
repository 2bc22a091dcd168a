"""Links what protects: trips, interlocks and opposed pairs. Each gives a function that wants the compiled code."""

from __future__ import annotations

from collections.abc import Callable

from spokeshave.engine import program as pg
from spokeshave.engine.checked_texts import Texts
from spokeshave.engine.names import TextScope
from spokeshave.language.compile import Compiled
from spokeshave.language.effects import is_pure
from spokeshave.model.diagnostics import Place, did_you_mean
from spokeshave.model.project import Interlock, OpposedPair, SignalClass, Trip, Type, zero_of

Code = list[Compiled]


class ProtectionLinker:
    """Links trips, interlocks and opposed pairs."""

    def __init__(self, texts: Texts) -> None:
        self.texts = texts

    def trip(self, index: int, t: Trip) -> Callable[[Code], pg.LinkedTrip] | None:
        place = Place("trip", item=t.name)
        done = self.texts.condition(t.condition, place, TextScope(self.texts.table))
        names = [q.name.lower() for q in self.texts.project.sequences]
        for name in t.scope or ():
            if name.lower() not in names:
                self.texts.note("trip-scope", place, f"there is no sequence {name}", did_you_mean(name, names))
        go_to: dict[int, int] = {}
        for text in t.go_to:
            sequence, _, step = text.partition(".")
            q = self.texts.project.sequence(sequence)
            found = q.step(step) if q else None
            if q is None or found is None:
                self.texts.note("trip-step", place, f"there is no step {text}", "write Sequence.Step")
            else:
                go_to[names.index(sequence.lower())] = q.steps.index(found)
        zeroed = []
        for name in t.zeroed:
            signal = self.texts.project.signal(name)
            if signal is None:
                self.texts.note("trip-variable", place, f"there is no signal {name}")
            else:
                zeroed.append((self.texts.table.read[name.lower()], zero_of(signal.type)))
        for name in t.stays:
            signal = self.texts.project.signal(name)
            if signal is None or signal.cls is not SignalClass.OUTPUT:
                outputs = [s.name for s in self.texts.project.signals if s.cls is SignalClass.OUTPUT]
                advice = did_you_mean(name, outputs) or "say which outputs may stay on"
                self.texts.note("trip-variable", place, f"{name} is no output", advice)
        if done is None or self.texts.found:
            return None
        scope = tuple(i for i, n in enumerate(names) if t.acts_on(n))
        return lambda code: pg.LinkedTrip(
            t.name, index, t.rank, code[done[0]], scope, t.latching, t.steps, go_to, t.stored == "clear",
            t.times == "zero", tuple(zeroed),
        )  # fmt: skip

    def _output(self, name: str, place: Place) -> bool:
        signal = self.texts.project.signal(name)
        if signal is None or signal.cls is not SignalClass.OUTPUT or signal.type is not Type.BOOL:
            offer = did_you_mean(name, (s.name for s in self.texts.project.signals if s.cls is SignalClass.OUTPUT))
            self.texts.note("not-an-output", place, f"{name} is no BOOL output", offer)
            return False
        return True

    def interlock(self, index: int, lock: Interlock) -> Callable[[Code], pg.LinkedInterlock] | None:
        place = Place("interlock", item=lock.output, index=index)
        if not self._output(lock.output, place):
            return None
        done = self.texts.condition(lock.condition, place, TextScope(self.texts.table))
        if done is None:
            return None
        name = lock.output.lower()
        return lambda code: pg.LinkedInterlock(
            lock.output,
            self.texts.table.read[name],
            self.texts.table.final[name],
            code[done[0]],
            done[1],
            lock.condition,
            place,
            is_pure(done[1]),
        )

    def pair(self, o: OpposedPair) -> pg.LinkedPair | None:
        first, second = o.first, o.second
        place = Place("opposed", item=f"{first}, {second}")
        if not (self._output(first, place) and self._output(second, place)):
            return None
        a, b = first.lower(), second.lower()
        dead = -(-o.dead_ms // self.texts.project.period_ms)
        t = self.texts.table
        return pg.LinkedPair((first, second), (t.read[a], t.read[b]), (t.final[a], t.final[b]), dead)
