"""Structured text: meaning against plain arithmetic, and every message with the text that earns it."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.language.check import Checker
from spokeshave.language.compile import compile_units
from spokeshave.language.functions import RunStop
from spokeshave.language.literals import read_value, time_ms, time_text, value_text
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.syntax import TextError
from spokeshave.model.project import Project, Sequence, Signal, SignalClass, Step, Type

SIGNALS = (
    Signal("Go", SignalClass.INPUT), Signal("Y", SignalClass.OUTPUT), Signal("N", SignalClass.INTERNAL, Type.INT, initial=7),
    Signal("D", SignalClass.INTERNAL, Type.DINT, initial=100_000), Signal("R", SignalClass.INTERNAL, Type.REAL, initial=2.5),
    Signal("T1", SignalClass.INTERNAL, Type.TIME, initial=1500),
)  # fmt: skip
PROJECT = Project(signals=SIGNALS, sequences=(Sequence("Main", "Idle", (Step("Idle", 10),)),))


def value(text: str, wanted: Type) -> object:
    table = SlotTable(PROJECT)
    checker = Checker(TextScope(table, PROJECT.sequences[0]))
    tree = checker.expression(parse_expression(text), wanted)
    assert tree is not None, checker.problems
    return compile_units([(0, tree)])[0](list(table.values))


@pytest.mark.parametrize(
    ("text", "kind", "expected"),
    [
        ("1 + 2 * 3 - 4", Type.INT, 3), ("-2 ** 2 + 0.5", Type.REAL, 4.5), ("7 / -2", Type.INT, -3), ("-7 MOD 3", Type.INT, -1),
        ("NOT FALSE AND FALSE OR TRUE", Type.BOOL, True), ("TRUE XOR TRUE AND FALSE", Type.BOOL, True),
        ("1 < 2 = TRUE", Type.BOOL, True), ("N + 1 >= 16#08 & 2#11 = 3", Type.BOOL, True), ("N * R", Type.REAL, 17.5),
        ("D + N", Type.DINT, 100_007), ("T1 * 2 + T#0.5s", Type.TIME, 3500), ("T1 / 4", Type.TIME, 375),
        ("limit(0, N, 5)", Type.INT, 5), ("SEL(Go, 1.5, R)", Type.REAL, 1.5), ("MAX(N, 3, 12)", Type.INT, 12),
        ("REAL_TO_INT(R)", Type.INT, 2), ("TIME_TO_DINT(T1)", Type.DINT, 1500), ("abs(-N) + sqrt(16.0)", Type.REAL, 11.0),
        ("INT#5 + 1_000", Type.INT, 1005), ("(* a (note) *) N // and one", Type.INT, 7), ("BOOL#1", Type.BOOL, True),
    ],
)  # fmt: skip
def test_expressions_mean_what_the_standard_says(text, kind, expected):
    assert value(text, kind) == expected
    assert type(value(text, kind)) is type(expected)


@given(st.integers(-(2**15), 2**15 - 1), st.integers(-(2**15), 2**15 - 1), st.sampled_from("+-*"))
def test_int_results_wrap_in_twos_complement(a, b, op):
    wide = {"+": a + b, "-": a - b, "*": a * b}[op]
    assert value(f"({a}) {op} ({b})", Type.INT) == (wide + 2**15) % 2**16 - 2**15


@given(st.integers(-(10**12), 10**12))
def test_a_time_written_is_the_time_read(ms):
    assert time_ms(time_text(ms)) == ms


@given(st.one_of(st.booleans(), st.integers(-(2**15), 2**15 - 1), st.floats(allow_nan=False, allow_infinity=False)))
def test_a_value_written_is_the_value_read(v):
    kind = Type.BOOL if isinstance(v, bool) else Type.INT if isinstance(v, int) else Type.REAL
    assert read_value(value_text(v, kind), kind) == v


@pytest.mark.parametrize("text", ["1 / 0", "1 MOD (N - 7)", "R / 0.0", "SQRT(-R)", "(-R) ** 0.5", "Go AND 1 / 0 > 2"])
def test_what_has_no_value_stops_the_run_with_its_place(text):
    with pytest.raises(RunStop) as caught:
        value(text, Type.BOOL if "AND" in text else Type.REAL if "R" in text else Type.INT)
    assert caught.value.where[1] == 1 and caught.value.where[2] >= 1


CONDITIONS = [
    ("", 1, "nothing is written here"), ("Go AND", 7, "the text ends too early"), ("Go :=1", 4, "this is an assignment"),
    ("Go;", 3, "a condition has no semicolon"), ("Go § 1", 4, "§ has no meaning here"), ("Go (* open", 4, "a comment is opened"),
    ("Go\0", 3, "a NUL character"), ("(" * 200 + "Go", 151, "nest too deeply"), ("Go Y", 4, "Y does not fit here"),
    ("Goo", 1, "there is no Goo"), ("Idle", 1, "Idle is a step; write Idle.X"), ("Idle.Q", 1, "a step has .X, .T and .Late"),
    ("Main.Idel.X", 1, "Main has no step"), ("Maine.Idle.X", 1, "there is no sequence"), ("N", 1, "this is INT"),
    ("Go + 1 > 2", 1, "+ compares or combines BOOL with INT"), ("Go > Y", 1, "> does not order BOOL"), ("T1 > 2", 1, "combines TIME"),
    ("NOT N", 5, "NOT takes BOOL, this is INT"), ("N = 40000", 5, "40000 is out of range"), ("RISING(N)", 1, "RISING takes BOOL"),
    ("RISING()", 1, "RISING has the wrong number of inputs"), ("HELD(Go, 3)", 10, "the second input of HELD is a TIME"),
    ("MOX(N, 1) > 1", 1, "there is no function MOX"), ("ABS() > 1", 1, "ABS takes 1 inputs, here are 0"),
    ("N = 99999999999", 5, "does not fit in 32 bits"), ("T1 > T#1.0005s", 6, "not a whole number of milliseconds"),
    ("R MOD 2.0 > 1.0", 1, "MOD does not work on REAL"), ("ABS(IN := N) > 1", 1, "takes its inputs by position"),
    ("T1 * T1 > T1", 1, "* does not work on TIME and TIME"), ("-Go", 1, "- takes a number or a time"), ("SEL(N, 1, 2) > 1", 1, "SEL takes BOOL"),
    ("INT#70000 = 1", 1, "70000 is out of range"), ("Go AND 16#G > 1", 10, "# has no meaning here"),
]  # fmt: skip


def problem(text: str):
    checker = Checker(TextScope(SlotTable(PROJECT), PROJECT.sequences[0]))
    try:
        checker.condition(parse_expression(text))
    except TextError as error:
        return error.problems[0]
    return checker.problems[0]


@pytest.mark.parametrize(("text", "column", "message"), CONDITIONS)
def test_a_wrong_condition_is_told_with_its_place(text, column, message):
    found = problem(text)
    assert message in found.message
    assert found.column == column


def test_names_that_are_close_and_ways_out_are_offered():
    assert problem("Goo").advice == "did you mean Go?"
    assert problem("N").advice == "a condition is BOOL; compare it, for example N > 0"
    assert problem("Go :=1").advice == "write = instead of :="
    assert "did you mean MUX or MAX" in problem("MOX(N, 1) > 1").advice


BODIES = [
    ("Y = TRUE;", (1, 3), "this compares, a statement assigns"), ("Y := TRUE", (1, 10), "the text ends too early"),
    ("Go := TRUE;", (1, 1), "Go is an input"), ("Idle.X := TRUE;", (1, 1), "Idle follows the chart"),
    ("N := R;", (1, 6), "this is REAL"), ("IF N THEN Y := Go; END_IF;", (1, 4), "this is INT"),
    ("IF Go THEN\n  Y := Goo;\nEND_IF;", (2, 8), "there is no Goo"), ("N := 1;\nY := 2 +;", (2, 9), "; does not fit here"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "place", "message"), BODIES)
def test_a_wrong_statement_is_told_with_its_line_and_column(text, place, message):
    checker = Checker(TextScope(SlotTable(PROJECT), PROJECT.sequences[0]))
    try:
        checker.statements(parse_statements(text))
        found = checker.problems[0]
    except TextError as error:
        found = error.problems[0]
    assert (found.line, found.column) == place
    assert message in found.message


def test_all_problems_of_a_text_are_told_at_once():
    checker = Checker(TextScope(SlotTable(PROJECT)))
    checker.statements(parse_statements("Y := N; Go := TRUE; N := Nope + Never; IF R THEN Y := 1; END_IF;"))
    assert len(checker.problems) == 6


@pytest.mark.parametrize("text", ["Go " + "AND Go " * 20_000, "NOT " * 5000 + "Go", "Go" * 100_000])
def test_hostile_texts_end_in_a_located_problem_or_a_value_quickly(text):
    project = Project(signals=SIGNALS, closing=f"Y := {text};")
    assert [d.place.kind for d in link_problems(project)] == ["closing"]
