"""Texts written for other programs, made fit to be read: each change keeps every line where it is, and is told."""

from __future__ import annotations

from pathlib import Path

import pytest

from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec, parse_states
from spokeshave.formats.states.choices import Choices
from spokeshave.formats.states.foreign import made_fit
from spokeshave.formats.states.gathered import calls_gathered
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_statements
from spokeshave.reading import read_text

HERE = Path(__file__).parent / "state_programs"

PANEL = """VAR_GLOBAL
  Go, There : BOOL; // keys
END_VAR
PROGRAM Slide
VAR State : INT; Says, Why : STRING[20] := 'it$'s off'; Log : STRING; Moves : UDINT := 3; END_VAR
VAR CONSTANT OUT : INT := 1; END_VAR
CASE State OF
  0: Says := 'rest (* not a comment *)';
    (* Says := 'x' *) IF HMI.Go THEN State := OUT; Moves := Moves + 1; END_IF
  OUT: Why := 'moves; there$'s time'; IF HMI.There THEN State := 0; END_IF
END_CASE
END_PROGRAM
"""


def test_messages_and_lists_of_globals_go_and_every_line_stays():
    text, notes = made_fit(PANEL)
    assert text.count("\n") == PANEL.count("\n") and "STRING" not in text and "HMI" not in text
    told = [(n.line, n.text) for n in notes]
    assert (5, "Says only takes texts, which no sequence asks for: it is left out") in told
    assert (9, "HMI is taken as the list of the global variables") in told
    found = read_text(PANEL)
    assert "runs beside the text" in found.shown and not {"says", "why", "log"} & {
        s.name.lower() for s in found.project.signals
    }
    assert "UDINT is taken as DINT, which holds up to 2,147,483,647" in [n.text for n in found.notes]
    assert [(s.name, s.number) for s in found.project.sequences[0].steps] == [("S0", 0), ("OUT", 1)]


def test_names_with_underscores_that_the_standard_does_not_know_go_without_them():
    text = """PROGRAM P VAR_INPUT go_ : BOOL; END_VAR VAR_OUTPUT On__Left, on_ : BOOL; END_VAR VAR s : INT; on : INT := 3; END_VAR
      CASE s OF 0: IF go_ AND on > 2 THEN s := 1; END_IF; 1: On__Left := TRUE; IF NOT go_ THEN s := 0; On__Left := FALSE; END_IF; END_CASE;
      on_ := s = 1; END_PROGRAM"""
    found = read_text(text)
    assert {s.name for s in found.project.signals} == {"go", "On_Left", "onSignal", "on"}
    assert "on_ has a doubled or trailing underscore: the variable is called onSignal" in [n.text for n in found.notes]
    assert "runs beside the text" in found.shown and found.project.signal("on").cls == "setting"


RECORD = """TYPE ST_Seq : STRUCT Step, Last : INT; Wait : TON;
  Goal : INT := 4; END_STRUCT; END_TYPE
PROGRAM P VAR_INPUT A : BOOL; END_VAR VAR Mine, Other : ST_Seq; END_VAR VAR_OUTPUT Y : BOOL; END_VAR
  Mine.Wait(IN := Mine.Step = 1, PT := T#1s);
  CASE Mine.Step OF 0: IF A THEN Mine.Step := 1; END_IF; 1: IF Mine.Wait.Q THEN Mine.Step := 0; END_IF; END_CASE;
  Y := Mine.Step = 1 AND Other.Goal > 3;
END_PROGRAM
"""


def test_a_record_that_keeps_a_state_is_a_variable_for_each_member():
    text, notes = made_fit(RECORD)
    assert text.count("\n") == RECORD.count("\n") and "STRUCT" not in text
    assert any("a ST_Seq, is a variable for each member" in n.text for n in notes)
    found = read_text(RECORD).project
    assert [t.condition for t in found.sequences[0].transitions] == ["A", "S1.T > T#1s"]
    assert found.signal("Other_Goal").cls == "setting" and found.signal("Other_Goal").start == 4
    given = RECORD.replace(
        "Y :=", "Other := Mine; Y :="
    )  # as a whole: it stays a record, and is told to be none of ours
    assert made_fit(given)[0] == given
    with pytest.raises(FormatError, match="type TON is not supported"):
        read_text(given)


