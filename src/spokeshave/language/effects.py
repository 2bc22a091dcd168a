"""What evaluating an expression may do besides giving a value: stop the run, or note an overflow."""

from __future__ import annotations

from spokeshave.language import checked as ck
from spokeshave.language.functions import CONVERSIONS
from spokeshave.model.project import Type

_QUIET = frozenset(
    ("eq", "ne", "lt", "gt", "le", "ge", "and", "or", "xor", "not", "same", "real", "MIN", "MAX", "LIMIT", "SEL")
)


def is_pure(node: ck.Checked) -> bool:
    """Whether evaluating does nothing else: then it need not be evaluated where its value does not matter."""
    if not isinstance(node, ck.Apply):
        return True
    quiet = node.op in _QUIET or (node.op in CONVERSIONS and node.type in (Type.BOOL, Type.REAL))
    return quiet and all(map(is_pure, node.args))
