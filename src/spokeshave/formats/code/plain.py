"""The plain style: one CASE a thread, as a person would have written it; a helper stands there only where something uses it.

clocks and edges    one CASE a thread    outputs mapped    bodies    the last state
"""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.formats.code.asked import Asked
from spokeshave.formats.code.pieces import Code, Hole, Variables, all_of
from spokeshave.formats.code.reached import entries_of
from spokeshave.formats.code.styles import CaseStyle, StepVariables, can_stop, in_priority
from spokeshave.formats.code.words import is_weak
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression
from spokeshave.model.project import Project, Sequence, Step, Transition, Type
from spokeshave.model.qualifiers import When

_DIVIDES = frozenset(("/", "MOD", "**"))
"""Operators that can stop a run; sums and products wrap."""
_INT = range(-(2**15), 2**15)


class PlainStyle(CaseStyle):
    """A variable named after the sequence with the number of the active step. A clock and the last number, one a thread, stand
    for times, entries and exits of all its steps.
    """

    titled = False

    def __init__(self, project: Project, variables: Variables) -> None:
        self.last: dict[tuple[str, int], str] = {}
        self.clock: dict[tuple[str, int], str] = {}
        self.was: dict[tuple[str, int], str] = {}
        """Of a sequence with several threads, what their numbers were before its transitions."""
        self._old = ""
        self._asked = Asked(project)
        for q in project.sequences:
            variables.free(q.name)
        super().__init__(project, variables)
        for q in project.sequences:
            for n in range(self.threads[q.name].count):
                self._helpers(q, n)
            if self.threads[q.name].count > 1 and self._at_once(q):
                for n in range(self.threads[q.name].count):
                    variables.drop(self.way.pop((q.name, n)))
                    self.was[(q.name, n)] = variables.new(f"{self.at[(q.name, n)]}Was", self.kind_of(q))

    @property
    def helpers(self) -> frozenset[str]:
        """Variables in lower case that keep what has been: clocks, last numbers, what the numbers were before transitions."""
        own = [time for q in self.project.sequences for _, time in self._own_times(q)]
        return frozenset(v.lower() for v in (*own, *self.clock.values(), *self.last.values(), *self.was.values()))

    def at_name(self, q: Sequence, n: int) -> str:
        return f"{q.name}{n + 1 if n else ''}"

    def kind_of(self, q: Sequence) -> str:
        return Type.INT if all(s.number in _INT and s.number - 1 in _INT for s in q.steps) else Type.DINT

    def _variables(self, q: Sequence, s: Step) -> StepVariables:
        own = StepVariables(time="T#0s", came="FALSE", left="FALSE")  # as for a step that nothing leads to
        if s.longest and (s.response != "alarm" or self._asked.often(q, s, "late")):
            own.late = self.variables.new(f"{q.name}_{s.name}_Late", retain=q.retain)
        return own

    def _helpers(self, q: Sequence, n: int) -> None:
        """The clock and the last number of a thread, where one of its steps needs them."""
        found, at = self.threads[q.name], self.at[(q.name, n)]
        steps = [s for s in q.steps if found.of.get(s.name) == n]
        rules = {s.name: [a.qualifier.rule for a in s.actions] for s in steps}
        timed = any(
            self._asked.often(q, s, "t")
            or any(r.in_step is not None for r in rules[s.name])
            or self.kept[(q.name, s.name)].late
            for s in steps
        )
        pulses = any(r.when is not When.ACTIVE for s in steps for r in rules[s.name])
        if not timed and not pulses:
            return
        none = min((s.number for s in q.steps), default=0) - 1
        last = self.last[(q.name, n)] = self.variables.new(f"{at}Last", self.kind_of(q), str(min(none, -2)), q.retain)
        if timed:
            self.clock[(q.name, n)] = self.variables.new(f"{at}T", "TIME", retain=q.retain)
        for s in steps:
            own = self.kept[(q.name, s.name)]
            if self._is_asked_elsewhere(q, s):
                own.time = self.variables.new(f"{q.name}_{s.name}_T", "TIME", retain=q.retain)
            elif timed:
                own.time = self.clock[(q.name, n)]
            if any(r.when is When.ENTERED for r in rules[s.name]):
                own.came = f"{at} <> {last}"
            if any(r.when is When.LEFT for r in rules[s.name]):
                if self._comes_again(q, s):
                    own.left = self.variables.new(f"{q.name}_{s.name}_Left")
                else:
                    own.left = f"{last} = {s.number} AND {at} <> {last}"

    def _is_asked_elsewhere(self, q: Sequence, s: Step) -> bool:
        """Whether the time of a step is looked at where the step need not be active: it keeps its last value then."""
        return self._asked.often(q, s, "t") > self._asked.on_the_way_out(q, s, "t")

    def _own_times(self, q: Sequence) -> Iterator[tuple[Step, str]]:
        """Steps with a time of their own beside the clock of their thread."""
        clocks = {"T#0s", *self.clock.values()}
        return ((s, time) for s in q.steps if (time := self.kept[(q.name, s.name)].time) not in clocks)

    def _comes_again(self, q: Sequence, s: Step) -> bool:
        """Whether a step can be left and entered in one scan."""
        again = any(s.name in t.sources and s.name in t.targets for t in q.transitions)
        begins = bool(q.restart_when.strip()) or any(
            t.steps == "restart" and t.acts_on(q.name) for t in self.project.trips
        )
        return again or (begins and s.name == q.initial) or s.name in entries_of(self.project, q)

    # -- lines

    def tick(self, q: Sequence, sign: str, period: str) -> Iterator[str]:
        for n in range(self.threads[q.name].count):
            if clock := self.clock.get((q.name, n)):
                yield f"{clock} := {clock} {sign} {period};"
        for s, time in self._own_times(q):
            yield f"IF {self.active(q, s)} THEN {time} := {time} {sign} {period}; END_IF;"

    def ticks_freely(self, q: Sequence) -> bool:
        early = f"{self.project.opening}{self.project.home}".lower().replace(" ", "")
        own = any(True for _ in self._own_times(q))
        return not q.retain and not own and not any(f"{s.name}.t".lower() in early for s in q.steps)

    def zero(self, q: Sequence, first_scan: str, period: str) -> Iterator[str]:
        for n in range(self.threads[q.name].count):
            if clock := self.clock.get((q.name, n)):
                yield f"{clock} := SEL({first_scan}, {period}, T#0s);"
        for s, time in self._own_times(q):
            yield f"IF {self.active(q, s)} THEN {time} := SEL({first_scan}, {period}, T#0s); END_IF;"

    def forget(self, q: Sequence, first_scan: str) -> Iterator[str]:
        yield from (f"{left} := FALSE;" for s in q.steps if (left := self._left_flag(q, s)))

    def _left_flag(self, q: Sequence, s: Step) -> str:
        """The variable that says that a step was left, where the last number cannot; else empty."""
        left = self.kept[(q.name, s.name)].left
        return left if left.isidentifier() and left != "FALSE" else ""

    def settle(self, q: Sequence, runs: str) -> Iterator[str]:
        for n in range(self.threads[q.name].count):
            if clock := self.clock.get((q.name, n)):
                moved = all_of(runs, f"{self.at[(q.name, n)]} <> {self.last[(q.name, n)]}")
                yield f"IF {moved} THEN {clock} := T#0s; END_IF;"

    def finish(self, q: Sequence) -> Iterator[str]:
        for n in range(self.threads[q.name].count):
            if last := self.last.get((q.name, n)):
                yield f"{last} := {self.at[(q.name, n)]};"

    def leave(self, q: Sequence, s: Step) -> list[str]:
        late = self.kept[(q.name, s.name)].late
        left = self._left_flag(q, s)
        return [f"{left} := TRUE;"] * bool(left) + [f"{late} := FALSE;"] * bool(late)

    def enter(self, q: Sequence, s: Step) -> list[str]:
        own = self.kept[(q.name, s.name)]
        again = [f"{own.time} := T#0s;"] if own.time != "T#0s" and own.time not in self.clock.values() else []
        return again + [f"{name} := FALSE;" for name in own.spent]

    def jump(self, q: Sequence, target: Step) -> Iterator[str]:
        thread = self.threads[q.name].of.get(target.name)
        if thread is not None and (last := self.last.get((q.name, thread))):
            yield f"IF {last} = {target.number} THEN {last} := {self._none(q, thread)}; END_IF;"
        for s in q.steps:
            own = self.kept[(q.name, s.name)]
            if left := self._left_flag(q, s):
                yield f"IF {self.active(q, s)} THEN {left} := TRUE; END_IF;"
            yield from [f"{own.late} := FALSE;"] * bool(own.late)
        clocks = [
            f"{self.clock[(q.name, n)]} := T#0s;"
            for n in range(self.threads[q.name].count)
            if (q.name, n) in self.clock
        ]
        yield " ".join([*self._go(q, (), (target.name,), everywhere=True), *clocks, *self.enter(q, target)])

    def _none(self, q: Sequence, n: int) -> str:
        """A number that no step has: the last one where a step is entered again."""
        return next(v.initial for v in self.variables.listed if v.name == self.last[(q.name, n)])

    def _effects(self, q: Sequence, t: Transition) -> list[str]:
        out = super()._effects(q, t)
        for name in set(t.sources) & set(t.targets):
            thread = self.threads[q.name].of[name]
            if last := self.last.get((q.name, thread)):
                out.append(f"{last} := {self._none(q, thread)};")
        return out

    def needs_first(self, q: Sequence) -> bool:
        """Unless every way out of the initial step waits for a time, it could be left in the first scan."""
        return any(not _waits(t.condition, q.initial) for t in q.transitions if q.initial in t.sources)

    def _test(self, q: Sequence, index: int) -> list[str | Hole]:
        others, condition, permissives = super()._test(q, index)
        assert isinstance(condition, Hole)
        alone = not others and not permissives and condition.text.startswith("(") and condition.text.endswith(")")
        if alone and is_weak(parse_expression(q.transitions[index].condition)):
            condition = Hole(condition.of, condition.text[1:-1])
        return [others, condition, permissives]

    # -- the CASE

    def evolve(self, code: Code, q: Sequence) -> None:
        self.words.behind_first = True
        if self._at_once(q):
            self._old = q.name if self.threads[q.name].count > 1 else ""
            code.lines(f"{was} := {self.at[key]};" for key, was in self.was.items() if key[0] == q.name)
            for n in range(self.threads[q.name].count):
                self._case(code, q, n)
            self._old = ""
        else:
            order = [i for i in in_priority(q) if all(s in self.threads[q.name].of for s in q.transitions[i].sources)]
            homes = {self._home(q, i) for i in order}
            code.lines(
                f"(* {self.at[(q.name, self.threads[q.name].of[s.name])]} = {s.number}: {_beside(s)} *)"
                for s in q.steps
                if s.name in self.threads[q.name].of and (s.name not in homes or s.comment)
            )
            super().evolve(code, q)
        self.words.behind_first = False

    def active(self, q: Sequence, s: Step) -> str:
        """While transitions of several threads are written, they look at the steps before all of them."""
        thread = self.threads[q.name].of.get(s.name)
        if thread is None or self._old != q.name:
            return super().active(q, s)
        return f"{self.was[(q.name, thread)]} = {s.number}"

    def _at_once(self, q: Sequence) -> bool:
        """Whether transitions may act as soon as they are chosen: nothing but numbers of steps tells the next ones of it."""
        if self.threads[q.name].count == 1:
            return True
        asks = any(".late" in t.condition.lower() for t in q.transitions)
        return not asks and not any(True for _ in self._own_times(q))

    def _case(self, code: Code, q: Sequence, n: int) -> None:
        found = self.threads[q.name]
        order = [i for i in in_priority(q) if all(s in found.of for s in q.transitions[i].sources)]
        ways: dict[str, list[int]] = {s.name: [] for s in q.steps}
        for i in order:
            ways[self._home(q, i)].append(i)
        mine = [s for s in sorted(q.steps, key=lambda s: s.number) if found.of.get(s.name) == n]
        if found.count > 1 and not any(ways[s.name] for s in mine):  # others lead away from here
            code.lines(f"(* {self.at[(q.name, n)]} = {s.number}: {_beside(s)} *)" for s in mine)
            return
        code.line(f"CASE {self.was.get((q.name, n)) if n else self.at[(q.name, n)]} OF")
        code.indent += 1
        for s in mine:
            code.line(f"{s.number}: (* {_beside(s)} *)" + " ;" * (not ways[s.name]))
            code.indent += 1
            self._ways(code, q, n, ways[s.name])
            code.indent -= 1
        code.indent -= 1
        code.line("END_CASE;")

    def _ways(self, code: Code, q: Sequence, thread: int, ways: list[int]) -> None:
        if len(ways) > 1 and any(can_stop(q.transitions[i].condition, _DIVIDES) for i in ways):
            super()._ways(code, q, thread, ways)
            return
        several = not self._at_once(q)
        for k, i in enumerate(ways):
            effects = [f"{self.way[(q.name, thread)]} := {i + 1};"] if several else self._effects(q, q.transitions[i])
            if k and i == ways[-1] and self._always(q, i):
                code.line(f"ELSE {' '.join(effects)}")
                continue
            end = " END_IF;" if len(ways) == 1 else ""
            code.line(f"{'ELSIF' if k else 'IF'} ", *self._test(q, i), f" THEN {' '.join(effects)}{end}")
        if len(ways) > 1:
            code.line("END_IF;")

    def _always(self, q: Sequence, index: int) -> bool:
        """Whether a way is taken whenever no way before it is."""
        t = q.transitions[index]
        return t.condition.strip().upper() == "TRUE" and len(t.sources) == 1 and not self.permissives(q, t)


def _beside(s: Step) -> str:
    """What stands beside the number of a step: its name, and what it is for."""
    return (s.name + f": {' '.join(s.comment.split())}" * bool(s.comment)).replace("*)", "* )")


def _waits(condition: str, step: str) -> bool:
    """Whether a condition can hold only when a time of a step has passed."""

    def waits(tree: sx.Expression) -> bool:
        if isinstance(tree, sx.Binary) and tree.op == "AND":
            return waits(tree.left) or waits(tree.right)
        return (
            isinstance(tree, sx.Binary) and tree.op in (">", ">=") and str(tree.left).lower() == f"{step}.T".lower()
            and isinstance(tree.right, sx.Literal) and tree.right.type is Type.TIME and int(tree.right.value) > 0
        )  # fmt: skip

    return waits(parse_expression(condition))
