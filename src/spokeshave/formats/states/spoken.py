"""Texts of a state program in the words of the sequences: a comparison with a state is the flag of its step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from spokeshave.formats.states.find import Machine
from spokeshave.formats.states.fold import ENTRY, Known, folded, negated, value_of
from spokeshave.language import syntax as sx
from spokeshave.language.rename import rename_many
from spokeshave.model.project import Signal, Type


class Spoken:
    """Puts trees into the words of the sequences that machines become."""

    def __init__(self, machines: list[Machine], constants: Known, signals: dict[str, Signal]) -> None:
        self.machines, self.constants, self.signals = machines, constants, signals

    def tree(self, tree: sx.Expression, own: Machine | None = None) -> sx.Expression:
        """A condition; in its own sequence a step is called by its name alone."""
        match tree:
            case sx.Binary():
                flag = self._flag(tree, own)
                if flag is not None:
                    return flag
                left, right = self._side(tree.left, own), self._side(tree.right, own)
                return tree if left is tree.left and right is tree.right else replace(tree, left=left, right=right)
            case sx.Unary():
                inner = self.tree(tree.operand, own)
                if inner is tree.operand:
                    return tree
                return negated(inner) if tree.op == "NOT" else replace(tree, operand=inner)
            case sx.Call() | sx.Element():
                return sx.with_parts(tree, lambda part: self.tree(part, own))
            case sx.Name():
                found = self._of(tree)
                if found is not None:
                    name = sx.Name((found.name, "State"), tree.span)
                    if found.state.type is Type.INT:
                        return sx.Call("DINT_TO_INT", (sx.Argument("", name),), tree.span)
                    return name
                return self._constant(tree)
        return tree

    def _side(self, tree: sx.Expression, own: Machine | None) -> sx.Expression:
        """One side of an operator: a state that is compared needs no other type."""
        found = self._of(tree)
        return sx.Name((found.name, "State"), tree.span) if found is not None else self.tree(tree, own)

    def _of(self, tree: sx.Expression) -> Machine | None:
        name = str(tree).lower() if isinstance(tree, sx.Name) else ""
        return next((m for m in self.machines if name in (m.var, m.next)), None) if name else None

    def _constant(self, tree: sx.Name) -> sx.Expression:
        """A constant that was the label of a state is its number."""
        low = str(tree).lower()
        if low in self.constants and any(low == s.name.lower() for m in self.machines for s in m.states.values()):
            return replace(self.constants[low], span=tree.span)
        return tree

    def _flag(self, tree: sx.Binary, own: Machine | None) -> sx.Expression | None:
        if tree.op not in ("=", "<>"):
            return None
        for a, b in ((tree.left, tree.right), (tree.right, tree.left)):
            m, value = self._of(a), value_of(folded(b, self.constants))
            if m is not None and isinstance(value, int) and value in m.states:
                parts = (m.states[value].name, "X") if m is own else (m.name, m.states[value].name, "X")
                flag = sx.Name(parts, tree.span)
                return flag if tree.op == "=" else sx.Unary("NOT", flag, tree.span)
        return None

    def statement(self, s: sx.Statement, own: Machine | None = None) -> sx.Statement:
        """A statement; itself where nothing in it speaks of a state."""

        def put(tree: sx.Expression) -> sx.Expression:
            return self.tree(tree, own)

        return mapped(s, put)

    def in_text(self, text: str) -> str:
        """A text of another program: the state is that of the sequence, a constant that was a label its number."""
        names: dict[str, str] = {}
        for m in self.machines:
            names |= dict.fromkeys((m.var, m.next), f"{m.name}.State")
            for state in m.states.values():
                if state.name.lower() in self.constants:
                    names[state.name.lower()] = str(state.number)
        return rename_many(text, names)


def mapped(s: sx.Statement, put: Callable[[sx.Expression], sx.Expression]) -> sx.Statement:
    """A statement with every expression in it put through a function; itself where that changes nothing."""

    def block(inner: tuple[sx.Statement, ...]) -> tuple[sx.Statement, ...]:
        new = tuple(mapped(x, put) for x in inner)
        return inner if all(a is b for a, b in zip(new, inner)) else new

    match s:
        case sx.Assign():
            value, target = put(s.value), s.target
            if isinstance(target, sx.Element):
                index = put(target.index)
                target = target if index is target.index else replace(target, index=index)
            return s if value is s.value and target is s.target else replace(s, target=target, value=value)
        case sx.If():
            branches = tuple((put(c), block(b)) for c, b in s.branches)
            otherwise = block(s.otherwise)
            changed = any(a is not c or x is not b for (a, x), (c, b) in zip(branches, s.branches))
            return replace(s, branches=branches, otherwise=otherwise) if changed or otherwise is not s.otherwise else s
        case sx.Case():
            cases = tuple((labels, block(b)) for labels, b in s.branches)
            selector, otherwise = put(s.selector), block(s.otherwise)
            changed = any(x is not b for (_, x), (_, b) in zip(cases, s.branches)) or selector is not s.selector
            if not changed and otherwise is s.otherwise:
                return s
            return replace(s, selector=selector, branches=cases, otherwise=otherwise)
        case sx.For():
            body, start, end = block(s.body), put(s.start), put(s.end)
            changed = body is not s.body or start is not s.start or end is not s.end
            return replace(s, body=body, start=start, end=end) if changed else s
        case sx.Loop():
            body, condition = block(s.body), put(s.condition)
            return s if body is s.body and condition is s.condition else replace(s, body=body, condition=condition)
        case sx.BlockCall():
            given = tuple(replace(a, value=put(a.value)) for a in s.inputs)
            changed = any(a.value is not b.value for a, b in zip(given, s.inputs))
            return replace(s, inputs=given) if changed else s
        case _:
            return s


def with_entry(m: Machine, last: str, flags: set[str]) -> Callable[[sx.Statement], sx.Statement]:
    """Puts `ENTRY` for a comparison of the state with the last one, and for the flags that keep it."""

    def put(tree: sx.Expression) -> sx.Expression:
        match tree:
            case sx.Binary():
                names = {str(x).lower() for x in (tree.left, tree.right) if isinstance(x, sx.Name)}
                if tree.op in ("=", "<>") and last in names and names & {m.var, m.next}:
                    return ENTRY if tree.op == "<>" else sx.Unary("NOT", ENTRY, tree.span)
                return sx.with_parts(tree, put)
            case sx.Name() if str(tree).lower() in flags:
                return ENTRY
            case _:
                return sx.with_parts(tree, put)

    return lambda s: mapped(s, put)
