"""Functions, function blocks and tables of one's own: run, studied, written as code, renamed, and told when they are wrong."""

from __future__ import annotations

import random
import re
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.engine.link import LinkError, link, link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_code, write_iec
from spokeshave.formats.spoke import dumps, loads
from spokeshave.language.parse import parse_statements
from spokeshave.language.printer import expression_text
from spokeshave.language.rename import rename_instance, rename_signal
from spokeshave.language.rename_declared import rename_column, rename_member, rename_routine, rename_table
from spokeshave.model.edits import EditError
from spokeshave.model.project import Instance, Member, Project, Routine, Sequence, Signal, SignalClass, Step, Type
from spokeshave.verify.reach.asked import Says
from tests.core.test_generated_code import compared, hundreds
from tests.core.test_reach import asked

DRIVES = """
TYPE Stage : STRUCT Dose : BOOL; Lasts : TIME := T#30ms; Turns : INT; END_STRUCT; END_TYPE
FUNCTION Scaled : INT
  VAR_INPUT Raw, Factor : INT; END_VAR
  VAR Half : INT; END_VAR
  Half := Raw / 2;
  IF Half > 100 THEN Scaled := 100; RETURN; END_IF;
  Scaled := Half * Factor;
END_FUNCTION
FUNCTION_BLOCK Drive
  VAR_INPUT Wanted, Answer : BOOL; END_VAR
  VAR_OUTPUT On, Bad : BOOL; END_VAR
  VAR Late : TON; Edge : R_TRIG; END_VAR
  VAR RETAIN Starts : INT; END_VAR
  On := Wanted AND NOT Bad;
  Late(IN := On AND NOT Answer, PT := T#50ms);
  IF Late.Q THEN Bad := TRUE; RETURN; END_IF;
  Edge(CLK := On);
  IF Edge.Q THEN Starts := Starts + 1; END_IF;
END_FUNCTION_BLOCK
FUNCTION_BLOCK Pair
  VAR_INPUT Wanted, Answer : BOOL; END_VAR
  VAR_OUTPUT Both : BOOL; END_VAR
  VAR Left, Right : Drive; END_VAR
  Left(Wanted := Wanted, Answer := Answer);
  Right(Wanted := Left.On, Answer := Answer);
  Both := Right.On;
END_FUNCTION_BLOCK
VAR_GLOBAL
  Go AT %IX0.0 : BOOL; Runs AT %IX0.1 : BOOL;
  Motor AT %QX0.0 : BOOL; Feed AT %QX0.1 : BOOL;
  Row, Level : INT;
  Plan : ARRAY [1..3] OF Stage := [(Dose := TRUE, Lasts := T#20ms, Turns := 4), (Turns := 2)];
  Sums : ARRAY [0..2] OF INT := [7, 2(9)];
  One, Two : Pair;
END_VAR
PROGRAM Logic
  One(Wanted := Go, Answer := Runs, Both => Motor);
  Two(Wanted := One.Both, Answer := TRUE);
  Level := Scaled(Factor := 3, Raw := Plan[Row + 1].Turns * 10);
  Sums[Row] := Sums[Row] + 1;
END_PROGRAM
PROGRAM Dip
  INITIAL_STEP Rest: END_STEP
  STEP Work: Feed(N); Next(P1); END_STEP
  TRANSITION FROM Rest TO Work := Go; END_TRANSITION
  TRANSITION FROM Work TO Rest := Work.T >= Plan[Row + 1].Lasts; END_TRANSITION
  ACTION Next: Row := (Row + 1) MOD 3; END_ACTION
END_PROGRAM
"""


def values(session: Session) -> dict[str, object]:
    return {r.name: session.situation.v[r.slot] for r in session.program.recorded}


def test_a_text_may_begin_with_a_row():
    (first, second) = parse_statements("Rows[2] := TRUE; Rows[I + 1].Way := 3;")
    assert str(first.target) == "Rows[2]" and expression_text(second.target.index) == "I + 1"


