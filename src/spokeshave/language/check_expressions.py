"""Expressions in the type checker: from syntax trees to checked trees, with all problems of a text at once."""

from __future__ import annotations

from functools import reduce
from itertools import pairwise

from spokeshave.language import LanguageError
from spokeshave.language import checked as ck
from spokeshave.language import syntax as sx
from spokeshave.language.functions import CONVERSIONS, FUNCTIONS
from spokeshave.language.literals import INT_LIMITS, value_problem
from spokeshave.language.scope import Scope, Symbol
from spokeshave.model.diagnostics import did_you_mean, quoted
from spokeshave.model.project import Type

NUMERIC = (Type.INT, Type.DINT, Type.REAL)
WHOLE = (Type.INT, Type.DINT)
MOST_OFFERS = 20
"""Faults of a text for which close names are looked for."""


class Fault(LanguageError):
    """Unwinds one expression whose problem is already noted."""


class Expressions:
    """Checks expressions of one place against its scope and gathers their problems."""

    def __init__(self, scope: Scope) -> None:
        self.scope = scope
        self.problems: list[sx.Problem] = []

    # -- entry points

    def condition(self, tree: sx.Expression) -> ck.Checked | None:
        """A checked BOOL expression, or None with the problems noted."""
        return self.expression(tree, Type.BOOL, "a condition is BOOL; compare it, for example {text} > 0")

    def value(self, tree: sx.Expression) -> ck.Checked | None:
        """A checked expression of any type, or None with the problems noted."""
        try:
            return self.expr(tree)
        except Fault:
            return None

    def expression(self, tree: sx.Expression, wanted: Type, advice: str = "") -> ck.Checked | None:
        try:
            node = self.expr(tree)
            if node.type is not wanted:
                node = self._convert(node, wanted, tree.span, advice)
            return node
        except Fault:
            return None

    def _element(self, tree: sx.Element, written: bool = False) -> ck.Element:
        """A cell whose row is worked out: its rows are those that the table's name has, one slot after the other."""
        name = str(tree.table)
        rows = self.scope.rows(tuple(p.lower() for p in tree.table.parts))
        if isinstance(rows, str):
            offer = did_you_mean(name, self.scope.known())
            raise self._fault(tree.span, rows or f"there is no table {name}", offer)
        first, last = rows
        index = self.expr(tree.index)
        if index.type not in WHOLE:
            raise self._fault(tree.index.span, f"a row is a whole number, this is {index.type}")
        *before, own = tree.table.parts
        ends = [
            self._symbol(sx.Name((*before, f"{own}[{n}]", *tree.member), tree.span))
            for n in dict.fromkeys((first, min(first + 1, last)))
        ]
        if written and ends[0].locked:
            self._note(tree.span, ends[0].locked)
        stride = ends[-1].slot - ends[0].slot or 1
        before_index = ends[0].name.split("[")[0]
        behind = "".join(f".{m}" for m in tree.member)
        return ck.Element(
            ends[0].type, ends[0].slot, stride, first, last, index, (before_index, behind), tree.span
        )  # fmt: skip

    def expression_any(self, tree: sx.Expression) -> ck.Checked | None:
        """Checks an expression of whatever type."""
        try:
            return self.expr(tree)
        except Fault:
            return None

    # -- problems

    def _note(self, span: sx.Span, message: str, advice: str = "") -> None:
        self.problems.append(sx.Problem.at(span, message, advice))

    def _fault(self, span: sx.Span, message: str, advice: str = "") -> Fault:
        self._note(span, message, advice)
        return Fault()

    # -- expressions

    def expr(self, tree: sx.Expression) -> ck.Checked:
        match tree:
            case sx.Literal():
                return self._literal(tree)
            case sx.Name():
                symbol = self._symbol(tree)
                return ck.Load(symbol.type, symbol.slot, symbol.name, tree.span)
            case sx.Element():
                return self._element(tree)
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
        node = self.expr(tree.operand)
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
                node = self.expr(part)
                if tree.op in ("AND", "OR", "XOR"):
                    node = self._need(node, Type.BOOL, part.span, tree.op)
                sides.append(node)
            except Fault:
                faults += 1
        if faults:
            raise Fault()
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
        own = self.scope.function(tree.function.lower())
        if own is not None:
            return self._invoke(tree, own)
        known = tree.function in CONVERSIONS or tree.function in FUNCTIONS
        if known and any(a.name for a in tree.arguments):
            raise self._fault(tree.span, f"{tree.function} takes its inputs by position", "leave out the names")
        if tree.function in CONVERSIONS:
            source, wanted = CONVERSIONS[tree.function]
            (node,) = self._arguments(tree, 1, 1)
            return ck.Apply(wanted, tree.function, (self._convert(node, source, tree.span),), tree.span)
        function = FUNCTIONS.get(tree.function)
        if function is None:
            offer = did_you_mean(
                tree.function, [*self.scope.functions(), *FUNCTIONS, *CONVERSIONS, "RISING", "FALLING", "HELD"]
            )
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

    def _invoke(self, tree: sx.Call, function: ck.Function | str) -> ck.Checked:
        """A call of a function of the file's own: its inputs by their places, or all by name."""
        if isinstance(function, str):
            raise self._fault(tree.span, function)
        names = [n.lower() for n, _ in function.inputs]
        given: dict[str, sx.Expression] = {}
        for i, a in enumerate(tree.arguments):
            name = a.name.lower() or (names[i] if i < len(names) else "")
            if name not in names or name in given:
                what = f"has no input {a.name}" if a.name and name not in given else f"takes {len(names)} inputs"
                raise self._fault(
                    a.value.span, f"{function.name} {what}", did_you_mean(a.name, [n for n, _ in function.inputs])
                )
            given[name] = a.value
        if lacking := [n for n, _ in function.inputs if n.lower() not in given]:
            raise self._fault(tree.span, f"{function.name} needs {', '.join(lacking)}", "give it all its inputs")
        nodes = []
        for n, of in function.inputs:
            value = self.expression(given[n.lower()], of, f"{n} of {function.name} is {of}")
            if value is None:
                raise Fault()
            nodes.append(value)
        return ck.Invoke(function.type, function, tuple(nodes), tree.span)

    def _operator(self, tree: sx.Call, op: str, nodes: list[ck.Checked]) -> ck.Checked:
        """ADD(a, b, c) means a + b + c; GT(a, b, c) means a > b AND b > c."""
        if op in ("=", "<", ">", "<=", ">=", "<>"):
            pairs = [self._joined(op, a, b, tree.span) for a, b in pairwise(nodes)]
            return reduce(lambda a, b: self._joined("AND", a, b, tree.span), pairs)
        return reduce(lambda a, b: self._joined(op, a, b, tree.span), nodes)

    def _arguments(self, tree: sx.Call, least: int, most: int) -> list[ck.Checked]:
        nodes = [self.expr(a.value) for a in tree.arguments]
        if not least <= len(nodes) <= most:
            wanted = str(least) if least == most else f"{least} or more"
            raise self._fault(tree.span, f"{tree.function} takes {wanted} inputs, here are {len(nodes)}")
        return nodes

    def _edge(self, tree: sx.Call) -> ck.Checked:
        held = tree.function == "HELD"
        example = "HELD(Switch, T#200ms)" if held else f"{tree.function}(Button)"
        if len(tree.arguments) != (2 if held else 1):
            raise self._fault(tree.span, f"{tree.function} has the wrong number of inputs", f"write {example}")
        operand = self._need(self.expr(tree.arguments[0].value), Type.BOOL, tree.span, tree.function)
        time = None
        if held:
            time = self.expr(tree.arguments[1].value)
            if time.type is not Type.TIME:
                raise self._fault(
                    time.span, f"the second input of HELD is a TIME, this is {time.type}", f"write {example}"
                )
        slot = self.scope.edge(tree.function, operand, time)
        return ck.Edge(Type.BOOL, tree.function, slot, operand, time, tree.span)
