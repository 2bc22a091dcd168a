"""Whether two conditions can be TRUE together, as far as the texts tell: opposite terms, and numbers that cannot meet."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression
from spokeshave.language.syntax import TextError
from spokeshave.language.terms import chained
from spokeshave.model.project import Value

DEEP = 3
"""How many OR inside each other are gone into."""
MOST_PAIRS = 64
"""Pairs of terms up to which two trees are compared."""
_OPPOSITE = {"<": ">=", ">=": "<", ">": "<=", "<=": ">", "=": "<>", "<>": "="}
_TURNED = {"<": ">", ">": "<", ">=": "<=", "<=": ">=", "=": "=", "<>": "<>"}


class Term(NamedTuple):
    """Something a condition asks for, or asks not to be."""

    tree: sx.Expression
    wanted: bool


class Compared(NamedTuple):
    """A comparison of something with a number; `what` and `with_` are texts that say which two things are compared."""

    what: str
    with_: str
    op: str
    number: float | None
    sides: tuple[sx.Expression, sx.Expression]


def exclude_each_other(a: str, b: str, values: Mapping[str, Value] | None = None) -> bool:
    """Whether two conditions are plainly never TRUE together; `values` are those of names that do not change, in lower case. A
    condition that cannot be read excludes all: what is wrong with it is said elsewhere.

    >>> exclude_each_other("Auto AND Level < 20", "Level > 80 OR NOT Auto")
    True
    >>> exclude_each_other("Level < 20", "Level > 10")
    False
    """
    try:
        left, right = (needs(parse_expression(t)) for t in (a, b))
    except TextError:
        return True
    return _excluded(left, right, values or {}, DEEP)


def never_together(a: sx.Expression, b: sx.Expression) -> bool:
    """The same of two trees. Long ones are not gone into: what they say is compared term by term."""
    left, right = needs(a), needs(b)
    return len(left) * len(right) <= MOST_PAIRS and _excluded(left, right, {}, DEEP)


def needs(tree: sx.Expression, wanted: bool = True) -> list[Term]:
    """What must hold for a tree to be TRUE, or FALSE."""
    if isinstance(tree, sx.Unary) and tree.op == "NOT":
        return needs(tree.operand, not wanted)
    joined = "AND" if wanted else "OR"
    if isinstance(tree, sx.Binary) and tree.op == joined:
        return [t for part in chained(tree, joined) for t in needs(part, wanted)]
    return [Term(tree, wanted)]


def _excluded(left: list[Term], right: list[Term], values: Mapping[str, Value], deep: int) -> bool:
    if any(_clash(x, y, values) for x in left for y in right):
        return True
    if not deep:
        return False
    for mine, other in ((left, right), (right, left)):
        for term in mine:
            options = options_of(term)
            if options and all(_excluded(o, other, values, deep - 1) for o in options):
                return True
    return False


def options_of(term: Term) -> list[list[Term]]:
    """What a term that is an OR, or the opposite of an AND, leaves open; none for any other."""
    op = "OR" if term.wanted else "AND"
    if isinstance(term.tree, sx.Binary) and term.tree.op == op:
        return [needs(part, term.wanted) for part in chained(term.tree, op)]
    return []


def _clash(x: Term, y: Term, values: Mapping[str, Value]) -> bool:
    if shape(x.tree) == shape(y.tree):
        return x.wanted is not y.wanted
    a, b = compared(x, values), compared(y, values)
    if a is None or b is None or a.what != b.what:
        return False
    if a.with_ == b.with_:
        return not _meet(a.op, 0, b.op, 0)
    return a.number is not None and b.number is not None and not _meet(a.op, a.number, b.op, b.number)


def compared(term: Term, values: Mapping[str, Value]) -> Compared | None:
    """A comparison, its number on the right side."""
    tree = term.tree
    if not isinstance(tree, sx.Binary) or tree.op not in _OPPOSITE:
        return None
    op = tree.op if term.wanted else _OPPOSITE[tree.op]
    left, right = tree.left, tree.right
    if _number(left, values) is not None and _number(right, values) is None:
        left, right, op = right, left, _TURNED[op]
    return Compared(shape(left), shape(right), op, _number(right, values), (left, right))


def _number(tree: sx.Expression, values: Mapping[str, Value]) -> float | None:
    """The number an expression is; TRUE is 1."""
    match tree:
        case sx.Literal():
            return float(tree.value)
        case sx.Unary(op="-", operand=sx.Literal(value=value)):
            return -float(value)
        case sx.Name():
            found = values.get(str(tree).lower())
            return None if found is None else float(found)
    return None


def _meet(a: str, m: float, b: str, n: float) -> bool:
    """Whether some number stands in both relations: `x a m` and `x b n`."""
    if "=" in (a, b):
        if a != "=":
            a, m, b, n = b, n, a, m
        return {"=": m == n, "<>": m != n, "<": m < n, "<=": m <= n, ">": m > n, ">=": m >= n}[b]
    if "<>" in (a, b) or a[0] == b[0]:
        return True
    if a[0] == "<":
        a, m, b, n = b, n, a, m
    return m < n or (m == n and a == ">=" and b == "<=")


def shape(tree: sx.Expression) -> str:
    """The text of an expression without places, to compare two."""
    match tree:
        case sx.Name():
            return str(tree).lower()
        case sx.Literal():
            return f"{tree.type}:{tree.value}"
        case sx.Unary():
            return f"{tree.op}({shape(tree.operand)})"
        case sx.Binary():
            return f"({shape(tree.left)}{tree.op}{shape(tree.right)})"
        case sx.Call():
            return f"{tree.function}({','.join(shape(a.value) for a in tree.arguments)})"
        case sx.Element():
            return f"{str(tree).lower()}[{shape(tree.index)}]{'.'.join(tree.member).lower()}"
