"""What evaluating an expression may do besides giving a value: stop the run, or note an overflow."""

from __future__ import annotations

from spokeshave.language import checked as ck
from spokeshave.language.operators import operator_of


def is_pure(node: ck.Checked) -> bool:
    """Whether evaluating does nothing else: then it need not be evaluated where its value does not matter."""
    if not isinstance(node, ck.Apply):
        return True
    return operator_of(node.op, node.type).is_quiet and all(map(is_pure, node.args))
