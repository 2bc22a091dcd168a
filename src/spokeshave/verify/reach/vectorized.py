"""Expressions and statements on columns: a value for each of many situations at once."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import reduce
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.language import checked as ck
from spokeshave.language.operators import OPERATORS, WIDTHS, Operator
from spokeshave.model.project import Type
from spokeshave.verify import VerifyError

Column = NDArray[Any]
Env = dict[int, Any]
"""A column, or one value for all rows, by slot."""


class Beyond(VerifyError):
    """Something that is not worked out on columns; the text says what."""


HELPERS: dict[str, Callable[..., Any]] = {
    "same": lambda x: x, "limit": lambda low, x, high: np.minimum(np.maximum(x, low), high),
    "sel": lambda which, no, yes: np.where(which, yes, no),
}  # fmt: skip
"""What NumPy has no function for."""


def _operation(operator: Operator) -> Callable[..., Any]:
    """What an operator does with columns; one of two columns is used again and again where there are more."""
    own = HELPERS.get(operator.columns)
    if own is not None:
        return own
    function = getattr(np, operator.columns)
    return (lambda *args: reduce(function, args)) if getattr(function, "nin", 1) == 2 else function


OPERATIONS = {name: _operation(operator) for name, operator in OPERATORS.items() if operator.columns}


def _wrapped(value: Any, of: Type) -> Any:
    """An integer result in two's complement, as the engine has it (semantics section 2)."""
    if of not in WIDTHS:
        return value
    half = 1 << (WIDTHS[of] - 1)
    return (np.asarray(value, np.int64) + half) % (2 * half) - half


def evaluate(node: ck.Checked, env: Env) -> Any:
    """The value of an expression; every slot it reads is in `env`. Raises `Beyond`."""
    match node:
        case ck.Const():
            return node.value
        case ck.Load():
            return env[node.slot]
        case ck.Edge():
            return env[node.slot]
        case ck.Apply():
            operation = OPERATIONS.get(node.op)
            if operation is None:
                raise Beyond(f"the function {node.op}")
            value = operation(*(evaluate(a, env) for a in node.args))
            return _wrapped(value, node.type) if OPERATORS[node.op].wraps else value
        case ck.Element():
            row = evaluate(node.index, env)
            found = env[node.slot]
            for n, cell in enumerate(node.loads()):
                found = np.where(np.equal(row, node.first + n), env[cell.slot], found)
            return found
        case ck.Invoke():
            return _invoked(node, env)


def _invoked(node: ck.Invoke, env: Env) -> Any:
    """What a function gives: its body runs on values of its own, in all rows."""
    function = node.function
    own: Env = {ck.FIRST + i: evaluate(a, env) for i, a in enumerate(node.args)}
    gives = ck.FIRST + len(node.args)
    own |= {gives + i: value for i, value in enumerate(function.start)}
    run(function.body, own, True)
    return own[gives]


def slots_of(node: ck.Checked) -> Iterator[int]:
    """The slots an expression reads: of RISING, FALLING and HELD their own, not those inside them."""
    match node:
        case ck.Load() | ck.Edge():
            yield node.slot
        case _:
            if isinstance(node, ck.Element):
                yield from (cell.slot for cell in node.loads())
            for a in ck.operands(node):
                yield from slots_of(a)


def run(statements: Iterable[ck.CheckedStatement], env: Env, where: Any) -> None:
    """Runs statements in the rows `where` is TRUE, and changes `env`. Raises `Beyond`."""
    for s in statements:
        match s:
            case ck.Store():
                env[s.slot] = np.where(where, evaluate(s.value, env), env[s.slot])
            case ck.StoreAt():
                row, value = evaluate(s.cell.index, env), evaluate(s.value, env)
                for n, cell in enumerate(s.cell.loads()):
                    env[cell.slot] = np.where(where & np.equal(row, s.cell.first + n), value, env[cell.slot])
            case ck.Perform():
                run(s.body, env, where)
            case ck.Choose():
                left = where
                for condition, block in s.branches:
                    here = np.asarray(evaluate(condition, env), bool)
                    run(block, env, left & here)
                    left = left & ~here
                run(s.otherwise, env, left)
            case _:
                raise Beyond("a loop or a block")


def can_run(statement: ck.CheckedStatement) -> bool:
    """Whether `run` knows everything in a statement."""
    match statement:
        case ck.Store():
            return known(statement.value)
        case ck.StoreAt():
            return known(statement.value) and known(statement.cell.index)
        case ck.Perform():
            return all(map(can_run, statement.body))
        case ck.Choose():
            blocks = (*(b for _, b in statement.branches), statement.otherwise)
            return all(known(c) for c, _ in statement.branches) and all(can_run(s) for b in blocks for s in b)
        case _:
            return False


def known(node: ck.Checked) -> bool:
    """Whether `evaluate` knows everything in an expression."""
    if isinstance(node, ck.Invoke) and not all(map(can_run, node.function.body)):
        return False
    return (not isinstance(node, ck.Apply) or node.op in OPERATIONS) and all(map(known, ck.operands(node)))


def reads_of(statement: ck.CheckedStatement) -> set[int]:
    """The slots a statement reads; an assignment in a branch keeps what it does not assign, so it reads that too."""
    expressions, blocks = ck.inner(statement)
    found = {slot for e in expressions for slot in slots_of(e)}
    for block in blocks:
        for s in block:
            found |= reads_of(s) | writes_of(s)
    return found


def writes_of(statement: ck.CheckedStatement) -> set[int]:
    """The slots a statement assigns; those of a block instance are not among them."""
    return {s.slot for s in ck.stores((statement,))}
