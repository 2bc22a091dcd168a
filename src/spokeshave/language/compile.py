"""From checked trees to Python code objects, by way of Python's own syntax tree; no Python text is ever built.

Compiled code takes one argument, the list of values `v`; `v[0]` collects the places of numeric overflows.
"""

from __future__ import annotations

import ast
from collections.abc import Callable, Container, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from spokeshave.language import checked as ck
from spokeshave.language.effects import is_pure
from spokeshave.language.function_blocks import WORK
from spokeshave.language.functions import HELPERS, RunStop
from spokeshave.language.operators import Operator, operator_of
from spokeshave.model.project import Type

Compiled = Callable[[list[Any]], Any]
T = TypeVar("T")


def _placed(kind: type[T]) -> type[T]:
    """A kind of node that stands in line 1: Python asks each node for its place, and nobody sees it, since the texts have
    places of their own.
    """
    place = {"lineno": 1, "end_lineno": 1, "col_offset": 0, "end_col_offset": 0}
    return type(kind.__name__, (kind,), place)


class Node:
    """The nodes of Python's syntax tree that code is made of."""

    arg = _placed(ast.arg)
    Assign = _placed(ast.Assign)
    BinOp = _placed(ast.BinOp)
    BoolOp = _placed(ast.BoolOp)
    Break = _placed(ast.Break)
    Call = _placed(ast.Call)
    Compare = _placed(ast.Compare)
    Constant = _placed(ast.Constant)
    Expr = _placed(ast.Expr)
    FunctionDef = _placed(ast.FunctionDef)
    If = _placed(ast.If)
    List = _placed(ast.List)
    Name = _placed(ast.Name)
    Pass = _placed(ast.Pass)
    Return = _placed(ast.Return)
    Subscript = _placed(ast.Subscript)
    Tuple = _placed(ast.Tuple)
    UnaryOp = _placed(ast.UnaryOp)
    While = _placed(ast.While)


MOST_BRANCHES = 40
"""Branches of an IF that are nested in one another in Python's tree."""

_V = Node.Name("v", ast.Load())
"""The list of values; Python's tree may hold one node in many places."""


class Bodies:
    """Python functions of functions and blocks of the file's own, each made where it is called for the first time."""

    def __init__(self) -> None:
        self.made: list[ast.stmt] = []
        self._functions: set[str] = set()

    def of_function(self, function: ck.Function) -> str:
        """The name of what a call runs: it takes the list of values and the inputs."""
        name = f"own_{function.name.lower()}"
        if name not in self._functions:
            self._functions.add(name)
            inputs = [f"a{i}" for i in range(len(function.inputs))]
            before = [_in_list("u", Node.Constant(i)) for i in range(ck.FIRST)]
            given = [Node.Name(n, ast.Load()) for n in inputs]
            own = Node.List([*before, *given, *map(Node.Constant, function.start)], ast.Load())
            compiler = Compiler(function.place, self, ck.FIRST + len(inputs))
            body = [Node.Assign([Node.Name("v", ast.Store())], own), *compiler.statements(function.body)]
            self._define(name, ["u", *inputs], [*body, Node.Return(compiler.result())])
        return name

    def of_block(self, block: ck.Perform) -> str:
        """The name of what a call runs: it takes the list of values."""
        body = Compiler(block.place, self).statements(block.body) or [Node.Pass()]
        name = f"block{len(self.made)}"
        self._define(name, ["v"], body)
        return name

    def _define(self, name: str, inputs: list[str], body: list[ast.stmt]) -> None:
        arguments = ast.arguments([], [Node.arg(n) for n in inputs], None, [], [], None, [])
        self.made.append(Node.FunctionDef(name=name, args=arguments, body=body, decorator_list=[]))


