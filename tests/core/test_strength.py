"""Strength: planted mistakes, who notices them, and rows that would notice those that nobody does."""

from __future__ import annotations

import csv
import io
import json
from collections import Counter
from dataclasses import replace
from xml.etree.ElementTree import fromstring

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.engine.link import LinkError, link_problems
from spokeshave.formats import spoke
from spokeshave.formats.iec_read import parse_iec
from spokeshave.language.parse import parse_expression
from spokeshave.model.diagnostics import errors
from spokeshave.model.project import (
    Action,
    Device,
    Interlock,
    OpposedPair,
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
)
from spokeshave.model.study import StudyPlan
from spokeshave.verify import processes
from spokeshave.verify.check.run import every_finding
from spokeshave.verify.check.waivers import sort_out
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.junit import strength_junit
from spokeshave.verify.scenarios import run_all
from spokeshave.verify.strength.in_texts import Slips
from spokeshave.verify.strength.noticed import Judge
from spokeshave.verify.strength.planted import planted
from spokeshave.verify.strength.report import Report, let_survive
from spokeshave.verify.strength.same import same_truth
from spokeshave.verify.strength.work import Strength
from tests.core.projects import build_project
from tests.core.test_cli import call
from tests.core.test_generated_code import hundreds
from tests.core.test_standing import gated

KILN = """PROGRAM Kiln
  VAR_INPUT Go : BOOL; DoorShut : BOOL; DoorOpen : BOOL; Halt : BOOL; END_VAR
  VAR_OUTPUT Heat : BOOL; Fan : BOOL; Unlock : BOOL; END_VAR
  VAR Turns : INT; END_VAR
  INITIAL_STEP Rest: END_STEP
  STEP Warm: Heat(N); Fan(S); END_STEP
  STEP Cool: Count(P1); END_STEP
  STEP Open: Unlock(N); Fan(R); END_STEP
  TRANSITION FROM Rest TO Warm := RISING(Go) AND DoorShut; END_TRANSITION
  TRANSITION FROM Warm TO Cool := Warm.T >= T#3s; END_TRANSITION
  TRANSITION FROM Cool TO Open := Cool.T >= T#2s AND Turns < 3; END_TRANSITION
  TRANSITION FROM Cool TO Rest := Turns >= 3; END_TRANSITION
  TRANSITION FROM Open TO Rest := DoorOpen; END_TRANSITION
  ACTION Count: Turns := Turns + 1; END_ACTION
END_PROGRAM
"""
ONCE = """at 100 ms: set DoorShut to TRUE
at 200 ms: set Go to TRUE
at 6 s: set DoorOpen to TRUE
run for 7 s
expect order Kiln: Rest, Warm, Cool, Open, Rest
expect never Heat AND Unlock"""


def kiln(text: str = ONCE) -> Project:
    project = parse_iec(KILN)
    return replace(
        project, scenarios=(Scenario("Once round", text),), interlocks=(Interlock("Unlock", "NOT Heat"),),
        opposed=(OpposedPair("Heat", "Unlock", 100),), trips=(Trip("Stop", 1, "Halt"),), reset="Go",
    )  # fmt: skip


def judged(project: Project, study: bool = False) -> Report:
    run = Strength(project, study=study)
    while not run.done:
        run.poll()
    assert not run.problem and len(run.judged) == len(run.mistakes)
    return run.report


def test_the_mistakes_are_those_of_the_trade_each_one_once():
    kinds = Counter(m.kind for m in planted(kiln()))
    assert {
        "a term dropped", "a term negated", "exchanged with its neighbour", "OR for AND", "> for >=", "<= for <", "one more", "one less",
        "an edge made a level", "a time doubled", "a time halved", "one scan more", "the unit wrong", "a mark dropped", "a mark in another step",
        "S for N", "N for S", "a way to another step", "priorities exchanged", "a way gone", "an interlock gone", "an opposed pair gone",
        "a dead time gone", "a trip gone", "a trip that latches otherwise", "a trip that restarts", "retain", "a line gone",
    } <= kinds.keys()  # fmt: skip
    more = Counter(m.kind for m in planted(gated()))
    assert {"inputs exchanged", "a contact turned", "a window gone"} <= more.keys()


@hundreds
@given(st.integers(0, 10**9))
def test_each_mistake_is_another_file_with_a_name_of_its_own(seed):
    project = build_project(seed)
    if errors(link_problems(project)):
        return
    found = planted(project)
    assert len({m.ident for m in found}) == len(found)
    assert all(m.project != project and m.words.startswith("if ") for m in found)
    assert [m.ident for m in planted(project)] == [m.ident for m in found]


