"""A CASE inside a state of another one: its states become those of a sequence beside the outer one, whose ways ask for that state."""

from __future__ import annotations

from collections import Counter
from collections.abc import Set
from dataclasses import replace
from functools import reduce

from spokeshave.formats.states.find import Block
from spokeshave.formats.states.fold import NOWHERE, both, either, negated, same, stripped, written_by
from spokeshave.language import syntax as sx


def nested_apart(statements: Block, numbers: Set[str]) -> Block:
    """The statements with what sets the state of an inner CASE before the outer one, under the states in which it stands:
    `IF Mode = 1 THEN CASE Phase OF ...`. What sets the outer state stays where it is. `numbers` are the variables that may be
    states, in lower case.

    Both are looked at as they were before the scan, which is what a chart does; whether the text does so too is seen when they
    are run beside each other.
    """
    return _apart(
        statements,
        numbers,
        Counter(str(s.selector).lower() for s in sx.every_statement(statements) if isinstance(s, sx.Case)),
    )


def _apart(statements: Block, numbers: Set[str], cases: Counter[str]) -> Block:
    out: list[sx.Statement] = []
    for s in statements:
        if isinstance(s, sx.If):
            branches = tuple((c, _apart(block, numbers, cases)) for c, block in s.branches)
            s = replace(s, branches=branches, otherwise=_apart(s.otherwise, numbers, cases))
        if isinstance(s, sx.Case) and (outer := str(s.selector).lower()) in numbers:
            # What leads elsewhere above: the text chooses by where it has led, a chart by where the scan began.
            taking = [x for x in out if isinstance(x, sx.If) and outer in written_by((x,))]
            stays = [negated(x.branches[0][0]) for x in taking]
            for var in sorted(_inner(s, numbers - {outer}, cases)):
                before, s = _taken_out(s, var, outer, stays)
                out += before
        out.append(s)
    return tuple(out)


def _inner(outer: sx.Case, numbers: Set[str], cases: Counter[str]) -> set[str]:
    """The states of the only CASE on them, which stands in a branch of another one."""
    inside = [x for _, block in outer.branches for x in block if isinstance(x, sx.Case)]
    found = {str(x.selector).lower() for x in inside if str(x.selector).lower() in written_by((x,))}
    return {var for var in found & numbers if cases[var] == 1}


def _taken_out(case: sx.Case, var: str, outer: str, stays: list[sx.Expression]) -> tuple[list[sx.Statement], sx.Case]:
    """What a CASE does to an inner state, as statements to stand before it, the inner CASE first; and what is left of it."""
    first: list[sx.Statement] = []
    behind: list[sx.Statement] = []
    for labels, block in case.branches:
        if mine := tuple(x for y in block if (x := _part(y, var, outer)) is not None):
            there = reduce(both, stays, _is(case.selector, labels))
            (first if any(isinstance(x, sx.Case) for x in mine) else behind).append(
                sx.If(((there, mine),), (), case.span)
            )
    left = tuple((labels, _without(block, var, outer)) for labels, block in case.branches)
    return [*first, *behind], replace(case, branches=left)


def _is(
    selector: sx.Expression, labels: tuple[tuple[sx.Literal | sx.Name, sx.Literal | sx.Name], ...]
) -> sx.Expression:
    """That the outer state is one of these."""
    return reduce(either, (_within(selector, low, high) for low, high in labels))


def _within(selector: sx.Expression, low: sx.Expression, high: sx.Expression) -> sx.Expression:
    if same(low, high):
        return sx.Binary("=", selector, low, NOWHERE)
    return both(sx.Binary(">=", selector, low, NOWHERE), sx.Binary("<=", selector, high, NOWHERE))


def _part(s: sx.Statement, var: str, outer: str) -> sx.Statement | None:
    """What a statement does to the inner state: all of its CASE but what sets the outer state, of others what sets the inner one."""
    if isinstance(s, sx.Case) and str(s.selector).lower() == var:
        cases = tuple(
            (labels, _stripped(block, {outer})) for labels, block in s.branches
        )  # a state may do nothing else
        return replace(s, branches=cases, otherwise=_stripped(s.otherwise, {outer}))
    return stripped(s, _done(s) - {var}) if var in written_by((s,)) else None


def _without(block: Block, var: str, outer: str) -> Block:
    """A branch of the outer CASE without what `_part` took."""
    left = (
        stripped(s, _done(s) - {outer} if isinstance(s, sx.Case) and str(s.selector).lower() == var else {var})
        for s in block
    )
    return tuple(s for s in left if s is not None)


def _stripped(block: Block, names: set[str]) -> Block:
    return tuple(x for s in block if (x := stripped(s, names)) is not None)


def _done(s: sx.Statement) -> set[str]:
    """The variables that a statement sets and the blocks that it calls."""
    return written_by((s,)) | {str(x.instance).lower() for x in sx.every_statement((s,)) if isinstance(x, sx.BlockCall)}
