"""What some conditions leave open between them: the numbers for which none of them is TRUE."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from spokeshave.language import syntax as sx
from spokeshave.language.exclusive import Compared, Term, compared, needs, options_of, shape
from spokeshave.language.literals import real_text
from spokeshave.language.parse import parse_expression
from spokeshave.language.printer import expression_text
from spokeshave.language.syntax import TextError
from spokeshave.model.project import Value

Bound = tuple[float, int]
"""A number, or the place just below (-1) or above it (1)."""
Range = tuple[Bound, Bound]
"""From a bound to a bound, both within."""
_LEAST, _MOST = (float("-inf"), 0), (float("inf"), 0)
Whole = Callable[[sx.Expression], bool | None]
"""Whether an expression is a whole number; None for one whose gaps are not looked for, as it moves by itself."""


def gap_between(conditions: Sequence[str], values: Mapping[str, Value], whole: Whole) -> str:
    """The values between those that conditions ask for, in words, where they ask the same thing for numbers and nothing else but
    what all of them ask. Empty where there is no gap, or none is plain. Without something that all ask, the step may be meant to
    wait, and just a single number that is left out is told.

    >>> gap_between(["Done AND Goal > 5", "Done AND Goal < 5"], {}, lambda _: True)
    'Goal = 5'
    >>> gap_between(["Done AND Goal > 7", "Done AND Goal <= 5"], {}, lambda _: True)
    'Goal from 6 to 7'
    """
    try:
        asked = [needs(parse_expression(c)) for c in conditions]
    except TextError:
        return ""
    common = set.intersection(*({(shape(t.tree), t.wanted) for t in terms} for terms in asked)) if asked else set()
    left = [[t for t in terms if (shape(t.tree), t.wanted) not in common] for terms in asked]
    found = [c for terms in left for c in _comparisons(terms, values)]
    if not all(left) or None in found or all(c is None or c.op == "=" for c in found):
        return ""  # single numbers are codes: what lies between them is none
    told = [c for c in found if c is not None]
    one, kind = told[0], whole(told[0].sides[0])
    relation = len({c.with_ for c in told}) == 1 and one.number is None
    if kind is None or len({c.what for c in told}) > 1 or not (relation or all(c.number is not None for c in told)):
        return ""
    gaps = _between([r for terms in left for r in _ranges(terms, values, kind, relation)], kind)
    gaps = [g for g in gaps if common or g[0] == g[1]]
    what, with_ = map(expression_text, one.sides)
    return " and ".join(f"{what} = {with_}" if relation else f"{what} {_said(g)}" for g in gaps)


def _comparisons(terms: list[Term], values: Mapping[str, Value]) -> list[Compared | None]:
    """The comparisons that terms are made of; None for what is none."""
    found: list[Compared | None] = []
    for t in terms:
        options = options_of(t)
        found += [c for o in options for c in _comparisons(o, values)] if options else [compared(t, values)]
    return found


def _ranges(terms: list[Term], values: Mapping[str, Value], whole: bool, relation: bool) -> list[Range]:
    """The numbers for which terms hold."""
    out: list[Range] = [(_LEAST, _MOST)]
    for t in terms:
        options, c = options_of(t), compared(t, values)
        mine = [r for option in options for r in _ranges(option, values, whole, relation)]
        if c is not None:
            mine = _range(c.op, 0 if relation or c.number is None else c.number, whole)
        out = [(max(a, c), min(b, d)) for a, b in out for c, d in mine if max(a, c) <= min(b, d)]
    return out


def _range(op: str, n: float, whole: bool) -> list[Range]:
    below, above = _below((n, 0), whole), _above((n, 0), whole)
    return {
        "=": [((n, 0), (n, 0))], "<": [(_LEAST, below)], "<=": [(_LEAST, (n, 0))], ">": [(above, _MOST)],
        ">=": [((n, 0), _MOST)], "<>": [(_LEAST, below), (above, _MOST)],
    }[op]  # fmt: skip


def _above(bound: Bound, whole: bool) -> Bound:
    """The next place."""
    return (bound[0] + 1, 0) if whole else (bound[0], bound[1] + 1)


def _below(bound: Bound, whole: bool) -> Bound:
    return (bound[0] - 1, 0) if whole else (bound[0], bound[1] - 1)


def _between(ranges: list[Range], whole: bool) -> list[Range]:
    """What lies between ranges and in none of them."""
    gaps, reach = list[Range](), None
    for low, high in sorted(ranges):
        if reach is not None and low > _above(reach, whole):
            gaps.append((_above(reach, whole), _below(low, whole)))
        reach = high if reach is None else max(reach, high)
    return gaps


def _said(gap: Range) -> str:
    (low, above), (high, below) = gap
    a, b = (str(int(n)) if n.is_integer() else real_text(n) for n in map(float, (low, high)))
    if gap[0] == gap[1]:
        return f"= {a}"
    return f"{'above' if above else 'from'} {a} {'and below' if below else 'to'} {b}"
