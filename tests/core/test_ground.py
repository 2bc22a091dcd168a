"""Ground that holds: whatever stands in a text, it works or is told in a few words, with its place."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from dataclasses import replace

import pytest
from hypothesis import given, settings
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.engine.explain import waiting
from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.formats.errors import FormatError
from spokeshave.formats.files import write_project
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.recovery import Recovery
from spokeshave.language.expected import syntax_problem
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import LONGEST_QUOTE, Diagnostic, did_you_mean
from spokeshave.model.project import (
    Action,
    Body,
    Interlock,
    Project,
    Qualifier,
    Scenario,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
)  # fmt: skip
from spokeshave.reading import read_project as parse_file
from spokeshave.verify.check import findings
from spokeshave.verify.scenarios import run_scenario
from tests.core.projects import conditions
from tests.core.test_hostile import damaged
from tests.core.test_semantics import main

LONGEST_TOLD = 400


def one_text(closing: str = "", condition: str = "Go", signals: tuple[Signal, ...] = ()) -> Project:
    """A small chart with one text in it."""
    own = (
        Signal("Go", SignalClass.INPUT),
        Signal("Y", SignalClass.OUTPUT),
        Signal("N", SignalClass.INTERNAL, Type.INT),
    )
    chart = Sequence("Main", "Idle", (Step("Idle", 10), Step("B", 20)), (Transition(("Idle",), ("B",), condition),))
    return Project(signals=(*own, *signals), closing=closing, sequences=(chart,))


def told_briefly(found: list[Diagnostic]) -> bool:
    return all(len(str(d)) < LONGEST_TOLD and max(map(len, str(d).split())) <= LONGEST_QUOTE + 1 for d in found)


def nested(head: str, tail: str, depth: int) -> str:
    return head * depth + "Y := Go;" + tail * depth


TOO_MUCH = {
    "a hex literal of 5,000 digits": ("N := 16#" + "F" * 5000 + ";", "does not fit in 32 bits"),
    "a number of 200,000 digits": ("N := " + "9" * 200_000 + ";", "does not fit in 32 bits"),
    "a name of 5 MB": ("Y := " + "Q" * 5_000_000 + ";", "this name is too long"),
    "21 nested WHILE": (nested("WHILE Go DO ", "END_WHILE;", 21), "loops nest too deeply"),
    "30 nested FOR": (nested("FOR N := 1 TO 3 DO ", "END_FOR;", 30), "loops nest too deeply"),
    "120 nested IF": (nested("IF Go THEN ", "END_IF;", 120), "statements nest too deeply"),
    "100,000 terms": ("Y := " + " AND ".join(["Go"] * 100_000) + ";", "this is too long for one expression"),
    "100 nested functions": ("N := " + "ADD(1, " * 100 + "1" + ")" * 100 + ";", "the expression nests too deeply"),
    "100 times every operator": (
        "Y := " + "Go OR Go XOR Go AND Go = Go < N + N * N ** (" * 100 + "N" + ")" * 100 + ";",
        "the expression nests too deeply",
    ),
    "a sum of 2,000 terms": ("N := 1" + " + 1" * 2000 + ";", "the expression nests too deeply"),
}
MUCH = {
    "a CASE with 1,200 branches": "CASE N OF " + " ".join(f"{i}: Y := Go;" for i in range(1200)) + " END_CASE;",
    "1,000 ELSIF": "IF N = 0 THEN Y := Go; "
    + " ".join(f"ELSIF N = {i} THEN Y := Go;" for i in range(1, 1001))
    + " END_IF;",
    "5,000 terms": "Y := " + " AND ".join(["Go"] * 5000) + ";",
    "17 nested functions": "N := " + "ADD(1, " * 17 + "1" + ")" * 17 + ";",
    "1,000 labels": "CASE N OF " + ", ".join(map(str, range(1000))) + ": Y := Go; END_CASE;",
    "60 nested IF": nested("IF Go THEN ", "END_IF;", 59),
    "59 nested IF around 150 parentheses": nested("IF Go THEN ", "END_IF;", 59).replace(
        "Y := Go;", "Y := " + "NOT (NOT (" * 74 + "Go" + "))" * 74 + ";"
    ),
    "16 nested WHILE": nested("WHILE Go DO ", "Go2 := FALSE; END_WHILE;", 16).replace("Go DO", "Go2 DO"),
}


@pytest.mark.parametrize("what", TOO_MUCH)
def test_a_text_no_person_writes_is_told_in_a_few_words_with_its_place(what):
    text, said = TOO_MUCH[what]
    (found,) = link_problems(one_text(text))
    assert said in found.message and found.place.kind == "closing" and found.place.column > 1
    assert told_briefly(findings(one_text(text)))


@pytest.mark.parametrize("what", TOO_MUCH)
def test_a_file_with_a_text_no_person_writes_is_told_with_its_line(what):
    text, said = TOO_MUCH[what]
    file = f"PROGRAM M\nVAR_INPUT Go : BOOL; END_VAR VAR_OUTPUT Y : BOOL; END_VAR VAR N : INT; END_VAR\n{text}\nEND_PROGRAM\n"
    with pytest.raises(FormatError) as found:
        parse_iec(file)
    assert said in str(found.value) and found.value.line == 3 and len(str(found.value)) < LONGEST_TOLD


@pytest.mark.parametrize("what", MUCH)
def test_a_long_text_works(what):
    project = one_text(MUCH[what], signals=(Signal("Go2", SignalClass.INTERNAL),))
    assert link_problems(project) == []
    session = Session(project)
    session.do("set", "Go", True)
    session.run_scans(3)
    assert session.stopped is None
    if "functions" not in what and "WHILE" not in what:
        assert session.trace.at("Y", 2) is True


@pytest.mark.parametrize("n", [3, 40, 41, 120, 700])
def test_of_many_branches_just_the_first_that_holds_is_taken(n):
    """However many there are: the ones before it are FALSE, the ones behind it are not looked at."""
    branches = " ".join(
        f"ELSIF N >= {i} THEN N := {i} + 1000; IF N > 9000 THEN RETURN; END_IF;" for i in range(n, 0, -1)
    )
    for start in (0, 1, n // 2 + 1, n, 9000):
        project = one_text(f"IF FALSE THEN N := -1; {branches} ELSE N := -2; END_IF; Y := TRUE;")
        session = Session(project)
        session.do("set", "N", start)
        session.scan()
        assert session.trace.at("N", 0) == (min(start, n) + 1000 if start else -2) and session.trace.at("Y", 0)


def test_misspelt_names_among_thousands_are_found_close_without_waiting():
    known = [f"Signal{i:04d}" for i in range(1500)]
    assert did_you_mean("Signel0700", known).startswith("did you mean Signal0700")
    signals = tuple(Signal(n, SignalClass.INTERNAL) for n in known)
    found = link_problems(one_text("".join(f"Y := Signel{i:04d};" for i in range(100)), signals=signals))
    assert len(found) == 100 and "did you mean Signal0000" in found[0].advice


@settings(max_examples=400)
@given(damaged("IF a THEN b := 1; ELSIF c.X THEN CASE n OF 1, 2..5: d := -2; Name: T(IN := e, Q => f); ELSE e := 16#3; END_CASE; END_IF;"
               " FOR i := 1 TO 3 BY 2 DO f := i ** 2 MOD 3; EXIT; END_FOR; WHILE NOT a DO REPEAT b := T#2s; UNTIL c END_REPEAT; END_WHILE;")
       | damaged("g := MAX(1, k := 2.5e3) & (NOT Go XOR BOOL#1) <> (a >= T#1m2s); RETURN;"))  # fmt: skip
def test_the_parser_takes_what_the_grammar_takes(text):
    try:
        parse_statements(text)
        refused = ""
    except TextError as error:
        refused = error.problems[0].message
    expected = syntax_problem(text, "start_statements")
    if expected is None:  # well formed: then only what a word means may be wrong
        assert not refused or ("does not fit here" not in refused and "ends too early" not in refused), refused
    else:
        assert refused or re.search(r"[A-Za-z]\w*\s*,", text), (
            "a list of names as labels is all that is more than the grammar"
        )


@given(conditions(("P10", "P20"), ("R.R10",), depth=5))
def test_the_parser_takes_every_condition_the_grammar_takes(text):
    assert syntax_problem(text, "start_expression") is None
    tree = parse_expression(text)
    assert text[tree.span.start : tree.span.end].strip("( )") in text


FAULTY = """PROGRAM Before
  (* what comes first *)
  Y := Nope;