def test_each_instance_has_data_of_its_own_that_is_traced_kept_and_forced_by_name():
    project = parse_iec(DRIVES)
    assert project.table("plan").rows == ((True, 20, 4), (False, 30, 2), (False, 30, 0))
    assert project.table("Sums").rows == ((7,), (9,), (9,)) and project.table("Sums").first == 0
    sessions = [Session(project, (Stimulus(10, "set", "Go", True),), every_scan=e) for e in (True, False)]
    for s in sessions:
        s.run_for(300)
        now = values(s)
        # Nothing answers in One, whose two drives go bad; in Two the answer is always there.
        assert (now["One.Left.Bad"], now["One.Right.Bad"], now["Two.Left.Bad"]) == (True, True, False)
        assert (now["One.Left.Starts"], now["Two.Right.Starts"]) == (1, 1)
        assert now["Sums[0]"] + now["Sums[1]"] + now["Sums[2]"] == 25 + 30
        assert s.trace.changes(s.trace.column("Two.Left.On"))[0].tolist()[1:] == [1, 7]
        s.do("power")
        s.do("force", "Plan[1].Lasts", 10_000)
        s.do("set", "Sums[2]", -5)
        s.run_for(20)
        now = values(s)
        assert (now["One.Left.Starts"], now["One.Left.Bad"], now["Plan[1].Lasts"]) == (2, False, 10_000)
    assert sessions[0].trace.values == sessions[1].trace.values and sessions[0].trace.scans == sessions[1].trace.scans


def test_they_are_written_and_read_again_and_code_does_the_same():
    project = parse_iec(DRIVES)
    assert loads(dumps(project)) == project
    for pragma in (True, False):
        again = parse_iec(write_iec(project, pragma))
        assert (again.tables, again.routines, again.instances) == (project.tables, project.routines, project.instances)
    inputs = [(n % 7 > 2, n % 5 > 1, False) for n in range(60)]
    for style in ("plain", "case", "flags"):
        found = compared(
            replace(project, signals=tuple(replace(s, address="") for s in project.signals)),
            style,
            inputs,
            ("Go", "Runs"),
        )
        assert found.difference is None and found.scans == 60


# -- a block against its text in the place of its calls


STATEMENTS = (
    "{a} := {a} XOR {b};",
    "IF {a} THEN Sum := Sum + N; END_IF;",
    "N := (N + 3) MOD 11;",
    "Wait(IN := {a}, PT := T#20ms); {b} := Wait.Q;",
    "FOR N := 1 TO 3 DO Sum := Sum + 1; END_FOR;",
    "IF Sum > 9 THEN Sum := 0; {a} := In; END_IF;",
)


def machine(seed: int) -> tuple[Project, Project]:
    """A machine with two instances of a block, and the same with the block's text written out for each."""
    c = random.Random(seed)
    names = ["A", "B", "Sum", "N"]
    lines = []
    for _ in range(c.randrange(2, 7)):
        what = c.choice(STATEMENTS)
        a, b = c.sample(names[:2], 2)
        lines.append(what.format(a=a, b=b))
    body = "\n".join(lines)
    members = (
        Member("In", "input"), Member("A", "output", initial=c.random() < 0.5), Member("B", "output"), Member("Sum", "variable", "INT"),
        Member("N", "variable", "INT", initial=c.randrange(5)), Member("Wait", "variable", "TON"),
    )  # fmt: skip
    signals = tuple(Signal(n, SignalClass.INPUT) for n in "ABC") + tuple(
        Signal(n, SignalClass.OUTPUT) for n in ("Y1", "Y2")
    )
    still = (Sequence("Main", "Idle", (Step("Idle", 10),)),)
    calls = "X(In := A, A => Y1);\nZ(In := X.B OR C);\nY2 := Z.Sum > 2;"
    blocks = Project("T", 10, signals=signals, routines=(Routine("Box", members, body),), opening=calls, sequences=still,
                     instances=(Instance("X", "Box"), Instance("Z", "Box")))  # fmt: skip

    def written_out(name: str, text: str) -> str:
        return re.sub(r"\b(In|A|B|Sum|N|Wait)\b(?! :=  )", lambda m: f"{name}{m[1]}", text).replace(
            f"Wait({name}IN", "Wait(IN"
        )

    def of(name: str) -> tuple[Signal, ...]:
        return tuple(
            Signal(f"{name}{m.name}", SignalClass.INTERNAL, Type(m.type), initial=m.initial)
            for m in members
            if m.type != "TON"
        )

    texts = [written_out(n, body) for n in "XZ"]
    opening = f"XIn := A;\n{texts[0]}\nY1 := XA;\nZIn := XB OR C;\n{texts[1]}\nY2 := ZSum > 2;"
    plain = Project("T", 10, signals=(*signals, *of("X"), *of("Z")), opening=opening, sequences=still,
                    instances=(Instance("XWait", "TON"), Instance("ZWait", "TON")))  # fmt: skip
    return blocks, plain


