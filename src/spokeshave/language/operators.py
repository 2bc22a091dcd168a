"""The operators and functions of checked trees, each once: whether its result has to be fitted into its type, whether it may
have none, and what an interpreter does for it.

The compiler makes Python of them, a study puts NumPy columns through them; neither knows anything of them besides.
"""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.language.functions import CONVERSIONS, REAL_FUNCTIONS
from spokeshave.model.project import Type


@dataclass(frozen=True, slots=True)
class Operator:
    """One operator. A result that `wraps` is an integer in two's complement, with a note of a numeric overflow, or a TIME within
    its bounds (semantics 2); one that `stops` may have no value, and ends the run at its place (semantics 6).

    `python` is an operator of Python's syntax tree, or a function of `functions`; `columns` a function of NumPy, or one of the
    columns' own. Empty: there is none, and whoever needs it says so.
    """

    python: str
    columns: str = ""
    wraps: bool = False
    stops: bool = False

    @property
    def is_quiet(self) -> bool:
        """Whether it does nothing besides giving its value."""
        return not (self.wraps or self.stops)


OPERATORS: dict[str, Operator] = {
    "and": Operator("And", "logical_and"), "or": Operator("Or", "logical_or"), "xor": Operator("BitXor", "logical_xor"),
    "not": Operator("Not", "logical_not"),
    "eq": Operator("Eq", "equal"), "ne": Operator("NotEq", "not_equal"), "lt": Operator("Lt", "less"),
    "gt": Operator("Gt", "greater"), "le": Operator("LtE", "less_equal"), "ge": Operator("GtE", "greater_equal"),
    "neg": Operator("USub", "negative", wraps=True), "add": Operator("Add", "add", wraps=True),
    "sub": Operator("Sub", "subtract", wraps=True), "mul": Operator("Mult", "multiply", wraps=True),
    "div": Operator("whole_div", wraps=True, stops=True), "real_div": Operator("real_div", stops=True),
    "mod": Operator("whole_mod", stops=True), "pow": Operator("real_pow", stops=True),
    "time_mul": Operator("time_mul", stops=True), "time_div": Operator("time_div", stops=True),
    "same": Operator("same", "same"), "real": Operator("float", "float64"),
    "ABS": Operator("abs", "abs", wraps=True), "MIN": Operator("min", "minimum"), "MAX": Operator("max", "maximum"),
    "LIMIT": Operator("limit", "limit"), "SEL": Operator("sel", "sel"), "MUX": Operator("mux", stops=True),
    "TRUNC": Operator("whole_part", wraps=True, stops=True),
}  # fmt: skip
OPERATORS |= {name: Operator("real_function", stops=True) for name in REAL_FUNCTIONS}
OPERATORS |= {
    name: Operator("float" if wanted is Type.REAL else "bool")
    if wanted in (Type.REAL, Type.BOOL)
    else Operator("nearest" if source is Type.REAL else "int", wraps=True, stops=source is Type.REAL)
    for name, (source, wanted) in CONVERSIONS.items()
}

WIDTHS = {Type.INT: 16, Type.DINT: 32}
"""Bits of the integer types."""


def operator_of(op: str, kind: Type) -> Operator:
    """The operator of a tree's node: `div` is another one for REAL.

    >>> operator_of("div", Type.REAL).python, operator_of("div", Type.INT).python
    ('real_div', 'whole_div')
    """
    return OPERATORS["real_div" if op == "div" and kind is Type.REAL else op]