def test_an_array_of_timers_is_that_many_instances():
    text = """PROGRAM P VAR_INPUT A : BOOL; i : INT; END_VAR VAR_OUTPUT B : BOOL; END_VAR VAR s : INT;
      Wait : ARRAY[1..2] OF TON; Says : STRING(80); END_VAR
      Wait[1](IN := s = 1, PT := T#1s); Wait[2](IN := s = 2, PT := T#2s);
      CASE s OF 0: Says := CONCAT('waits; ', 'long'); IF A THEN s := 1; END_IF; 1: IF Wait[1].Q THEN s := 2; END_IF;
        2: IF Wait[2].Q THEN s := 0; END_IF; END_CASE;
      B := s = 1;
    END_PROGRAM"""
    found = read_text(text)
    assert [t.condition for t in found.project.sequences[0].transitions] == ["A", "S1.T > T#1s", "S2.T > T#2s"]
    assert {
        "Wait is 2 instances of TON: Wait_1 to Wait_2",
        "Says only takes texts, which no sequence asks for: it is left out",
    } <= {n.text for n in found.notes}
    with pytest.raises(FormatError, match="type TON is not supported here"):  # which of them is worked out when it runs
        read_text(text.replace("Wait[2].Q", "Wait[i].Q"))


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("IF HMI.Go", "IF Says = Why AND HMI.Go", "STRING"),
        ("HMI.Go", "HMI.Gone", "HMI"),
        ("Moves : UDINT := 3", "Moves : LWORD", "type LWORD is not supported"),
    ],
)
def test_what_cannot_be_left_out_is_told(old, new, message):
    text = PANEL.replace(old, new)
    try:
        project = read_text(text).project
    except FormatError as error:
        assert message in str(error) or error.line == 5
        return
    assert message in str(project), "a name that nothing declares stays, and the check tells it"


def test_a_list_of_globals_is_none_where_something_has_its_name():
    text = (
        PANEL.replace("State : INT;", "State : INT; HMI : TON;")
        .replace("HMI.Go", "HMI.Q AND Go")
        .replace("HMI.There", "There")
    )
    assert "HMI" in made_fit(text)[0]
    assert parse_iec(text).instances[0].name == "HMI"


def test_inputs_that_are_set_one_by_one_stand_in_the_call():
    statements = parse_statements(
        "Wait.PT := T#2s;\nWait.IN := Warm AND Go;\nWait();\nLater.IN := Go;\nGo := FALSE;\nLater(PT := T#1s);"
    )
    first, second, third, fourth = calls_gathered(statements)
    assert isinstance(first, sx.BlockCall) and [a.name for a in first.inputs] == ["PT", "IN"]
    assert isinstance(second, sx.Assign) and str(second.target) == "Later.IN", "what it read has changed since"
    assert isinstance(third, sx.Assign) and isinstance(fourth, sx.BlockCall) and len(fourth.inputs) == 1


@pytest.mark.parametrize(
    ("first", "step"),
    [
        ("IF First THEN State := 20; First := FALSE; END_IF;", "S20"),
        ("IF First THEN State := 20; END_IF;\nFirst := FALSE;", "S20"),
        ("IF First THEN First := FALSE; Count := 4; END_IF;", "S10"),
    ],
)
def test_the_first_scan_says_where_a_program_begins(first, step):
    text = ("PROGRAM P VAR_INPUT A, B : BOOL; END_VAR VAR_OUTPUT Q : BOOL; END_VAR\n"
            "VAR State : INT := 10; First : BOOL := TRUE; Count : INT; END_VAR\n"
            f"{first}\nCASE State OF\n10: IF A THEN State := 20; Count := Count + 1; END_IF;\n20: IF B THEN State := 10; END_IF;\nEND_CASE;\n"
            "Q := State = 20;\nEND_PROGRAM")  # fmt: skip
    found = read_text(text)
    (q,) = found.project.sequences
    count = found.project.signal("Count")
    assert q.initial == step and found.choices == Choices() and count is not None
    assert count.start == (4 if "Count" in first else 0)


def test_every_program_keeps_its_lines_when_it_is_made_fit():
    for file in sorted(HERE.glob("*.st")):
        text = file.read_text()
        fit, notes = made_fit(text)
        assert fit.count("\n") == text.count("\n") and all(1 <= n.line <= text.count("\n") + 1 for n in notes)
        assert parse_states(fit).project(Choices()).sequences == parse_states(text).project(Choices()).sequences