@hundreds
@given(
    seed=st.integers(0, 2**40),
    inputs=st.lists(st.tuples(st.booleans(), st.booleans(), st.booleans()), min_size=5, max_size=40),
)
def test_a_block_does_what_its_text_would_do_in_the_place_of_its_calls(seed, inputs):
    blocks, plain = machine(seed)
    stimuli = [Stimulus(k * 10, "set", n, on) for k, row in enumerate(inputs) for n, on in zip("ABC", row)]
    runs = [Session(p, stimuli, every_scan=every) for p, every in ((blocks, True), (blocks, False), (plain, True))]
    for r in runs:
        r.run_scans(len(inputs))
        assert r.stopped is None
    ours, skipped, theirs = (r.trace for r in runs)
    assert (ours.scans, ours.values) == (skipped.scans, skipped.values)
    for r in blocks.variables:
        other = r.name.replace(".", "")
        a, b = ours.changes(ours.column(r.name)), theirs.changes(theirs.column(other))
        assert a[0].tolist() == b[0].tolist() and a[1].tolist() == b[1].tolist(), r.name


@given(st.lists(st.tuples(st.integers(-2, 6), st.integers(-5, 5)), min_size=1, max_size=20))
def test_rows_that_are_worked_out_are_those_of_a_list_and_others_stop_the_run_at_their_place(writes):
    lines = "\n".join(f"I := {i}; Cells[I + 1] := Cells[I + 1] * 2 + {n};" for i, n in writes)
    text = f"""VAR_GLOBAL I : INT; Cells : ARRAY [0..4] OF INT := [1, 2, 3, 4, 5]; END_VAR
PROGRAM Work {lines} END_PROGRAM
PROGRAM Main INITIAL_STEP Idle: END_STEP END_PROGRAM"""
    session = Session(parse_iec(text))
    session.run_scans(1)
    wanted = [1, 2, 3, 4, 5]
    for line, (i, n) in enumerate(writes, 1):
        if not 0 <= i + 1 <= 4:
            assert (
                session.stopped is not None
                and f"row {i + 1} is outside of the table, which has 0 to 4" in session.stopped.message
            )
            assert session.stopped.place.line == line
            return
        wanted[i + 1] = wanted[i + 1] * 2 + n
    assert [values(session)[f"Cells[{n}]"] for n in range(5)] == wanted