END_PROGRAM
PROGRAM Main
VAR_INPUT Go : BOOL; END_VAR
VAR_OUTPUT
  Y : BOOL; W : INT;
END_VAR
INITIAL_STEP Idle: Missing(N); END_STEP
STEP B:
  Y(L, Delay);
END_STEP
TRANSITION FROM Idle TO B := Goo AND
    NOT W; END_TRANSITION
TRANSITION FROM B TO Idle := TRUE; END_TRANSITION
ACTION Act:
  W := 1;
  W := 1 / (W - Sum);
END_ACTION
END_PROGRAM
PROGRAM After
  Z := 1;
END_PROGRAM
"""


def test_faults_of_a_text_file_are_told_with_its_lines_and_columns(tmp_path):
    path = tmp_path / "dip.st"
    path.write_text(FAULTY)
    said = CliRunner().invoke(whole_app(), ["check", str(path)]).stdout
    for word, message in (("Nope", "there is no Nope"), ("Missing", "there is no signal or body Missing"), ("Y(L", "there is no Delay"),
                          ("Goo ", "there is no Goo"), ("W;", "NOT takes BOOL"), ("Sum", "there is no Sum"), ("Z :=", "there is no Z"),
                          ("TRUE", "never changes"), ("Go :", "nothing reads input Go")):  # fmt: skip
        at = FAULTY.index(word)
        line, column = FAULTY.count("\n", 0, at) + 1, at - FAULTY.rfind("\n", 0, at)
        assert any(f"{path}:{line}:{column}: " in row and message in row for row in said.splitlines()), (word, said)


def test_a_stop_of_a_run_is_told_with_the_line_of_the_file(tmp_path):
    path = tmp_path / "dip.st"
    text = (FAULTY.replace("Nope", "Go").replace("Missing(N);", "Act(N);").replace("Goo AND\n    NOT W", "TRUE")
            .replace("Delay", "T#1s").replace("Sum", "W").replace("Z :=", "V :=")
            .replace("Y := Go", "V := 2").replace("W : INT", "W, V : INT"))  # fmt: skip
    path.write_text(text)
    said = CliRunner().invoke(whole_app(), ["run", str(path), "--for", "1s"])
    assert said.exit_code == 2
    assert f"{path}:18:8: Main, body Act, line 2, column 8: division by zero, at 0 ms" in said.stderr


NO_VALUE = (
    "TRUNC(R * 10.0) > 0", "REAL_TO_INT(R * R) > 0", "REAL_TO_TIME(R * R) > T#1s", "REAL_TO_DINT(R * R - R * R) > 0", "-D - D > T#1s",
    "D + D > T#1s", "D * 1000 > T#1s", "D * R > T#1s", "D / N > T#1s", "1 / N > 3", "EXP(R) > 1.0", "5 MOD N > 1", "R ** 2.0 > 1.0",
    "SQRT(-R) > 0.0", "MUX(N - 5, 1, 2) > 0", "TRUNC(MAX(R * R, 1.0)) > 1",
)  # fmt: skip


def without_value(condition: str, place: str) -> Project:
    """A machine file with a condition that has no value somewhere in it."""
    signals = (
        Signal("R", SignalClass.INTERNAL, Type.REAL, initial=1e308),
        Signal("D", SignalClass.INTERNAL, Type.TIME, initial=2**62),
    )
    made = one_text(signals=signals)
    way = made.sequences[0].transitions[0]
    step = made.sequences[0].steps[0]
    chart = {
        "condition": {"transitions": (replace(way, condition=condition),)},
        "rising": {"transitions": (replace(way, condition=f"RISING({condition})"),)},
        "hold": {"hold_when": condition},
        "restart": {"restart_when": condition},
        "body": {"steps": (replace(step, actions=(Action(Qualifier.N, "Act"),)),), "transitions": (), "bodies": (Body("Act", f"Y := {condition};"),)},
    }.get(place, {})  # fmt: skip
    acting = {
        "steps": (replace(step, actions=(Action(Qualifier.N, "Y"),)), made.sequences[0].steps[1]),
        "transitions": (),
    }
    if place == "interlock":
        return replace(main(made, **acting), interlocks=(Interlock("Y", condition),))
    if place == "trip":
        return replace(made, trips=(Trip("T", 1, condition),))
    whole = {"closing": {"closing": f"Y := {condition};"}, "home": {"home": condition}}.get(place, {})
    return replace(main(made, **chart), **whole)


@pytest.mark.parametrize("condition", NO_VALUE)
@pytest.mark.parametrize(
    "place", ["condition", "rising", "hold", "restart", "body", "interlock", "trip", "closing", "home"]
)
def test_what_has_no_value_stops_the_run_at_its_place(condition, place):
    for every_scan in (True, False):
        session = Session(without_value(condition, place), every_scan=every_scan)
        assert session.run_scans(20) < 20
        assert session.stopped is not None and session.stopped.code == "run-stopped"
        assert place == "rising" or session.stopped.place.column >= 1
        assert waiting(session.program, session.situation) is not None


@pytest.mark.parametrize("condition", NO_VALUE)
def test_a_row_that_has_no_value_fails_by_itself(condition):
    project = without_value("FALSE", "condition")
    rows = [
        f"finally {condition}",
        f"always {condition}",
        f"at 50 ms: {condition}",
        f"whenever {condition} then within 10 ms Go",
        "finally NOT Go",
    ]
    result = run_scenario(project, Scenario("Odd", "run for 100 ms\n" + "\n".join(f"expect {r}" for r in rows)))
    assert [v.outcome.value for v in result.verdicts] == ["fail"] * 4 + ["pass"] and not result.stopped
    assert all("has no value" in v.because for v in result.verdicts[:4])
    waits = run_scenario(
        project, Scenario("Waits", f"when {condition}: set Go to TRUE\nrun for 100 ms\nexpect finally NOT Go")
    )
    assert waits.stopped.startswith("row 1, column ") and waits.outcome.value == "fail"


def test_an_error_nobody_expected_is_told_as_ours_with_the_place_of_its_details(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    path = tmp_path / "m.st"
    path.write_text("PROGRAM M\nINITIAL_STEP A: END_STEP\nEND_PROGRAM\n")
    monkeypatch.setattr("spokeshave.verify.check.look_over", lambda _: 1 / 0)
    said = CliRunner().invoke(whole_app(), ["check", str(path)])
    assert said.exit_code == 2 and "Traceback" not in said.stderr
    assert (
        "a fault of Spokeshave 0.1.0 with m.st, not of what you did (ZeroDivisionError: division by zero)"
        in said.stderr
    )
    (log,) = tmp_path.rglob("faults.log")
    assert str(log) in said.stderr and "ZeroDivisionError" in log.read_text()


def test_control_characters_of_a_file_do_not_reach_the_terminal(tmp_path):
    made = replace(
        one_text(), scenarios=(Scenario("\x1b[2J\nGone", "run for 1 s\nexpect finally TRUE"),), name="\x1b]0;x\x07"
    )
    write_project(made, tmp_path / "m.spoke")
    said = CliRunner().invoke(whole_app(), ["verify", str(tmp_path / "m.spoke")])
    assert "pass         \ufffd[2J Gone" in said.stdout and "\x1b" not in said.output and "\x07" not in said.output
    said = CliRunner().invoke(whole_app(), ["run", str(tmp_path / "m.spoke"), "--scenario", "\x1b[1m"])
    assert said.exit_code == 2 and "\x1b" not in said.output


@pytest.mark.parametrize("words", [["verify", "--report", "gone/r.html"], ["verify", "--junit", "gone/j.xml"], ["faults", "--csv", "gone/m.csv"],
                                   ["run", "--for", "1s", "--trace", "gone/t.csv"]])  # fmt: skip
def test_a_missing_folder_is_told_before_the_work(words, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    write_project(one_text(), tmp_path / "m.spoke")
    monkeypatch.setattr("spokeshave.reading.read_project", lambda _: pytest.fail("work was begun"))
    said = CliRunner().invoke(whole_app(), [words[0], "m.spoke", *words[1:]])
    assert said.exit_code == 2 and "there is no folder gone" in said.stderr


def test_a_demo_with_a_mistake_leaves_nothing_behind(tmp_path):
    code = ("from spokeshave.cli.opening import file_with_mistake\nfrom spokeshave.reading import read_project\n"
            "path = file_with_mistake('roastery', 'left-unconfirmed')\nprint(path, len(read_project(path).sequences))")  # fmt: skip
    done = subprocess.run(
        [sys.executable, "-c", code],
        capture_output=True,
        text=True,
        check=True,
        env={**os.environ, "TMPDIR": str(tmp_path)},
    )
    assert str(tmp_path) in done.stdout and not list(tmp_path.iterdir())


def test_a_demo_that_cannot_write_says_where_to_write(tmp_path, monkeypatch):
    for name in ("DISPLAY", "WAYLAND_DISPLAY"):
        monkeypatch.delenv(name, raising=False)
    (tmp_path / "file").touch()
    said = CliRunner().invoke(whole_app(), ["demo", "--out", str(tmp_path / "file" / "here")])
    assert said.exit_code == 2 and "choose another folder with --out" in said.stderr


def test_a_list_of_signals_that_is_being_written_is_not_red_all_over():
    listed = main(one_text(), transitions=(), steps=(Step("Idle", 10),))
    assert not [d for d in findings(listed) if d.code in ("read-nowhere", "written-nowhere")]
    spoken = one_text(condition="Go")
    assert {d.code for d in findings(spoken)} >= {"read-nowhere", "written-nowhere"}


def test_a_name_as_long_as_the_system_allows_can_be_written_and_a_longer_one_is_told_before_the_work(
    tmp_path, monkeypatch
):
    most = os.pathconf(tmp_path, "PC_NAME_MAX")
    longest = tmp_path / ("n" * (most - len(".spoke")) + ".spoke")
    write_project(Project("Long"), longest)
    assert parse_file(longest).name == "Long" and [p.name for p in tmp_path.iterdir()] == [longest.name]
    Recovery(tmp_path / "kept").keep(Project("N" * 1000), longest)
    monkeypatch.setattr("spokeshave.reading.read_project", lambda _: pytest.fail("work was begun"))
    said = CliRunner().invoke(whole_app(), ["verify", str(longest), "--report", str(tmp_path / ("r" * most + ".html"))])
    assert said.exit_code == 2 and "the name is too long" in said.output and len(said.output) < 400
