"""What evaluating an expression may do besides giving a value: stop the run, or note an overflow."""

from __future__ import annotations

from spokeshave.language import checked as ck
from spokeshave.language.operators import operator_of
from spokeshave.model.project import Type


def is_pure(node: ck.Checked) -> bool:
    """Whether evaluating does nothing else: then it need not be evaluated where its value does not matter."""
    match node:
        case ck.Apply():
            return operator_of(node.op, node.type).is_quiet and all(map(is_pure, node.args))
        case ck.Invoke():
            return all(map(is_pure, node.args)) and _is_quiet(node.function.body)
        case ck.Element():
            return False
        case _:
            return True


def _is_quiet(block: tuple[ck.CheckedStatement, ...]) -> bool:
    """Whether statements of a function do nothing but set its variables."""
    return all(
        isinstance(s, (ck.Store, ck.Choose, ck.Leave))
        and not (isinstance(s, ck.Store) and s.type is Type.REAL and isinstance(s.value, ck.Apply))
        and all(map(is_pure, ck.inner(s)[0]))
        and all(map(_is_quiet, ck.inner(s)[1]))
        for s in block
    )