def test_the_study_knows_functions_blocks_and_rows():
    """Whether two steps that need different rows are ever reached, as the runs say it too."""
    text = """
TYPE Stage : STRUCT Dose : BOOL; END_STRUCT; END_TYPE
FUNCTION Both : BOOL VAR_INPUT P, Q : BOOL; END_VAR Both := P AND Q; END_FUNCTION
FUNCTION_BLOCK Keep VAR_INPUT Set1, Clear : BOOL; END_VAR VAR_OUTPUT Kept : BOOL; END_VAR Kept := (Kept OR Set1) AND NOT Clear; END_FUNCTION_BLOCK
VAR_GLOBAL Go AT %IX0.0 : BOOL; Halt AT %IX0.1 : BOOL; Row : INT := 1; Wish : Keep; Plan : ARRAY [1..2] OF Stage := [(Dose := TRUE)]; END_VAR
PROGRAM Logic Wish(Set1 := Go, Clear := Halt); END_PROGRAM
PROGRAM Main
  INITIAL_STEP Rest: END_STEP
  STEP Work: Next(P1); END_STEP
  STEP Never: END_STEP
  STEP Odd: END_STEP
  TRANSITION FROM Rest TO Work := Both(Wish.Kept, Plan[Row].Dose); END_TRANSITION
  TRANSITION FROM Rest TO Never := Wish.Kept AND Halt; END_TRANSITION
  TRANSITION FROM Work TO Odd := Both(Wish.Kept, Plan[Row].Dose); END_TRANSITION
  ACTION Next: Row := 2; END_ACTION
END_PROGRAM
"""
    reached = asked(parse_iec(text), "reached")
    assert reached.says is Says.BAD
    assert reached.text == "never active: Never, Odd; never clears: Rest to Never, Work to Odd"


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("Left, Right : Drive", "Left, Right : Pair", "Pair has an instance of itself inside it"),
        ("Scaled := Half * Factor", "Scaled := Scaled(Half, Factor)", "Scaled would call itself"),
        ("Wanted := Go, Answer", "Wated := Go, Answer", "Pair has no input Wated"),
        ("Both => Motor", "Bath => Motor", "Pair has no output Bath"),
        ("Wanted := Go,", "Wanted := Level,", "this is INT"),
        ("One.Both", "One.Boat", "a Pair has no boat"),
        ("Half := Raw / 2", "Half := Level / 2", "Scaled sees its own variables only; take Level as an input"),
        ("Edge(CLK := On);", "Starts := Motor;", "Drive sees its own variables only; take Motor as an input"),
        ("  On := Wanted", "  Wanted := TRUE; On := Wanted", "Wanted is an input of Drive"),
        ("Sums[Row] := Sums", "Sums[3] := Sums", "Sums has the rows 0 to 2, not 3"),
        ("Sums[Row] := Sums", "Sums[Go] := Sums", "a row is a whole number, this is BOOL"),
        ("Sums[Row] := Sums", "Sums := Sums", "Sums has many values; name one, such as Sums[0]"),
        ("Plan[Row + 1].Turns", "Plan[Row + 1].Truns", "there is no Plan[1].Truns"),
        ("Plan[Row + 1].Turns", "Level[Row + 1]", "there is no table Level"),
        ("Factor := 3, Raw", "Raw", "Scaled needs Factor"),
        ("Factor := 3, Raw := Plan", "1, 2, Plan", "Scaled takes 2 inputs"),
        ("Scaled(Factor", "Scald(Factor", "there is no function Scald"),
        ("Level := Scaled(", "One.Both := Scaled(", "One.Both is set by calling the Pair"),
        ("One(Wanted", "Drive(Wanted", "there is no block Drive"),
        ("Edge(CLK := On);", "Edge(CLK := RISING(On));", "RISING is for charts and logic"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_them_is_told_with_its_place(old, new, said):
    assert old in DRIVES
    found = link_problems(parse_iec(DRIVES.replace(old, new, 1)))
    assert any(said in d.message for d in found), found
    assert all(d.place.line for d in found if d.code == "text")


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("[7, 2(9)]", "[7, 3(9)]", "there are more values than the 3 rows"),
        ("[1..3] OF Stage", "[3..1] OF Stage", "the range 3..1 is empty"),
        ("[1..3] OF Stage", "[1..3, 1..2] OF Stage", "a table has one index"),
        ("[1..3] OF Stage", "[1..Row] OF Stage", "Row is no constant number"),
        ("[1..3] OF Stage", "[1..99999] OF Stage", "more than 20_000 values"),
        ("(Turns := 2)", "(Turn := 2)", "there is no column Turn"),
        ("Turns : INT; END", "Turns : ARRAY [1..2] OF INT; END", "ARRAY is not supported here"),
        ("Dose : BOOL; Lasts", "Dose : BOOL; Dose", "Dose is declared twice in Stage"),
        ("VAR Late : TON;", "VAR_IN_OUT Late : BOOL;", "VAR_IN_OUT is not supported"),
        ("FUNCTION Scaled : INT", "FUNCTION Scaled", "VAR_INPUT does not fit here; expected :"),
        ("VAR Half : INT", "VAR Half : STRING", "type STRING is not supported"),
        ("FUNCTION_BLOCK Pair", "FUNCTION_BLOCK Drive", "Drive is declared twice"),
        ("Sums[Row] := Sums[Row]", "Sums[Row] := Sums[Row][1]", "a second index"),
        ("END_FUNCTION_BLOCK", "END_FUNCTION", "END_FUNCTION"),
    ],
)
def test_declarations_that_cannot_be_read_are_refused_at_their_line(old, new, said):
    with pytest.raises(FormatError) as error:
        project = parse_iec(DRIVES.replace(old, new, 1))
        raise LinkError(link_problems(project))
    assert said in str(error.value) and error.value.line


