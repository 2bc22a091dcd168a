"""Conditions that exclude each other: never said of two that can hold together, and said of those people write."""

from __future__ import annotations

import re
from itertools import product
from types import CodeType

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.language.exclusive import exclude_each_other
from spokeshave.language.gaps import gap_between

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


@given(
    st.lists(
        st.tuples(st.sampled_from(["<", "<=", ">", ">=", "=", "<>"]), numbers), min_size=2, max_size=4, unique=True
    ),
    st.booleans(),
)
def test_a_gap_is_what_lies_between_and_what_no_way_takes(asked, whole):
    conditions = [f"A AND N {op} {n}" for op, n in asked]
    gap = gap_between(conditions, {}, lambda _: whole)
    codes = [holds(f"N {op} {n}") for op, n in asked]
    places = range(-3, 5) if whole else [x / 4 for x in range(-12, 20)]
    taken = [n for n in places if any(eval(c, {}, {"N": n}) for c in codes)]
    left = [n for n in places if n not in taken and taken and min(taken) < n < max(taken)]
    assert bool(gap) is (bool(left) and any(op != "=" for op, _ in asked)), "single numbers are codes"
    if gap and len(left) == 1:
        assert gap == f"N = {left[0]:g}"


@pytest.mark.parametrize(
    ("conditions", "gap"),
    [
        (["Done AND N < G", "Done AND N > G"], "N = G"), (["N < 5", "N > 5"], "N = 5"), (["N < 5", "N > 9"], ""),
        (["Done AND N < 5", "Done AND N > 9"], "N from 5 to 9"), (["Done AND Sel = 1", "Done AND Sel = 4"], ""),
        (["Done AND Sel < LIGHT", "Done AND Sel = DARK", "Done AND Sel >= 4"], "Sel = 1 and Sel = 3"), (["N < 5", "N > 5 AND Go"], ""),
        (["N < 5", "M > 5"], ""), (["N < 5", "N > 5", "Go"], ""), (["N < 5", "TRUE", "N > 5"], ""), (["N < G", "N > H"], ""),
        (["Go AND NOT (N >= 5)", "Go AND (N = 6 OR N = 8)"], "N = 5 and N = 7"), (["N < 5", "N >"], ""),
    ],
)  # fmt: skip
def test_gaps_are_told_in_the_words_of_the_conditions(conditions, gap):
    assert gap_between(conditions, {"light": 1, "dark": 2}, lambda _: True) == gap
