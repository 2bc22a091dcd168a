"""From a machine file to a program that runs, with everything that stands in the way as diagnostics."""

from __future__ import annotations

from collections import Counter
from operator import itemgetter
from typing import Any

from spokeshave.engine import program as pg
from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.language import checked as ck
from spokeshave.language.check import Checker
from spokeshave.language.compile import Compiled, Unit, compile_units
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.rename import name_problem
from spokeshave.language.syntax import TextError
from spokeshave.machine.kinds import KINDS, build, device_problems
from spokeshave.model.diagnostics import Diagnostic, Place, Severity, did_you_mean
from spokeshave.model.project import Action, Project, Sequence, SignalClass, Step, Transition, Type, zero_of


def transition_place(sequence: Sequence, index: int) -> Place:
    """Where a transition is, in words: `20 to 30` by numbers."""
    t = sequence.transitions[index]
    number = {s.name: str(s.number) for s in sequence.steps}
    ends = ["+".join(number.get(n, n) for n in names) for names in (t.sources, t.targets)]
    return Place("transition", sequence.name, " to ".join(ends), index)


class LinkError(Exception):
    """A machine file that cannot run; `found` says why."""

    def __init__(self, found: list[Diagnostic]) -> None:
        super().__init__("\n".join(map(str, found)))
        self.found = found


def link(project: Project) -> pg.Program:
    """The program of a machine file. Raises `LinkError` with every error found."""
    linker = Linker(project)
    program = linker.program()
    if program is None:
        raise LinkError(linker.found)
    return program


def link_problems(project: Project) -> list[Diagnostic]:
    """What keeps a machine file from running; empty if it runs."""
    linker = Linker(project)
    linker.program()
    return linker.found


