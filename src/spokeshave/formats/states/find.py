"""A text taken apart: its states, the branch of each, and what stands above and below them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass, field, replace
from enum import IntEnum
from functools import cached_property

from spokeshave.formats.errors import FormatError
from spokeshave.formats.states.fold import (
    FALSE,
    TRUE,
    Known,
    both,
    folded,
    folded_block,
    is_true,
    negated,
    number,
    stripped,
    value_of,
    written_by,
)
from spokeshave.formats.states.labels import comment_at, name_of, says_no_more, step_name
from spokeshave.language import syntax as sx
from spokeshave.language.terms import terms
from spokeshave.model.diagnostics import several
from spokeshave.model.project import Signal, SignalClass, Type

Fail = Callable[[sx.Span, str, str], FormatError]
Block = tuple[sx.Statement, ...]


_NEVER = 1 << 30


class Side(IntEnum):
    """Where a statement stands, and so which state it sees: the one before the scan, or the one behind its branches."""

    ABOVE = 0
    BETWEEN = 1
    """Behind the branches, but before the next state becomes the state: it sees the old one."""
    BELOW = 2


@dataclass(frozen=True, slots=True)
class State:
    """A state: its number, the name of its step, and what the text says beside its label."""

    number: int
    name: str
    comment: str
    span: sx.Span


@dataclass
class Machine:
    """A state variable with all that depends on it. `next` is the variable that the branches assign, `var` the one that is
    looked at; mostly they are the same.
    """

    name: str
    var: str
    next: str
    state: Signal
    states: dict[int, State]
    branches: dict[int, Block]
    guard: sx.Expression
    at: int
    """Its place among the statements around it."""
    copied: int
    """The place where `next` becomes `var`: statements before it see the old state, all of them where that is above the
    branches. -1 where both are one variable.
    """
    span: sx.Span
    passes: bool = False
    """Whether it was a row of IF without ELSIF: a scan that comes to a state further down goes on from there."""

    @cached_property
    def steps(self) -> frozenset[str]:
        """The names of the steps of its states."""
        return frozenset(s.name for s in self.states.values())

    @property
    def inside(self) -> Block:
        """The statements of all branches."""
        return tuple(s for block in self.branches.values() for s in block)

    def known(self, old: int, new: int) -> dict[str, sx.Expression]:
        """What the names of the state stand for."""
        return {self.var: number(old), self.next: number(new)} if self.var != self.next else {self.var: number(new)}

    def side(self, i: int) -> Side:
        """On which side of the branches statement `i` of those around stands."""
        if i < self.at:
            return Side.ABOVE
        return Side.BETWEEN if i < self.copied else Side.BELOW


@dataclass
class Found:
    """The machines of a text, and the statements around them in their order."""

    machines: list[Machine] = field(default_factory=list)
    around: list[sx.Statement] = field(default_factory=list)
    first: str = ""
    """A variable that is TRUE in the first scan alone: the text knows of that scan and counts from the beginning."""


@dataclass(frozen=True, slots=True)
class _Case:
    """A CASE, or a chain of IF as one, with the variable looked at and the one assigned."""

    case: sx.Case
    var: str
    next: str
    chained: bool
    whole: sx.Statement
    more: list[sx.Case] = field(default_factory=list)
    """Those behind it on the same variable, which add to its branches."""

    @property
    def joined(self) -> sx.Case:
        """All of them as one."""
        branches, otherwise = list(self.case.branches), self.case.otherwise
        at = {value_of(labels[0][0]): i for i, (labels, _) in reversed(list(enumerate(branches)))}
        for labels, block in (branch for case in self.more for branch in case.branches):
            value = value_of(labels[0][0])
            if value is not None and value in at:
                mine, had = branches[at[value]]
                branches[at[value]] = (mine, had + block)
            else:
                at.setdefault(value, len(branches))
                branches.append((labels, block))
        for case in self.more:
            otherwise = otherwise or case.otherwise
        return replace(self.case, branches=tuple(branches), otherwise=otherwise)


class Finder:
    """Takes one text apart. `text` is the whole file, in which the spans of the statements are places."""

    def __init__(
        self,
        name: str,
        text: str,
        signals: dict[str, Signal],
        fail: Fail,
        instances: Iterable[str] = (),
        named: Collection[str] = (),
    ) -> None:
        self.name, self.text, self.signals, self.fail, self.named = name, text, signals, fail, named
        self.instances = set(instances)
        self.constants: Known = {
            low: number(int(s.start))
            for low, s in signals.items()
            if s.cls is SignalClass.SETTING and s.type in (Type.INT, Type.DINT)
        }

    def find(self, statements: Block) -> Found:
        """The machines; none where nothing is one. Raises `FormatError` for states that cannot be read."""
        found = Found(first=self._first_scan(statements))
        if found.first:
            self._begin(statements, found.first)
            statements = tuple(x for s in statements if (x := stripped(s, {found.first})) is not None)
            statements = folded_block(statements, {found.first: FALSE})
        items = list(self._flat(statements, TRUE))
        copies = self._copies(items)
        cases = [self._case_of(s, copies) for s, _ in items]
        plain = {c.var for c in cases if c is not None and not c.chained}
        cases = [None if c is not None and c.chained and c.var in plain else c for c in cases]
        pairs = {(c.var, c.next) for c in cases if c is not None}
        mine: list[_Case] = []
        for (s, guard), case in zip(items, cases):
            if case is not None:
                self._add(found, mine, case, guard)
            elif isinstance(s, sx.Assign) and (str(s.target).lower(), str(s.value).lower()) in pairs:
                for m in found.machines:  # above the branches it is as if nothing stood there
                    if m.var == str(s.target).lower() and m.var != m.next:
                        m.copied = len(found.around)
            else:
                found.around.append(_guarded(s, guard))
        taken = {low for low in self.signals if low not in self.constants} | self.instances
        for m, of in zip(found.machines, mine):
            m.name = self.name if len(mine) == 1 and m.var not in self.named else self.signals[m.var].name
            m.passes = bool(of.more)
            self._branches(m, of.joined, set(taken), found.around)
        return found

    def _first_scan(self, statements: Block) -> str:
        """The variable that tells of the first scan, if there is one: TRUE at first, and set FALSE in every scan."""
        ends = [s for s in statements if isinstance(s, sx.Assign) and value_of(s.value) is False]
        ends += [x for s in statements for x in _if_alone(s) if isinstance(x, sx.Assign) and value_of(x.value) is False]
        for s in ends:
            name = str(s.target).lower()
            signal = self.signals.get(name)
            others = tuple(
                y for x in statements if x is not s
                for y in ([z for z in _if_alone(x, name) if z is not s] if s in _if_alone(x, name) else [x])
            )  # fmt: skip
            if (
                signal is not None
                and signal.cls is SignalClass.INTERNAL
                and signal.start is True
                and name not in written_by(others)
            ):
                return name
        return ""

    def _begin(self, statements: Block, first: str) -> None:
        """What the first scan alone sets is what variables are at first: `IF First THEN State := 10; END_IF;`"""
        for s in statements:
            for x in _if_alone(s, first):
                if not isinstance(x, sx.Assign) or str(x.target).lower() not in self.signals:
                    continue
                low, value = str(x.target).lower(), value_of(folded(x.value, self.constants))
                if value is not None and low != first:
                    self.signals[low] = replace(self.signals[low], initial=value)

    def _add(self, found: Found, mine: list[_Case], case: _Case, guard: sx.Expression) -> None:
        last = found.machines[-1] if found.machines else None
        if (
            last is not None
            and case.chained
            and mine[-1].chained
            and last.var == case.var
            and last.at == len(found.around)
        ):
            mine[-1].more.append(case.case)
            return
        if case.chained and any(m.var == case.var for m in found.machines):
            found.around.append(_guarded(case.whole, guard))
            return
        if any(m.var == case.var for m in found.machines):
            raise self.fail(case.case.span, f"{case.var} is set in two places that choose by it", "join them")
        state, copied = self.signals[case.next], -1 if case.var == case.next else _NEVER
        mine.append(case)
        found.machines.append(
            Machine("", case.var, case.next, state, {}, {}, guard, len(found.around), copied, case.case.span)
        )

    def _case_of(self, s: sx.Statement, copies: dict[str, str]) -> _Case | None:
        """A statement of the outer level that chooses by a state and sets it."""
        case = s if isinstance(s, sx.Case) else self._chain(s)
        if case is None or not self._counts(case.selector):
            return None
        var, written = str(case.selector).lower(), written_by((case,))
        next_ = var if var in written else copies.get(var, "")
        return _Case(case, var, next_, case is not s, s) if next_ in written else None

    # -- the outer level

    def _flat(self, block: Block, guard: sx.Expression) -> Iterator[tuple[sx.Statement, sx.Expression]]:
        """The statements of the outer level with the condition they stand under: an IF around states is taken off them, and so
        is a RETURN.
        """
        for n, s in enumerate(block):
            if isinstance(s, sx.If) and self._is_around_states(s):
                (condition, inner), *rest = s.branches
                other = (sx.If(tuple(rest), s.otherwise, s.span),) if rest else s.otherwise
                yield from self._flat(inner, both(guard, condition))
                yield from self._flat(other, both(guard, negated(condition)))
            elif isinstance(s, sx.If) and len(s.branches) == 1 and _returns(s.branches[0][1]) and not s.otherwise:
                condition, inner = s.branches[0]
                yield from self._flat(inner[:-1], both(guard, condition))
                yield from self._flat(block[n + 1 :], both(guard, negated(condition)))
                return
            else:
                yield s, guard

    def _holds_states(self, block: Block) -> bool:
        return any(
            (isinstance(s, sx.Case) and self._counts(s.selector) and bool(written_by((s,)) & self.numbers))
            or (isinstance(s, sx.If) and (self._is_chain_of_states(s) or self._is_around_states(s)))
            for s in block
        )

    def _is_chain_of_states(self, s: sx.If) -> bool:
        """Whether an IF asks for several states in turn and sets them."""
        case = self._chain(s) if len(s.branches) > 1 else None
        return case is not None and str(case.selector).lower() in written_by((s,))

    def _is_around_states(self, s: sx.If) -> bool:
        """Whether the branches of states stand in one of its own."""
        return any(map(self._holds_states, (*(inner for _, inner in s.branches), s.otherwise)))

    @cached_property
    def numbers(self) -> set[str]:
        return {
            low for low, s in self.signals.items() if s.type in (Type.INT, Type.DINT) and s.cls is SignalClass.INTERNAL
        }

    def _counts(self, tree: sx.Expression) -> bool:
        return isinstance(tree, sx.Name) and str(tree).lower() in self.numbers

    def _copies(self, items: list[tuple[sx.Statement, sx.Expression]]) -> dict[str, str]:
        """Variables that take the value of another one whatever happens: `State := Next`."""
        return {
            str(s.target).lower(): str(s.value).lower()
            for s, _ in items
            if isinstance(s, sx.Assign) and self._counts(s.target) and self._counts(s.value)
        }

    # -- chains of IF

    def _chain(self, s: sx.Statement) -> sx.Case | None:
        """An IF whose every condition asks for a state, as a CASE."""
        if not isinstance(s, sx.If):
            return None
        var, parts = "", list[tuple[list[int], sx.Expression, Block]]()
        for condition, block in s.branches:
            name, numbers, rest = self._asked(condition)
            if not name or (var and name != var):
                return None
            var = name
            parts.append((numbers, rest, block))
        asked: dict[int, list[tuple[sx.Expression, Block]]] = {}
        for numbers, rest, block in parts:
            for n in dict.fromkeys(numbers):
                asked.setdefault(n, []).append((rest, block))
        labels = self._labels(s, var)
        branches: list[tuple[tuple[tuple[sx.Literal | sx.Name, sx.Literal | sx.Name], ...], Block]] = []
        for n, mine in asked.items():
            inner = mine[0][1] if is_true(mine[0][0]) else (sx.If(tuple(mine), (), s.span),)
            label = labels.get(n, number(n))
            branches.append((((label, label),), inner))
        selector = sx.Name((self.signals[var].name,), s.span)
        return sx.Case(selector, tuple(branches), s.otherwise, s.span)

    def _asked(self, condition: sx.Expression) -> tuple[str, list[int], sx.Expression]:
        """The variable and the numbers a condition asks for, and what else it asks."""
        rest: sx.Expression = TRUE
        name, numbers = "", list[int]()
        for term in terms(condition):
            found = self._equal(term)
            if found and not name:
                name, numbers = found
            else:
                rest = both(rest, term)
        return name, numbers, rest

    def _equal(self, tree: sx.Expression) -> tuple[str, list[int]] | None:
        if isinstance(tree, sx.Binary) and tree.op == "OR":
            a, b = self._equal(tree.left), self._equal(tree.right)
            return (a[0], a[1] + b[1]) if a and b and a[0] == b[0] else None
        if isinstance(tree, sx.Binary) and tree.op == "=" and self._counts(tree.left):
            value = value_of(folded(tree.right, self.constants))
            if isinstance(value, int) and not isinstance(value, bool):
                return str(tree.left).lower(), [value]
        return None

    def _labels(self, s: sx.If, var: str) -> dict[int, sx.Literal | sx.Name]:
        """The labels of the states in a chain of IF, as they are written in the conditions."""
        found: dict[int, sx.Literal | sx.Name] = {}
        for condition, _ in s.branches:
            for term in _comparisons(condition):
                if isinstance(term.right, (sx.Literal, sx.Name)) and str(term.left).lower() == var:
                    value = value_of(folded(term.right, self.constants))
                    if value is not None:
                        found.setdefault(int(value), term.right)
        return found

    # -- branches

    def _branches(self, m: Machine, case: sx.Case, taken: set[str], around: list[sx.Statement]) -> None:
        assigned = list(self._assigned(m, case, around))
        start = int(m.state.start if m.var == m.next else self.signals[m.var].start)
        wanted = [n for n, _ in assigned] + [start]
        spelt = {n: str(tree) for n, tree in reversed(assigned) if isinstance(tree, sx.Name)}
        for labels, block in case.branches:
            numbers = [n for low, high in labels for n in self._range(low, high)]
            apart = [n for n in numbers if n in wanted]
            for n in apart or numbers[:1]:
                if n in m.branches:
                    raise self.fail(labels[0][0].span, f"state {n} stands twice", "join both")
                m.branches[n] = block
                self._name(m, n, labels[0][0], taken)
        missing = [(n, tree.span) for n, tree in assigned if n not in m.branches]
        if start not in m.branches:
            missing.insert(0, (start, case.span))
        for n, span in missing:
            if n in m.branches:
                continue
            left = case.otherwise or any(m.next in written_by((s,)) for s in around)
            if not left and n == start:
                named = several(m.branches)
                raise self.fail(
                    span, f"{m.state.name} starts in {n}, which is no state", f"start {m.state.name} in one of {named}"
                )
            if not left:
                raise self.fail(
                    span,
                    f"there is no state {n}",
                    f"add its label to the CASE; there are {several(m.branches)}",
                )
            m.branches = {n: case.otherwise, **m.branches} if n == start else {**m.branches, n: case.otherwise}
            m.states[n] = State(n, step_name(spelt.get(n, ""), n, taken), "", case.span)
        m.states = {n: m.states[n] for n in m.branches}

    def _name(self, m: Machine, n: int, label: sx.Literal | sx.Name, taken: set[str]) -> None:
        comment = comment_at(self.text, label.span.start, label.span.end) if label.span.end else ""
        if isinstance(label, sx.Name):
            m.states[n] = State(n, step_name(str(label), n, taken), comment, label.span)
            return
        wanted = name_of(comment)
        name = step_name(wanted, n, taken)
        if wanted and comment.startswith(f"{wanted}: "):
            comment = comment.removeprefix(f"{wanted}: ")
        m.states[n] = State(n, name, "" if wanted and says_no_more(comment, wanted) else comment, label.span)

    def _range(self, low: sx.Expression, high: sx.Expression) -> range:
        ends = [value_of(folded(x, self.constants)) for x in (low, high)]
        first, last = ends
        if not isinstance(first, int) or not isinstance(last, int) or isinstance(first, bool):
            raise self.fail(low.span, "a state is a whole number or a constant", "compute no states, name them")
        if last - first > 1000:
            raise self.fail(low.span, f"{last - first + 1} states in one label", "give the states labels of their own")
        return range(first, last + 1)

    def _assigned(self, m: Machine, case: sx.Case, around: list[sx.Statement]) -> Iterator[tuple[int, sx.Expression]]:
        """The numbers that are assigned to the state, as they are written."""
        for labels, block in case.branches:
            for n in (n for low, high in labels for n in self._range(low, high)):
                yield from self._in_block(block, m, {**self.constants, m.var: number(n), m.next: number(n)})
        yield from self._in_block(case.otherwise, m, self.constants)
        yield from self._in_block(tuple(around), m, self.constants)

    def _in_block(self, block: Block, m: Machine, known: Known) -> Iterator[tuple[int, sx.Expression]]:
        for s in block:
            if isinstance(s, sx.Assign) and str(s.target).lower() == m.next:
                if str(s.value).lower() in (m.var, m.next):
                    continue  # it stays where it is
                value = value_of(folded(s.value, known))
                if not isinstance(value, int) or isinstance(value, bool):
                    raise self.fail(
                        s.value.span, "a state is a whole number or a constant", "compute no states, name them"
                    )
                yield value, s.value
            if isinstance(s, (sx.For, sx.Loop)) and m.next in written_by((s,)):
                raise self.fail(s.span, "the state is set inside a loop", "set it under IF only")
            for inner in sx.children(s)[1]:
                yield from self._in_block(inner, m, known)


def _if_alone(s: sx.Statement, name: str = "") -> Block:
    """The statements of an IF that asks for one variable and nothing else, for `name` if it is given; none of another statement."""
    if not isinstance(s, sx.If) or len(s.branches) > 1 or s.otherwise:
        return ()
    condition, block = s.branches[0]
    asks = isinstance(condition, sx.Name) and (not name or str(condition).lower() == name)
    return block if asks and (name or str(condition).lower() in written_by(block)) else ()


def _guarded(s: sx.Statement, guard: sx.Expression) -> sx.Statement:
    if is_true(guard):
        return s
    return sx.If(((guard, (s,)),), (), s.span._replace(end=s.span.start))  # no text of its own: it is printed


def _returns(block: Block) -> bool:
    return bool(block) and isinstance(block[-1], sx.Jump) and block[-1].kind == "RETURN"


def _comparisons(tree: sx.Expression) -> Iterator[sx.Binary]:
    if isinstance(tree, sx.Binary):
        if tree.op == "=":
            yield tree
        yield from _comparisons(tree.left)
        yield from _comparisons(tree.right)
