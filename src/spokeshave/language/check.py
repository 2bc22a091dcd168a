"""The type checker: from syntax trees to checked trees, with all problems of a text at once."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Protocol

from spokeshave.language import checked as ck
from spokeshave.language import syntax as sx
from spokeshave.language.functions import CONVERSIONS, FUNCTIONS
from spokeshave.language.literals import INT_LIMITS, fits
from spokeshave.model.diagnostics import did_you_mean
from spokeshave.model.project import Type

NUMERIC = (Type.INT, Type.DINT, Type.REAL)
WHOLE = (Type.INT, Type.DINT)


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

    def edge(self, kind: str, operand: ck.Checked, time: ck.Checked | None) -> int:
        """The slot in which the result of this RISING, FALLING or HELD will stand."""


class _Fault(Exception):
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
        out: list[ck.CheckedStatement] = []
        for s in tree:
            match s:
                case sx.Assign():
                    done = self._assign(s)
                    if done is not None:
                        out.append(done)
                case sx.If():
                    branches = []
                    for condition, block in s.branches:
                        test = self.condition(condition)
                        inner = self.statements(block)
                        if test is not None:
                            branches.append((test, inner))
                    out.append(ck.Choose(tuple(branches), self.statements(s.otherwise)))
        return tuple(out)

    def _assign(self, s: sx.Assign) -> ck.Store | None:
        try:
            symbol = self._symbol(s.target)
            if symbol.locked:
                self._note(s.target.span, symbol.locked)
        except _Fault:
            symbol = None
        if symbol is None:
            self.expression_any(s.value)
            return None
        value = self.expression(s.value, symbol.type, f"{symbol.name} is {symbol.type}")
        return None if value is None else ck.Store(symbol.slot, symbol.name, symbol.type, value, s.span)

    def expression_any(self, tree: sx.Expression) -> ck.Checked | None:
        """Checks an expression of whatever type."""
        try:
            return self._expr(tree)
        except _Fault:
            return None

    # -- problems

    def _note(self, span: sx.Span, message: str, advice: str = "") -> None:
        self.problems.append(sx.Problem(span.line, span.column, message, advice, span.start, span.end))

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
            kind = Type.INT if fits(number, Type.INT) else Type.DINT
            if not fits(number, kind):
                raise self._fault(tree.span, f"{number} does not fit in 32 bits")
            return ck.Const(kind, number, tree.span, free=True)
        if tree.type in WHOLE and not fits(int(tree.value), tree.type):
            low, high = INT_LIMITS[tree.type]
            raise self._fault(tree.span, f"{tree.value} is out of range; {tree.type} holds {low} to {high}")
        return ck.Const(tree.type, tree.value, tree.span)

    def _symbol(self, tree: sx.Name) -> Symbol:
        found = self.scope.lookup(tuple(p.lower() for p in tree.parts))
        if isinstance(found, str):
            offer = did_you_mean(str(tree), self.scope.known())
            raise self._fault(tree.span, found or f"there is no {tree}", offer)
        return found

    def _unary(self, tree: sx.Unary) -> ck.Checked:
        node = self._expr(tree.operand)
        if tree.op == "NOT":
            node = self._need(node, Type.BOOL, tree.operand.span, "NOT")
            return ck.Apply(Type.BOOL, "not", (node,), tree.span)
        if isinstance(node, ck.Const) and node.free:
            number = -int(node.value) if tree.op == "-" else int(node.value)
            return ck.Const(Type.INT if fits(number, Type.INT) else Type.DINT, number, tree.span, free=True)
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
        left, right = sides
        if tree.op in ("AND", "OR", "XOR"):
            return ck.Apply(Type.BOOL, tree.op.lower(), (left, right), tree.span)
        if tree.op in ("*", "/") and Type.TIME in (left.type, right.type):
            return self._scaled_time(tree, left, right)
        left, right = self._unify(left, right, tree.span, tree.op)
        if tree.op in ("=", "<>", "<", ">", "<=", ">="):
            if left.type is Type.BOOL and tree.op not in ("=", "<>"):
                raise self._fault(tree.span, f"{tree.op} does not order BOOL values", "use = or <>")
            name = {"=": "eq", "<>": "ne", "<": "lt", ">": "gt", "<=": "le", ">=": "ge"}[tree.op]
            return ck.Apply(Type.BOOL, name, (left, right), tree.span)
        allowed: tuple[Type, ...] = NUMERIC
        if tree.op in ("+", "-"):
            allowed = (*NUMERIC, Type.TIME)
        elif tree.op == "MOD":
            allowed = WHOLE
        elif tree.op == "**":
            left, right = (self._convert(n, Type.REAL, n.span) for n in (left, right))
        if left.type not in allowed:
            raise self._fault(tree.span, f"{tree.op} does not work on {left.type}")
        name = {"+": "add", "-": "sub", "*": "mul", "/": "div", "MOD": "mod", "**": "pow"}[tree.op]
        return ck.Apply(left.type, name, (left, right), tree.span)

    def _scaled_time(self, tree: sx.Binary, left: ck.Checked, right: ck.Checked) -> ck.Checked:
        if tree.op == "*" and right.type is Type.TIME:
            left, right = right, left
        if left.type is not Type.TIME or right.type not in NUMERIC:
            raise self._fault(tree.span, f"{tree.op} does not work on {left.type} and {right.type}",
                              "a TIME can be multiplied with or divided by a number")  # fmt: skip
        return ck.Apply(Type.TIME, "time_mul" if tree.op == "*" else "time_div", (left, right), tree.span)

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
            if fits(int(node.value), wanted):
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
        if function.selects:
            switch = self._need(nodes[0], Type.BOOL, tree.span, f"the first input of {tree.function}")
            a, b = self._unify(nodes[1], nodes[2], tree.span, tree.function)
            return ck.Apply(a.type, tree.function, (switch, a, b), tree.span)
        if function.real:
            return ck.Apply(
                Type.REAL, tree.function, tuple(self._convert(n, Type.REAL, n.span) for n in nodes), tree.span
            )
        for i in range(1, len(nodes)):
            nodes[0], nodes[i] = self._unify(nodes[0], nodes[i], tree.span, tree.function)
        nodes = [self._unify(n, nodes[0], tree.span, tree.function)[0] for n in nodes]
        if nodes[0].type is Type.BOOL:
            raise self._fault(tree.span, f"{tree.function} does not work on BOOL")
        return ck.Apply(nodes[0].type, tree.function, tuple(nodes), tree.span)

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
