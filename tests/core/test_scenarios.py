"""Scenarios: the rows mean what an engineer reads in them, and verdicts say what decided."""

from __future__ import annotations

import xml.etree.ElementTree as ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.formats import spoke
from spokeshave.language.scenario import parse_scenario
from spokeshave.model.project import Scenario
from spokeshave.verify.check import findings
from spokeshave.verify.coverage import coverage
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.junit import NEVER_DONE, junit, lines_of
from spokeshave.verify.protection import rules
from spokeshave.verify.record import record_html
from spokeshave.verify.scenarios import run_all, run_scenario
from tests.conftest import EXAMPLES
from tests.core.test_check import gate

PASS, FAIL, NOT = Outcome.PASS, Outcome.FAIL, Outcome.NOT_REACHED


def verdict(expectation: str, deeds: str = "at 100 ms: press Button for 100 ms", length: str = "12 s"):
    result = run_scenario(gate(), Scenario("Try", f"{deeds}\nrun for {length}\n{expectation}"))
    assert not result.problems, result.problems
    return result.verdicts[0]


# The gate opens at 0.1 s, is open at 1.1 s, waits until 3.1 s, closes by 4.1 s (the command ends, the spring returns it).
@pytest.mark.parametrize(
    ("expectation", "outcome", "time_ms", "because"),
    [
        ("expect order Main: Idle, Opening, Idle", PASS, 4100, "Idle entered last"),
        ("expect exact order Main: Idle, Opening, Closing, Idle", PASS, 4100, "Idle entered last"),
        ("expect exact order Main: Idle, Closing", FAIL, 100, "Opening entered, Closing expected"),
        ("expect order Main: Closing, Opening", FAIL, 11990, "entered were Idle, Opening, Closing, Idle"),
        ("expect reach Main.Closing within 3 s of Main.Opening", PASS, 3100, "after 3 s"),
        ("expect reach Main.Closing within 2.9 s of Main.Opening", FAIL, 3100, "after 3 s"),
        ("expect Main.Opening lasts at least 3 s", PASS, 100, "it lasted 3 s"),
        ("expect Main.Opening lasts at most 2 s", FAIL, 3100, "it lasted 3 s"),
        ("expect at 1.1 s: Opened", PASS, 1100, "Opened = TRUE"),
        ("expect at 1.09 s: Opened", FAIL, 1090, "Opened (FALSE)"),
        ("expect by 2 s: Opened AND Drive", PASS, 1100, "Opened = TRUE, Drive = TRUE"),
        ("expect by 1 s: Opened", FAIL, 1000, "Opened (FALSE)"),
        ("expect finally Closed AND NOT Drive", PASS, 11990, "Closed = TRUE, Drive = FALSE"),
        ("expect always NOT (Opened AND Closed)", PASS, 11990, "in every scan"),
        ("expect never Drive AND Opened", FAIL, 1100, "NOT Drive (Drive = TRUE) or NOT Opened (Opened = TRUE)"),
        ("expect whenever Drive then within 1 s Opened", PASS, 11990, "once, at most 1000 ms"),
        ("expect whenever Drive then within 500 ms Opened", FAIL, 600, "500 ms after Drive: Opened (FALSE)"),
        ("expect whenever Halt AND Opened AND Closed then within 1 s Drive", NOT, 11990, "never came"),
        ('expect alarm "late"', FAIL, 11990, "it was not raised; raised were: none"),
        ("expect no alarms", PASS, 11990, "none was raised"),
        ("expect no hazards", PASS, 11990, "none was raised"),
        ("expect Main.Idle entered 2 times", PASS, 4100, "entered 2 times"),
        ("expect Main.Idle entered at least 2 times", PASS, 4100, "entered 2 times"),
        ("expect Main.Idle entered 3 times", NOT, 4100, "entered 2 times"),
        ("expect Main.Idle entered at most 1 times", FAIL, 4100, "entered for the 2. time"),
        ("expect reach Main.Closing within 3.1 s", PASS, 3100, "after 3.1 s"),
        ("expect reach Main.Closing within 3 s", FAIL, 3100, "after 3.1 s"),
        ("expect count Drive: 1 times", PASS, 100, "it came once"),
        ("expect count Closed: at least 3 times", NOT, 4100, "it came 2 times"),
        ("expect count Closed: at most 1 times", FAIL, 4100, "it came for the 2. time"),
        ("expect from 1.1 s to 2 s: Opened", PASS, 1100, "in all 91 scans"),
        ("expect from 1.09 s to 2 s: Opened", FAIL, 1090, "Opened (FALSE)"),
        ("expect from 11 s to 13 s: Closed", NOT, 11990, "the run ended before"),
        ("expect while Main.Closing.X: NOT Drive", PASS, 3100, "in all 100 scans"),
        ("expect while Main.Opening.X: Opened", FAIL, 100, "Opened (FALSE)"),
        ("expect while Count > 5: Opened", NOT, 11990, "Count > 5 never came"),
        ("expect value Count from 0 to 1", PASS, 3100, "from 0 to 1"),
        ("expect value Main.Opening.T from 0 to 2 s while Main.Opening.X", FAIL, 2110, "Main.Opening.T = 2010"),
        ("expect value Count from 3 to 4 while Opened AND Closed", NOT, 11990, "never came"),
        ("expect Main.Idle entered 1 times", FAIL, 4100, "entered for the 2. time"),
    ],
)
def test_expectations_are_decided_at_their_time(expectation, outcome, time_ms, because):
    v = verdict(expectation)
    assert (v.outcome, v.time_ms) == (outcome, time_ms)
    assert because in v.because