def test_names_follow_into_bodies_calls_and_rows():
    project = parse_iec(DRIVES)
    before = Session(project, (Stimulus(10, "set", "Go", True),))
    renamed = rename_member(project, "Pair", "Wanted", "Asked")
    renamed = rename_member(renamed, "Drive", "Starts", "Begun")
    renamed = rename_routine(renamed, "Drive", "Motion")
    renamed = rename_routine(renamed, "Scaled", "Fitted")
    renamed = rename_column(renamed, "Plan", "Lasts", "Takes")
    renamed = rename_table(renamed, "Sums", "Totals")
    renamed = rename_instance(renamed, "One", "First")
    renamed = rename_signal(renamed, "Row", "Line")
    text = write_iec(renamed)
    for gone in ("Starts", "Drive", "Scaled", "Lasts", "Sums", "One(", "Row"):
        assert not re.search(rf"\b{re.escape(gone)}", text), gone
    assert "First(Asked := Go" in text and "Left(Wanted := Asked" in text and "Plan[Line + 1].Takes" in text
    after = Session(renamed, (Stimulus(10, "set", "Go", True),))
    for s in (before, after):
        s.run_for(400)
    assert before.trace.values == after.trace.values and before.trace.scans == after.trace.scans
    for wrong in (
        lambda: rename_member(project, "Drive", "On", "Bad"),
        lambda: rename_column(project, "Plan", "Dose", "Turns"),
        lambda: rename_table(project, "Plan", "Motor"),
        lambda: rename_routine(project, "Drive", "IF"),
    ):
        with pytest.raises(EditError):
            wrong()


def test_a_block_sees_what_it_names_external_and_begins_its_temporary_values_anew():
    text = """
FUNCTION_BLOCK Tally
  VAR_EXTERNAL Go : BOOL; Sums : ARRAY [1..2] OF INT; END_VAR
  VAR_TEMP Seen : INT := 5; END_VAR
  IF Go THEN Seen := Seen + 1; END_IF;
  Sums[2] := Seen;
END_FUNCTION_BLOCK
VAR_GLOBAL Go AT %IX0.0 : BOOL; Sums : ARRAY [1..2] OF INT; Mine : Tally; END_VAR
PROGRAM Logic Mine(); END_PROGRAM
PROGRAM Main INITIAL_STEP Idle: END_STEP END_PROGRAM"""
    session = Session(parse_iec(text), (Stimulus(20, "set", "Go", True),))
    seen = []
    for _ in range(4):
        session.scan()
        seen.append(values(session)["Sums[2]"])
    assert seen == [5, 5, 6, 6]
    assert link(parse_iec(text)).slots["mine.seen"]


def test_a_body_that_is_changed_in_generated_code_is_read_back():
    project = parse_iec(DRIVES)
    project = replace(project, signals=tuple(replace(s, address="") for s in project.signals))
    for style in ("plain", "case", "flags"):
        text = write_code(project, style)
        assert parse_iec(text) == project
        after = parse_iec(text.replace("Half := Raw / 2;", "Half := Raw / 4;", 1))
        assert after.routine("Scaled").text.startswith("Half := Raw / 4;") and after.routine(
            "Drive"
        ) == project.routine("Drive")
