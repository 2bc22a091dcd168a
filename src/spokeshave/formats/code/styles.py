"""The evolution of a sequence (phase 6) in two styles of code: step flags, or a CASE for each thread of the chart."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property

from spokeshave.formats.code.pieces import Code, Hole, Variables, all_of, any_of
from spokeshave.formats.code.reached import entries_of
from spokeshave.formats.code.words import Words
from spokeshave.formats.errors import FormatError
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression
from spokeshave.model.project import Project, Sequence, Step, Transition
from spokeshave.model.qualifiers import When
from spokeshave.model.threads import Threads, threads

_CAN_STOP = frozenset(("+", "-", "*", "/", "MOD", "**"))


@dataclass
class StepVariables:
    """What the code keeps of one step; empty names where nobody asks."""

    time: str = ""
    late: str = ""
    came: str = ""
    left: str = ""
    spent: list[str] = field(default_factory=list)


class Style:
    """What both styles share. `active` and `leave`, `enter`, `evolve` are the style's own."""

    words: Words

    def __init__(self, project: Project, variables: Variables) -> None:
        self.project, self.variables = project, variables
        self.kept: dict[tuple[str, str], StepVariables] = {}
        self.states: dict[str, str] = {}
        for q in project.sequences:
            for s in q.steps:
                self.kept[(q.name, s.name)] = self._variables(q, s)

    def _variables(self, q: Sequence, s: Step) -> StepVariables:
        rules = [a.qualifier.rule for a in s.actions]
        own = StepVariables()
        prefix = f"{q.name}_{s.name}"
        retain = q.retain
        own.time = self.variables.new(f"{prefix}_T", "TIME", retain=retain)
        own.late = self.variables.new(f"{prefix}_Late", retain=retain) if s.longest or self._asks_late(s) else ""
        if any(r.when is When.ENTERED for r in rules):
            initial = "TRUE" if s.name == q.initial else ""
            own.came = self.variables.new(f"{prefix}_In", initial=initial)
        if any(r.when is When.LEFT for r in rules):
            own.left = self.variables.new(f"{prefix}_Out")
        return own

    def _asks_late(self, s: Step) -> bool:
        return f"{s.name}.late".lower() in self._texts

    @cached_property
    def _texts(self) -> str:
        """All texts of the machine file in one, in lower case and without blanks."""
        p = self.project
        texts = [p.opening, p.closing, p.home, p.reset]
        texts += [t.condition for t in p.trips] + [i.condition for i in p.interlocks]
        for q in p.sequences:
            texts += [q.hold_when, q.restart_when, *(t.condition for t in q.transitions), *(b.text for b in q.bodies)]
            texts += [s.permissive for s in q.steps]
        return "\n".join(texts).lower().replace(" ", "")

    def active(self, q: Sequence, s: Step) -> str:
        raise NotImplementedError

    def time(self, q: Sequence, s: Step) -> str:
        return self.kept[(q.name, s.name)].time

    def late(self, q: Sequence, s: Step) -> str:
        return self.kept[(q.name, s.name)].late or "FALSE"

    titled = True
    """Whether comments head the phases."""

    def tick(self, q: Sequence, sign: str, period: str) -> Iterator[str]:
        """A period more, or taken back, on the clocks of the active steps."""
        for s in q.steps:
            time = self.time(q, s)
            yield f"IF {self.active(q, s)} THEN {time} := {time} {sign} {period}; END_IF;"

    def zero(self, q: Sequence, first_scan: str, period: str) -> Iterator[str]:
        """Times begin anew; that of this scan is taken back by one who does not run."""
        for s in q.steps:
            time = self.time(q, s)
            yield f"IF {self.active(q, s)} THEN {time} := SEL({first_scan}, {period}, T#0s); END_IF;"

    def forget(self, q: Sequence, first_scan: str) -> Iterator[str]:
        """What came and left in the scan before is no longer new; behind a first scan what came still is."""
        came = [f"{v.came} := FALSE;" for s in q.steps if (v := self.kept[(q.name, s.name)]).came]
        if came:
            yield f"IF NOT {first_scan} THEN"
            yield from (f"  {line}" for line in came)
            yield "END_IF;"
        yield from (f"{v.left} := FALSE;" for s in q.steps if (v := self.kept[(q.name, s.name)]).left)

    def settle(self, q: Sequence, runs: str) -> Iterator[str]:
        """What follows when the steps of a scan are known; `runs` is the condition under which the sequence runs."""
        yield from ()

    def finish(self, q: Sequence) -> Iterator[str]:
        """What ends the scan."""
        yield from ()

    def ticks_freely(self, q: Sequence) -> bool:
        """Whether clocks may tick in the first scan too, since they are set to nothing in it."""
        return False

    def needs_first(self, q: Sequence) -> bool:
        """Whether the evolution has to be kept from running in the first scan."""
        return True

    def state(self, q: Sequence) -> str:
        if q.name not in self.states:
            first = q.step(q.initial)
            assert first is not None
            self.states[q.name] = self.variables.new(f"{q.name}_State", "DINT", str(first.number), q.retain)
        return self.states[q.name]

    def leave(self, q: Sequence, s: Step) -> list[str]:
        """What leaving a step does beside the flag or the state."""
        own = self.kept[(q.name, s.name)]
        return [f"{own.left} := TRUE;"] * bool(own.left) + [f"{own.late} := FALSE;"] * bool(own.late)

    def enter(self, q: Sequence, s: Step) -> list[str]:
        own = self.kept[(q.name, s.name)]
        lines = [f"{own.time} := T#0s;"] + [f"{own.came} := TRUE;"] * bool(own.came)
        return lines + [f"{name} := FALSE;" for name in own.spent]

    def jump(self, q: Sequence, target: Step) -> Iterator[str]:
        """All steps are left, one is entered."""
        raise NotImplementedError

    def evolve(self, code: Code, q: Sequence) -> None:
        raise NotImplementedError

    def count_states(self, code: Code, q: Sequence) -> None:
        """`Sequence.State`, where a text asks for it."""
        if q.name not in self.states:
            return
        word = "IF"
        for s in sorted(q.steps, key=lambda s: s.number):
            code.line(f"{word} {self.active(q, s)} THEN {self.states[q.name]} := {s.number};")
            word = "ELSIF"
        code.line(f"ELSE {self.states[q.name]} := -1; END_IF;")

    def condition(self, q: Sequence, index: int) -> Hole:
        text = q.transitions[index].condition
        return Hole(("condition", q.name, index), self.words.expression(text, q))

    def permissives(self, q: Sequence, t: Transition) -> str:
        texts = [s.permissive for s in map(q.step, t.targets) if s is not None and s.permissive.strip()]
        return "".join(f" AND {self.words.expression(text, q)}" for text in texts)


