"""A CASE inside a state of another one: its states are those of a sequence beside the outer one, held wherever that is elsewhere."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Set
from dataclasses import replace
from functools import reduce

from spokeshave.formats.states.find import Block
from spokeshave.formats.states.fold import NOWHERE, both, negated, stripped, written_by
from spokeshave.language import syntax as sx


def nested_apart(statements: Block, numbers: Set[str]) -> Block:
    """The statements with what sets the state of an inner CASE before the outer one, under the states in which it stands:
    `IF Mode = 1 THEN CASE Phase OF ...`. What sets the outer state stays where it is. `numbers` are the variables that may be
    states, in lower case.

    Both are looked at as they were before the scan, which is what a chart does; whether the text does so too is seen when they
    are run beside each other.
    """
    return _apart(
        statements, numbers, Counter(str(s.selector).lower() for s in _every(statements) if isinstance(s, sx.Case))
    )


def _apart(statements: Block, numbers: Set[str], cases: Counter[str]) -> Block:
    out: list[sx.Statement] = []
    for s in statements:
        if isinstance(s, sx.If):
            branches = tuple((c, _apart(block, numbers, cases)) for c, block in s.branches)
            s = replace(s, branches=branches, otherwise=_apart(s.otherwise, numbers, cases))
        if isinstance(s, sx.Case) and str(s.selector).lower() in numbers:
            outer = str(s.selector).lower()
            inner = {
                var for _, block in s.branches for x in block
                if isinstance(x, sx.Case) and (var := str(x.selector).lower()) in numbers - {outer}
                and cases[var] == 1 and var in written_by((x,))
            }  # fmt: skip
            # What leads elsewhere above: the text chooses by where it has led, a chart by where the scan began.
            elsewhere = [
                c for x in out if isinstance(x, sx.If) and outer in written_by((x,)) for c, _ in x.branches[:1]
            ]
            for var in sorted(inner):
                first: list[sx.Statement] = []
                behind: list[sx.Statement] = []
                for labels, block in s.branches:
                    if mine := tuple(x for y in block if (x := _part(y, var, outer)) is not None):
                        there = reduce(both, map(negated, elsewhere), _is(s.selector, labels))
                        part = sx.If(((there, mine),), (), s.span)
                        (first if any(isinstance(x, sx.Case) for x in mine) else behind).append(part)
                s = replace(s, branches=tuple((labels, _without(block, var, outer)) for labels, block in s.branches))
                out += [*first, *behind]
        out.append(s)
    return tuple(out)


def _every(block: Block) -> Iterator[sx.Statement]:
    for s in block:
        yield s
        for inner in sx.children(s)[1]:
            yield from _every(inner)


def _is(selector: sx.Expression, labels: object) -> sx.Expression:
    """That the outer state is one of these."""
    found: sx.Expression | None = None
    for low, high in labels:  # type: ignore[attr-defined]
        if low is high or str(low) == str(high):
            one: sx.Expression = sx.Binary("=", selector, low, NOWHERE)
        else:
            one = sx.Binary(
                "AND", sx.Binary(">=", selector, low, NOWHERE), sx.Binary("<=", selector, high, NOWHERE), NOWHERE
            )
        found = one if found is None else sx.Binary("OR", found, one, NOWHERE)
    assert found is not None
    return found


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
    return written_by((s,)) | {str(x.instance).lower() for x in _every((s,)) if isinstance(x, sx.BlockCall)}