def test_who_notices_is_told_and_a_row_that_is_proposed_notices():
    """Each proposal, a row or a whole scenario, holds for the file and fails with the mistake in it."""
    report = judged(kiln())
    assert report.whole.of == len(report.mistakes) - len(report.of("equivalent"))
    by = {report.mistakes[j.index].words: j for j in report.judged.values()}
    order = by["if Warm led to Open instead of Cool"]
    assert order.state == "noticed" and order.by in ("check", "scenario Once round")
    assert by["if Kiln went from Warm to Cool with T#6s for T#3s"].state == "noticed", "the run is over before"
    survivors = [j for j in report.of("survived") if j.nearest is not None]
    assert len(survivors) >= 10 and any(j.nearest.text for j in survivors)
    assert "DoorShut FALSE" in by["if Kiln went from Rest to Warm without DoorShut"].nearest.scenario
    for j in survivors:
        better = report.with_proposal(j)
        assert {r.outcome for r in run_all(better)} == {Outcome.PASS}, report.proposal(j)
        worse = replace(report.mistakes[j.index].project, scenarios=better.scenarios)
        assert any(r.outcome is not Outcome.PASS for r in run_all(worse)), report.proposal(j)


def test_a_number_beside_its_limit_and_a_loss_of_power_are_tried_and_what_changes_no_run_does_not_count():
    project = warmed()
    report = judged(project)
    by = {report.mistakes[j.index].words: j for j in report.judged.values()}
    for words, near in (
        ("if Main went from Rest to Dip without Wax >= Warm", "with Wax at 65.5"),
        ("if Main went from Rest to Dip with > for >= in Wax >= Warm", "with Wax at 66.0"),
        ("if Main kept its steps over a loss of power", "with the power lost"),
    ):
        judgement = by[words]
        assert judgement.state == "survived" and near in judgement.nearest.scenario, (words, judgement)
        better = report.with_proposal(judgement)
        assert {r.outcome for r in run_all(better)} == {Outcome.PASS}
        worse = replace(report.mistakes[judgement.index].project, scenarios=better.scenarios)
        assert any(r.outcome is not Outcome.PASS for r in run_all(worse))
    same = {w: j.how for w, j in by.items() if j.state == "equivalent"}
    assert same["if DipOpen and DipShut were exchanged in the wiring"] == "nothing reads either of them"
    assert "changes no run" in same["if DipOpen were wired normally closed"]
    assert same["if Spare kept its value over a loss of power"] == "nothing reads Spare"


def warmed() -> Project:
    """A dip that needs a warm bath; two switches and an internal that nothing reads."""
    signals = [Signal(n, SignalClass.INPUT) for n in ("Go", "DipOpen", "DipShut")] + [
        Signal("Wax", SignalClass.INPUT, Type.REAL), Signal("Down", SignalClass.OUTPUT), Signal("Heater", SignalClass.OUTPUT),
        Signal("Spare", SignalClass.INTERNAL, Type.INT), Signal("Warm", SignalClass.SETTING, Type.REAL, initial=66.0),
    ]  # fmt: skip
    steps = (Step("Rest", 10), Step("Dip", 20, (Action(Qualifier.N, "Down"),)))
    ways = (
        Transition(("Rest",), ("Dip",), "RISING(Go) AND Wax >= Warm"),
        Transition(("Dip",), ("Rest",), "Dip.T >= T#4s"),
    )
    devices = (
        Device("Bath", "thermal", (("heater", "Heater"), ("temperature", "Wax")), (("start_c", 69.0),)),
        Device("Arm", "actuator", (("extend", "Down"), ("extended", "DipOpen"), ("retracted", "DipShut"))),
        Device("GoButton", "button", (("contact", "Go"),)),
    )
    text = "at 1 s: press GoButton\nrun for 4 s\nexpect order Main: Rest, Dip\nexpect finally Main.Dip.X"
    return Project("Warm", 10, signals=tuple(signals), sequences=(Sequence("Main", "Rest", steps, ways),), devices=devices,
                   closing="Heater := Wax < 72.0;", scenarios=(Scenario("Dips", text),))  # fmt: skip


def test_what_is_the_same_under_all_circumstances_does_not_count():
    assert same_truth("NOT (A OR B)", "NOT A AND NOT B") and not same_truth("A >= 3", "A > 3")
    project = kiln()
    twice = replace(project, trips=(Trip("Stop", 1, "Halt OR Halt"),))
    found = [j for j in judged(twice).judged.values() if j.state == "equivalent"]
    assert [planted(twice)[j.index].words for j in found] == [
        "if Cool asked for the way to Rest before that to Open",
        "if Stop tripped without Halt",
        "if Stop tripped with AND before Halt",
    ]


@pytest.mark.parametrize(
    ("text", "slips"),
    [
        ("A AND (B OR C)", ["(B OR C)", "A OR (B OR C)", "A AND (B)", "A AND (C)", "A AND (B AND C)", "NOT A AND (B OR C)"]),
        ("NOT A", ["A"]),
        ("RISING(A) AND B", ["RISING(A)", "(A) AND B"]),
        ("N > 3", ["N >= 3", "N > 4", "N > 2"]),
        ("S.T >= T#2s", ["S.T > T#2s", "S.T >= T#4s", "S.T >= T#1s", "S.T >= T#2s10ms", "S.T >= T#2ms"]),
    ],
)  # fmt: skip
def test_a_condition_has_the_mistakes_that_people_make(text, slips):
    names = "VAR_INPUT A, B, C : BOOL; END_VAR VAR N : INT; END_VAR"
    signals = {s.name.lower(): s for s in parse_iec(f"PROGRAM P {names} INITIAL_STEP S: END_STEP END_PROGRAM").signals}
    made = [s.text for s in Slips(signals, 10).in_condition(text)]
    assert set(slips) <= set(made) and text not in made
    assert all(parse_expression(x) for x in made)


