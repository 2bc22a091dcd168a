"""Whether two conditions are the same under all circumstances: what they compare and look at taken as free, their truth compared."""

from __future__ import annotations

from itertools import product

from spokeshave.language import LanguageError
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression

MOST = 12
"""Terms up to which all circumstances are tried."""


def same_truth(a: str, b: str) -> bool:
    """Whether two conditions hold under the same circumstances; not known to be so is no.

    >>> same_truth("A AND (B OR A)", "A"), same_truth("A AND B", "A OR B")
    (True, False)
    """
    try:
        first, second = parse_expression(a), parse_expression(b)
    except LanguageError:
        return False
    terms = sorted({*_terms(first, a), *_terms(second, b)})
    if len(terms) > MOST:
        return False
    for values in product((False, True), repeat=len(terms)):
        known = dict(zip(terms, values))
        if _holds(first, a, known) != _holds(second, b, known):
            return False
    return True


def _is_joined(tree: sx.Expression) -> bool:
    return (isinstance(tree, sx.Binary) and tree.op in ("AND", "OR", "XOR")) or (
        isinstance(tree, sx.Unary) and tree.op == "NOT"
    )


def _term(tree: sx.Expression, text: str) -> str:
    return " ".join(text[tree.span.start : tree.span.end].lower().split())


def _terms(tree: sx.Expression, text: str) -> set[str]:
    if _is_joined(tree):
        return {t for part in sx.parts(tree) for t in _terms(part, text)}
    return set() if isinstance(tree, sx.Literal) and isinstance(tree.value, bool) else {_term(tree, text)}


def _holds(tree: sx.Expression, text: str, known: dict[str, bool]) -> bool:
    if isinstance(tree, sx.Literal) and isinstance(tree.value, bool):
        return tree.value
    if not _is_joined(tree):
        return known[_term(tree, text)]
    values = [_holds(part, text, known) for part in sx.parts(tree)]
    if isinstance(tree, sx.Unary):
        return not values[0]
    assert isinstance(tree, sx.Binary)
    return {"AND": all(values), "OR": any(values)}.get(tree.op, values[0] != values[-1])