def in_priority(q: Sequence) -> list[int]:
    """Transitions by index in the order they are chosen in (semantics section 4)."""
    ways = q.transitions
    return sorted(range(len(ways)), key=lambda i: (ways[i].priority is None, ways[i].priority or 0, i))


def _ends(t: Transition) -> str:
    return f"{' and '.join(t.sources)} to {' and '.join(t.targets)}"


class FlagStyle(Style):
    """A BOOL a step, a BOOL a transition: for any chart."""

    def __init__(self, project: Project, variables: Variables) -> None:
        super().__init__(project, variables)
        self.flag = {
            (q.name, s.name): variables.new(f"{q.name}_{s.name}_X", "BOOL", "TRUE" * (s.name == q.initial), q.retain)
            for q in project.sequences
            for s in q.steps
        }
        self.go = {(q.name, i): variables.new(f"{q.name}_Go{i + 1}") for q in project.sequences
                   for i in range(len(q.transitions))}  # fmt: skip

    def active(self, q: Sequence, s: Step) -> str:
        return self.flag[(q.name, s.name)]

    def leave(self, q: Sequence, s: Step) -> list[str]:
        return [f"{self.active(q, s)} := FALSE;", *super().leave(q, s)]

    def enter(self, q: Sequence, s: Step) -> list[str]:
        return [f"{self.active(q, s)} := TRUE;", *super().enter(q, s)]

    def jump(self, q: Sequence, target: Step) -> Iterator[str]:
        for s in q.steps:
            yield f"IF {self.active(q, s)} THEN {' '.join(self.leave(q, s))} END_IF;"
        yield " ".join(self.enter(q, target))

    def evolve(self, code: Code, q: Sequence) -> None:
        order = in_priority(q)
        go = {i: self.go[(q.name, i)] for i in order}
        code.lines(f"{go[i]} := FALSE;" for i in order)
        before: dict[str, list[int]] = defaultdict(list)
        for n, i in enumerate(order):
            t = q.transitions[i]
            steps = all_of(*(self.active(q, s) for s in map(q.step, t.sources) if s is not None))
            code.line(f"(* {_ends(t)} *)")
            code.line(f"IF {steps} THEN {go[i]} := ", self.condition(q, i), f"{self.permissives(q, t)}; END_IF;")
            rivals = sorted({m for source in t.sources for m in before[source]})
            if rivals:
                code.line(f"{go[i]} := {go[i]} AND NOT ({any_of([go[order[m]] for m in rivals])});")
            for source in t.sources:
                before[source].append(n)
        for ends in ("sources", "targets"):
            for i in order:
                steps_of = [q.step(n) for n in getattr(q.transitions[i], ends)]
                put = self.leave if ends == "sources" else self.enter
                code.line(f"IF {go[i]} THEN {' '.join(line for s in steps_of if s for line in put(q, s))} END_IF;")


