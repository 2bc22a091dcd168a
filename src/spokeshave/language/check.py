"""The type checker: from syntax trees to checked trees, with all problems of a text at once."""

from __future__ import annotations

from collections.abc import Callable

from spokeshave.language import checked as ck
from spokeshave.language import syntax as sx
from spokeshave.language.check_expressions import WHOLE, Expressions, Fault
from spokeshave.language.scope import Called as Called
from spokeshave.language.scope import Scope as Scope
from spokeshave.language.scope import Symbol as Symbol
from spokeshave.model.diagnostics import did_you_mean
from spokeshave.model.project import Type


class Checker(Expressions):
    """Checks texts of one place against its scope and gathers their problems."""

    def statements(self, tree: tuple[sx.Statement, ...]) -> tuple[ck.CheckedStatement, ...]:
        """The checked statements; those with problems are left out."""
        return self._block(tree, False)

    def _block(self, tree: tuple[sx.Statement, ...], in_loop: bool) -> tuple[ck.CheckedStatement, ...]:
        return tuple(done for s in tree for done in self._statement(s, in_loop))

    def _statement(self, s: sx.Statement, in_loop: bool) -> list[ck.CheckedStatement]:
        """What a statement becomes; a block call becomes stores of its inputs, the call, and stores of its outputs."""
        match s:
            case sx.Assign():
                done = self._assign(s.target, s.value, s.span)
                return [] if done is None else [done]
            case sx.If():
                branches = []
                for condition, block in s.branches:
                    test, body = self.condition(condition), self._block(block, in_loop)
                    if test is not None:
                        branches.append((test, body))
                return [ck.Choose(tuple(branches), self._block(s.otherwise, in_loop))]
            case sx.Case():
                return [self._case(s, in_loop)]
            case sx.Loop():
                test, body = self.condition(s.condition), self._block(s.body, True)
                return [] if test is None else [ck.Repeat(test, body, s.first, s.span)]
            case sx.For():
                return self._for(s)
            case sx.Jump():
                if s.kind == "EXIT" and not in_loop:
                    self._note(s.span, "EXIT stands outside of a loop", "RETURN leaves the whole text")
                return [ck.Leave(s.kind)]
            case sx.BlockCall():
                return self._block_call(s)

    def _case(self, s: sx.Case, in_loop: bool) -> ck.Choose:
        selector = self.expression_any(s.selector)
        if selector is not None and selector.type not in WHOLE:
            self._note(s.selector.span, f"CASE takes a whole number, this is {selector.type}")
            selector = None
        branches = []
        for labels, block in s.branches:
            tests = []
            for low, high in labels:
                ends = [self.expression_any(low), self.expression_any(high)]
                if selector is None or ends[0] is None or ends[1] is None:
                    continue
                try:
                    tests.append(self._in_range(selector, ends[0], ends[1], low.span))
                except Fault:
                    continue
            body = self._block(block, in_loop)
            if tests:
                branches.append((_any_of(tests, s.span), body))
        return ck.Choose(tuple(branches), self._block(s.otherwise, in_loop))

    def _in_range(self, selector: ck.Checked, low: ck.Checked, high: ck.Checked, span: sx.Span) -> ck.Checked:
        if low is high or low == high:
            a, b = self._unify(selector, low, span, "a label")
            return ck.Apply(Type.BOOL, "eq", (a, b), span)
        if isinstance(low, ck.Const) and isinstance(high, ck.Const) and low.value > high.value:
            raise self._fault(span, f"the range {low.value}..{high.value} is empty", "write the lower value first")
        tests = []
        for op, end in (("ge", low), ("le", high)):
            a, b = self._unify(selector, end, span, "a label")
            tests.append(ck.Apply(Type.BOOL, op, (a, b), span))
        return ck.Apply(Type.BOOL, "and", tuple(tests), span)

    def _for(self, s: sx.For) -> list[ck.CheckedStatement]:
        first = self._assign(s.variable, s.start, s.span)
        body = self._block(s.body, True)
        if not isinstance(first, ck.Store):
            return []
        if first.type not in WHOLE:
            self._note(s.variable.span, f"FOR counts a whole number, {first.name} is {first.type}")
            return []
        end = self.expression(s.end, first.type)
        one = sx.Literal(1, None, s.span)
        step = self.expression(s.step or one, first.type)
        if isinstance(step, ck.Const) and step.value == 0:
            self._note(step.span, "a step of 0 never ends")
            return []
        return [] if end is None or step is None else [ck.Count(first, end, step, body, s.span)]

    def _block_call(self, s: sx.BlockCall) -> list[ck.CheckedStatement]:
        found = self.scope.instance(str(s.instance).lower())
        if found is None:
            offer = did_you_mean(str(s.instance), self.scope.known())
            self._note(s.span, f"there is no block {s.instance}", offer or "declare it, for example as TON")
            return []
        kind = found.kind
        if found.locked:
            self._note(s.span, found.locked)
        inputs = {n.upper(): (n, slot, of) for n, slot, of in found.inputs}
        outputs = {n.upper(): (slot, of) for n, slot, of in found.outputs}
        out: list[ck.CheckedStatement] = []
        for a in s.inputs:
            if a.name.upper() not in inputs:
                offer = did_you_mean(a.name, [n for n, _, _ in found.inputs])
                self._note(a.value.span, f"{kind} has no input {a.name}", offer)
                continue
            name, slot, of = inputs[a.name.upper()]
            value = self.expression(a.value, of, f"{name} of {kind} is {of}")
            if value is not None:
                out.append(ck.Store(slot, f"{s.instance}.{name}", of, value, s.span))
        out.append(found.work(s.span))
        for name, target in s.outputs:
            if name.upper() not in outputs:
                offer = did_you_mean(name, [n for n, _, _ in found.outputs])
                self._note(target.span, f"{kind} has no output {name}", offer)
                continue
            slot, of = outputs[name.upper()]
            load = ck.Load(of, slot, f"{s.instance}.{name}", s.span)
            stored = self._stored(target, lambda _, load=load: load, s.span)  # type: ignore[misc]
            if stored is not None and self._type_of(stored) is not of:
                self._note(target.span, f"{target} is {self._type_of(stored)}, {name} of {kind} is {of}")
            elif stored is not None:
                out.append(stored)
        return out

    @staticmethod
    def _type_of(stored: ck.Store | ck.StoreAt) -> Type:
        return stored.type if isinstance(stored, ck.Store) else stored.cell.type

    def _written(self, name: sx.Name) -> Symbol | None:
        """The symbol of a name that is assigned, None with the problem noted."""
        try:
            symbol = self._symbol(name)
        except Fault:
            return None
        if symbol.locked:
            self._note(name.span, symbol.locked)
        return symbol

    def _assign(self, target: sx.Target, value: sx.Expression, span: sx.Span) -> ck.Store | ck.StoreAt | None:
        asked = False

        def given(of: Type) -> ck.Checked | None:
            nonlocal asked
            asked = True
            return self.expression(value, of, f"{target} is {of}")

        found = self._stored(target, given, span)
        if not asked:  # the target is wrong; what is wrong with the value is told too
            self.expression_any(value)
        return found

    def _stored(
        self, target: sx.Target, value: Callable[[Type], ck.Checked | None], span: sx.Span
    ) -> ck.Store | ck.StoreAt | None:
        """What assigns to a target the value that is wanted of its type; None with the problem noted."""
        if isinstance(target, sx.Element):
            try:
                cell = self._element(target, written=True)
            except Fault:
                return None
            given = value(cell.type)
            return None if given is None else ck.StoreAt(cell, given, span)
        symbol = self._written(target)
        given = None if symbol is None else value(symbol.type)
        return None if symbol is None or given is None else ck.Store(symbol.slot, symbol.name, symbol.type, given, span)


def _any_of(tests: list[ck.Checked], span: sx.Span) -> ck.Checked:
    """The OR of tests, as a tree that is no deeper than it must be."""
    while len(tests) > 1:
        pairs = [ck.Apply(Type.BOOL, "or", (a, b), span) for a, b in zip(tests[::2], tests[1::2])]
        tests = [*pairs, *tests[len(tests) - len(tests) % 2 :]]
    return tests[0]