class Compiler:
    """Compiles trees of one place; `place` is the number that a `RunStop` will carry. In a function, `gives` is the slot of
    its result.
    """

    def __init__(self, place: int, bodies: Bodies, gives: int = -1) -> None:
        self.place, self.bodies, self.gives = place, bodies, gives
        self._temporaries = 0

    def result(self) -> ast.expr | None:
        """What RETURN gives."""
        if self.gives < 0:
            return None
        return _call("gives", Node.Name("u", ast.Load()), Node.Name("v", ast.Load()), Node.Constant(self.gives))

    def expression(self, node: ck.Checked) -> ast.expr:
        match node:
            case ck.Const():
                return Node.Constant(node.value)
            case ck.Load() | ck.Edge():
                return _slot(node.slot, ast.Load())
            case ck.Apply():
                return self._apply(node)
            case ck.Element():
                return self._cell(node, ast.Load())
            case ck.Invoke():
                given = [self._finite(a, node) for a in node.args]
                return _call(self.bodies.of_function(node.function), Node.Name("v", ast.Load()), *given)

    def _cell(self, node: ck.Element, context: ast.expr_context) -> ast.Subscript:
        """Its slot is `row * stride + slot of row 0`."""
        ends = (Node.Constant(node.first), Node.Constant(node.last))
        row: ast.expr = _call("within", self.expression(node.index), *ends, self._where(node))
        if node.stride != 1:
            row = Node.BinOp(row, ast.Mult(), Node.Constant(node.stride))
        slot = Node.BinOp(row, ast.Add(), Node.Constant(node.slot - node.stride * node.first))
        return Node.Subscript(_V, slot, context)

    def _finite(self, value: ck.Checked, at: ck.Apply | ck.Store | ck.StoreAt | ck.Invoke) -> ast.expr:
        """A value that enters a variable."""
        made = self.expression(value)
        worked_out = value.type is Type.REAL and isinstance(value, (ck.Apply, ck.Invoke))
        return _call("finite", made, self._where(at)) if worked_out else made

    def _apply(self, node: ck.Apply) -> ast.expr:
        args = [self.expression(a) for a in node.args]
        operator = operator_of(node.op, node.type)
        value = self._operated(operator, node, args)
        return self._wrapped(value, node) if operator.wraps else value

    def _operated(self, operator: Operator, node: ck.Apply, args: list[ast.expr]) -> ast.expr:
        kind: Any = getattr(ast, operator.python, None)
        if operator.python in ("And", "Or"):
            # AND and OR evaluate all operands (semantics section 6): Python's short-circuit ones only where nobody sees.
            if node.type is Type.BOOL and is_pure(node.args[1]):
                return Node.BoolOp(kind(), args)
            kind = ast.BitAnd if operator.python == "And" else ast.BitOr
        if kind is not None:
            if issubclass(kind, ast.cmpop):
                return Node.Compare(args[0], [kind()], [args[1]])
            if issubclass(kind, ast.unaryop):
                return Node.UnaryOp(kind(), args[0])
            return Node.BinOp(args[0], kind(), args[1])
        if operator.python == "same":
            return args[0]
        if operator.python == "sel":
            pair = Node.Tuple([args[1], args[2]], ast.Load())
            return Node.Subscript(pair, _call("bool", args[0]), ast.Load())
        if operator.python == "mux":
            args = [args[0], Node.Tuple(args[1:], ast.Load())]
        elif operator.python == "real_function":
            args = [Node.Constant(node.op), *args]
        return _call(operator.python, *args, *([self._where(node)] if operator.stops else []))

    def _where(
        self, node: ck.Apply | ck.Store | ck.StoreAt | ck.Element | ck.Invoke | ck.Repeat | ck.Count
    ) -> ast.expr:
        numbers = (self.place, node.span.line, node.span.column)
        return Node.Tuple([Node.Constant(n) for n in numbers], ast.Load())

    def _wrapped(self, value: ast.expr, node: ck.Apply) -> ast.expr:
        """An integer result in two's complement, a TIME within its bounds; REAL is checked where it enters a variable."""
        if node.type is Type.INT:
            return _call("wrap16", value, Node.Name("v", ast.Load()), self._where(node))
        if node.type is Type.DINT:
            return _call("wrap32", value, Node.Name("v", ast.Load()), self._where(node))
        return _call("bounded", value, self._where(node)) if node.type is Type.TIME else value

    def statements(self, block: Sequence[ck.CheckedStatement]) -> list[ast.stmt]:
        out: list[ast.stmt] = []
        for s in block:
            match s:
                case ck.Store():
                    out.append(Node.Assign([_slot(s.slot, ast.Store())], self._finite(s.value, s)))
                case ck.StoreAt():
                    out.append(Node.Assign([self._cell(s.cell, ast.Store())], self._finite(s.value, s)))
                case ck.Perform():
                    out.append(Node.Expr(_call(self.bodies.of_block(s), Node.Name("v", ast.Load()))))
                case ck.Choose():
                    out += self._choose(s)
                case ck.Repeat():
                    out += self._repeat(s)
                case ck.Count():
                    out += self._count(s)
                case ck.Leave():
                    out.append(Node.Break() if s.kind == "EXIT" else Node.Return(self.result()))
                case ck.Run():
                    base = Node.Constant(s.base)
                    out.append(Node.Expr(_call(f"block_{s.kind}", Node.Name("v", ast.Load()), base)))
        return out

    def _choose(self, s: ck.Choose) -> list[ast.stmt]:
        """IF, ELSIF, ELSE nest in Python's tree; of many branches, so many at a time, with a mark that none was taken."""
        rest = self.statements(s.otherwise)
        if len(s.branches) <= MOST_BRANCHES:
            return self._branches(s.branches, [], rest)
        self._temporaries += 1
        none = f"none{self._temporaries}"
        taken: list[ast.stmt] = [Node.Assign([Node.Name(none, ast.Store())], Node.Constant(False))]
        out: list[ast.stmt] = [Node.Assign([Node.Name(none, ast.Store())], Node.Constant(True))]
        for i in range(0, len(s.branches), MOST_BRANCHES):
            chunk = self._branches(s.branches[i : i + MOST_BRANCHES], taken, [])
            out.append(Node.If(Node.Name(none, ast.Load()), chunk, []))
        return [*out, Node.If(Node.Name(none, ast.Load()), rest, [])] if rest else out

    def _branches(
        self, branches: Sequence[tuple[ck.Checked, tuple[ck.CheckedStatement, ...]]], first: list[ast.stmt], rest: list[ast.stmt]
    ) -> list[ast.stmt]:  # fmt: skip
        for condition, inner in reversed(branches):
            body = [*first, *self.statements(inner)] or [Node.Pass()]
            rest = [Node.If(self.expression(condition), body, rest)]
        return rest

    def _turn(self, node: ck.Repeat | ck.Count) -> ast.stmt:
        return Node.Expr(_call("turn", Node.Name("v", ast.Load()), self._where(node)))

    def _repeat(self, s: ck.Repeat) -> list[ast.stmt]:
        test, body = self.expression(s.condition), [self._turn(s), *self.statements(s.body)]
        if s.first:
            return [Node.While(test, body, [])]
        return [Node.While(Node.Constant(True), [*body, Node.If(test, [Node.Break()], [])], [])]

    def _count(self, s: ck.Count) -> list[ast.stmt]:
        """End and step are read once; the variable goes one step past the end, as the standard has it."""
        self._temporaries += 1
        end, step = f"end{self._temporaries}", f"step{self._temporaries}"
        slot, where = s.variable.slot, self._where(s)
        goes_on = _call(
            "counts_on", _slot(slot, ast.Load()), Node.Name(end, ast.Load()), Node.Name(step, ast.Load()), where
        )
        more = Node.BinOp(_slot(slot, ast.Load()), ast.Add(), Node.Name(step, ast.Load()))
        wrap = "wrap16" if s.variable.type is Type.INT else "wrap32"
        advance = Node.Assign([_slot(slot, ast.Store())], _call(wrap, more, Node.Name("v", ast.Load()), where))
        return [
            Node.Assign([_slot(slot, ast.Store())], self.expression(s.variable.value)),
            Node.Assign([Node.Name(end, ast.Store())], self.expression(s.end)),
            Node.Assign([Node.Name(step, ast.Store())], self.expression(s.step)),
            Node.While(goes_on, [self._turn(s), *self.statements(s.body), advance], []),
        ]