@pytest.mark.parametrize(
    ("deeds", "expectation"),
    [
        ("at 10 ms: hold Button\nafter 200 ms: release Button", "expect at 190 ms: Go AND Drive"),
        (
            "when Closed: press Button\nwhen Opened, 500 ms later: press Shutter",
            "expect reach Main.Closing within 1.52 s of Main.Opening",
        ),
        ("at 10 ms: press Button\non Main.Opening, 1 s later: hold Mushroom", 'expect alarm "trip Safety"'),
        ('at 0 s: break Sluice "jammed"\nat 1 s: press Button', 'expect alarm "Main.Opening is late"'),
        (
            'at 0 s: break Sluice "jammed"\nat 1 s: press Button\nafter 6 s: mend Sluice "jammed"',
            "expect finally Main.Idle.X",
        ),
        ("at 0 s: set Wait to T#5s\nat 10 ms: press Button", "expect Main.Opening lasts at least 5 s"),
        ("at 1 s: force Drive to TRUE\nat 3 s: unforce Drive", "expect at 2.5 s: Opened AND NOT Main.Opening.X"),
        ("given Wait is 5 s\nat 10 ms: press Button", "expect Main.Opening lasts at least 5 s"),
        ("given Button held", "expect always Go AND Main.Idle.X"),
        ('given Sluice "jammed"\nat 1 s: press Button', 'expect alarm "Main.Opening is late"'),
        ("given Sluice.extend_s is 3\nat 10 ms: press Button", "expect at 2.9 s: NOT Opened"),
        ("given Sluice.start is 1", "expect at 0 ms: Opened AND NOT Closed"),
        ("at 1 s: hold Mushroom\nafter 1 s: release Mushroom\nafter 1 s: reset", "expect at 3.1 s: Go"),
        ("at 1 s: hand drive on\nafter 0 s: ask Drive to TRUE", "expect at 3 s: Opened AND Main.Idle.X"),
        (
            "at 1 s: hand drive on\nafter 0 s: ask Drive to TRUE\nafter 2 s: hand drive off",
            "expect at 3.1 s: NOT Drive",
        ),
        ("at 10 ms: press Button\nat 2 s: power cycle", "expect at 2 s: Main.Idle.X AND Opened"),
    ],
)
def test_deeds_do_what_they_say(deeds, expectation):
    v = verdict(expectation, deeds)
    assert v.outcome is PASS, v


def test_a_deed_that_no_run_came_to_is_told():
    """The rows wait for their moments one after the other: what stands under one that never comes is not done."""
    text = 'at 10 ms: press Button\non Main.Closing: mark "shut"\non Main.Opening: power cycle\nrun for 6 s\nexpect no hazards'
    result = run_scenario(gate(), Scenario("S", text))
    assert result.outcome is PASS and [line for line, _ in result.undone] == [3]
    assert lines_of(result, bad_only=True) == [f"line 3: {NEVER_DONE}: on Main.Opening: power cycle"]
    both = run_scenario(
        gate(),
        Scenario("S", f"for each Where in Main.Idle, Main.Opening\n{text.replace('on Main.Opening', 'on Where')}"),
    )
    assert not both.undone, "one of the runs came to it"


