"""Conditions that exclude each other: never said of two that can hold together, and said of those people write."""

from __future__ import annotations

import re
from itertools import product
from types import CodeType

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.language.exclusive import exclude_each_other

numbers = st.integers(-1, 2)
comparisons = st.builds(
    lambda name, op, n, turned: f"{n} {op} {name}" if turned else f"{name} {op} {n}",
    st.sampled_from("NM"), st.sampled_from(["<", "<=", ">", ">=", "=", "<>"]), numbers, st.booleans(),
)  # fmt: skip
conditions = st.recursive(
    st.sampled_from(["A", "B", "N < M", "N = M", "A = FALSE"]) | comparisons,
    lambda inner: (
        st.builds("({} {} {})".format, inner, st.sampled_from(["AND", "OR"]), inner)
        | st.builds("NOT ({})".format, inner)
    ),
    max_leaves=6,
)


def holds(condition: str) -> CodeType:
    """The condition in Python."""
    text = re.sub(r"(?<![<>!])=", "==", condition.replace("<>", "!="))
    text = re.sub(r"\b(AND|OR|NOT)\b", lambda m: m[0].lower(), text).replace("FALSE", "False")
    return compile(text, "condition", "eval")


@given(conditions, conditions)
def test_what_excludes_each_other_never_holds_together(a, b):
    one, two = holds(a), holds(b)
    together = any(
        eval(one, {}, v) and eval(two, {}, v)
        for values in product((False, True), (False, True), (-2, -1, -0.5, 0, 0.5, 1, 1.5, 2, 3), (-1.5, 0, 1, 2.5))
        for v in [dict(zip("ABNM", values))]
    )
    assert not (together and exclude_each_other(a, b))
    assert exclude_each_other(a, b) is exclude_each_other(b, a)


@pytest.mark.parametrize(
    ("a", "b", "exclude"),
    [
        ("Sel = 1", "Sel = 2", True), ("Sel = LIGHT", "Sel = DARK", True), ("Level < 20.0", "Level >= 80.0", True),
        ("5 > N AND Go", "N > 9", True), ("Main.S1.T >= T#3s", "Main.S1.T < T#3s", True), ("Open", "NOT Open AND Go", True),
        ("Up OR Down", "NOT Up AND NOT Down", True), ("NOT (Up OR Down)", "Go AND Up", True), ("N < M", "N > M", True),
        ("Sel = 1 OR Sel = 3", "Sel = 2", True), ("A AND NOT B OR NOT A AND B", "A AND B", True), ("Auto = TRUE", "Auto = FALSE", True),
        ("N > 3", "N > 5", False), ("N >= 3", "N <= 3", False), ("Sel = 1", "Other = 2", False), ("Open", "Shut", False),
        ("Sel <> 1", "Sel <> 2", False), ("Open OR Go", "NOT Open", False),
    ],
)  # fmt: skip
def test_people_write_conditions_that_exclude_each_other_in_many_ways(a, b, exclude):
    assert exclude_each_other(a, b, {"light": 1, "dark": 2}) is exclude
