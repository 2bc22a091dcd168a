"""The type checker: from syntax trees to checked trees, with all problems of a text at once."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import reduce
from itertools import pairwise
from typing import Protocol

from spokeshave.language import LanguageError
from spokeshave.language import checked as ck
from spokeshave.language import syntax as sx
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.functions import CONVERSIONS, FUNCTIONS
from spokeshave.language.literals import INT_LIMITS, value_problem
from spokeshave.model.diagnostics import did_you_mean, quoted
from spokeshave.model.project import Type

NUMERIC = (Type.INT, Type.DINT, Type.REAL)
WHOLE = (Type.INT, Type.DINT)
MOST_OFFERS = 20
"""Faults of a text for which close names are looked for."""


@dataclass(frozen=True, slots=True)
class Symbol:
    """What a name means: its type, the slot of its value, and why it may not be written (empty if it may)."""

    name: str
    type: Type
    slot: int
    locked: str = ""


class Scope(Protocol):
    """Tells the checker what names mean in the place a text belongs to."""

    def lookup(self, parts: tuple[str, ...]) -> Symbol | str:
        """The symbol of a (dotted) name, or a sentence on why there is none."""

    def known(self) -> Iterable[str]:
        """Names to offer when one is misspelt."""

    def instance(self, name: str) -> tuple[str, int, str] | None:
        """Kind, first slot of a block instance, and why it may not be called here (empty if it may)."""

    def edge(self, kind: str, operand: ck.Checked, time: ck.Checked | None) -> int:
        """The slot in which the result of this RISING, FALLING or HELD will stand."""


class _Fault(LanguageError):
    """Unwinds one expression whose problem is already noted."""


class Checker:
    """Checks texts of one place against its scope and gathers their problems."""

    def __init__(self, scope: Scope) -> None:
        self.scope = scope
        self.problems: list[sx.Problem] = []

    # -- entry points

    def condition(self, tree: sx.Expression) -> ck.Checked | None:
        """A checked BOOL expression, or None with the problems noted."""
        return self.expression(tree, Type.BOOL, "a condition is BOOL; compare it, for example {text} > 0")

    def expression(self, tree: sx.Expression, wanted: Type, advice: str = "") -> ck.Checked | None:
        try:
            node = self._expr(tree)
            if node.type is not wanted:
                node = self._convert(node, wanted, tree.span, advice)
            return node
        except _Fault:
            return None

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
                except _Fault:
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
        if first is None:
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
        kind, base, locked = found
        if locked:
            self._note(s.span, locked)
        block = BLOCKS[kind]
        slots = {name: (base + i, of) for i, (name, of) in enumerate(block.members())}
        inputs = {name for name, _ in block.inputs}
        out: list[ck.CheckedStatement] = []
        for a in s.inputs:
            name = a.name.upper()
            if name not in inputs:
                self._note(a.value.span, f"{kind} has no input {a.name}", did_you_mean(a.name, inputs))
                continue
            value = self.expression(a.value, slots[name][1], f"{name} of {kind} is {slots[name][1]}")
            if value is not None:
                out.append(ck.Store(slots[name][0], f"{s.instance}.{name}", slots[name][1], value, s.span))
        out.append(ck.Run(kind, base, str(s.instance), s.span))
        for name, target in s.outputs:
            if name.upper() not in slots or name.upper() in inputs:
                self._note(
                    target.span, f"{kind} has no output {name}", did_you_mean(name, [n for n, _ in block.outputs])
                )
                continue
            slot, of = slots[name.upper()]
            symbol = self._written(target)
            if symbol is not None and symbol.type is not of:
                self._note(target.span, f"{symbol.name} is {symbol.type}, {name} of {kind} is {of}")
            elif symbol is not None:
                load = ck.Load(of, slot, f"{s.instance}.{name}", s.span)
                out.append(ck.Store(symbol.slot, symbol.name, of, load, s.span))
        return out

    def _written(self, name: sx.Name) -> Symbol | None:
        """The symbol of a name that is assigned, None with the problem noted."""
        try:
            symbol = self._symbol(name)
        except _Fault:
            return None
        if symbol.locked:
            self._note(name.span, symbol.locked)
        return symbol

    def _assign(self, target: sx.Name, value: sx.Expression, span: sx.Span) -> ck.Store | None:
        symbol = self._written(target)
        if symbol is None:
            self.expression_any(value)
            return None
        checked = self.expression(value, symbol.type, f"{symbol.name} is {symbol.type}")
        return None if checked is None else ck.Store(symbol.slot, symbol.name, symbol.type, checked, span)

    def expression_any(self, tree: sx.Expression) -> ck.Checked | None:
        """Checks an expression of whatever type."""
        try:
            return self._expr(tree)
        except _Fault:
            return None

    # -- problems

    def _note(self, span: sx.Span, message: str, advice: str = "") -> None:
        self.problems.append(sx.Problem.at(span, message, advice))

    def _fault(self, span: sx.Span, message: str, advice: str = "") -> _Fault:
        self._note(span, message, advice)
        return _Fault()

    # -- expressions

    def _expr(self, tree: sx.Expression) -> ck.Checked:
        match tree:
            case sx.Literal():
                return self._literal(tree)
            case sx.Name():
                symbol = self._symbol(tree)
                return ck.Load(symbol.type, symbol.slot, symbol.name, tree.span)
            case sx.Unary():
                return self._unary(tree)
            case sx.Binary():
                return self._binary(tree)
            case sx.Call():
                return self._call(tree)

    def _literal(self, tree: sx.Literal) -> ck.Const:
        if tree.type is None:
            number = int(tree.value)
            kind = Type.INT if not value_problem(number, Type.INT) else Type.DINT
            if value_problem(number, kind):
                raise self._fault(tree.span, f"{quoted(number)} does not fit in 32 bits")
            return ck.Const(kind, number, tree.span, free=True)
        if tree.type in WHOLE and value_problem(int(tree.value), tree.type):
            low, high = INT_LIMITS[tree.type]
            raise self._fault(tree.span, f"{tree.value} is out of range; {tree.type} holds {low} to {high}")
        return ck.Const(tree.type, tree.value, tree.span)

    def _symbol(self, tree: sx.Name) -> Symbol:
        found = self.scope.lookup(tuple(p.lower() for p in tree.parts))
        if isinstance(found, str):
            many = len(self.problems) > MOST_OFFERS  # looking for close names among thousands takes its time
            offer = "" if many else did_you_mean(str(tree), self.scope.known())
            raise self._fault(tree.span, found or f"there is no {tree}", offer)
        return found

    def _unary(self, tree: sx.Unary) -> ck.Checked:
        node = self._expr(tree.operand)
        if tree.op == "NOT":
            node = self._need(node, Type.BOOL, tree.operand.span, "NOT")
            return ck.Apply(Type.BOOL, "not", (node,), tree.span)
        if isinstance(node, ck.Const) and node.free:
            number = -int(node.value) if tree.op == "-" else int(node.value)
            return ck.Const(
                Type.INT if not value_problem(number, Type.INT) else Type.DINT, number, tree.span, free=True
            )
        if node.type not in (*NUMERIC, Type.TIME):
            raise self._fault(tree.span, f"{tree.op} takes a number or a time, this is {node.type}")
        return node if tree.op == "+" else ck.Apply(node.type, "neg", (node,), tree.span)

    def _need(self, node: ck.Checked, wanted: Type, span: sx.Span, what: str) -> ck.Checked:
        if node.type is not wanted:
            advice = "compare it, for example with > 0" if wanted is Type.BOOL and node.type in NUMERIC else ""
            raise self._fault(span, f"{what} takes {wanted}, this is {node.type}", advice)
        return node

    def _binary(self, tree: sx.Binary) -> ck.Checked:
        faults = 0
        sides: list[ck.Checked] = []
        for part in (tree.left, tree.right):
            try:
                node = self._expr(part)
                if tree.op in ("AND", "OR", "XOR"):
                    node = self._need(node, Type.BOOL, part.span, tree.op)
                sides.append(node)
            except _Fault:
                faults += 1
        if faults:
            raise _Fault()
        return self._joined(tree.op, sides[0], sides[1], tree.span)

    def _joined(self, op: str, left: ck.Checked, right: ck.Checked, span: sx.Span) -> ck.Checked:
        """Two checked operands with the operator between them; those of AND, OR and XOR are BOOL already."""
        if op in ("AND", "OR", "XOR"):
            return ck.Apply(Type.BOOL, op.lower(), (left, right), span)
        if op in ("*", "/") and Type.TIME in (left.type, right.type):
            return self._scaled_time(op, left, right, span)
        left, right = self._unify(left, right, span, op)
        if op in ("=", "<>", "<", ">", "<=", ">="):
            if left.type is Type.BOOL and op not in ("=", "<>"):
                raise self._fault(span, f"{op} does not order BOOL values", "use = or <>")
            name = {"=": "eq", "<>": "ne", "<": "lt", ">": "gt", "<=": "le", ">=": "ge"}[op]
            return ck.Apply(Type.BOOL, name, (left, right), span)
        allowed: tuple[Type, ...] = NUMERIC
        if op in ("+", "-"):
            allowed = (*NUMERIC, Type.TIME)
        elif op == "MOD":
            allowed = WHOLE
        elif op == "**":
            left, right = (self._convert(n, Type.REAL, n.span) for n in (left, right))
        if left.type not in allowed:
            raise self._fault(span, f"{op} does not work on {left.type}")
        name = {"+": "add", "-": "sub", "*": "mul", "/": "div", "MOD": "mod", "**": "pow"}[op]
        return ck.Apply(left.type, name, (left, right), span)

    def _scaled_time(self, op: str, left: ck.Checked, right: ck.Checked, span: sx.Span) -> ck.Checked:
        if op == "*" and right.type is Type.TIME:
            left, right = right, left
        if left.type is not Type.TIME or right.type not in NUMERIC:
            raise self._fault(span, f"{op} does not work on {left.type} and {right.type}",
                              "a TIME can be multiplied with or divided by a number")  # fmt: skip
        return ck.Apply(Type.TIME, "time_mul" if op == "*" else "time_div", (left, right), span)

    def _unify(self, left: ck.Checked, right: ck.Checked, span: sx.Span, op: str) -> tuple[ck.Checked, ck.Checked]:
        """Both operands in one type: literals adapt, narrower numbers widen, all else is refused."""
        if left.type is right.type:
            return left, right
        if left.type in NUMERIC and right.type in NUMERIC:
            for a, b in ((left, right), (right, left)):
                if isinstance(a, ck.Const) and a.free and not (isinstance(b, ck.Const) and b.free):
                    turned = self._convert(a, b.type, a.span)
                    return (turned, right) if a is left else (left, turned)
            wide = max(left.type, right.type, key=NUMERIC.index)
            return self._convert(left, wide, span), self._convert(right, wide, span)
        advice = ""
        if Type.TIME in (left.type, right.type):
            advice = "write the time as a literal, for example T#2s"
        raise self._fault(span, f"{op} compares or combines {left.type} with {right.type}", advice)

    def _convert(self, node: ck.Checked, wanted: Type, span: sx.Span, advice: str = "") -> ck.Checked:
        """`node` as `wanted` where no value can be lost (INT to DINT to REAL); a problem otherwise."""
        if node.type is wanted:
            return node
        if isinstance(node, ck.Const) and node.free and wanted in NUMERIC:
            if wanted is Type.REAL:
                return ck.Const(Type.REAL, float(node.value), node.span)
            if not value_problem(int(node.value), wanted):
                return ck.Const(wanted, int(node.value), node.span)
            low, high = INT_LIMITS[wanted]
            raise self._fault(node.span, f"{node.value} is out of range; {wanted} holds {low} to {high}")
        if node.type in NUMERIC and wanted in NUMERIC and NUMERIC.index(node.type) < NUMERIC.index(wanted):
            return (
                ck.Apply(Type.REAL, "real", (node,), node.span)
                if wanted is Type.REAL
                else ck.Apply(wanted, "same", (node,), node.span)
            )
        text = node.name if isinstance(node, ck.Load) else "it"
        if wanted is Type.BOOL and node.type in NUMERIC and advice:
            raise self._fault(span, f"this is {node.type}", advice.format(text=text))
        if wanted is Type.BOOL and "{text}" in advice:
            raise self._fault(
                span, f"this is {node.type}, a condition is BOOL", f"compare it, for example {text} >= T#1s"
            )
        if not advice or "{text}" in advice:
            advice = f"{wanted} is needed here"
        convert = f"{node.type}_TO_{wanted}"
        if convert in CONVERSIONS:
            advice += f"; {convert} converts"
        raise self._fault(span, f"this is {node.type}", advice)

    # -- calls

    def _call(self, tree: sx.Call) -> ck.Checked:
        if tree.function in ("RISING", "FALLING", "HELD"):
            return self._edge(tree)
        if any(a.name for a in tree.arguments):
            raise self._fault(tree.span, f"{tree.function} takes its inputs by position", "leave out the names")
        if tree.function in CONVERSIONS:
            source, wanted = CONVERSIONS[tree.function]
            (node,) = self._arguments(tree, 1, 1)
            return ck.Apply(wanted, tree.function, (self._convert(node, source, tree.span),), tree.span)
        function = FUNCTIONS.get(tree.function)
        if function is None:
            offer = did_you_mean(tree.function, [*FUNCTIONS, *CONVERSIONS, "RISING", "FALLING", "HELD"])
            raise self._fault(tree.span, f"there is no function {tree.function}", offer)
        nodes = self._arguments(tree, function.least, function.most)
        if function.operator:
            return self._operator(tree, function.operator, nodes)
        if tree.function == "MUX":
            key = self._convert(nodes[0], Type.DINT, tree.span)
            rest = nodes[1:]
            for i in range(1, len(rest)):
                rest[0], rest[i] = self._unify(rest[0], rest[i], tree.span, "MUX")
            rest = [self._unify(n, rest[0], tree.span, "MUX")[0] for n in rest]
            return ck.Apply(rest[0].type, "MUX", (key, *rest), tree.span)
        if tree.function == "MOVE":
            return nodes[0]
        if function.selects:
            switch = self._need(nodes[0], Type.BOOL, tree.span, f"the first input of {tree.function}")
            a, b = self._unify(nodes[1], nodes[2], tree.span, tree.function)
            return ck.Apply(a.type, tree.function, (switch, a, b), tree.span)
        if function.real:
            given = tuple(self._convert(n, Type.REAL, n.span) for n in nodes)
            return ck.Apply(Type.DINT if tree.function == "TRUNC" else Type.REAL, tree.function, given, tree.span)
        for i in range(1, len(nodes)):
            nodes[0], nodes[i] = self._unify(nodes[0], nodes[i], tree.span, tree.function)
        nodes = [self._unify(n, nodes[0], tree.span, tree.function)[0] for n in nodes]
        if nodes[0].type is Type.BOOL:
            raise self._fault(tree.span, f"{tree.function} does not work on BOOL")
        return ck.Apply(nodes[0].type, tree.function, tuple(nodes), tree.span)

    def _operator(self, tree: sx.Call, op: str, nodes: list[ck.Checked]) -> ck.Checked:
        """ADD(a, b, c) means a + b + c; GT(a, b, c) means a > b AND b > c."""
        if op in ("=", "<", ">", "<=", ">=", "<>"):
            pairs = [self._joined(op, a, b, tree.span) for a, b in pairwise(nodes)]
            return reduce(lambda a, b: self._joined("AND", a, b, tree.span), pairs)
        return reduce(lambda a, b: self._joined(op, a, b, tree.span), nodes)

    def _arguments(self, tree: sx.Call, least: int, most: int) -> list[ck.Checked]:
        nodes = [self._expr(a.value) for a in tree.arguments]
        if not least <= len(nodes) <= most:
            wanted = str(least) if least == most else f"{least} or more"
            raise self._fault(tree.span, f"{tree.function} takes {wanted} inputs, here are {len(nodes)}")
        return nodes

    def _edge(self, tree: sx.Call) -> ck.Checked:
        held = tree.function == "HELD"
        example = "HELD(Switch, T#200ms)" if held else f"{tree.function}(Button)"
        if len(tree.arguments) != (2 if held else 1):
            raise self._fault(tree.span, f"{tree.function} has the wrong number of inputs", f"write {example}")
        operand = self._need(self._expr(tree.arguments[0].value), Type.BOOL, tree.span, tree.function)
        time = None
        if held:
            time = self._expr(tree.arguments[1].value)
            if time.type is not Type.TIME:
                raise self._fault(
                    time.span, f"the second input of HELD is a TIME, this is {time.type}", f"write {example}"
                )
        slot = self.scope.edge(tree.function, operand, time)
        return ck.Edge(Type.BOOL, tree.function, slot, operand, time, tree.span)


def _any_of(tests: list[ck.Checked], span: sx.Span) -> ck.Checked:
    """The OR of tests, as a tree that is no deeper than it must be."""
    while len(tests) > 1:
        pairs = [ck.Apply(Type.BOOL, "or", (a, b), span) for a, b in zip(tests[::2], tests[1::2])]
        tests = [*pairs, *tests[len(tests) - len(tests) % 2 :]]
    return tests[0]
