"""A program that is one CASE on a whole-number state, read as a sequence.

Each label is a step, each assignment of the state a transition under the conditions around it, all else an action body.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

from spokeshave.formats.errors import FormatError
from spokeshave.language import syntax as sx
from spokeshave.language.printer import expression_text, statements_text
from spokeshave.language.rename import rename_in_text
from spokeshave.model.project import Action, Body, Qualifier, Sequence, Signal, Step, Transition, Type

Fail = Callable[[sx.Span, str, str], FormatError]


def is_state_program(statements: tuple[sx.Statement, ...], signals: dict[str, Signal]) -> bool:
    """Whether the text is one CASE on a whole-number variable that the CASE itself assigns."""
    if len(statements) != 1 or not isinstance(statements[0], sx.Case):
        return False
    selector = statements[0].selector
    if not isinstance(selector, sx.Name) or len(selector.parts) != 1:
        return False
    signal = signals.get(str(selector).lower())
    return signal is not None and signal.type in (Type.INT, Type.DINT) and _assigns(statements, str(selector).lower())


def _assigns(block: tuple[sx.Statement, ...], name: str) -> bool:
    for s in block:
        _, inner, written = sx.children(s)
        if any(str(n).lower() == name for n in written) or any(_assigns(b, name) for b in inner):
            return True
    return False


@dataclass
class CaseReader:
    """Reads one such program. `fail` makes a located error from a span, a message and an advice."""

    name: str
    case: sx.Case
    state: Signal
    signals: dict[str, Signal]
    fail: Fail
    numbers: dict[int, str] = field(default_factory=dict)

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
            found.append((number, block))
        start = int(self.state.start)
        if start not in self.numbers:
            advice = f"start {self.state.name} in one of {', '.join(map(str, self.numbers))}"
            raise self.fail(self.case.span, f"{self.state.name} starts in {start}, which is no state", advice)
        steps, transitions, bodies = [], [], []
        for number, block in found:
            step = self.numbers[number]
            ways, rest = self._split(block, [])
            transitions += [
                Transition((step,), (target,), condition, n + 1) for n, (condition, target) in enumerate(ways)
            ]
            actions: tuple[Action, ...] = ()
            if rest:
                bodies.append(Body(f"{step}_Body", self._own(statements_text(rest))))
                actions = (Action(Qualifier.N, f"{step}_Body"),)
            steps.append(Step(step, number, actions))
        leaving = [t.sources[0] for t in transitions]
        # A step with a single way out needs no priority.
        transitions = [replace(t, priority=None) if leaving.count(t.sources[0]) == 1 else t for t in transitions]
        return Sequence(self.name, self.numbers[start], tuple(steps), tuple(transitions), tuple(bodies))

    def _own(self, text: str) -> str:
        return rename_in_text(text, self.state.name, f"{self.name}.State")

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

    def _split(
        self, block: tuple[sx.Statement, ...], around: list[str]
    ) -> tuple[list[tuple[str, str]], tuple[sx.Statement, ...]]:
        """Ways out, as (condition, step), and the statements without them."""
        ways: list[tuple[str, str]] = []
        rest: list[sx.Statement] = []
        for s in block:
            if isinstance(s, sx.Assign) and str(s.target).lower() == self.state.name.lower():
                number = self._number(s.value)
                if number not in self.numbers:
                    raise self.fail(s.value.span, f"there is no state {number}", "add its label to the CASE")
                ways.append((self._own(" AND ".join(around) or "TRUE"), self.numbers[number]))
            elif isinstance(s, sx.If) and _assigns((s,), self.state.name.lower()):
                found, left = self._split_if(s, around)
                ways += found
                rest += left
            elif _assigns((s,), self.state.name.lower()):
                raise self.fail(s.span, "the state is set inside a loop or another CASE", "set it under IF only")
            else:
                rest.append(s)
        # Later assignments of the state win over earlier ones in a scan.
        return ways[::-1] if not around else ways, tuple(rest)

    def _split_if(self, s: sx.If, around: list[str]) -> tuple[list[tuple[str, str]], list[sx.Statement]]:
        ways: list[tuple[str, str]] = []
        branches = []
        before: list[str] = []
        for condition, block in s.branches:
            text = f"({expression_text(condition)})" if _weak(condition) else expression_text(condition)
            found, left = self._split(block, [*around, *before, text])
            ways += found
            branches.append((condition, left))
            before.append(f"NOT ({expression_text(condition)})")
        found, otherwise = self._split(s.otherwise, [*around, *before])
        ways += found
        if any(left for _, left in branches) or otherwise:
            return ways, [replace(s, branches=tuple(branches), otherwise=otherwise)]
        return ways, []


def _weak(tree: sx.Expression) -> bool:
    return isinstance(tree, sx.Binary) and tree.op in ("OR", "XOR")
