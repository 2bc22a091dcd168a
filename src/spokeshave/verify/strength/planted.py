"""The mistakes of the trade, planted one at a time into a machine file."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import pairwise

from spokeshave.language.exclusive import exclude_each_other
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import (
    Action,
    Body,
    Device,
    Project,
    Qualifier,
    Sequence,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
)
from spokeshave.verify.strength.in_texts import Slip, Slips, delayed


@dataclass(frozen=True, slots=True)
class Mistake:
    """One small change of a machine file: its kind, the place, what is otherwise in words, and the file that has it.

    `changed` is the text before and after where it is one that can be compared as a condition; empty for others.
    """

    kind: str
    place: Place
    words: str
    project: Project
    changed: tuple[str, str] = ("", "")
    same: str = ""
    """Why it changes no run, where that is seen at once."""

    @property
    def ident(self) -> str:
        """What names it from one version of a file to the next: where it is and what is otherwise."""
        return f"{self.place}: {self.words}"

    def sentence(self) -> str:
        """What nobody notices, in one sentence."""
        return f"Nobody would notice {self.words}"


def planted(project: Project) -> list[Mistake]:
    """All mistakes, always the same ones in the same order: by sequence and step, then rules, logic and wiring."""
    known: dict[str, int] = {}
    out = []
    for m in _Planting(project).all():
        known[m.ident] = n = known.get(m.ident, 0) + 1
        out.append(m if n == 1 else replace(m, words=f"{m.words}, place {n}"))
    return out


class _Planting:
    def __init__(self, project: Project) -> None:
        self.project = project
        self.slips = Slips({s.name.lower(): s for s in project.signals}, project.period_ms)

    def all(self) -> Iterator[Mistake]:
        for q in self.project.sequences:
            yield from self._sequence(q)
        yield from self._interlocks()
        yield from self._pairs()
        for t in self.project.trips:
            yield from self._trip(t)
        yield from self._logic()
        yield from self._wiring()

    # -- sequences

    def _with(self, q: Sequence, **changes: object) -> Project:
        new = replace(q, **changes)  # type: ignore[arg-type]
        return replace(self.project, sequences=tuple(new if x is q else x for x in self.project.sequences))

    def _file(self, **changes: object) -> Project:
        return replace(self.project, **changes)  # type: ignore[arg-type]

    def _sequence(self, q: Sequence) -> Iterator[Mistake]:
        for n, s in enumerate(q.steps):
            place = Place("step", q.name, s.name)
            yield from self._marks(q, n, place)
            yield from self._window(q, s, place)
            yield from self._permissive(q, s, place)
            for i, t in q.leaving(s.name):
                if t.sources[0] == s.name:
                    yield from self._way(q, i, t, place)
            yield from self._order(q, s, place)
        for b in q.bodies:
            for slip in self.slips.in_statements(b.text):
                bodies = tuple(Body(x.name, slip.text) if x is b else x for x in q.bodies)
                yield self._slip(
                    slip, Place("body", q.name, b.name), f"if {q.name}.{b.name} ran", self._with(q, bodies=bodies)
                )
        place = Place("sequence", item=q.name)
        for slip, field, what in self._texts(
            (q.hold_when, "hold_when", "hold"), (q.restart_when, "restart_when", "restart")
        ):
            yield self._slip(
                slip, place, f"the {what} of {q.name}", self._with(q, **{field: slip.text}), getattr(q, field)
            )
        if q.hold_when.strip():
            other = "drop" if q.hold_outputs == "keep" else "keep"
            said = "dropped" if other == "drop" else "kept"
            yield Mistake(
                "a hold that does otherwise",
                place,
                f"if the outputs of {q.name} were {said} in a hold",
                self._with(q, hold_outputs=other),
            )
        word = "did not keep" if q.retain else "kept"
        yield Mistake(
            "retain", place, f"if {q.name} {word} its steps over a loss of power", self._with(q, retain=not q.retain)
        )

    def _texts(self, *texts: tuple[str, str, str]) -> Iterator[tuple[Slip, str, str]]:
        """The slips of conditions that may be empty, and each gone."""
        for text, field, what in texts:
            if text.strip():
                yield Slip(f"a {what} gone", "", "were gone"), field, what
                for slip in self.slips.in_condition(text):
                    yield slip, field, what

    def _slip(self, slip: Slip, place: Place, what: str, project: Project, was: str = "") -> Mistake:
        verb = "" if what.startswith("if ") or slip.words == "were gone" else "stood "
        words = f"{what} {verb}{slip.words}" if what.startswith("if ") else f"if {what} {verb}{slip.words}"
        return Mistake(slip.kind, place, words, project, (was, slip.text) if was and slip.text else ("", ""))

    def _marks(self, q: Sequence, n: int, place: Place) -> Iterator[Mistake]:
        s = q.steps[n]

        def steps(*new: tuple[Step, tuple[Action, ...]]) -> Project:
            of = {id(step): actions for step, actions in new}
            return self._with(q, steps=tuple(replace(x, actions=of[id(x)]) if id(x) in of else x for x in q.steps))

        for k, a in enumerate(s.actions):
            left = (*s.actions[:k], *s.actions[k + 1 :])
            mark = f"{a.target}" if a.qualifier is Qualifier.N else f"{a.target} ({a.qualifier})"
            yield Mistake("a mark dropped", place, f"if {mark} were missing in {s.name}", steps((s, left)))
            for near, word in ((n - 1, "before"), (n + 1, "after")):
                if 0 <= near < len(q.steps) and not q.steps[near].action_on(a.target):
                    other = q.steps[near]
                    project = steps((s, left), (other, (*other.actions, a)))
                    yield Mistake(
                        "a mark in another step", place, f"if {mark} were in {other.name}, {word} {s.name}", project
                    )
            swap = {Qualifier.N: Qualifier.S, Qualifier.S: Qualifier.N}.get(a.qualifier)
            if swap is not None and self.project.signal(a.target) is not None:
                new = (*s.actions[:k], replace(a, qualifier=swap), *s.actions[k + 1 :])
                yield Mistake(
                    f"{swap} for {a.qualifier}",
                    place,
                    f"if {a.target} in {s.name} were {swap}, not {a.qualifier}",
                    steps((s, new)),
                )
            for kind, time in self._times(a.time):
                new = (*s.actions[:k], replace(a, time=time), *s.actions[k + 1 :])
                yield Mistake(kind, place, f"if {mark} in {s.name} had {time} for {a.time}", steps((s, new)))

    def _times(self, text: str) -> Iterator[tuple[str, str]]:
        """A time of its own doubled; a setting is somebody's to set."""
        if text and (twice := delayed(text)):
            yield "a time doubled", twice

    def _window(self, q: Sequence, s: Step, place: Place) -> Iterator[Mistake]:
        def step(**changes: object) -> Project:
            new = replace(s, **changes)  # type: ignore[arg-type]
            return self._with(q, steps=tuple(new if x is s else x for x in q.steps))

        for field, what in (("longest", "longest"), ("shortest", "shortest")):
            text = getattr(s, field)
            if text:
                yield Mistake("a window gone", place, f"if {s.name} had no {what} time", step(**{field: ""}))
                for kind, time in self._times(text):
                    yield Mistake(kind, place, f"if the {what} time of {s.name} were {time}", step(**{field: time}))
        if s.longest and s.response != "alarm":
            yield Mistake(
                "a window that only tells", place, f"if {s.name} only told when it is late", step(response="alarm")
            )

    def _permissive(self, q: Sequence, s: Step, place: Place) -> Iterator[Mistake]:
        for slip, _, _ in self._texts((s.permissive, "permissive", "permissive")):
            steps = tuple(replace(x, permissive=slip.text) if x is s else x for x in q.steps)
            yield self._slip(slip, place, f"the permissive of {s.name}", self._with(q, steps=steps), s.permissive)

    def _way(self, q: Sequence, i: int, t: Transition, place: Place) -> Iterator[Mistake]:
        def way(*new: Transition) -> Project:
            return self._with(q, transitions=(*q.transitions[:i], *new, *q.transitions[i + 1 :]))

        ends = " to ".join(" and ".join(side) for side in (t.sources, t.targets))
        for slip in self.slips.in_condition(t.condition):
            yield self._slip(
                slip, place, f"if {q.name} went from {ends}", way(replace(t, condition=slip.text)), t.condition
            )
        names = [s.name for s in q.steps]
        if len(t.targets) == 1 and len(t.sources) == 1:
            at = names.index(t.targets[0])
            for near in (at - 1, at + 1):
                if 0 <= near < len(names) and names[near] not in t.sources:
                    words = f"if {t.sources[0]} led to {names[near]} instead of {t.targets[0]}"
                    yield Mistake("a way to another step", place, words, way(replace(t, targets=(names[near],))))
        if sum(1 for _ in q.leaving(t.sources[0])) > 1:
            yield Mistake("a way gone", place, f"if there were no way from {ends}", way())
        for n in range(len(t.targets)) if len(t.targets) > 1 else ():
            fewer = replace(t, targets=(*t.targets[:n], *t.targets[n + 1 :]))
            yield Mistake("a branch gone", place, f"if {t.sources[0]} did not open {t.targets[n]} too", way(fewer))

    def _order(self, q: Sequence, s: Step, place: Place) -> Iterator[Mistake]:
        """Two ways out that are asked in the other order."""
        ways = sorted(q.leaving(s.name), key=lambda x: (x[1].priority is None, x[1].priority or 0, x[0]))
        for (i, a), (k, b) in pairwise(ways):
            ranks = {j: n + 1 for n, (j, _) in enumerate(ways)}
            ranks[i], ranks[k] = ranks[k], ranks[i]
            new = tuple(replace(t, priority=ranks[j]) if j in ranks else t for j, t in enumerate(q.transitions))
            words = f"if {s.name} asked for the way to {b.targets[0]} before that to {a.targets[0]}"
            same = "their conditions exclude each other" if exclude_each_other(a.condition, b.condition) else ""
            yield Mistake("priorities exchanged", place, words, self._with(q, transitions=new), same=same)

    # -- rules

    def _interlocks(self) -> Iterator[Mistake]:
        for n, lock in enumerate(self.project.interlocks):
            place = Place("interlock", item=lock.output)

            def locks(*new: object, n: int = n) -> Project:
                listed = self.project.interlocks
                return replace(self.project, interlocks=(*listed[:n], *new, *listed[n + 1 :]))  # type: ignore[arg-type]

            yield Mistake("an interlock gone", place, f"if {lock.output} had no interlock {lock.condition}", locks())
            for slip in self.slips.in_condition(lock.condition):
                new = locks(replace(lock, condition=slip.text))
                yield self._slip(slip, place, f"the interlock of {lock.output}", new, lock.condition)

    def _pairs(self) -> Iterator[Mistake]:
        for n, pair in enumerate(self.project.opposed):
            place = Place("opposed", item=f"{pair.first} and {pair.second}")

            def pairs(*new: object, n: int = n) -> Project:
                listed = self.project.opposed
                return replace(self.project, opposed=(*listed[:n], *new, *listed[n + 1 :]))  # type: ignore[arg-type]

            yield Mistake(
                "an opposed pair gone", place, f"if {pair.first} and {pair.second} were no opposed pair", pairs()
            )
            if pair.dead_ms:
                words = f"if {pair.first} and {pair.second} had no dead time"
                yield Mistake("a dead time gone", place, words, pairs(replace(pair, dead_ms=0)))

    def _trip(self, t: Trip) -> Iterator[Mistake]:
        place = Place("trip", item=t.name)

        def trip(**changes: object) -> Project:
            new = replace(t, **changes)  # type: ignore[arg-type]
            return replace(self.project, trips=tuple(new if x is t else x for x in self.project.trips))

        gone = replace(self.project, trips=tuple(x for x in self.project.trips if x is not t))
        yield Mistake("a trip gone", place, f"if there were no trip {t.name}", gone)
        for slip in self.slips.in_condition(t.condition):
            yield self._slip(slip, place, f"if {t.name} tripped", trip(condition=slip.text), t.condition)
        word = "did not latch" if t.latching else "latched"
        yield Mistake("a trip that latches otherwise", place, f"if {t.name} {word}", trip(latching=not t.latching))
        scope = t.scope if t.scope is not None else tuple(q.name for q in self.project.sequences)
        for name in scope if len(scope) > 1 else ():
            left = tuple(n for n in scope if n != name)
            yield Mistake("a trip that forgets", place, f"if {t.name} did not act on {name}", trip(scope=left))
        if t.steps == "freeze":
            yield Mistake(
                "a trip that restarts",
                place,
                f"if {t.name} put its sequences back to their first steps",
                trip(steps="restart"),
            )
        for name in t.zeroed:
            left = tuple(n for n in t.zeroed if n != name)
            yield Mistake("a trip that forgets", place, f"if {t.name} did not set {name} to zero", trip(zeroed=left))
        stored = "keep" if t.stored == "clear" else "clear"
        words = f"if {t.name} {'kept' if stored == 'keep' else 'cleared'} what is stored"
        yield Mistake("a trip that forgets", place, words, trip(stored=stored))

    # -- logic and wiring

    def _logic(self) -> Iterator[Mistake]:
        for field in ("opening", "closing"):
            text = getattr(self.project, field)
            for slip in self.slips.in_statements(text) if text.strip() else ():
                project = self._file(**{field: slip.text})
                yield self._slip(slip, Place(field), f"if the {field} logic ran", project)
        for field, words in (("reset", "if the reset came"), ("home", "home")):
            text = getattr(self.project, field)
            for slip in self.slips.in_condition(text) if text.strip() else ():
                project = self._file(**{field: slip.text})
                yield self._slip(slip, Place("project", item=field), words, project, text)
        for s in self.project.signals:
            if s.cls is SignalClass.INTERNAL:
                word = "did not keep its value" if s.retain else "kept its value"
                new = tuple(replace(x, retain=not x.retain) if x is s else x for x in self.project.signals)
                yield Mistake(
                    "retain",
                    Place("signal", item=s.name),
                    f"if {s.name} {word} over a loss of power",
                    replace(self.project, signals=new),
                )

    def _wiring(self) -> Iterator[Mistake]:
        """Two inputs exchanged in the wiring, and contact forms turned."""
        inputs = {s.name.lower() for s in self.project.signals if s.cls is SignalClass.INPUT and s.type is Type.BOOL}
        ends = [(d, t, s) for d in self.project.devices for t, s in d.wires if s.lower() in inputs]
        for (a, ta, sa), (b, tb, sb) in pairwise(ends):
            devices = tuple(_wired(_wired(d, ta, sb, d is a), tb, sa, d is b) for d in self.project.devices)
            words = f"if {sa} and {sb} were exchanged in the wiring"
            yield Mistake(
                "inputs exchanged", Place("device", item=a.name), words, replace(self.project, devices=devices)
            )
        wired = {s.lower() for _, _, s in ends}
        for s in self.project.signals:
            if s.name.lower() in wired:
                other = "no" if s.contact == "nc" else "nc"
                new = tuple(replace(x, contact=other) if x is s else x for x in self.project.signals)
                words = f"if {s.name} were wired {'normally open' if other == 'no' else 'normally closed'}"
                yield Mistake(
                    "a contact turned", Place("signal", item=s.name), words, replace(self.project, signals=new)
                )


def _wired(d: Device, terminal: str, signal: str, own: bool) -> Device:
    return replace(d, wires=tuple((t, signal if t == terminal else s) for t, s in d.wires)) if own else d
