"""The declarations above generated code: what is edited there comes back, or is told with its place."""

from __future__ import annotations

import random
import re
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.formats.code.write import generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import code_head, write_code
from spokeshave.formats.pragma import code_pragma
from spokeshave.model.project import Instance, Project, Signal, SignalClass, Type
from tests.core.projects import projects
from tests.core.test_generated_code import hundreds

WINDER = """PROGRAM Winder
  VAR_INPUT Go, Full : BOOL; END_VAR
  VAR_INPUT Lid AT %IX0.1 : BOOL; (* shut *) END_VAR
  VAR_OUTPUT Spin : BOOL; END_VAR
  VAR Turns : INT := 3; END_VAR
  VAR (* settings *) Wait : TIME := T#3s; Times : ARRAY [1..2] OF TIME := [T#1s, T#2s]; END_VAR
  VAR Late : TON; END_VAR
  INITIAL_STEP Idle: END_STEP
  STEP Wind: Spin(N); END_STEP
  TRANSITION FROM Idle TO Wind := Go AND Turns > 1; END_TRANSITION
  TRANSITION FROM Wind TO Idle := Wind.T >= Wait; END_TRANSITION
END_PROGRAM
"""


@pytest.fixture(scope="module")
def winder() -> Project:
    return parse_iec(WINDER)


def back(text: str, *pairs: tuple[str, str]) -> Project:
    for old, new in pairs:
        assert text.count(old) >= 1, old
        text = text.replace(old, new, 1)
    return parse_iec(text)


@pytest.mark.parametrize("style", ["plain", "case", "flags"])
def test_initial_values_addresses_comments_and_new_variables_come_back(winder, style):
    text = write_code(winder, style)
    assert parse_iec(text) == winder
    got = back(text, ("Turns : INT := 3", "Turns : INT := 16#1F"), ("Wait : TIME := T#3s", "Wait : TIME := T#1m2s"),
               ("%IX0.1", "%IX4.2"), *[("(* shut *)", "(* shut and locked *)")] * (style == "plain"), ("[T#1s, T#2s]", "[T#1s, T#7s]"))  # fmt: skip
    assert (got.signal("Turns").initial, got.signal("Wait").initial) == (31, 62_000)
    assert (got.signal("Lid").address, got.signal("Lid").comment) == (
        "%IX4.2",
        "shut and locked" if style == "plain" else "shut",
    )
    assert got.table("Times").rows == ((1000,), (7000,))
    same = replace(got, signals=winder.signals, tables=winder.tables)
    assert same == winder and [s.name for s in got.signals] == [s.name for s in winder.signals]
    more = back(
        text,
        ("Spin : BOOL;", "Spin, Extra : BOOL;"),
        ("Turns : INT := 3;", "Turns : INT := 3; Gap : TON; Count : DINT := 5;"),
    )
    assert more.signal("Extra") == Signal("Extra", SignalClass.OUTPUT)
    assert more.signal("Count") == Signal("Count", SignalClass.INTERNAL, Type.DINT, initial=5)
    assert set(more.instances) - set(winder.instances) == {Instance("Gap", "TON")}
    used = back(
        text, ("Turns : INT := 3;", "Turns : INT := 3; Ready : BOOL;"), ("AND Turns > 1", "AND Turns > 1 AND Ready")
    )
    assert used.sequences[0].transitions[0].condition == "Go AND Turns > 1 AND Ready"


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("Winder : INT := 10", "Winder : INT := 20", "Winder is declared otherwise; it is a variable of the code alone"),
        ("Go, Full : BOOL", "Full : BOOL", "Go is declared no more"),
        ("Late : TON", "Later : TON", "Late is declared no more"),
        ("Late : TON", "Late : TOF", "Late is no TON any more"),
        ("Turns : INT", "Turns : DINT", "the type of Turns is another"),
        ("VAR_OUTPUT Spin", "VAR_INPUT Spin", "the class of Spin is another"),
        ("Turns : INT := 3", "Turns : INT := 3.5", "'3.5' is not an INT value"),
        ("Turns : INT := 3;", "Turns : INT := 3; Turns : INT;", "Turns is declared twice"),
        ("Turns : INT := 3;", "Turns : INT := 3; Winder : INT;", "Winder is declared twice"),
        ("ARRAY [1..2] OF TIME := [T#1s, T#2s]", "ARRAY [1..3] OF TIME := [T#1s, T#2s, T#3s]", "Times has another form"),
        ("Turns : INT := 3;", "Turns : INT := 3; More : ARRAY [1..2] OF INT;", "More is new"),
    ],
)  # fmt: skip
def test_what_does_not_come_back_is_told_with_its_line(winder, old, new, told):
    text = write_code(winder, "plain")
    with pytest.raises(FormatError, match=r"line \d+:\d+") as error:
        back(text, (old, new))
    assert told in str(error.value)


@hundreds
@given(projects(), st.sampled_from(["plain", "case", "flags"]), st.integers(-(2**31), 2**31 - 1))
def test_the_setting_of_any_code_is_edited_in_its_declaration(project, style, ms):
    try:
        text = write_code(project, style)
    except FormatError:
        return  # two steps of one thread at once
    assert parse_iec(text) == project
    got = back(
        text,
        (
            "Delay : TIME := T#30ms",
            f"Delay : TIME := {'-' * (ms < 0)}T#{abs(ms)}ms" if ms >= 0 else f"Delay : TIME := T#-{-ms}ms",
        ),
    )
    assert got == replace(
        project, signals=tuple(replace(s, initial=ms) if s.name == "Delay" else s for s in project.signals)
    )


@hundreds
@given(st.integers(0, 10**9), st.sampled_from(["plain", "case", "flags"]))
def test_damaged_code_ends_in_a_message_with_its_place_or_in_a_machine_file(winder, seed, style):
    """Words gone, doubled, moved, lines gone or twice: in the code, in its declarations, in its pragma."""
    c = random.Random(seed)
    text = write_code(winder, style)
    for _ in range(c.randint(1, 3)):
        spans = [m.span() for m in re.finditer(r"\w+|:=|[^\s\w]", text)]
        (a, b), (x, y) = c.choice(spans), c.choice(spans)
        word = c.choice(("", text[x:y], f"{text[a:b]} {text[x:y]}"))
        text = f"{text[:a]}{word}{text[b:]}"
    try:
        parse_iec(text)
    except FormatError as error:
        assert str(error)


def test_code_that_was_written_as_one_program_is_still_read(roastery):
    """As files were before several sequences had blocks of their own."""
    made = generate(roastery, "plain", apart=False)
    text = f"{code_head(roastery, made, 'plain')}\n{made.text}END_PROGRAM\n\n{code_pragma(roastery, 'plain')}\n"
    assert "FUNCTION_BLOCK" not in text and parse_iec(text) == roastery
    later = parse_iec(text.replace("CoolT >= CoolTime AND", "CoolT >= T#9s AND"))
    assert later.sequences[1].transitions[2].condition == "Stir.T >= T#9s AND StirrerRuns"
    with pytest.raises(FormatError, match="the block RoastSteps of a sequence is missing"):
        parse_iec(text.replace("{spokeshave (", '{spokeshave ( "blocks": ["RoastSteps"],'))