def _in_list(name: str, at: ast.expr) -> ast.expr:
    return Node.Subscript(Node.Name(name, ast.Load()), at, ast.Load())


def _slot(slot: int, context: ast.expr_context) -> ast.Subscript:
    return Node.Subscript(_V, Node.Constant(slot), context)


def _call(name: str, *args: ast.expr) -> ast.Call:
    return Node.Call(Node.Name(name, ast.Load()), list(args), [])


@dataclass(frozen=True, slots=True)
class Choice:
    """The first of several conditions that is TRUE: its index, or -1. All are evaluated where that can be seen.

    Each is a list of (place number, expression) that are ANDed.
    """

    arms: tuple[tuple[tuple[int, ck.Checked], ...], ...]

    def code(self, bodies: Bodies) -> list[ast.stmt]:
        """The statements of a function that gives the index."""
        pure = all(is_pure(tree) for arm in self.arms for _, tree in arm)
        tests: list[ast.expr] = []
        for arm in self.arms:
            parts = [Compiler(place, bodies).expression(tree) for place, tree in arm]
            test = parts[0]
            for part in parts[1:]:
                test = Node.BoolOp(ast.And(), [test, part]) if pure else Node.BinOp(test, ast.BitAnd(), part)
            tests.append(test)
        out: list[ast.stmt] = []
        if not pure:
            names = [f"c{i}" for i in range(len(tests))]
            out = [Node.Assign([Node.Name(n, ast.Store())], test) for n, test in zip(names, tests)]
            tests = [Node.Name(n, ast.Load()) for n in names]
        out += [Node.If(test, [Node.Return(Node.Constant(i))], []) for i, test in enumerate(tests)]
        return [*out, Node.Return(Node.Constant(-1))]


