"""Two variables of which one only ever takes the other: `IF Next <> Step THEN Step := Next; First := TRUE; ...`, and a CASE on the copy.

Such a copy is the state and the last state at once. Where the text asks whether they differ, before the one becomes the other, the CASE can as
well be on the variable that is copied: then the copy is what the last state was, which is the usual form.
"""

from __future__ import annotations

from dataclasses import replace

from spokeshave.formats.states.fold import read_by, written_by
from spokeshave.language import syntax as sx

Block = tuple[sx.Statement, ...]


def on_what_is_copied(statements: Block) -> Block:
    """The statements with each such CASE on the variable that is copied; what is put into it in between stands in each of its branches."""
    for at, s in enumerate(statements):
        pair = _differ(s)
        if pair is None:
            continue
        for copy, of in (pair, pair[::-1]):
            changed = _changed(statements, at, str(copy).lower(), of)
            if changed is not None:
                return on_what_is_copied(changed)
    return statements


def _differ(s: sx.Statement) -> tuple[sx.Name, sx.Name] | None:
    """The two names that an IF, or what is put into a variable, holds against each other."""
    tree = s.branches[0][0] if isinstance(s, sx.If) else s.value if isinstance(s, sx.Assign) else None
    if (
        isinstance(tree, sx.Binary)
        and tree.op == "<>"
        and isinstance(tree.left, sx.Name)
        and isinstance(tree.right, sx.Name)
    ):
        return tree.left, tree.right
    return None


def _changed(statements: Block, at: int, copy: str, name: sx.Name) -> Block | None:
    """With the CASE on `name`; None where `copy` is more than a copy of it, or no CASE is on it."""
    of, out = str(name).lower(), list(statements)
    first = out[at]
    if isinstance(first, sx.If):
        inside = [s for s in first.branches[0][1] if _takes(s, copy, of)]
        if len(inside) == 1 and len(first.branches) == 1:
            rest = tuple(s for s in first.branches[0][1] if s is not inside[0])
            if {copy, of} & (read_by((*rest, *first.otherwise)) | written_by((*rest, *first.otherwise))):
                return None
            out[at : at + 1] = [*_flags_first(first, rest), inside[0]]
    taken = next((i for i in range(at, len(out)) if _takes(out[i], copy, of)), -1)
    case = next((i for i, s in enumerate(out) if isinstance(s, sx.Case) and str(s.selector).lower() == copy), -1)
    others = (*out[:taken], *out[taken + 1 :])
    if not 0 <= taken < case or copy in written_by(others) or of not in written_by(others):
        return None
    between = [s for s in out[taken + 1 : case] if of in written_by((s,))]
    stays = tuple(s for s in out[taken + 1 : case] if s not in between)
    if written_by(tuple(between)) & read_by((*stays, *between)) or written_by(stays) & read_by(tuple(between)):
        return None
    chosen = out[case]
    assert isinstance(chosen, sx.Case)
    moved = replace(
        chosen,
        selector=name,
        branches=tuple((labels, (*between, *body)) for labels, body in chosen.branches),
        otherwise=(*between, *chosen.otherwise),
    )
    return tuple(moved if s is chosen else s for s in out if s not in between)


def _flags_first(asked: sx.If, then: Block) -> Block:
    """What an IF does, with `First := Next <> Step` for a flag that it sets in the one branch and takes back in the other."""
    condition, said = asked.branches[0][0], []
    otherwise = asked.otherwise
    for s in then:
        back = next((x for x in otherwise if _put(x, False) and _put(x, False) == _put(s, True)), None)
        others = (*(x for x in then if x is not s), *(x for x in otherwise if x is not back))
        if isinstance(s, sx.Assign) and back is not None and _put(s, True) not in read_by(others) | written_by(others):
            said.append(replace(s, value=condition))
            then, otherwise = (tuple(x for x in block if x not in (s, back)) for block in (then, otherwise))
    left = (replace(asked, branches=((condition, then),), otherwise=otherwise),) if then or otherwise else ()
    return (*said, *left)


def _put(s: sx.Statement, value: bool) -> str:
    """The variable into which a statement puts TRUE, or FALSE; empty for others."""
    is_it = isinstance(s, sx.Assign) and isinstance(s.value, sx.Literal) and s.value.value is value
    return str(s.target).lower() if is_it and isinstance(s, sx.Assign) else ""


def _takes(s: sx.Statement, copy: str, of: str) -> bool:
    return isinstance(s, sx.Assign) and str(s.target).lower() == copy and str(s.value).lower() == of
