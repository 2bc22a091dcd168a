"""The terms of a condition: what stands between its outermost ANDs."""

from __future__ import annotations

from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression
from spokeshave.language.printer import expression_text
from spokeshave.language.syntax import TextError

_INSIDE_AND = 3


def terms_of(condition: str) -> tuple[str, ...]:
    """The terms in their order; a condition that cannot be read is one term, an empty one has none.

    >>> terms_of("DrumRuns AND (Hot OR Dry) AND TempOk")
    ('DrumRuns', '(Hot OR Dry)', 'TempOk')
    """
    if not condition.strip():
        return ()
    try:
        parts = terms(parse_expression(condition))
    except TextError:
        return (condition.strip(),)
    return (condition.strip(),) if len(parts) == 1 else tuple(expression_text(p, _INSIDE_AND) for p in parts)


def with_terms(texts: tuple[str, ...]) -> str:
    """The condition of these terms: `terms_of` backwards."""
    if len(texts) == 1:
        return texts[0]
    return " AND ".join(_closed(t) for t in texts)


def _closed(term: str) -> str:
    """A term with the parentheses it needs beside an AND."""
    try:
        return expression_text(parse_expression(term), _INSIDE_AND)
    except TextError:
        return term


def terms(tree: sx.Expression) -> list[sx.Expression]:
    """What the outermost ANDs of a tree join."""
    return chained(tree, "AND")


def chained(tree: sx.Expression, op: str) -> list[sx.Expression]:
    """What the outermost operators of one kind join, in the order of the text."""
    found, left = list[sx.Expression](), [tree]
    while left:
        node = left.pop()
        if isinstance(node, sx.Binary) and node.op == op:
            left += (node.right, node.left)
        else:
            found.append(node)
    return found