def or_false(test: Callable[[T], Any]) -> Callable[[T], Any]:
    """A condition that somebody looks at from outside: where it has no value it does not hold."""

    def holds(of: T) -> Any:
        try:
            return test(of)
        except RunStop:
            return False

    return holds


Unit = tuple[int, "ck.Checked | tuple[ck.CheckedStatement, ...] | Choice"]
"""(place number, expression or statements): one function to compile."""


class Later:
    """A function that is compiled when it is asked for the first time."""

    __slots__ = ("_function", "_unit")

    def __init__(self, unit: Unit) -> None:
        self._unit = unit
        self._function: Compiled | None = None

    def __call__(self, v: list[Any]) -> Any:
        if self._function is None:
            (self._function,) = compile_units([self._unit])
        return self._function(v)


AT_ONCE = 100
"""Functions that are compiled in one call of Python's compiler, which no other thread can interrupt."""


def compile_units(units: Sequence[Unit], later: Container[int] = ()) -> list[Compiled]:
    """A Python function of the list of values for each unit: expressions return their value, statements None. Those in
    `later` are hardly ever asked, and are compiled when they are.
    """
    functions: list[ast.stmt] = []
    arguments = ast.arguments([], [Node.arg("v")], None, [], [], None, [])
    bodies = Bodies()
    for i, (place, tree) in enumerate(units):
        if i in later:
            continue
        compiler = Compiler(place, bodies)
        body: list[ast.stmt]
        if isinstance(tree, Choice):
            body = tree.code(bodies)
        elif isinstance(tree, tuple):
            body = compiler.statements(tree) or [Node.Pass()]
        else:
            body = [Node.Return(compiler.expression(tree))]
        functions.append(Node.FunctionDef(name=f"f{i}", args=arguments, body=body, decorator_list=[]))
    space: dict[str, Any] = {**HELPERS, **{f"block_{kind}": work for kind, work in WORK.items()}}
    made = [*bodies.made, *functions]
    for i in range(0, len(made), AT_ONCE):
        exec(compile(ast.Module(made[i : i + AT_ONCE], []), "<machine file>", "exec"), space)
    return [Later(unit) if i in later else space[f"f{i}"] for i, unit in enumerate(units)]