class CaseStyle(Style):
    """A CASE on the number of the active step, one for each thread of the chart."""

    def at_name(self, q: Sequence, n: int) -> str:
        """What the number of the active step in a thread is called."""
        return f"{q.name}_At{n + 1 if n else ''}"

    def __init__(self, project: Project, variables: Variables) -> None:
        super().__init__(project, variables)
        self.threads: dict[str, Threads] = {}
        self.at: dict[tuple[str, int], str] = {}
        self.way: dict[tuple[str, int], str] = {}
        self.test: dict[tuple[str, int], str] = {}
        for q in project.sequences:
            found = threads(q, entries_of(project, q))
            if found.problem:
                raise FormatError(
                    f"{q.name} cannot be a CASE: {found.problem}",
                    advice="write it with step flags, which any chart can be",
                )
            self.threads[q.name] = found
            first = q.step(q.initial)
            assert first is not None
            for n in range(found.count):
                initial = str(first.number) if n == 0 else "-1"
                self.at[(q.name, n)] = variables.new(self.at_name(q, n), self.kind_of(q), initial, q.retain)
                if found.count > 1:
                    self.way[(q.name, n)] = variables.new(f"{q.name}_Way{n + 1}", self.kind_of(q))

    def kind_of(self, q: Sequence) -> str:
        """The type of the variables that hold the numbers of a sequence."""
        return "DINT"

    def active(self, q: Sequence, s: Step) -> str:
        thread = self.threads[q.name].of.get(s.name)
        return "FALSE" if thread is None else f"{self.at[(q.name, thread)]} = {s.number}"

    def jump(self, q: Sequence, target: Step) -> Iterator[str]:
        for s in q.steps:
            lines = self.leave(q, s)
            if lines and s.name in self.threads[q.name].of:
                yield f"IF {self.active(q, s)} THEN {' '.join(lines)} END_IF;"
        yield " ".join([*self._go(q, (), (target.name,), everywhere=True), *self.enter(q, target)])

    def _go(
        self, q: Sequence, sources: tuple[str, ...], targets: tuple[str, ...], everywhere: bool = False
    ) -> list[str]:
        """The states after a transition; threads that are left and not entered wait with -1."""
        of = self.threads[q.name].of
        new = {of[s]: -1 for s in sources} if not everywhere else dict.fromkeys(range(self.threads[q.name].count), -1)
        for name in targets:
            step = q.step(name)
            assert step is not None
            new[of[name]] = step.number
        return [f"{self.at[(q.name, n)]} := {number};" for n, number in new.items()]

    def _effects(self, q: Sequence, t: Transition) -> list[str]:
        leaves = [line for s in map(q.step, t.sources) if s for line in self.leave(q, s)]
        enters = [line for s in map(q.step, t.targets) if s for line in self.enter(q, s)]
        return [*leaves, *self._go(q, t.sources, t.targets), *enters]

    def evolve(self, code: Code, q: Sequence) -> None:
        found = self.threads[q.name]
        order = [i for i in in_priority(q) if all(s in found.of for s in q.transitions[i].sources)]
        for n in range(found.count):
            if found.count > 1:
                code.line(f"{self.way[(q.name, n)]} := 0;")
            at_home: dict[str, list[int]] = {}
            for i in order:
                at_home.setdefault(self._home(q, i), []).append(i)
            ways = {s.name: at_home.get(s.name, []) for s in q.steps if found.of.get(s.name) == n}
            if not any(ways.values()):
                continue
            code.line(f"CASE {self.at[(q.name, n)]} OF")
            code.indent += 1
            for s in q.steps:
                if ways.get(s.name):
                    code.line(f"{s.number}: (* {s.name} *)")
                    code.indent += 1
                    self._ways(code, q, n, ways[s.name])
                    code.indent -= 1
            code.indent -= 1
            code.line("END_CASE;")
        if found.count > 1:
            for n in range(found.count):
                mine = [i for i in order if found.of[str(self._home(q, i))] == n]
                if mine:
                    code.line(f"CASE {self.way[(q.name, n)]} OF")
                    for i in mine:
                        code.line(f"  {i + 1}: {' '.join(self._effects(q, q.transitions[i]))}")
                    code.line("END_CASE;")

    def _home(self, q: Sequence, index: int) -> str:
        """The step in whose branch of a CASE a transition stands: its predecessor in the first thread."""
        of = self.threads[q.name].of
        return min(q.transitions[index].sources, key=lambda s: of[s])

    def _ways(self, code: Code, q: Sequence, thread: int, ways: list[int]) -> None:
        """IF, ELSIF in the order of priority. Conditions that can stop a run are all evaluated before."""
        several = len(ways) > 1 and any(can_stop(q.transitions[i].condition) for i in ways)
        word = "IF"
        if several:
            for i in ways:
                if (q.name, i) not in self.test:
                    self.test[(q.name, i)] = self.variables.new(f"{q.name}_If{i + 1}")
                code.line(f"{self.test[(q.name, i)]} := ", *self._test(q, i), ";")
        for i in ways:
            t = q.transitions[i]
            test = [self.test[(q.name, i)]] if several else self._test(q, i)
            code.line(f"{word} ", *test, f" THEN (* {_ends(t)} *)")
            code.indent += 1
            if (q.name, thread) in self.way:
                code.line(f"{self.way[(q.name, thread)]} := {i + 1};")
            else:
                code.lines(self._effects(q, t))
            code.indent -= 1
            word = "ELSIF"
        code.line("END_IF;")

    def _test(self, q: Sequence, index: int) -> list[str | Hole]:
        t = q.transitions[index]
        others = [self.active(q, s) for s in map(q.step, t.sources) if s and s.name != self._home(q, index)]
        return ["".join(f"{o} AND " for o in others), self.condition(q, index), self.permissives(q, t)]


def can_stop(text: str, operators: frozenset[str] = _CAN_STOP) -> bool:
    """Whether a condition computes: then it could stop a run, or overflow, which an ELSIF would hide."""

    def computes(tree: sx.Expression) -> bool:
        match tree:
            case sx.Unary():
                return (tree.op != "NOT" and "-" in operators) or computes(tree.operand)
            case sx.Binary():
                return tree.op in operators or computes(tree.left) or computes(tree.right)
            case sx.Call():
                return tree.function.upper() not in ("RISING", "FALLING", "HELD")
            case sx.Element():
                return True
            case _:
                return False

    return computes(parse_expression(text))