def test_it_is_the_same_in_processes_and_a_sample_has_a_seed():
    project = gated()
    here, there = judged(project), Strength(project, processes.executor(2))
    while not there.done:
        there.poll()
    assert there.report.judged == here.judged
    few = [Strength(project, sample=7, seed=n).wanted for n in (3, 3, 4)]
    assert few[0] == few[1] != few[2] and len(few[0]) == 7
    cancelled = Strength(project, processes.executor(2))
    cancelled.cancel()
    assert cancelled.done and not cancelled.problem


def test_a_scenario_that_fails_anyhow_notices_nothing_and_is_named():
    project = kiln()
    bad = (Scenario("Fails", "run for 1 s\nexpect finally Heat"), Scenario("Wrong", "run for 1 s\nexpect finally Heet"))
    found = judged(replace(project, scenarios=(*project.scenarios, *bad)))
    assert found.idle == ("Fails", "Wrong") and "Fails, Wrong: fail without any mistake" in "\n".join(found.lines())
    assert {j.by for j in found.of("noticed")} <= {"check", "scenario Once round"}


def test_a_survivor_is_accepted_with_a_reason_and_the_check_knows_nothing_of_it(tmp_path):
    project = kiln()
    report = judged(project)
    one, *others = report.unexplained
    accepted = let_survive(project, report.mistakes[one.index], "not  before\nthe rebuild")
    again = Report(accepted, report.mistakes, report.judged)
    assert again.reason(one) == "not before the rebuild" and again.unexplained == others
    assert not sort_out(accepted, every_finding(accepted)).stale
    assert let_survive(accepted, report.mistakes[one.index], "") == project
    file = tmp_path / "kiln.spoke"
    spoke.write(accepted, file)
    assert spoke.read(file) == accepted
    suite = fromstring(strength_junit("Kiln", again))
    assert (int(suite.get("tests")), int(suite.get("failures"))) == (len(report.judged), len(others))
    rows = list(csv.reader(io.StringIO(again.csv())))
    assert len(rows) == len(report.judged) + 1 and all(len(r) == len(rows[0]) for r in rows)


def test_the_command_tells_the_survivors_and_ends_with_1(tmp_path):
    file, out, xml = tmp_path / "kiln.spoke", tmp_path / "out.csv", tmp_path / "out.xml"
    spoke.write(kiln(), file)
    code, text, _ = call("strength", str(file), "--jobs", "1", "--csv", str(out), "--junit", str(xml))
    assert code == 1 and "Nobody would notice if Kiln went from Rest to Warm without DoorShut" in text
    assert "a new scenario Once round, with DoorShut FALSE: expect at" in text
    assert out.read_text(encoding="utf-8").startswith("place,kind,") and "<testsuite" in xml.read_text(encoding="utf-8")
    data = json.loads(call("strength", str(file), "--jobs", "1", "--sample", "5", "--json")[1])
    assert len(data["mistakes"]) == 5
    spoke.write(replace(kiln(), opening="Nothing := TRUE;"), file)
    code, _, told = call("strength", str(file), "--jobs", "1")
    assert code == 2 and "Nothing" in told
    with pytest.raises(LinkError):
        Judge(spoke.read(file))


def test_the_study_is_asked_too_of_what_nobody_else_notices():
    text = """PROGRAM Kiln
      VAR_INPUT Go, Hot, DoorOpen : BOOL; END_VAR
      VAR_OUTPUT Heat, Unlock : BOOL; END_VAR
      INITIAL_STEP Rest: END_STEP
      STEP Warm: Heat(N); END_STEP
      STEP Open: Unlock(N); END_STEP
      TRANSITION FROM Rest TO Warm := Go; END_TRANSITION
      TRANSITION FROM Warm TO Open := Hot; END_TRANSITION
      TRANSITION FROM Open TO Rest := DoorOpen; END_TRANSITION
    END_PROGRAM"""
    rows = "at 0.1 s: set Go to TRUE\nat 0.2 s: set Hot to TRUE\nrun for 1 s\nexpect order Kiln: Rest, Warm, Open"
    project = replace(
        parse_iec(text), scenarios=(Scenario("Once", rows),), study=StudyPlan(together=(("Heat", "Unlock"),))
    )
    alone, asked = judged(project), judged(project, study=True)
    found = {asked.mistakes[j.index].words: j for j in asked.judged.values() if j.by == "study"}
    assert found and all(j.state == "noticed" for j in found.values())
    assert any("together of Heat and Unlock" in j.how for j in found.values()), found
    by = {alone.mistakes[j.index].words: j.state for j in alone.judged.values()}
    assert {by[words] for words in found} == {"survived"}, "only those that nobody else notices"
    same = {asked.mistakes[j.index].words: j.state for j in asked.judged.values() if j.by != "study"}
    assert all(by[words] == state for words, state in same.items())
