"""Case-state programs read as sequences, and syntax trees printed."""

from __future__ import annotations

import dataclasses

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_iec
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.printer import expression_text, statements_text
from tests.core.projects import conditions

PADDLE = """PROGRAM Paddle
  VAR_INPUT Raise, Lower, AtTop, AtBottom : BOOL; END_VAR
  VAR_OUTPUT Up, Down, Bell : BOOL; END_VAR
  VAR State : INT := 10; Lifts : INT; Wait : TON; END_VAR
  VAR CONSTANT Lowering : INT := 30; END_VAR
  CASE State OF
    10:
      Down := FALSE;
      IF Raise AND NOT Lower THEN State := 20; Lifts := Lifts + 1; END_IF;
    20:
      Up := TRUE;
      Wait(IN := AtTop, PT := T#200ms);
      IF Wait.Q THEN
        Up := FALSE;
        IF Lower OR Lifts > 9 THEN State := Lowering; ELSE Bell := State = 20; END_IF;
      ELSIF Lower THEN
        State := 10;
      END_IF;
    Lowering:
      Down := TRUE; Up := FALSE; Bell := FALSE;
      IF AtBottom THEN State := 10; END_IF;
  END_CASE;
END_PROGRAM
"""


def test_a_case_program_becomes_a_sequence_that_runs():
    project = parse_iec(PADDLE)
    assert not link_problems(project)
    (q,) = project.sequences
    assert [(s.name, s.number) for s in q.steps] == [("S10", 10), ("S20", 20), ("Lowering", 30)]
    assert q.initial == "S10" and project.signal("State") is None
    assert [(t.sources, t.targets, t.condition, t.priority) for t in q.transitions] == [
        (("S10",), ("S20",), "Raise AND NOT Lower", None),
        (("S20",), ("S10",), "NOT (Wait.Q) AND Lower", 1),
        (("S20",), ("Lowering",), "Wait.Q AND (Lower OR Lifts > 9)", 2),
        (("Lowering",), ("S10",), "AtBottom", None),
    ]
    assert "Bell := Paddle.State = 20;" in q.bodies[1].text and "State :=" not in q.bodies[1].text
    rows = [
        (50, "Raise", True),
        (80, "Raise", False),
        (500, "AtTop", True),
        (900, "Lower", True),
        (1500, "AtBottom", True),
    ]
    session = Session(project, [Stimulus(t, "set", n, v) for t, n, v in rows])
    session.run_for(2000)
    trace = session.trace
    assert trace.windows("Paddle.S20.X") == [(5, 90)]
    assert trace.windows("Paddle.Lowering.X") == [(90, 150)]
    assert trace.windows("Up") == [(5, 70)] and trace.windows("Bell") == [(70, 90)]
    assert parse_iec(write_iec(project)) == project


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("State := 20;", "State := 25;", "there is no state 25"),
        ("State := 20;", "State := Lifts;", "a state is a whole number or a constant"),
        ("    20:", "    20, 21:", "a state needs a label of its own"),
        ("    20:", "    10:", "state 10 stands twice"),
        (":= 10; Lifts", ":= 11; Lifts", "State starts in 11, which is no state"),
        ("  END_CASE", "  ELSE State := 10;\n  END_CASE", "the CASE has an ELSE"),
        ("State := 20;", "WHILE Raise DO State := 20; END_WHILE;", "inside a loop"),
    ],
)  # fmt: skip
def test_what_is_outside_the_form_is_refused_with_its_place(old, new, message):
    with pytest.raises(FormatError, match=message) as caught:
        parse_iec(PADDLE.replace(old, new, 1))
    assert caught.value.line >= 6 and caught.value.column >= 1


def bare(tree: object) -> object:
    """A tree without its places."""
    if dataclasses.is_dataclass(tree) and not isinstance(tree, type):
        return (
            type(tree).__name__,
            *(bare(getattr(tree, f.name)) for f in dataclasses.fields(tree) if f.name != "span"),
        )
    return tuple(bare(x) for x in tree) if isinstance(tree, tuple) else tree


@given(conditions(("P10", "P20"), ("R.R10",), depth=5))
@settings(max_examples=200, deadline=None)
def test_printing_an_expression_and_parsing_it_again_is_the_identity(text):
    tree = parse_expression(text)
    assert bare(parse_expression(expression_text(tree))) == bare(tree)


@given(st.recursive(
    st.sampled_from(("a", "3", "2.5", "T#2s", "f.T")),
    lambda x: st.one_of(
        st.tuples(x, st.sampled_from(("+", "-", "*", "/", "MOD", "**", "<", "=", "AND", "OR")), x).map(lambda t: f"({t[0]}) {t[1]} ({t[2]})"),
        x.map(lambda t: f"-({t})"), x.map(lambda t: f"NOT ({t})"), st.tuples(x, x).map(lambda t: f"MAX({t[0]}, {t[1]})"),
    ), max_leaves=12,
))  # fmt: skip
@settings(max_examples=200, deadline=None)
def test_parentheses_are_printed_where_they_are_needed(text):
    tree = parse_expression(text)
    assert bare(parse_expression(expression_text(tree))) == bare(tree)


def test_every_statement_is_printed_so_that_it_parses_again():
    text = """IF a THEN b := 1; ELSIF NOT c THEN IF d THEN e := -2; END_IF; ELSE f := T#1m2s; END_IF;
    CASE n OF 1, 3..5: a := TRUE; Two: ; -7: b := 2; ELSE c := 3; END_CASE;
    FOR i := 1 TO 9 BY 2 DO EXIT; END_FOR; FOR i := 1 TO 2 DO END_FOR; WHILE a DO b := b + 1; END_WHILE;
    REPEAT RETURN; UNTIL a OR b END_REPEAT; Wait(IN := a AND b, PT := T#2s, Q => c); x := LIMIT(1, INT#2, 16#FF);"""
    tree = parse_statements(text)
    assert bare(parse_statements(statements_text(tree))) == bare(tree)
