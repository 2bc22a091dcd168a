"""What is left of conditions and statements when some names are known."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import TypeGuard

from spokeshave.language import syntax as sx
from spokeshave.language.exclusive import never_together
from spokeshave.language.printer import expression_text
from spokeshave.language.settle import joined
from spokeshave.language.terms import chained, terms
from spokeshave.model.project import Type

Known = Mapping[str, sx.Expression]
"""What names stand for, by their dotted name in lower case; and what comparisons of a name do, by their text, where the name with
` ?` behind it is known.
"""
NOWHERE = sx.Span(1, 1, 0, 0)
TRUE = sx.Literal(True, Type.BOOL, NOWHERE)
FALSE = sx.Literal(False, Type.BOOL, NOWHERE)
ENTRY = sx.Name(("_first_scan_of_the_state_",), NOWHERE)
"""Stands for `State <> Last`."""
_COMPARE: dict[str, Callable[[object, object], bool]] = {
    "=": lambda a, b: a == b, "<>": lambda a, b: a != b, "<": lambda a, b: a < b,  # type: ignore[operator]
    "<=": lambda a, b: a <= b, ">": lambda a, b: a > b, ">=": lambda a, b: a >= b,  # type: ignore[operator]
}  # fmt: skip
_COUNT: dict[str, Callable[[int, int], int]] = {
    "+": lambda a, b: a + b,
    "-": lambda a, b: a - b,
    "*": lambda a, b: a * b,
}


def number(value: int) -> sx.Literal:
    """A whole number as a tree."""
    return sx.Literal(value, None, NOWHERE)


def flag(value: bool) -> sx.Literal:
    """TRUE or FALSE as a tree."""
    return TRUE if value else FALSE


def is_true(tree: sx.Expression) -> bool:
    """Whether a tree is TRUE itself."""
    return isinstance(tree, sx.Literal) and tree.value is True


def is_false(tree: sx.Expression) -> bool:
    """Whether a tree is FALSE itself."""
    return isinstance(tree, sx.Literal) and tree.value is False


def same(a: sx.Expression, b: sx.Expression) -> bool:
    """Whether two trees say the same, wherever they stand."""
    match a, b:
        case sx.Name(), sx.Name():
            return str(a).lower() == str(b).lower()
        case sx.Literal(), sx.Literal():
            return a.type is b.type and type(a.value) is type(b.value) and a.value == b.value
        case sx.Binary(), sx.Binary():
            if a.op != b.op:
                return False
            if a.op not in ("AND", "OR"):
                return same(a.left, b.left) and same(a.right, b.right)
            one, two = chained(a, a.op), chained(b, b.op)
            return len(one) == len(two) and all(map(same, one, two))
        case sx.Unary(), sx.Unary():
            return a.op == b.op and same(a.operand, b.operand)
        case _:
            return type(a) is type(b) and expression_text(a).lower() == expression_text(b).lower()


def negated(tree: sx.Expression) -> sx.Expression:
    """NOT of a condition, the sign taken into comparisons with `=` and `<>`."""
    match tree:
        case sx.Literal():
            return flag(not tree.value)
        case sx.Unary(op="NOT"):
            return tree.operand
        case sx.Binary(op="="):
            return replace(tree, op="<>")
        case sx.Binary(op="<>"):
            return replace(tree, op="=")
    return sx.Unary("NOT", tree, NOWHERE)


def both(a: sx.Expression, b: sx.Expression) -> sx.Expression:
    """`a AND b`, without what says nothing."""
    if is_true(a) or is_false(b):
        return b
    if is_true(b) or is_false(a):
        return a
    parts = terms(a)
    for term in terms(b):
        if not any(same(term, p) for p in parts):
            parts.append(term)
    fixed = {str(p.left).lower() for p in parts if _is_fixed(p)}  # what is 3 need not be told that it is not 2
    return joined("AND", [p for p in parts if not (_is_fixed(p, "<>") and str(p.left).lower() in fixed)])


def _is_fixed(tree: sx.Expression, op: str = "=") -> TypeGuard[sx.Binary]:
    """Whether a term holds a name against a whole number."""
    return (
        isinstance(tree, sx.Binary) and tree.op == op and isinstance(tree.left, sx.Name)
        and isinstance(tree.right, sx.Literal) and type(tree.right.value) is int
    )  # fmt: skip


def either(a: sx.Expression, b: sx.Expression) -> sx.Expression:
    """`a OR b`, without what says nothing."""
    if is_false(a) or is_true(b) or same(a, b):
        return b
    return a if is_false(b) or is_true(a) else sx.Binary("OR", a, b, NOWHERE)


@dataclass(frozen=True, slots=True)
class Asked:
    """The condition of a path: the texts of its terms, and those of their opposites."""

    terms: frozenset[str] = frozenset()
    opposites: frozenset[str] = frozenset()

    def also(self, tree: sx.Expression) -> Asked:
        """This condition and one more."""
        if is_true(tree):
            return self
        return Asked(self.terms.union(map(_said, terms(tree))), self.opposites.union(map(_unsaid, terms(tree))))

    def denies(self, tree: sx.Expression) -> bool:
        """Whether a term of this condition is plainly the opposite of a term of another one."""
        return any(_said(t) in self.opposites or _unsaid(t) in self.terms for t in terms(tree))


def _said(tree: sx.Expression) -> str:
    return expression_text(tree).lower()


def _unsaid(tree: sx.Expression) -> str:
    return _said(negated(tree))


def contradict(a: sx.Expression, b: sx.Expression) -> bool:
    """Whether two conditions are plainly never TRUE together."""
    return Asked().also(a).denies(b) or never_together(a, b)


def folded(tree: sx.Expression, known: Known) -> sx.Expression:
    """A tree with the names that are known put in, worked out as far as that goes.

    >>> from spokeshave.language.parse import parse_expression
    >>> expression_text(folded(parse_expression("Go AND (State = 20 OR Jam)"), {"state": number(20)}))
    'Go'
    """
    match tree:
        case sx.Name():
            return known.get(str(tree).lower(), tree)
        case sx.Unary():
            inner = folded(tree.operand, known)
            if isinstance(inner, sx.Literal) and isinstance(inner.value, bool) and tree.op == "NOT":
                return flag(not inner.value)
            if isinstance(inner, sx.Literal) and tree.op == "-" and isinstance(tree.operand, sx.Name):
                return replace(inner, value=-inner.value)
            if tree.op == "NOT" and isinstance(inner, sx.Unary) and inner.op == "NOT":
                return inner.operand
            return tree if inner is tree.operand else replace(tree, operand=inner)
        case sx.Binary(left=sx.Name()) if f"{tree.left} ?".lower() in known and (
            whole := known.get(expression_text(tree).lower())
        ):
            return whole
        case sx.Binary():
            return _binary(tree, folded(tree.left, known), folded(tree.right, known))
        case _:
            return sx.with_parts(tree, lambda part: folded(part, known))


def folded_target(target: sx.Target, known: Known) -> sx.Target:
    """What is assigned, with the row it is in worked out as far as that goes."""
    return replace(target, index=folded(target.index, known)) if isinstance(target, sx.Element) else target


def _binary(tree: sx.Binary, left: sx.Expression, right: sx.Expression) -> sx.Expression:
    op = tree.op
    if op == "AND" and (is_false(left) or is_false(right)):
        return FALSE
    if op == "AND" and (is_true(left) or is_true(right)):
        return right if is_true(left) else left
    if op == "OR" and (is_true(left) or is_true(right)):
        return TRUE
    if op == "OR" and (is_false(left) or is_false(right)):
        return right if is_false(left) else left
    a, b = value_of(left), value_of(right)
    if op in ("=", "<>") and (isinstance(a, bool) or isinstance(b, bool)) and type(a) is not type(b):
        # Compared with TRUE or FALSE: the condition itself, or its opposite.
        tested, with_ = (left, b) if isinstance(b, bool) else (right, a)
        return tested if (op == "=") is with_ else negated(tested)
    if a is not None and b is not None and type(a) is type(b):
        if op in _COMPARE:
            return flag(_COMPARE[op](a, b))
        if op in _COUNT and isinstance(a, int) and isinstance(b, int) and not isinstance(a, bool):
            return number(_COUNT[op](a, b))
    return tree if left is tree.left and right is tree.right else replace(tree, left=left, right=right)


def value_of(tree: sx.Expression) -> bool | int | None:
    """The value of a tree that is TRUE, FALSE or a whole number; None for any other."""
    if isinstance(tree, sx.Literal) and tree.type in (None, Type.BOOL, Type.INT, Type.DINT):
        return tree.value  # type: ignore[return-value]
    if isinstance(tree, sx.Unary) and tree.op == "-" and isinstance(tree.operand, sx.Literal):
        value = value_of(tree.operand)
        return -value if value is not None and not isinstance(value, bool) else None
    return None


def names_in(tree: sx.Expression) -> Iterator[str]:
    """The dotted names a tree reads, in lower case."""
    if isinstance(tree, (sx.Name, sx.Element)):
        yield str(tree).lower()
    for part in sx.parts(tree):
        yield from names_in(part)


def read_by(block: tuple[sx.Statement, ...]) -> set[str]:
    """The dotted names some statements read, in lower case; of a block that is called, its name."""
    out: set[str] = set()
    for s in block:
        expressions, blocks, _ = sx.children(s)
        out |= {n for e in expressions for n in names_in(e)}
        for inner in blocks:
            out |= read_by(inner)
        if isinstance(s, sx.BlockCall):
            out.add(str(s.instance).lower())
    return out


def written_by(block: tuple[sx.Statement, ...]) -> set[str]:
    """The dotted names some statements write, in lower case."""
    out: set[str] = set()
    for s in block:
        _, blocks, written = sx.children(s)
        out |= {str(n).lower() for n in written}
        for inner in blocks:
            out |= written_by(inner)
    return out


def folded_block(block: tuple[sx.Statement, ...], known: Known) -> tuple[sx.Statement, ...]:
    """Statements with the names that are known put in, and without the branches that cannot be taken. A name that is
    written is known no longer.
    """
    out: list[sx.Statement] = []
    known = dict(known)
    for s in block:
        out += _statement(s, known)
        for name in written_by((s,)):
            known.pop(name, None)
    return tuple(out)


def _statement(s: sx.Statement, known: Known) -> tuple[sx.Statement, ...]:
    match s:
        case sx.Assign():
            return (replace(s, target=folded_target(s.target, known), value=folded(s.value, known)),)
        case sx.If():
            branches: list[tuple[sx.Expression, tuple[sx.Statement, ...]]] = []
            for condition, block in s.branches:
                test = folded(condition, known)
                if is_false(test):
                    continue
                if is_true(test):
                    rest = folded_block(block, known)
                    return rest if not branches else (replace(s, branches=tuple(branches), otherwise=rest),)
                branches.append((test, folded_block(block, known)))
            rest = folded_block(s.otherwise, known)
            return (replace(s, branches=tuple(branches), otherwise=rest),) if branches else rest
        case sx.Case():
            selector = folded(s.selector, known)
            value = value_of(selector)
            cases = [(labels, folded_block(block, known)) for labels, block in s.branches]
            if value is not None:
                for labels, block in cases:
                    ends = [(value_of(folded(a, known)), value_of(folded(b, known))) for a, b in labels]
                    if any(a is None or b is None for a, b in ends):
                        break
                    if any(a <= value <= b for a, b in ends if a is not None and b is not None):
                        return block
                else:
                    return folded_block(s.otherwise, known)
            return (replace(s, selector=selector, branches=tuple(cases), otherwise=folded_block(s.otherwise, known)),)
        case sx.BlockCall():
            return (replace(s, inputs=tuple(replace(a, value=folded(a.value, known)) for a in s.inputs)),)
        case _:
            return (s,)


def as_ifs(s: sx.Case) -> sx.If | None:
    """A CASE as IF and ELSIF with comparisons; None where a label is no single value or a range of numbers."""
    branches = []
    for labels, block in s.branches:
        test: sx.Expression = FALSE
        for low, high in labels:
            if low is high or same(low, high):
                test = either(test, sx.Binary("=", s.selector, low, NOWHERE))
            else:
                ends = (sx.Binary(">=", s.selector, low, NOWHERE), sx.Binary("<=", s.selector, high, NOWHERE))
                test = either(test, both(*ends))
        branches.append((test, block))
    return sx.If(tuple(branches), s.otherwise, s.span) if branches else None


def tidy(s: sx.If) -> sx.If | None:
    """An IF without the branches that do nothing: their conditions stand in that of the next. None if nothing is left."""
    if s.otherwise and any(block for _, block in s.branches):
        return s
    if s.otherwise:
        test: sx.Expression = TRUE
        for condition, _ in s.branches:
            test = both(test, negated(condition))
        return replace(s, branches=((test, s.otherwise),), otherwise=())
    out: list[tuple[sx.Expression, tuple[sx.Statement, ...]]] = []
    before: sx.Expression = TRUE
    acting = max((i for i, (_, block) in enumerate(s.branches) if block), default=-1)
    for condition, block in s.branches[: acting + 1]:
        if block:
            out.append((both(before, condition), block))
            before = TRUE
        else:
            before = both(before, negated(condition))
    return replace(s, branches=tuple(out)) if out else None


def stripped(s: sx.Statement, names: set[str]) -> sx.Statement | None:
    """A statement without the assignments of some variables and the calls of some blocks; None if nothing is left."""

    def block(inner: tuple[sx.Statement, ...]) -> tuple[sx.Statement, ...]:
        new = tuple(x for y in inner if (x := stripped(y, names)) is not None)
        return inner if len(new) == len(inner) and all(a is b for a, b in zip(new, inner)) else new

    match s:
        case sx.Assign():
            return None if str(s.target).lower() in names else s
        case sx.BlockCall():
            return None if str(s.instance).lower() in names else s
        case sx.If():
            branches = tuple((c, block(b)) for c, b in s.branches)
            otherwise = block(s.otherwise)
            if otherwise is s.otherwise and all(x is b for (_, x), (_, b) in zip(branches, s.branches)):
                return s
            return tidy(replace(s, branches=branches, otherwise=otherwise))
        case sx.Case():
            cases = tuple((labels, block(b)) for labels, b in s.branches)
            otherwise = block(s.otherwise)
            if otherwise is s.otherwise and all(x is b for (_, x), (_, b) in zip(cases, s.branches)):
                return s
            cases = tuple(c for c in cases if c[1] or otherwise)
            return replace(s, branches=cases, otherwise=otherwise) if cases else None
        case _:
            return s