@pytest.mark.parametrize(
    ("text", "line", "message"),
    [
        ("run for 1 s", 1, "this scenario expects nothing"),
        ("expect no alarms", 1, "does not say how long it runs"),
        ("run for 999999999999 h", 1, "a run lasts at most 1000000 h"),
        ("run for 1 s\nexpect nothing", 2, "the text ends too early"),
        ("run for 1 s\nat 1: press Button\nexpect no alarms", 2, "1 does not fit here"),
        ("at 1 s: press Buton\nrun for 1 s\nexpect no alarms", 1, "there is no device Buton"),
        ("at 1 s: press Sluice\nrun for 1 s\nexpect no alarms", 1, "Sluice is a linear actuator"),
        ('at 1 s: break Sluice "bent"\nrun for 1 s\nexpect no alarms', 1, "Sluice has no failure 'bent'"),
        ("at 1 s: set Drive to TRUE\nrun for 1 s\nexpect no alarms", 1, "Drive is an output"),
        ("run for 1 s\nexpect order Main: Idle, Opned", 2, "Main has no step Opned"),
        ("run for 1 s\nexpect never Goo", 2, "there is no Goo"),
        ("run for 1 s\nwhen RISING(Go): set Go to FALSE\nexpect no alarms", 2, "RISING is not for the moment"),
        ("given Goo is 3\nrun for 1 s\nexpect no alarms", 1, "there is no setting and no device Goo"),
        ("given Go is TRUE\nrun for 1 s\nexpect no alarms", 1, "Go is an input"),
        ("given Sluice.extend_s is -3\nrun for 1 s\nexpect no alarms", 1, "extend_s"),
        ("given Sluice.size is 3\nrun for 1 s\nexpect no alarms", 1, "Sluice has no parameter size"),
        ('start at "nowhere"\nrun for 1 s\nexpect no alarms', 1, "no scenario marks 'nowhere'"),
        ("shows R9\nrun for 1 s\nexpect no alarms", 1, "there is no requirement R9"),
        ("at T: press Button\nrun for 1 s\nexpect no alarms", 1, "T is no time"),
        ("for each T in 1 s, 2 s\nrun for 1 s\nexpect no alarms", 1, "no row uses T"),
        ("for each Go in 1 s, 2 s\nrun for Go\nexpect no alarms", 1, "Go is a name of the machine file"),
        ("for each T in 1 s\nfor each T in 2 s\nrun for T\nexpect no alarms", 2, "there are two lists named T"),
        ('for each T in 1 s\nat T: mark "x"\nrun for T\nexpect no alarms', 2, "marks no situation"),
        ('run for 1 s\nexpect reach Main.Idle within 1 s of "x"', 2, "no row marks 'x'"),
        ("run for 1 s\nexpect value Go from 0 to 1", 2, "Go is BOOL"),
        ("run for 1 s\nat 1 s: ask Go to TRUE\nexpect no alarms", 2, "Go is no BOOL output"),
        ("on Main.Gone: press Button\nrun for 1 s\nexpect no alarms", 1, "Main has no step Gone"),
    ],
)
def test_wrong_rows_are_told_with_their_line_and_nothing_runs(text, line, message):
    result = run_scenario(gate(), Scenario("Odd", text))
    assert result.outcome is FAIL and result.session is None
    assert result.problems[0].line == line
    assert message in result.problems[0].message


def test_all_wrong_rows_are_told_at_once():
    assert len(parse_scenario("at x: y\nrun 3\nexpect\nat 1 s: press A").problems) == 3


def test_the_roastery_passes_all_its_scenarios_and_proves_its_brief(roastery):
    results = run_all(roastery)
    acted = {name for r in results for run in r.runs for (name, _), _ in run.acted}
    assert {r.name for r in rules(roastery)} <= acted, "every rule that protects is shown by a scenario"
    assert {r.scenario.name: r.outcome for r in results} == dict.fromkeys((s.name for s in roastery.scenarios), PASS)
    covered = coverage(roastery, {r.scenario.name: r for r in results}, findings(roastery))
    assert len(covered) == 22 and {c.state for c in covered} == {"proven"}


