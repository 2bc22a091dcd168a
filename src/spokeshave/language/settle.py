"""Trees that no later walk can fall over: long chains of AND, OR and XOR balanced, what nests too deeply refused.

Everything behind the parser may walk a tree by recursion: no expression is deeper than `DEEPEST`; the parser itself lets
no block of statements nest deeper than `DEEPEST_BLOCK`, and no loop than `DEEPEST_LOOP`.
"""

from __future__ import annotations

from dataclasses import replace

from spokeshave.language import syntax as sx
from spokeshave.language.tokens import DEEPEST

DEEPEST_BLOCK = 60
DEEPEST_LOOP = 16
LONG = 60
"""Chains of so many operators are balanced; shorter ones stay as they are written."""

_ASSOCIATIVE = ("AND", "OR", "XOR")


def too_deep(span: sx.Span, what: str, most: int, advice: str) -> sx.TooMuch:
    """The error of a text that nests deeper than `most`."""
    return sx.TooMuch([sx.Problem.at(span, f"{what} too deeply", f"at most {most} levels; {advice}")])


def expression_too_deep(span: sx.Span) -> sx.TooMuch:
    """The error of an expression that nests deeper than `DEEPEST`."""
    return too_deep(span, "the expression nests", DEEPEST, "use internals for its parts")


def settled(tree: sx.Expression, depth: int = 0) -> sx.Expression:
    """The expression with its long chains balanced. Raises `TextError` where it nests too deeply."""
    if depth > DEEPEST:
        raise expression_too_deep(tree.span)
    match tree:
        case sx.Binary():
            return _settled_chain(tree, depth)
        case sx.Unary():
            return replace(tree, operand=settled(tree.operand, depth + 1))
        case sx.Call():
            given = tuple(replace(a, value=settled(a.value, depth + 2)) for a in tree.arguments)
            return replace(tree, arguments=given)
        case sx.Element():
            return replace(tree, index=settled(tree.index, depth + 1))
        case _:
            return tree


def _settled_chain(tree: sx.Binary, depth: int) -> sx.Expression:
    """A chain such as `a OR b OR c`, which the parser gives as a tree that is as deep as the chain is long."""
    spine, node = [], tree
    while True:
        spine.append(node)
        if not isinstance(node.left, sx.Binary) or node.left.op != tree.op:
            break
        node = node.left
    spine.reverse()
    operands = [node.left, *(s.right for s in spine)]
    if len(spine) > LONG and tree.op in _ASSOCIATIVE:
        deeper = depth + len(spine).bit_length()
        return joined(tree.op, [settled(x, deeper) for x in operands])
    if depth + len(spine) > DEEPEST:
        raise expression_too_deep(spine[-1].span)
    found = settled(operands[0], depth + len(spine))
    for i, s in enumerate(spine):
        found = sx.Binary(s.op, found, settled(s.right, depth + len(spine) - i), s.span)
    return found


def joined(op: str, parts: list[sx.Expression]) -> sx.Expression:
    """AND, OR or XOR of at least one expression: as it is written where there are few, balanced where there are many."""
    if len(parts) > LONG + 1:
        return _balanced(op, parts)
    found = parts[0]
    for part in parts[1:]:
        found = sx.Binary(op, found, part, sx.Span(1, 1, 0, 0))
    return found


def _balanced(op: str, parts: list[sx.Expression]) -> sx.Expression:
    if len(parts) == 1:
        return parts[0]
    middle = (len(parts) + 1) // 2
    left, right = _balanced(op, parts[:middle]), _balanced(op, parts[middle:])
    span = sx.Span(left.span.line, left.span.column, left.span.start, right.span.end)
    return sx.Binary(op, left, right, span)
