"""Phase 5 as code: trips come and go, sequences are tripped, held or run, restarts (semantics 9.2 to 9.4)."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.formats.code.pieces import Code, Hole, Variables, all_of
from spokeshave.formats.code.reached import entries_of
from spokeshave.formats.code.styles import Style
from spokeshave.language.literals import value_text
from spokeshave.model.project import Project, Sequence, Trip, zero_of


class Protection:
    """The variables of phase 5, and its lines. `run[q]` is the condition under which a sequence runs in this scan."""

    def __init__(self, project: Project, variables: Variables, style: Style, period: str, first_scan: str) -> None:
        self.project, self.style, self.period, self.first_scan = project, style, period, first_scan
        self.tripped: dict[str, str] = {}
        self.held: dict[str, str] = {}
        self.run: dict[str, str] = {}
        self.jumped: dict[str, str] = {}
        self.late_hold: dict[str, str] = {}
        self.clocks: dict[str, list[str]] = {q.name: [] for q in project.sequences}
        """Times of stored actions, which stand still with their sequence."""
        self.stored: dict[str, list[str]] = {q.name: [] for q in project.sequences}
        self.keeps: dict[str, str] = {}
        self.acts: dict[str, str] = {}
        """Whether a hold keeps what the sequence did when it ran last, and whether it acts at all, for the plain style, which
        keeps no block of its own.
        """
        self.kept: dict[str, list[str]] = {q.name: [] for q in project.sequences}
        """What a hold keeps of outputs; given up when a sequence is put elsewhere, or tripped."""
        for q in project.sequences:
            if self.trips_of(q):
                self.tripped[q.name] = variables.new(f"{q.name}_Tripped")
            if any(s.response == "hold" and s.longest for s in q.steps):
                self.late_hold[q.name] = variables.new(f"{q.name}_Late_Hold")
            if q.hold_when.strip() or q.name in self.late_hold:
                self.held[q.name] = variables.new(f"{q.name}_Held")
            if q.name in self.tripped or q.name in self.held:
                self.run[q.name] = variables.new(f"{q.name}_Run")
            if not style.titled and q.name in self.held and q.hold_outputs == "keep":
                self.keeps[q.name] = variables.new(f"{q.name}_Keeps")
                self.acts[q.name] = variables.new(f"{q.name}_Acts")
            goes = any(t.steps == "go to" for t in self.trips_of(q)) if style.titled else entries_of(project, q)
            if q.restart_when.strip() or goes:
                self.jumped[q.name] = variables.new(f"{q.name}_Jumped")
        self.on = {t.name: variables.new(f"{t.name}_On") for t in project.trips}
        self.cause = {t.name: variables.new(f"{t.name}_If") for t in project.trips}
        self.raised = {
            t.name: variables.new(f"{t.name}_Raised")
            for t in project.trips
            if any(s.response.lower() == t.name.lower() and s.longest for q in project.sequences for s in q.steps)
        }
        self.effect = {
            (t.name, q.name): variables.new(f"{t.name}_{q.name}_Done")
            for q in project.sequences
            for t in self.trips_of(q)
        }

    def trips_of(self, q: Sequence) -> list[Trip]:
        """The trips with `q` in their scope, the deciding one first."""
        mine = [t for t in self.project.trips if t.acts_on(q.name)]
        return sorted(mine, key=lambda t: t.rank)

    def runs(self, q: Sequence) -> str:
        return self.run.get(q.name, "TRUE")

    def write(self, code: Code, reset: str) -> None:
        words = self.style.words
        for t in self.project.trips:
            code.line(f"{self.cause[t.name]} := ", Hole(("trip", t.name), words.expression(t.condition, None)), ";")
            comes = f"{self.cause[t.name]} OR {self.raised[t.name]}" if t.name in self.raised else self.cause[t.name]
            again = "".join(f" {v} := FALSE;" for (name, _), v in self.effect.items() if name == t.name)
            goes = f"NOT {self.cause[t.name]}" + (f" AND {reset}" if t.latching else "")
            on = self.on[t.name]
            code.line(f"IF NOT {on} THEN IF {comes} THEN {on} := TRUE;{again} END_IF;")
            code.line(f"ELSIF {goes} THEN {on} := FALSE; END_IF;")
        code.lines(f"{name} := FALSE;" for name in self.raised.values())
        for q in self.project.sequences:
            self._sequence(code, q, reset)

    def _sequence(self, code: Code, q: Sequence, reset: str) -> None:
        code.lines(self.style.forget(q, self.first_scan))
        if q.name in self.jumped:
            code.line(f"{self.jumped[q.name]} := FALSE;")
        if q.name in self.late_hold:
            code.when(reset, [f"{self.late_hold[q.name]} := FALSE;"])
        if q.name in self.tripped:
            self._tripping(code, q)
        if q.name in self.held:
            self._holding(code, q)
        if q.name in self.run:
            stops = [f"NOT {x[q.name]}" for x in (self.tripped, self.held) if q.name in x]
            code.line(f"{self.run[q.name]} := {' AND '.join(stops)};")
            code.when(f"NOT {self.run[q.name]} AND NOT {self.first_scan}", self.tick(q, "-"))
        if q.restart_when.strip():
            rising = self.style.words.rising(q.restart_when, q)
            free = f"NOT {self.tripped[q.name]}" if q.name in self.tripped else "TRUE"
            initial = q.step(q.initial)
            assert initial is not None
            jump = [*self._clear(q), *self._give_up(q), *self.style.jump(q, initial), f"{self.jumped[q.name]} := TRUE;"]
            code.when(all_of(rising, free), jump)
            self.style.count_states(code, q)

    def tick(self, q: Sequence, sign: str) -> Iterator[str]:
        """A period more, or taken back, on the clocks of the active steps and of what is stored."""
        yield from self.style.tick(q, sign, self.period)
        yield from (f"{c} := {c} {sign} {self.period};" for c in self.clocks[q.name])

    def _clear(self, q: Sequence) -> list[str]:
        return [f"{name} := FALSE;" for name in self.stored[q.name]]

    def _give_up(self, q: Sequence) -> list[str]:
        keeps = [f"{self.keeps[q.name]} := FALSE;"] if q.name in self.keeps else []
        return keeps + [f"{name} := FALSE;" for name in self.kept[q.name]]

    def _tripping(self, code: Code, q: Sequence) -> None:
        tripped = self.tripped[q.name]
        code.line(f"{tripped} := FALSE;")
        word = "IF"
        for t in self.trips_of(q):
            done = self.effect[(t.name, q.name)]
            goes = self._goes_to(t, q)
            code.line(f"{word} {self.on[t.name]} THEN")
            code.indent += 1
            effects = [*self._effects(q, t, goes)]
            if effects or self.style.titled:
                code.when(f"NOT {done}", [f"{done} := TRUE;", *effects])
            if not goes:
                code.lines([f"{tripped} := TRUE;", *self._give_up(q)])
            code.indent -= 1
            word = "ELSIF"
        code.line("END_IF;")
        self.style.count_states(code, q)

    def _goes_to(self, t: Trip, q: Sequence) -> str:
        if t.steps != "go to":
            return ""
        return next((g.split(".")[1] for g in t.go_to if g.lower().startswith(f"{q.name.lower()}.")), "")

    def _effects(self, q: Sequence, t: Trip, goes: str) -> Iterator[str]:
        if t.stored == "clear":
            yield from self._clear(q)
        target = q.step(goes or q.initial)
        assert target is not None
        if t.steps == "restart" or goes:
            yield from self._give_up(q)
            yield from self.style.jump(q, target)
        if goes:
            yield f"{self.jumped[q.name]} := TRUE;"
        if t.times == "zero" and not goes:
            # The time of this scan is taken back below, since the sequence is tripped.
            yield from self.style.zero(q, self.first_scan, self.period)
        for name in t.zeroed:
            signal = self.project.signal(name)
            assert signal is not None
            yield f"{self.style.words.logic(signal.name)} := {value_text(zero_of(signal.type), signal.type)};"

    def _holding_in_one_line(self, code: Code, q: Sequence) -> None:
        late, tripped = self.late_hold.get(q.name, ""), self.tripped.get(q.name, "")
        head = f"{self.held[q.name]} := {f'NOT {tripped} AND ' * bool(tripped)}"
        if not q.hold_when.strip():
            code.line(f"{head}{late};")
            return
        hole = Hole(("hold", q.name), self.style.words.expression(q.hold_when, q))
        code.line(head, f"({late} OR " * bool(late), hole, ")" * bool(late), ";")

    def _holding(self, code: Code, q: Sequence) -> None:
        held = self.held[q.name]
        if not self.style.titled:
            self._holding_in_one_line(code, q)
            return
        code.line(f"{held} := FALSE;")
        hold = Hole(("hold", q.name), self.style.words.expression(q.hold_when, q)) if q.hold_when.strip() else None
        late = self.late_hold.get(q.name, "")
        word = "IF"
        if q.name in self.tripped:
            code.line(f"IF {self.tripped[q.name]} THEN {held} := FALSE;")
            word = "ELSIF"
        if late:
            code.line(f"{word} {late} THEN {held} := TRUE;")
            word = "ELSIF"
        if hold is not None and word == "IF":
            code.line(f"{held} := ", hold, ";")
            return
        if hold is not None:
            code.line(f"ELSE {held} := ", hold, ";")
        code.line("END_IF;")