def test_the_planted_mistake_is_found_and_shown_where_it_is():
    mistaken = spoke.read(EXAMPLES / "roastery-mistake.spoke")
    results = run_all(mistaken)
    failed = [r for r in results if r.outcome is FAIL]
    assert [r.scenario.name for r in failed] == ["Light roast in order", "Charge gate that sticks"]
    worst = failed[0].worst
    assert worst is not None
    assert (worst.text, worst.because) == ("expect Roast.Charge lasts at least 3 s", "it lasted 0.3 s")
    trace = failed[0].session.trace
    assert trace.at("Roast.Charge.X", worst.time_ms // 10 - 1) and not trace.at("GateOpened", worst.time_ms // 10)
    states = {c.requirement.ident: c.state for c in coverage(mistaken, {r.scenario.name: r for r in results})}
    assert states["R03"] == "failed" and states["R09"] == "proven"


def test_the_jammed_door_is_found_late_at_its_longest_time(roastery):
    result = run_scenario(roastery, roastery.scenario("Jammed drop door"))
    trace = result.session.trace
    entered = trace.windows("Roast.Drop.X")[0][0]
    assert [e.k for e in trace.events if e.kind == "late"] == [entered + 500]


def test_reports_carry_the_verdicts_and_survive_odd_characters(roastery):
    odd = Scenario("Odd <&\x01>", "run for 10 ms\nexpect finally Drum")
    results = [run_scenario(roastery, odd), run_scenario(roastery, roastery.scenarios[0])]
    suite = ElementTree.fromstring(junit("Roastery & Co", results, findings(roastery)))
    assert (suite.get("tests"), suite.get("failures")) == ("3", "1")
    assert "Drum (FALSE)" in suite.find("testcase[@classname='scenario']/failure").text
    html = record_html(roastery, results, findings(roastery), "2030-01-02")
    for wanted in (
        "2030-01-02",
        "R11",
        "Odd &lt;&amp;",
        "it lasted 3 s",
        "StartButton",
        "RISING(StartButton) AND Home",
        "trip Emergency",
    ):
        assert wanted in html
    assert html == record_html(roastery, results, findings(roastery), "2030-01-02")


@pytest.mark.parametrize(
    ("typed", "meant"),
    [
        ("expect RISING(Go) within 5 s", "expect by 5 s: RISING(Go)"),
        ("expect Go not before 1 s", "expect not before 1 s: Go"),
        ("expect Go after 1 s", "expect not before 1 s: Go"),
        ("expect Main.Open within 3 s", "expect reach Main.Open within 3 s"),
        ("never Go AND Up", "expect never Go AND Up"),
        ("no alarms", "expect no alarms"),
        ("set Go to TRUE", "at 0 s: set Go to TRUE"),
        ("expect Go", "expect finally Go"),
    ],
)
def test_a_row_as_people_type_it_first_is_offered_as_it_is_written(typed, meant):
    (problem,) = parse_scenario(f"run for 1 s\n{typed}\nexpect no hazards").problems
    assert problem.line == 2 and problem.advice.endswith(f"write: {meant}")
    assert not parse_scenario(f"run for 1 s\n{meant}\nexpect no hazards").problems
    assert "write" not in parse_scenario(f"run for 1 s\n{typed}{' AND Go' * 40}").problems[0].advice


CONDITIONS = (
    "Go",
    "NOT Go",
    "Go AND Up",
    "RISING(Go)",
    "HELD(Up, T#1s)",
    "Count >= 3",
    "(Go OR Up) AND Main.Open.T > T#2s",
)


@given(
    st.sampled_from(CONDITIONS),
    st.sampled_from(("", "always ", "never ", "finally ", "by 3 s: ", "at 2 s: ", "while Go: ", "not before 4 s: ")),
    st.sampled_from(("", " within 3 s", " before 2 min", " after 500 ms", " not before 1 h", " soon", " within")),
    st.booleans(),
)
def test_what_is_offered_for_a_wrong_row_is_always_a_right_one(condition, kind, tail, expects):
    typed = f"{'expect ' * expects}{kind}{condition}{tail}"
    for problem in parse_scenario(f"run for 1 s\n{typed}\nexpect no hazards").problems:
        _, _, meant = problem.advice.partition("write: ")
        assert len(f"{problem.message} {problem.advice}") < 400
        if meant:
            assert not parse_scenario(f"run for 1 s\n{meant}\nexpect no hazards").problems and condition in meant
        else:
            assert tail in (" soon", " within") or (kind and tail) or not expects
