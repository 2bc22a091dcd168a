"""A slow, obvious interpreter of a machine file without devices, to keep the engine honest.

It walks the syntax tree in every scan and keeps everything in dictionaries by name. It shares the parser with the
engine and nothing else. Section numbers are those of the semantics.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.model.project import Project, Qualifier, Sequence, SignalClass, Step, Type

TIMED = (Qualifier.SD, Qualifier.DS, Qualifier.SL, Qualifier.S)


@dataclass
class Chart:
    q: Sequence
    active: set[str] = field(default_factory=set)
    since: dict[str, int] = field(default_factory=dict)
    lived: int = 0  # scans without those it was held or tripped
    came: set[str] = field(default_factory=set)
    left: set[str] = field(default_factory=set)
    time: dict[str, int] = field(default_factory=dict)
    late: set[str] = field(default_factory=set)
    mode: str = "run"
    jumped: bool = False
    late_hold: bool = False
    stored: dict[tuple[str, int], int] = field(default_factory=dict)
    spent: set[tuple[str, int]] = field(default_factory=set)
    kept: list[tuple[str, int]] = field(default_factory=list)


class Reference:
    """Runs scans and records every signal and step flag after each."""

    def __init__(self, project: Project) -> None:
        self.p = project
        self.k = 0
        self.var: dict[str, Any] = {s.name.lower(): s.start for s in project.signals}
        self.final: dict[str, Any] = {}
        self.charts = [Chart(q) for q in project.sequences]
        self.uses: list[tuple[Any, Chart | None]] = []  # every RISING, FALLING, HELD in the project
        self.was: dict[int, bool] = {}
        self.true_from: dict[int, int] = {}
        self.pulse: dict[int, bool] = {}
        self.trip_on: set[str] = set()
        self.effected: set[tuple[str, str]] = set()
        self.raised: set[str] = set()
        self.last_on: dict[tuple[str, str], int] = {}
        self.rows: list[dict[str, Any]] = []
        self._collect()
        for c in self.charts:
            c.came = {c.q.initial}
            c.active = {c.q.initial}
            c.since[c.q.initial] = 0

    # -- texts

    def _collect(self) -> None:
        """All edge and hold functions, inner ones first."""
        self.reset = parse_expression(self.p.reset) if self.p.reset else None
        texts: list[tuple[Any, Chart | None]] = []
        for c in self.charts:
            texts += [(parse_expression(t.condition), c) for t in c.q.transitions]
            texts += [(parse_expression(t), c) for t in (c.q.hold_when, c.q.restart_when) if t]
            texts += [(s, c) for b in c.q.bodies for s in parse_statements(b.text)]
            texts += [(parse_expression(s.permissive), c) for s in c.q.steps if s.permissive]
        texts += [(parse_expression(t.condition), None) for t in self.p.trips]
        texts += [(parse_expression(i.condition), None) for i in self.p.interlocks]
        texts += [(s, None) for t in (self.p.opening, self.p.closing) for s in parse_statements(t)]
        for tree, c in texts:
            self._find(tree, c)
        # Edges that the project has without writing RISING.
        self.reset_use = sx.Call("RISING", (sx.Argument("", self.reset),), None) if self.reset else None
        if self.reset_use:
            self._find(self.reset_use, None)
        self.restart_use: dict[str, Any] = {}
        for c in self.charts:
            if c.q.restart_when:
                use = sx.Call("RISING", (sx.Argument("", parse_expression(c.q.restart_when)),), None)
                self.restart_use[c.q.name] = use
                self._find(use, c)

    def _find(self, tree: Any, c: Chart | None) -> None:
        match tree:
            case sx.Unary():
                self._find(tree.operand, c)
            case sx.Binary():
                self._find(tree.left, c)
                self._find(tree.right, c)
            case sx.Assign():
                self._find(tree.value, c)
            case sx.If():
                for condition, block in tree.branches:
                    self._find(condition, c)
                    for s in block:
                        self._find(s, c)
                for s in tree.otherwise:
                    self._find(s, c)
            case sx.Call():
                for a in tree.arguments:
                    self._find(a.value, c)
                if tree.function in ("RISING", "FALLING", "HELD") and not any(t is tree for t, _ in self.uses):
                    self.uses.append((tree, c))

    def eval(self, tree: Any, c: Chart | None) -> Any:
        match tree:
            case sx.Literal():
                return tree.value
            case sx.Name():
                return self.read([x.lower() for x in tree.parts], c)
            case sx.Unary():
                x = self.eval(tree.operand, c)
                return (not x) if tree.op == "NOT" else -x if tree.op == "-" else x
            case sx.Binary():
                a, b = self.eval(tree.left, c), self.eval(tree.right, c)
                return {
                    "AND": lambda: a and b, "OR": lambda: a or b, "XOR": lambda: a != b,
                    "=": lambda: a == b, "<>": lambda: a != b, "<": lambda: a < b, ">": lambda: a > b,
                    "<=": lambda: a <= b, ">=": lambda: a >= b,
                    "+": lambda: self.wrap(a + b), "-": lambda: self.wrap(a - b), "*": lambda: self.wrap(a * b),
                }[tree.op]()  # fmt: skip
            case sx.Call():
                return self.pulse.get(id(tree), False)  # FALSE before phase 4 of scan 0
        raise AssertionError(tree)

    @staticmethod
    def wrap(x: Any) -> Any:
        return (x + 32768) % 65536 - 32768 if isinstance(x, int) and abs(x) < 10**6 else x

    def read(self, parts: list[str], c: Chart | None) -> Any:
        if len(parts) == 1:
            return self.var[parts[0]]
        if parts[1] == "state" and len(parts) == 2:
            chart = next(x for x in self.charts if x.q.name.lower() == parts[0])
            return min((s.number for s in chart.q.steps if s.name in chart.active), default=-1)
        chart = c if len(parts) == 2 else next(x for x in self.charts if x.q.name.lower() == parts[0])
        step = next(s for s in chart.q.steps if s.name.lower() == parts[-2])
        if parts[-1] == "x":
            return step.name in chart.active
        return step.name in chart.late if parts[-1] == "late" else chart.time.get(step.name, 0)

    def run_text(self, statements: Any, c: Chart | None) -> None:
        for s in statements:
            if isinstance(s, sx.Assign):
                self.var[str(s.target).lower()] = self.eval(s.value, c)
                continue
            for condition, block in s.branches:
                if self.eval(condition, c):
                    self.run_text(block, c)
                    break
            else:
                self.run_text(s.otherwise, c)

    def ms(self, text: str) -> int:
        tree = parse_expression(text)
        return tree.value if isinstance(tree, sx.Literal) else self.var[str(tree).lower()]

    # -- one scan (section 3)

    def scan(self, inputs: dict[str, Any], hand: dict[str, Any] | None = None) -> None:
        """One scan; `hand` are the outputs that are asked for in hand drive, by name (section 9.5)."""
        self.hand = None if hand is None else {n.lower(): v for n, v in hand.items()}
        self.var.update({n.lower(): v for n, v in inputs.items()})
        for c in self.charts:
            c.lived += self.k > 0
            self.times(c)
        self.run_text(parse_statements(self.p.opening), None)
        self.pulses()
        self.protect()
        for c in self.charts:
            if c.mode == "run":
                if self.k > 0 and not c.jumped:
                    self.evolve(c)
                self.lateness(c)
        self.act()
        self.run_text(parse_statements(self.p.closing), None)
        self.go_out()
        row = {s.name: self.final.get(s.name.lower(), self.var[s.name.lower()]) for s in self.p.signals}
        row |= {f"{c.q.name}.{s.name}.X": s.name in c.active for c in self.charts for s in c.q.steps}
        self.rows.append(row)
        self.k += 1

    def times(self, c: Chart) -> None:
        for name in c.active:
            c.time[name] = (c.lived - c.since[name]) * self.p.period_ms

    def pulses(self) -> None:
        """Section 7."""
        for tree, c in self.uses:
            key = id(tree)
            now = bool(self.eval(tree.arguments[0].value, c))
            was = self.was.get(key, False)
            if tree.function == "RISING":
                self.pulse[key] = now and not was and self.k > 0
            elif tree.function == "FALLING":
                self.pulse[key] = was and not now and self.k > 0
            else:
                if now and not was:
                    self.true_from[key] = self.k
                need = self.eval(tree.arguments[1].value, c)
                self.pulse[key] = now and (self.k - self.true_from[key]) * self.p.period_ms >= need
            self.was[key] = now

    def protect(self) -> None:
        """Section 9.2 to 9.4."""
        reset = bool(self.reset_use) and self.pulse[id(self.reset_use)]
        for t in self.p.trips:
            condition = self.eval_text(t.condition, None)
            if t.name not in self.trip_on:
                if condition or t.name in self.raised:
                    self.trip_on.add(t.name)
                    self.effected = {e for e in self.effected if e[0] != t.name}
            elif not condition and (reset or not t.latching):
                self.trip_on.discard(t.name)
        self.raised.clear()
        for c in self.charts:
            if self.k > 0:
                c.came = set()
            c.left, c.jumped = set(), False
            if reset:
                c.late_hold = False
            mine = [t for t in self.p.trips if t.name in self.trip_on and t.acts_on(c.q.name)]
            trip = min(mine, key=lambda t: t.rank) if mine else None
            target = None
            if trip:
                target = next((g.split(".")[1] for g in trip.go_to if g.split(".")[0] == c.q.name), None)
                target = target if trip.steps == "go to" else None
                if (trip.name, c.q.name) not in self.effected:
                    self.effected.add((trip.name, c.q.name))
                    self.effects(c, trip, target)
            hold = bool(c.q.hold_when) and self.eval_text(c.q.hold_when, c)
            by_hand = self.hand is not None
            c.mode = "tripped" if trip and not target else "held" if by_hand or c.late_hold or hold else "run"
            if c.mode != "run" and self.k > 0:
                c.lived -= 1
                self.times(c)
            use = self.restart_use.get(c.q.name)
            if use and self.pulse[id(use)] and c.mode != "tripped":
                c.stored.clear()
                self.jump(c, c.q.initial)
                c.jumped = True

    def eval_text(self, text: str, c: Chart | None) -> Any:
        return self.eval(parse_expression(text), c)

    def effects(self, c: Chart, trip: Any, target: str | None) -> None:
        if trip.stored == "clear":
            c.stored.clear()
        if trip.steps == "restart":
            self.jump(c, c.q.initial)
        elif target:
            self.jump(c, target)
            c.jumped = True
        if trip.times == "zero" and not target:
            for name in c.active:
                c.since[name] = c.lived - (self.k > 0)
                c.time[name] = 0
        for name in trip.zeroed:
            self.var[name.lower()] = False if self.p.signal(name).type is Type.BOOL else 0

    def jump(self, c: Chart, step: str) -> None:
        c.kept = []
        c.left |= c.active
        c.late -= c.active
        c.active = set()
        self.enter(c, step)

    def enter(self, c: Chart, name: str) -> None:
        c.active.add(name)
        c.came.add(name)
        c.since[name] = c.lived
        c.time[name] = 0
        c.spent = {s for s in c.spent if s[0] != name}

    def evolve(self, c: Chart) -> None:
        """Section 4."""
        true = []
        for i, t in enumerate(c.q.transitions):
            if all(s in c.active for s in t.sources):
                ok = self.eval_text(t.condition, c)
                for name in t.targets:
                    permissive = c.q.step(name).permissive
                    ok = ok and (not permissive or self.eval_text(permissive, c))
                if ok:
                    true.append(((0, t.priority) if t.priority is not None else (1, 0), i, t))
        given: set[str] = set()
        chosen = []
        for _, _, t in sorted(true, key=lambda x: x[:2]):
            if not given & set(t.sources):
                given |= set(t.sources)
                chosen.append(t)
        for t in chosen:
            for name in t.sources:
                c.active.discard(name)
                c.late.discard(name)
                c.left.add(name)
        for t in chosen:
            for name in t.targets:
                self.enter(c, name)

    def lateness(self, c: Chart) -> None:
        for s in c.q.steps:
            if s.name in c.active and s.longest and s.name not in c.late and c.time[s.name] >= self.ms(s.longest):
                c.late.add(s.name)
                if s.response == "hold":
                    c.late_hold = True
                elif s.response != "alarm":
                    self.raised.add(s.response)

    def act(self) -> None:
        """Section 5: contributions, then resets, then stored blocks, then bodies."""
        on: list[tuple[Chart, Step, int]] = []
        resets: set[str] = set()
        silent: set[str] = set()
        for c in self.charts:
            if c.mode == "run":
                c.kept = []
                for s in c.q.steps:
                    for i, a in enumerate(s.actions):
                        if self.contributes(c, s, i, a, resets):
                            c.kept.append((s.name, i))
            if c.mode == "tripped":
                c.kept = []
            if c.mode == "held":
                silent.add(c.q.name)
                if c.q.hold_outputs == "keep":
                    resets |= {self.key(c, a) for s in c.q.steps if s.name in c.active for a in s.actions
                               if a.qualifier is Qualifier.R}  # fmt: skip
            if c.mode == "run" or (c.mode == "held" and c.q.hold_outputs == "keep"):
                on += [(c, c.q.step(name), i) for name, i in c.kept]
        for c in self.charts:
            for name, i in list(c.stored):
                a = c.q.step(name).actions[i]
                if self.key(c, a) in resets:
                    del c.stored[(name, i)]
                    continue
                passed = (c.lived - c.stored[(name, i)]) * self.p.period_ms
                if a.qualifier is Qualifier.SD and passed < self.ms(a.time):
                    continue
                if a.qualifier is Qualifier.SL and passed >= self.ms(a.time):
                    continue
                on.append((c, c.q.step(name), i))
        q = {self.key(c, s.actions[i]) for c, s, i in on} - resets
        for c in self.charts:
            for s in c.q.steps:
                for a in s.actions:
                    if self.p.signal(a.target):
                        self.var[a.target.lower()] = a.target.lower() in q
        done = set()
        order = {c.q.name: n for n, c in enumerate(self.charts)}
        for c, s, i in sorted(on, key=lambda x: (order[x[0].q.name], x[1].number, x[2])):
            a = s.actions[i]
            body = next((b for b in c.q.bodies if b.name.lower() == a.target.lower()), None)
            key = self.key(c, a)
            if body and key in q and key not in done and c.q.name not in silent:
                done.add(key)
                self.run_text(parse_statements(body.text), c)

    def key(self, c: Chart, a: Any) -> str:
        name = a.target.lower()
        return name if self.p.signal(name) else f"{c.q.name}/{name}"

    def contributes(self, c: Chart, s: Step, i: int, a: Any, resets: set[str]) -> bool:
        x, into, out = s.name in c.active, s.name in c.came, s.name in c.left
        t = c.time.get(s.name, 0)
        block = (s.name, i)
        match a.qualifier:
            case Qualifier.N:
                return x
            case Qualifier.L:
                return x and t < self.ms(a.time)
            case Qualifier.D:
                return x and t >= self.ms(a.time)
            case Qualifier.P | Qualifier.P1:
                return x and into
            case Qualifier.P0:
                return out
            case Qualifier.R:
                if x:
                    resets.add(self.key(c, a))
            case Qualifier.DS:
                if x and t >= self.ms(a.time) and block not in c.spent:
                    c.spent.add(block)
                    c.stored.setdefault(block, c.lived)
            case _:
                if x and into:
                    c.stored.setdefault(block, c.lived)
        return False

    def go_out(self) -> None:
        """Section 8."""
        if self.hand is not None:
            for s in self.p.signals:
                if s.cls is SignalClass.OUTPUT:
                    self.var[s.name.lower()] = self.hand.get(s.name.lower(), False)
        asked = {s.name.lower(): self.var[s.name.lower()] for s in self.p.signals if s.cls is SignalClass.OUTPUT}
        final = dict(asked)
        for lock in self.p.interlocks:
            if not self.eval(parse_expression(lock.condition), None):
                final[lock.output.lower()] = False
        for pair in self.p.opposed:
            a, b = pair.first.lower(), pair.second.lower()
            if asked[a] and asked[b]:
                final[a] = final[b] = False
            dead = -(-pair.dead_ms // self.p.period_ms)
            for mine, other in ((a, b), (b, a)):
                last = self.last_on.get((pair.first, other))
                if final[mine] and last is not None and self.k <= last + dead:
                    final[mine] = False
            for name in (a, b):
                if final[name]:
                    self.last_on[(pair.first, name)] = self.k
        self.final = final