class Linker:
    """Gathers checked texts with their places, then compiles them all at once."""

    def __init__(self, project: Project) -> None:
        self.project = project
        self.found: list[Diagnostic] = []
        self.units: list[Unit] = []
        self.places: list[Place] = []
        self.targets_by_name: dict[tuple[int, str], int] = {}
        self.targets: list[tuple[str, int, int]] = []  # name, slot, unit of the body

    # -- problems and texts

    def note(self, code: str, place: Place, message: str, advice: str = "") -> None:
        self.found.append(Diagnostic(code, Severity.ERROR, place, message, advice))

    def _place(self, place: Place) -> int:
        self.places.append(place)
        return len(self.places) - 1

    def _text(self, text: str, place: Place, scope: TextScope, kind: str) -> Any:
        """The checked tree of a text, or None with its problems noted. `kind`: condition, time, statements."""
        checker = Checker(scope)
        tree: Any = None
        try:
            if kind == "statements":
                tree = checker.statements(parse_statements(text))
            elif kind == "condition":
                tree = checker.condition(parse_expression(text))
            else:
                tree = checker.expression(parse_expression(text), Type.TIME, "a TIME is needed")
            problems = checker.problems
        except TextError as error:
            problems = error.problems
        except RecursionError:
            self.note("text", place, "this is too long for one expression", "use internals for its parts")
            return None
        for p in problems:
            message = p.message
            if kind == "condition" and not message.startswith("this is"):
                message = f"in the condition: {message}"
            self.note("text", place.spot(p.line, p.column), message, p.advice)
        return None if problems else tree

    def _unit(self, tree: Any, place: Place) -> int:
        self.units.append((self._place(place), tree))
        return len(self.units) - 1

    def _condition(self, text: str, place: Place, scope: TextScope) -> tuple[int, ck.Checked] | None:
        tree = self._text(text, place, scope, "condition")
        return None if tree is None else (self._unit(tree, place), tree)

    def _time(self, text: str, place: Place, scope: TextScope) -> pg.Time | None:
        """A literal or a setting."""
        if not text.strip():
            return None
        tree = self._text(text, place, scope, "time")
        if isinstance(tree, ck.Const):
            if int(tree.value) < 0:
                self.note("time-negative", place, f"{text} is negative", "a time counts from 0")
            return pg.Time(int(tree.value))
        if isinstance(tree, ck.Load):
            signal = self.project.signal(tree.name)
            if signal is not None and signal.cls is SignalClass.SETTING:
                return pg.Time(0, tree.slot)
        if tree is not None:
            self.note(
                "time-form", place, f"{text} is neither a time nor a setting", "write T#2s or the name of a setting"
            )
        return None

    # -- names

    def _names(self) -> None:
        """Each name once in the project, and each a legal one (semantics section 2)."""
        project = self.project
        if not 1 <= project.period_ms <= 1000:
            self.note("period", Place(), f"a period of {project.period_ms} ms", "1 to 1000 ms are possible")
        named = [(s.name, Place("signal", item=s.name)) for s in project.signals]
        named += [(q.name, Place("sequence", item=q.name)) for q in project.sequences]
        named += [(d.name, Place("device", item=d.name)) for d in project.devices]
        count = Counter(n.lower() for n, _ in named)
        said: set[str] = set()
        for name, place in named:
            problem = name_problem(name)
            if problem:
                self.note("name", place, problem)
            elif count[name.lower()] > 1 and name.lower() not in said:
                said.add(name.lower())
                self.note("name-twice", place, f"{name} names {count[name.lower()]} things", "give each its own name")
        for q in project.sequences:
            self._step_names(q)
        for s in project.signals:
            if s.initial is not None and isinstance(s.initial, bool) != (s.type is Type.BOOL):
                self.note("initial", Place("signal", item=s.name), f"{s.initial} is not a {s.type} value")

    def _step_names(self, q: Sequence) -> None:
        seen: set[str] = set()
        numbers: set[int] = set()
        for step in q.steps:
            place = Place("step", q.name, step.name)
            problem = name_problem(step.name)
            if problem:
                self.note("name", place, problem)
            if step.name.lower() in seen:
                self.note("name-twice", place, f"{q.name} has two steps {step.name}", "give each its own name")
            if step.number in numbers:
                self.note("number-twice", place, f"{q.name} has two steps with number {step.number}")
            if self.project.signal(step.name) is not None:
                self.note("name-clash", place, f"{step.name} is a signal too", "rename one of them")
            seen.add(step.name.lower())
            numbers.add(step.number)
        if q.step(q.initial) is None:
            self.note("initial-step", Place("sequence", item=q.name), f"{q.initial} is not one of its steps",
                      "choose an initial step")  # fmt: skip
        for i, t in enumerate(q.transitions):
            for name in (*t.sources, *t.targets):
                if q.step(name) is None:
                    offer = did_you_mean(name, (s.name for s in q.steps))
                    self.note("unknown-step", transition_place(q, i), f"there is no step {name} in {q.name}", offer)
            if not t.sources or not t.targets:
                self.note("transition-ends", transition_place(q, i), "a transition needs steps on both sides")
            for names in (t.sources, t.targets):
                if len(set(names)) < len(names):
                    self.note("transition-ends", transition_place(q, i), "the same step stands twice on one side")

    # -- the program

    def program(self) -> pg.Program | None:
        self._names()
        self.found += device_problems(self.project)
        if self.found:
            return None
        project = self.project
        self.table = SlotTable(project)
        self.acted = frozenset(
            a.target.lower() for q in project.sequences for s in q.steps for a in s.actions
            if project.signal(a.target) is not None
        )  # fmt: skip
        plain = TextScope(self.table, None, self.acted)
        opening = self._logic(project.opening, Place("opening"), plain)
        sequences = [self._sequence(i, q) for i, q in enumerate(project.sequences)]
        trips = [self._trip(i, t) for i, t in enumerate(project.trips)]
        interlocks = [self._interlock(i) for i in range(len(project.interlocks))]
        closing = self._logic(project.closing, Place("closing"), plain)
        home = self._condition(project.home, Place(item="home"), plain) if project.home.strip() else None
        reset = self._rising(project.reset, Place(item="reset"), plain)
        pairs = [self._pair(o.first, o.second, o.dead_ms) for o in project.opposed]
        if self.found:
            return None
        edges = [
            (kind, slot, self._unit(operand, Place()), None if time is None else self._unit(time, Place()))
            for kind, slot, operand, time in self.table.edges
        ]
        code = compile_units(self.units)

        def f(unit: int | None) -> Compiled | None:
            return None if unit is None else code[unit]

        linked = tuple(self._finish_sequence(s, code) for s in sequences)
        devices = self._devices()
        slots = [s for d in devices for s in d.drives]
        return pg.Program(
            project=project,
            period_ms=project.period_ms,
            places=tuple(self.places),
            start=tuple(self.table.values),
            recorded=self._recorded(),
            slots=dict(self.table.final),
            asked={self.table.final[n]: self.table.read[n] for n in self.table.final},
            types={s.name.lower(): s.type for s in project.signals},
            sequences=linked,
            targets=tuple(pg.Target(n, slot, f(unit) if unit >= 0 else None) for n, slot, unit in self.targets),
            blocks=tuple(sorted((b for q in linked for s in q.steps for b in s.blocks), key=lambda b: b.order)),
            opening=f(opening),
            closing=f(closing),
            edges=tuple(pg.LinkedEdge(k, s, code[o], f(t)) for k, s, o, t in edges),
            trips=tuple(t(code) for t in trips if t is not None),
            reset=reset,
            home=f(home[0]) if home else None,
            home_slot=self.table.home,
            interlocks=tuple(i(code) for i in interlocks if i is not None),
            pairs=tuple(p for p in pairs if p is not None),
            outputs=tuple(
                (self.table.read[s.name.lower()], self.table.final[s.name.lower()])
                for s in project.signals
                if s.cls is SignalClass.OUTPUT
            ),
            devices=devices,
            drives=itemgetter(*slots) if len(slots) > 1 else lambda v: tuple(v[s] for s in slots),
            retained=tuple(self.table.read[s.name.lower()] for s in project.signals if s.retain),
        )

    def _recorded(self) -> tuple[pg.Recorded, ...]:
        t = self.table
        out = [pg.Recorded(s.name, s.type, t.final[s.name.lower()], s.cls.value) for s in self.project.signals]
        for q in self.project.sequences:
            for s in q.steps:
                slot = t.member[(q.name.lower(), s.name.lower(), "x")]
                out.append(pg.Recorded(f"{q.name}.{s.name}.X", Type.BOOL, slot, "step"))
        return tuple(out)

    def _logic(self, text: str, place: Place, scope: TextScope) -> int | None:
        if not text.strip():
            return None
        tree = self._text(text, place, scope, "statements")
        return None if tree is None else self._unit(tree, place)

    def _rising(self, text: str, place: Place, scope: TextScope) -> int:
        """The slot of RISING(text), or -1 without a text."""
        if not text.strip():
            return -1
        tree = self._text(text, place, scope, "condition")
        return -1 if tree is None else self.table.edge("RISING", tree, None)

    # -- sequences

    def _sequence(self, index: int, q: Sequence) -> dict[str, Any]:
        scope = TextScope(self.table, q, self.acted)
        bodies: dict[str, int] = {}
        for body in q.bodies:
            place = Place("body", q.name, body.name)
            if self.project.signal(body.name) is not None:
                self.note("name-clash", place, f"{body.name} is a signal too", "rename the body")
            if body.name.lower() in bodies:
                self.note("name-twice", place, f"{q.name} has two bodies {body.name}")
            tree = self._text(body.text, place, scope, "statements")
            bodies[body.name.lower()] = -1 if tree is None else self._unit(tree, place)
        number = {s.name: i for i, s in enumerate(q.steps)}
        order = sorted(
            range(len(q.transitions)),
            key=lambda i: (q.transitions[i].priority is None, q.transitions[i].priority or 0, i),
        )
        rank = {t: n for n, t in enumerate(order)}
        permissives = {}
        for s in q.steps:
            if s.permissive.strip():
                done = self._condition(s.permissive, Place("step", q.name, s.name), scope)
                if done is not None:
                    permissives[s.name] = (*done, s.permissive)
        ways = [self._way(q, i, t, scope, number, rank[i], permissives) for i, t in enumerate(q.transitions)]
        in_order = sorted(range(len(q.steps)), key=lambda i: q.steps[i].number)
        blocks = {i: self._blocks(index, q, q.steps[i], scope, bodies, base=index) for i in in_order}
        steps = [self._step(q, i, s, scope) for i, s in enumerate(q.steps)]
        hold = self._condition(q.hold_when, Place("sequence", item=q.name), scope) if q.hold_when.strip() else None
        restart = self._rising(q.restart_when, Place("sequence", item=q.name), scope)
        return {"index": index, "q": q, "ways": ways, "blocks": blocks, "steps": steps, "hold": hold,
                "restart": restart}  # fmt: skip

    def _way(
        self, q: Sequence, index: int, t: Transition, scope: TextScope, number: dict[str, int], order: int,
        permissives: dict[str, tuple[int, ck.Checked, str]],
    ) -> dict[str, Any] | None:  # fmt: skip
        place = transition_place(q, index)
        done = self._condition(t.condition, place, scope)
        if done is None:
            return None
        return {
            "index": index,
            "order": order,
            "sources": tuple(number[s] for s in t.sources),
            "targets": tuple(number[s] for s in t.targets),
            "unit": done[0],
            "checked": done[1],
            "text": t.condition,
            "permissives": [permissives[n] for n in t.targets if n in permissives],
            "place": place,
        }

    def _blocks(
        self, index: int, q: Sequence, step: Step, scope: TextScope, bodies: dict[str, int], base: int
    ) -> tuple[pg.Block, ...]:
        out = []
        for position, action in enumerate(step.actions):
            target = self._target(index, q, step, action, bodies)
            place = Place("action", q.name, f"{step.name} {action.target}")
            time = self._time(action.time, place, scope)
            if action.qualifier.timed and time is None and not action.time.strip():
                self.note(
                    "action-time", place, f"{action.qualifier} needs a time", f"for example {action.qualifier} T#2s"
                )
            if target is not None:
                order = (base << 40) + (step.number << 16) + position
                out.append(pg.Block(order, action.qualifier, target, time or pg.Time(0), index))
        return tuple(out)

    def _target(self, index: int, q: Sequence, step: Step, action: Action, bodies: dict[str, int]) -> int | None:
        place = Place("action", q.name, f"{step.name} {action.target}")
        name = action.target.lower()
        signal = self.project.signal(name)
        if signal is None and name not in bodies:
            known = [s.name for s in self.project.signals] + [b.name for b in q.bodies]
            self.note("action-target", place, f"there is no signal or body {action.target}", did_you_mean(name, known))
            return None
        if signal is not None:
            if signal.cls not in (SignalClass.OUTPUT, SignalClass.INTERNAL):
                message = f"{signal.name} is of class {signal.cls}"
                self.note("action-target", place, message, "an action block acts on outputs and internals")
                return None
            if signal.type is not Type.BOOL:
                self.note("action-target", place, f"{signal.name} is {signal.type}", "an action block acts on a BOOL")
                return None
        key = (-1, name) if signal is not None else (index, name)
        if key not in self.targets_by_name:
            self.targets_by_name[key] = len(self.targets)
            if signal is not None:
                self.targets.append((signal.name, self.table.read[name], -1))
            else:
                self.targets.append((action.target, -1, bodies[name]))
        return self.targets_by_name[key]

    def _step(self, q: Sequence, index: int, s: Step, scope: TextScope) -> dict[str, Any]:
        place = Place("step", q.name, s.name)
        trip = -1
        if s.response not in ("", "alarm", "hold"):
            names = [t.name.lower() for t in self.project.trips]
            if s.response.lower() in names:
                trip = names.index(s.response.lower())
            else:
                self.note("response", place, f"there is no trip {s.response}", "alarm, hold or the name of a trip")
        return {
            "s": s,
            "index": index,
            "longest": self._time(s.longest, place, scope),
            "shortest": self._time(s.shortest, place, scope),
            "trip": trip,
            "place": place,
        }

    def _finish_sequence(self, d: dict[str, Any], code: list[Compiled]) -> pg.LinkedSequence:
        q: Sequence = d["q"]
        ways = [
            pg.Way(
                w["index"], w["order"], w["sources"], w["targets"], code[w["unit"]], w["checked"], w["text"],
                tuple((code[u], tree, text) for u, tree, text in w["permissives"]), w["place"],
            )
            for w in d["ways"]
        ]  # fmt: skip
        steps = []
        for part in d["steps"]:
            s: Step = part["s"]
            key = (q.name.lower(), s.name.lower())
            steps.append(
                pg.LinkedStep(
                    s.name,
                    s.number,
                    part["index"],
                    self.table.member[(*key, "x")],
                    self.table.member[(*key, "t")],
                    self.table.member[(*key, "late")],
                    d["blocks"][part["index"]],
                    tuple(sorted((w for w in ways if part["index"] in w.sources), key=lambda w: w.order)),
                    part["longest"],
                    part["shortest"],
                    s.response,
                    part["trip"],
                    part["place"],
                )
            )
        first = q.step(q.initial)
        assert first is not None
        hold = d["hold"]
        return pg.LinkedSequence(
            q.name,
            d["index"],
            tuple(steps),
            q.steps.index(first),
            self.table.member[(q.name.lower(), "", "state")],
            code[hold[0]] if hold else None,
            q.hold_outputs == "drop",
            d["restart"],
            q.retain,
        )

    # -- protection and machine

    def _trip(self, index: int, t: Any) -> Any:
        place = Place("trip", item=t.name)
        done = self._condition(t.condition, place, TextScope(self.table))
        names = [q.name.lower() for q in self.project.sequences]
        for name in t.scope:
            if name.lower() not in names:
                self.note("trip-scope", place, f"there is no sequence {name}", did_you_mean(name, names))
        go_to: dict[int, int] = {}
        for text in t.go_to:
            sequence, _, step = text.partition(".")
            q = self.project.sequence(sequence)
            found = q.step(step) if q else None
            if q is None or found is None:
                self.note("trip-step", place, f"there is no step {text}", "write Sequence.Step")
            else:
                go_to[names.index(sequence.lower())] = q.steps.index(found)
        zeroed = []
        for name in t.zeroed:
            signal = self.project.signal(name)
            if signal is None:
                self.note("trip-variable", place, f"there is no signal {name}")
            else:
                zeroed.append((self.table.read[name.lower()], zero_of(signal.type)))
        if done is None or self.found:
            return None
        scope = tuple(names.index(n.lower()) for n in t.scope)
        return lambda code: pg.LinkedTrip(
            t.name, index, t.rank, code[done[0]], scope, t.latching, t.steps, go_to, t.stored == "clear",
            t.times == "zero", tuple(zeroed),
        )  # fmt: skip

    def _output(self, name: str, place: Place) -> bool:
        signal = self.project.signal(name)
        if signal is None or signal.cls is not SignalClass.OUTPUT or signal.type is not Type.BOOL:
            offer = did_you_mean(name, (s.name for s in self.project.signals if s.cls is SignalClass.OUTPUT))
            self.note("not-an-output", place, f"{name} is no BOOL output", offer)
            return False
        return True

    def _interlock(self, index: int) -> Any:
        lock = self.project.interlocks[index]
        place = Place("interlock", item=lock.output, index=index)
        if not self._output(lock.output, place):
            return None
        done = self._condition(lock.condition, place, TextScope(self.table))
        if done is None:
            return None
        name = lock.output.lower()
        return lambda code: pg.LinkedInterlock(
            lock.output, self.table.read[name], self.table.final[name], code[done[0]], done[1], lock.condition, place
        )

    def _pair(self, first: str, second: str, dead_ms: int) -> pg.LinkedPair | None:
        place = Place("opposed", item=f"{first}, {second}")
        if not (self._output(first, place) and self._output(second, place)):
            return None
        a, b = first.lower(), second.lower()
        dead = -(-dead_ms // self.project.period_ms)
        t = self.table
        return pg.LinkedPair((first, second), (t.read[a], t.read[b]), (t.final[a], t.final[b]), dead)

    def _devices(self) -> tuple[pg.LinkedDevice, ...]:
        out = []
        for d in self.project.devices:
            kind = KINDS[d.kind]
            drives = tuple(self.table.final.get(d.wired(t.name).lower(), pg.NOTHING) for t in kind.drive_terminals())
            sensors = tuple(
                (i, self.table.final[d.wired(t.name).lower()])
                for i, t in enumerate(kind.sensor_terminals())
                if d.wired(t.name)
            )
            out.append(pg.LinkedDevice(d.name, build(d, self.project.period_ms), drives, sensors))
        return tuple(out)
