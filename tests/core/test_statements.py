"""Statements and standard blocks of structured text, run in the engine as closing logic and bodies."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.engine.link import link, link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_iec
from spokeshave.model.project import Instance, Project, Sequence, Signal, SignalClass, Step, Type

IN, OUT, VAR, SET = SignalClass.INPUT, SignalClass.OUTPUT, SignalClass.INTERNAL, SignalClass.SETTING
SIGNALS = (
    Signal("Go", IN), Signal("Halt", IN), Signal("Y", OUT), Signal("Z", OUT), Signal("N", VAR, Type.INT), Signal("I", VAR, Type.INT),
    Signal("D", VAR, Type.DINT), Signal("R", VAR, Type.REAL), Signal("T1", VAR, Type.TIME), Signal("Two", SET, Type.INT, initial=2),
)  # fmt: skip
KINDS = ("TON", "TOF", "TP", "CTU", "CTD", "CTUD", "R_TRIG", "F_TRIG", "SR", "RS")
INSTANCES = tuple(Instance(f"My{k.replace('_', '')}", k) for k in KINDS)


def project(closing: str) -> Project:
    return Project(
        "Logic",
        10,
        signals=SIGNALS,
        instances=INSTANCES,
        closing=closing,
        sequences=(Sequence("Main", "Idle", (Step("Idle", 10),)),),
    )


def after(closing: str, scans: int = 1) -> dict[str, object]:
    session = Session(project(closing))
    session.run_scans(scans)
    assert session.stopped is None, session.stopped
    v, asked, slots = session.situation.v, session.program.asked, session.program.slots
    return {s.name: v[asked[slots[s.name.lower()]]] for s in SIGNALS}


@pytest.mark.parametrize(
    ("closing", "name", "value"),
    [
        ("FOR I := 1 TO 5 DO N := N + I; END_FOR;", "N", 15),
        ("FOR I := 5 TO 1 BY -2 DO N := N * 10 + I; END_FOR;", "N", 531),
        ("FOR I := 1 TO 5 DO END_FOR;", "I", 6),
        ("FOR I := 3 TO 1 DO N := 9; END_FOR;", "N", 0),
        ("FOR I := 1 TO 9 DO IF I = 4 THEN EXIT; END_IF; N := I; END_FOR;", "N", 3),
        ("FOR I := 1 TO 3 DO FOR N := 1 TO 9 DO EXIT; END_FOR; D := D + N; END_FOR;", "D", 3),
        ("WHILE N < 7 DO N := N + 3; END_WHILE;", "N", 9),
        ("REPEAT N := N + 3; UNTIL N > 0 END_REPEAT;", "N", 3),
        ("N := 1; RETURN; N := 2;", "N", 1),
        ("WHILE TRUE DO N := N + 1; IF N = 5 THEN RETURN; END_IF; END_WHILE;", "N", 5),
        ("N := 3; CASE N OF 1, 3: D := 1; 2: D := 2; ELSE D := 9; END_CASE;", "D", 1),
        ("N := -7; CASE N OF -9..-5: D := 1; 0..4, 6: D := 2; END_CASE;", "D", 1),
        ("N := 2; CASE N OF Two: D := 4; END_CASE;", "D", 4),
        ("N := 5; CASE N * 2 OF 16#0A: D := 4; ELSE D := 5; END_CASE;", "D", 4),
        ("CASE N OF 0: IF Go THEN D := 1; ELSE D := 2; END_IF; END_CASE;", "D", 2),
        ("R := EXP(0.0) + LN(1.0) + SIN(0.0) + LOG(100.0);", "R", 3.0),
        ("D := TRUNC(-2.7);", "D", -2),
        ("N := MUX(2, 10, 20, 30);", "N", 30),
        ("N := ADD(1, 2, 3) * SUB(9, 4);", "N", 30),
        ("Y := GT(5, 4, 3) AND NOT LT(1, 2, 2);", "Y", True),
        ("R := EXPT(2.0, 3.0); N := MOVE(4);", "R", 8.0),
        ("T1 := T#1s; T1 := T1 * 3 - T#500ms;", "T1", 2500),
        (";;", "N", 0),
    ],
)
def test_statements_do_what_the_standard_says(closing, name, value):
    assert after(closing)[name] == value


@given(st.integers(-40, 40), st.integers(-40, 40), st.integers(-9, 9).filter(bool))
@settings(max_examples=40, deadline=None)
def test_a_for_loop_runs_as_a_range_does(start, end, step):
    turns = len(range(start, end + (1 if step > 0 else -1), step))
    found = after(f"FOR I := {start} TO {end} BY {step} DO N := N + 1; END_FOR;")
    assert found["N"] == turns and found["I"] == start + turns * step


@pytest.mark.parametrize(
    "loop", ["WHILE TRUE DO END_WHILE;", "REPEAT UNTIL FALSE END_REPEAT;", "FOR I := 1 TO 9 DO I := 0; END_FOR;"]
)
def test_an_endless_loop_stops_the_run_with_its_place(loop):
    session = Session(project("Y := TRUE;\n" + loop))
    assert not session.scan()
    assert str(session.stopped) == "closing logic, line 2, column 1: more than 100,000 loop turns in one scan, at 0 ms"


def windows(
    closing: str, rows: tuple[tuple[int, str, bool], ...], name: str = "Y", scans: int = 30
) -> list[tuple[int, int]]:
    session = Session(project(closing), [Stimulus(t, "set", n, v) for t, n, v in rows])
    session.run_scans(scans)
    return session.trace.windows(name)


GO = ((20, "Go", True), (100, "Go", False), (150, "Go", True), (170, "Go", False))


@pytest.mark.parametrize(
    ("closing", "rows", "expected"),
    [
        ("MyTON(IN := Go, PT := T#30ms, Q => Y);", GO, [(5, 10)]),
        ("MyTON(IN := Go, PT := T#0s); Y := MyTON.Q;", GO, [(2, 10), (15, 17)]),
        ("MyTOF(IN := Go, PT := T#30ms); Y := MyTOF.Q;", GO, [(2, 13), (15, 20)]),
        ("MyTP(IN := Go, PT := T#40ms); Y := MyTP.Q;", GO, [(2, 6), (15, 19)]),
        ("MyTP(IN := Go, PT := T#40ms); Y := MyTP.ET = T#40ms;", GO, [(6, 10)]),
        ("MyTON(IN := Go, PT := T#50ms); Y := MyTON.ET >= T#20ms AND MyTON.ET < T#50ms;", GO, [(4, 7)]),
        ("MyRTRIG(CLK := Go, Q => Y);", GO, [(2, 3), (15, 16)]),
        ("MyFTRIG(CLK := Go, Q => Y);", GO, [(0, 1), (10, 11), (17, 18)]),
        ("MyCTU(CU := Go, R := Halt, PV := 2); Y := MyCTU.Q;", (*GO, (200, "Halt", True)), [(15, 20)]),
        (
            "MyCTD(CD := Go, LD := Halt, PV := 2); Y := MyCTD.Q;",
            ((0, "Halt", True), (10, "Halt", False), *GO),
            [(15, 30)],
        ),
        (
            "MyCTUD(CU := Go, CD := Halt, R := FALSE, LD := FALSE, PV := 2); Y := MyCTUD.QU;",
            (*GO, (200, "Halt", True)),
            [(15, 20)],
        ),
        ("MySR(S1 := Go, R := Halt); Y := MySR.Q1;", (*GO, (50, "Halt", True)), [(2, 10), (15, 17)]),
        ("MyRS(S := Go, R1 := Halt); Y := MyRS.Q1;", (*GO, (50, "Halt", True)), [(2, 5)]),
    ],
)
def test_standard_blocks_keep_their_times_and_counts(closing, rows, expected):
    assert windows(closing, tuple(sorted(rows, key=lambda r: r[0]))) == expected


WRONG = [
    ("EXIT;", "EXIT stands outside of a loop"), ("CASE R OF 1: N := 1; END_CASE;", "CASE takes a whole number, this is REAL"),
    ("CASE N OF 5..1: N := 1; END_CASE;", "the range 5..1 is empty"), ("CASE N OF 70000: N := 1; END_CASE;", "out of range"),
    ("FOR R := 1 TO 5 DO END_FOR;", "FOR counts a whole number, R is REAL"), ("FOR I := 1 TO 5 BY 0 DO END_FOR;", "a step of 0 never ends"),
    ("FOR Go := 1 TO 5 DO END_FOR;", "Go is an input"), ("WHILE N DO END_WHILE;", "this is INT"), ("Mine(IN := Go);", "there is no block Mine"),
    ("MyTON(INN := Go);", "TON has no input INN"), ("MyTON(IN := N);", "this is INT"), ("MyTON(Q => N);", "N is INT, Q of TON is BOOL"),
    ("MyTON(Q => Go);", "Go is an input"), ("MyTON(QQ => Y);", "TON has no output QQ"), ("MyTON.Q := TRUE;", "Q is set by calling"),
    ("Y := MyTON;", "is a TON; read one of its outputs"), ("Y := MyTON.CV > 1;", "a TON has no cv"), ("N := MUX(Go, 1, 2);", "this is BOOL"),
    ("N := FROB(1);", "there is no function FROB"), ("N := ADD(1);", "ADD takes 2 or more inputs"),
]  # fmt: skip


@pytest.mark.parametrize(("closing", "message"), WRONG)
def test_wrong_statements_are_told(closing, message):
    found = link_problems(project(closing))
    assert any(message in d.message for d in found), found


def test_a_text_with_five_mistakes_reports_five():
    text = "Y = TRUE;\nN := 1 +;\nIF Go THEN Z := ; END_IF;\nFOR I 1 TO 3 DO N := N; END_FOR;\nR := 2.0;\nD := * 3;"
    found = link_problems(project(text))
    assert [d.place.line for d in found] == [1, 2, 3, 4, 6]
    mixed = "N := R; Y := Nope; Go := TRUE; N := 1 / TRUE; D := T#1s;"
    assert len(link_problems(project(mixed))) == 5


def test_a_missing_input_without_value_stops_the_run_with_its_place():
    session = Session(project("N := MUX(7, 1, 2);"))
    session.scan()
    assert "MUX has no input 7" in str(session.stopped)
    session = Session(project("R := LN(R);"))
    session.scan()
    assert "LN(0.0) has no value" in str(session.stopped)


def test_instances_go_through_files_and_a_name_is_used_once():
    made = project("MyTON(IN := Go, PT := T#1s, Q => Y);")
    assert parse_iec(write_iec(made)) == made
    text = "PROGRAM P VAR Wait : TON; Wait : BOOL; END_VAR INITIAL_STEP A: END_STEP END_PROGRAM"
    with pytest.raises(Exception, match="Wait is declared twice"):
        parse_iec(text)
    assert link(made).start
    twice = Project(
        "x", signals=SIGNALS, instances=(Instance("Go", "TON"), Instance("Odd", "TUN")), sequences=made.sequences
    )
    assert {d.code for d in link_problems(twice)} == {"name-twice", "block-kind"}
