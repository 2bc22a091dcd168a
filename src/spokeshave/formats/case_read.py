"""A program that is one CASE on a whole-number state, read as a sequence.

Each label is a step, each assignment of the state a transition under the conditions around it. What stands beside such an
assignment is a body that runs when the step is left (P0), all else a body that runs while it is active (N). Where that is
not what the text does, the text stays as it is, as opening logic (`kept`): see `reading`.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property

from spokeshave.formats.errors import FormatError
from spokeshave.language import syntax as sx
from spokeshave.language.printer import expression_text, statements_text
from spokeshave.language.rename import rename_many
from spokeshave.model.project import Action, Body, Qualifier, Sequence, Signal, Step, Transition, Type

Fail = Callable[[sx.Span, str, str], FormatError]


def state_case(statements: tuple[sx.Statement, ...], signals: dict[str, Signal]) -> sx.Case | None:
    """The CASE on a whole-number variable that it assigns itself, if there is one such on the outer level of a text."""
    found = [s for s in statements if isinstance(s, sx.Case) and _is_of_state(s, signals)]
    return found[0] if len(found) == 1 else None


def _is_of_state(case: sx.Case, signals: dict[str, Signal]) -> bool:
    selector = case.selector
    if not isinstance(selector, sx.Name) or len(selector.parts) != 1:
        return False
    signal = signals.get(str(selector).lower())
    return signal is not None and signal.type in (Type.INT, Type.DINT) and _assigns((case,), str(selector).lower())


def _assigns(block: tuple[sx.Statement, ...], name: str) -> bool:
    for s in block:
        _, inner, written = sx.children(s)
        if any(str(n).lower() == name for n in written) or any(_assigns(b, name) for b in inner):
            return True
    return False


@dataclass
class CaseReader:
    """Reads one such program. `fail` makes a located error from a span, a message and an advice; `around` are the statements
    beside the CASE, such as timers that are called above it and outputs that are set below.
    """

    name: str
    case: sx.Case
    state: Signal
    signals: dict[str, Signal]
    fail: Fail
    numbers: dict[int, str] = field(default_factory=dict)
    around: tuple[sx.Statement, ...] = ()
    spots: list[tuple[str, str, int, sx.Span]] = field(default_factory=list)
    """Kind, name, index and place in the text of what was made."""

    def sequence(self) -> Sequence:
        """The sequence; raises `FormatError` for what is outside the form."""
        if self.case.otherwise:
            raise self.fail(self.case.span, "the CASE has an ELSE", "give each state a label of its own")
        found: list[tuple[int, tuple[sx.Statement, ...]]] = []
        for labels, block in self.case.branches:
            if len(labels) != 1 or labels[0][0] != labels[0][1]:
                raise self.fail(labels[0][0].span, "a state needs a label of its own", "split lists and ranges")
            number = self._number(labels[0][0])
            if number in self.numbers:
                raise self.fail(labels[0][0].span, f"state {number} stands twice", "join both")
            label = labels[0][0]
            self.numbers[number] = str(label) if isinstance(label, sx.Name) else f"S{number}".replace("-", "m")
            self.spots.append(("step", self.numbers[number], -1, label.span))
            found.append((number, block))
        start = int(self.state.start)
        if start not in self.numbers:
            advice = f"start {self.state.name} in one of {', '.join(map(str, self.numbers))}"
            raise self.fail(self.case.span, f"{self.state.name} starts in {start}, which is no state", advice)
        steps: list[Step] = []
        transitions: list[Transition] = []
        bodies: list[Body] = []
        for number, block in found:
            step = self.numbers[number]
            for n, (condition, target, span) in enumerate(self._ways(block, [])):
                self.spots.append(("transition", "", len(transitions), span))
                transitions.append(Transition((step,), (target,), condition, n + 1))
            actions: list[Action] = []
            for qualifier, name, part in ((Qualifier.N, "Body", self._part(block, False)),
                                          (Qualifier.P0, "Left", self._part(block, True))):  # fmt: skip
                if part:
                    self.spots.append(("body", f"{step}_{name}", -1, part[0].span))
                    bodies.append(Body(f"{step}_{name}", self._own(statements_text(part))))
                    actions.append(Action(qualifier, f"{step}_{name}"))
            steps.append(Step(step, number, tuple(actions)))
        leaving = Counter(t.sources[0] for t in transitions)
        # A step with a single way out needs no priority.
        transitions = [replace(t, priority=None) if leaving[t.sources[0]] == 1 else t for t in transitions]
        return Sequence(self.name, self.numbers[start], tuple(steps), tuple(transitions), tuple(bodies))

    def _own(self, text: str) -> str:
        return self.other_texts(text)

    def other_texts(self, text: str) -> str:
        """A text in which the state is the sequence's, and a constant that named a state its number."""
        return rename_many(text, {self.state.name.lower(): f"{self.name}.State", **self._constants})

    @cached_property
    def _constants(self) -> dict[str, str]:
        """Constants that named a state, in lower case, with its number; known when all labels are read."""
        return {n.lower(): str(k) for k, n in self.numbers.items() if n.lower() in self.signals}

    def kept(self, chart: Sequence, text: str, names: tuple[str, str]) -> tuple[Sequence, str]:
        """The sequence and opening logic that do just what `text` does: the text stays, with the variable `names[0]` for
        the state; `names[1]` keeps it from running in the first scan, in which no sequence evolves.
        """
        follow, started = names
        words = {self.state.name.lower(): follow, **self._constants}
        number = {name: k for k, name in self.numbers.items()}
        pairs = dict.fromkeys((t.sources[0], t.targets[0]) for t in chart.transitions if t.sources != t.targets)
        led = dict.fromkeys(self._led_to(self.around))
        # The CASE may go on from there in the same scan.
        led |= dict.fromkeys(t.targets[0] for t in chart.transitions if t.sources[0] in led)
        pairs |= {(s.name, to): None for to in led for s in chart.steps if s.name != to}
        ways = tuple(Transition((a,), (b,), f"{follow} = {number[b]}") for a, b in pairs)
        steps = tuple(replace(s, actions=()) for s in chart.steps)
        state = f"{self.name}.State" if self.state.type is Type.DINT else f"DINT_TO_INT({self.name}.State)"
        logic = f"{follow} := {state};\nIF {started} THEN\n{rename_many(text, words)}\nEND_IF;\n{started} := TRUE;"
        return replace(chart, steps=steps, transitions=ways, bodies=()), logic

    def _led_to(self, block: tuple[sx.Statement, ...]) -> Iterator[str]:
        """Steps that statements beside the CASE go to from any other, such as a fault."""
        for s in block:
            if isinstance(s, sx.Assign) and self._assigns_state(s):
                number = self._number(s.value)
                if number not in self.numbers:
                    raise self.fail(s.value.span, f"there is no state {number}", "add its label to the CASE")
                yield self.numbers[number]
            for inner in sx.children(s)[1]:
                yield from self._led_to(inner)

    def _number(self, tree: sx.Expression) -> int:
        """The whole number of a label or of an assigned state: a literal or a constant."""
        if isinstance(tree, sx.Unary) and tree.op == "-" and isinstance(tree.operand, sx.Literal):
            return -int(tree.operand.value)
        if isinstance(tree, sx.Literal) and tree.type in (None, Type.INT, Type.DINT):
            return int(tree.value)
        if isinstance(tree, sx.Name):
            signal = self.signals.get(str(tree).lower())
            if signal is not None and signal.cls == "setting" and signal.type in (Type.INT, Type.DINT):
                return int(signal.start)
        raise self.fail(tree.span, "a state is a whole number or a constant", "compute no states, name them")

    def _assigns_state(self, s: sx.Statement) -> bool:
        return isinstance(s, sx.Assign) and str(s.target).lower() == self.state.name.lower()

    def _ways(self, block: tuple[sx.Statement, ...], around: list[str]) -> list[tuple[str, str, sx.Span]]:
        """Ways out, as (condition, step, place), the one that wins first: later assignments win over earlier ones in a scan."""
        ways: list[tuple[str, str, sx.Span]] = []
        for s in block:
            if isinstance(s, sx.Assign) and self._assigns_state(s):
                number = self._number(s.value)
                if number not in self.numbers:
                    raise self.fail(s.value.span, f"there is no state {number}", "add its label to the CASE")
                ways.insert(0, (self._own(" AND ".join(around) or "TRUE"), self.numbers[number], s.span))
            elif isinstance(s, sx.If) and _assigns((s,), self.state.name.lower()):
                ways[:0] = self._ways_of_if(s, around)
            elif _assigns((s,), self.state.name.lower()):
                raise self.fail(s.span, "the state is set inside a loop or another CASE", "set it under IF only")
        return ways

    def _ways_of_if(self, s: sx.If, around: list[str]) -> list[tuple[str, str, sx.Span]]:
        ways: list[tuple[str, str, sx.Span]] = []
        before: list[str] = []
        for condition, block in s.branches:
            text = f"({expression_text(condition)})" if _weak(condition) else expression_text(condition)
            ways += self._ways(block, [*around, *before, text])
            before.append(f"NOT ({expression_text(condition)})")
        return ways + self._ways(s.otherwise, [*around, *before])

    def _part(self, block: tuple[sx.Statement, ...], leaving: bool) -> tuple[sx.Statement, ...]:
        """The statements that run on leaving, which stand in a branch that sets the state, or all others."""
        rest: list[sx.Statement] = []
        for s in block:
            if isinstance(s, sx.If) and _assigns((s,), self.state.name.lower()):
                branches = tuple((c, self._branch(b, leaving)) for c, b in s.branches)
                otherwise = self._branch(s.otherwise, leaving)
                if any(b for _, b in branches) or otherwise:
                    rest.append(replace(s, branches=branches, otherwise=otherwise))
            elif not leaving and not self._assigns_state(s):
                rest.append(s)
        return tuple(rest)

    def _branch(self, block: tuple[sx.Statement, ...], leaving: bool) -> tuple[sx.Statement, ...]:
        if not any(self._assigns_state(s) for s in block):
            return self._part(block, leaving)
        return tuple(s for s in block if not self._assigns_state(s)) if leaving else ()


def _weak(tree: sx.Expression) -> bool:
    return isinstance(tree, sx.Binary) and tree.op in ("OR", "XOR")
