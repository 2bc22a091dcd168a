"""The scenario language whole: one usual form, lists, situations of other scenarios, completion, runs in processes."""

from __future__ import annotations

import time
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.formats import spoke
from spokeshave.language.scenario import parse_scenario
from spokeshave.language.scenario_lists import MOST_CASES, cases_of
from spokeshave.language.scenario_print import format_row, format_scenario, join_row, split_row
from spokeshave.model.project import Project, Scenario, with_shows
from spokeshave.verify.batch import Batch
from spokeshave.verify.completion import complete
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.processes import let_go
from spokeshave.verify.scenario_language import scenario_problems
from spokeshave.verify.scenarios import run_all, run_scenario
from spokeshave.verify.standing import proof_of, since
from tests.conftest import EXAMPLES
from tests.core.test_check import gate

ROASTERY = spoke.read(EXAMPLES / "roastery.spoke")
ROWS = [row for s in ROASTERY.scenarios for row in s.text.splitlines()] + [
    "when (Opened AND NOT Closed) OR Count > 3, 1.5 s later: reset",
    'expect reach Main.Opening within T#1m2s of "begun"',
    "expect value (Count + 1) * 2 from -3 to 4.5 while Main.Opening.X",
    "expect from 2 s to 2 min: Go XOR (Shut AND Halt)",
    "for each T in 3 s, -4, Main.Idle, TRUE",
    "at T#1s500ms: set Wait to -3",
]  # fmt: skip


@st.composite
def untidy(draw: st.DrawFn, row: str) -> str:
    """The row with other spaces and other capitals where they do not matter."""
    out = ""
    for n, word in enumerate(row.split(" ")):
        small = word.isalpha() and word.islower()
        out += ("" if n == 0 else " " * draw(st.integers(1, 3))) + (
            word.upper() if small and draw(st.booleans()) else word
        )
    return (
        " " * draw(st.integers(0, 2)) + out.replace(": ", draw(st.sampled_from((": ", ":", " : "))))
        if '"' not in row
        else row
    )


@given(st.sampled_from([r for r in ROWS if not r.startswith("//")]).flatmap(lambda r: st.tuples(st.just(r), untidy(r))))
def test_however_a_row_is_typed_it_has_one_usual_form_that_says_the_same(rows):
    row, typed = rows
    assert format_row(typed) == format_row(row) == format_row(format_row(typed))
    before, after = (parse_scenario(t) for t in (row, format_row(typed)))
    forget = {"text": "", "conditions": ()}
    assert [replace(r, **forget) for r in before.expectations] == [replace(r, **forget) for r in after.expectations]
    assert [(d.do, d.target, d.value, d.ms, d.moment.ms) for d in before.deeds] == [
        (d.do, d.target, d.value, d.ms, d.moment.ms) for d in after.deeds
    ]
    assert join_row(*split_row(format_row(row))) == format_row(row)


def test_notes_empty_lines_and_what_cannot_be_read_stay_when_rows_are_tidied():
    text = "  // a note: with  spaces\n\nat   1s:Press Go\nexpect something odd\n\n\n"
    assert format_scenario(text) == "// a note: with  spaces\n\nat 1 s: press Go\nexpect something odd\n"
    assert all(format_scenario(s.text) == s.text for s in ROASTERY.scenarios), "the shipped ones are tidy"


def test_lists_make_a_run_for_every_choice_and_put_it_in_where_a_name_stands_alone():
    found = cases_of(
        'for each T in 3 s, 500 ms\nfor each F in "jammed", "slow"\nat T: break Sluice F\nat 1 s: break Sluice "T F"\nrun for T'
    )
    assert [c.label for c in found.cases] == [
        'T = 3 s, F = "jammed"', 'T = 3 s, F = "slow"', 'T = 500 ms, F = "jammed"', 'T = 500 ms, F = "slow"'
    ]  # fmt: skip
    rows = found.cases[3].text.splitlines()
    assert rows[2:] == ['at T#500ms: break Sluice "slow"', 'at 1 s: break Sluice "T F"', "run for T#500ms"]
    many = ", ".join(f"{n} s" for n in range(MOST_CASES + 1))
    assert "more than" in cases_of(f"for each T in {many}\nrun for T").problems[0].message

    result = run_scenario(gate(), Scenario("Waits", (
        "for each T in 1 s, 3 s, 5 s\ngiven Wait is T\nat 10 ms: press Button\nrun for 9 s\nexpect Main.Opening lasts at most 4 s"
    )))  # fmt: skip
    assert [(r.label, r.outcome) for r in result.runs] == [
        ("T = 1 s", Outcome.PASS), ("T = 3 s", Outcome.PASS), ("T = 5 s", Outcome.FAIL)
    ]  # fmt: skip
    assert result.outcome is Outcome.FAIL and result.worst_run is result.runs[2]
    assert result.worst is not None and (result.worst.line, result.worst.because) == (5, "it lasted 5 s")


def starting() -> Project:
    """A scenario that marks a situation, others that start there, and from there on."""
    first = (
        'at 1 s: press Button for 10 s\non Main.Opening, 500 ms later: mark "half open"\nrun for 12 s\nexpect no alarms'
    )
    second = 'start at "half open"\nwhen Opened: mark "open"\nrun for 5 s\nexpect finally Main.Idle.X\nexpect at 500 ms: Opened'
    third = 'start at "open"\ngiven Wait is 9 s\nrun for 9 s\nexpect Main.Closing entered 1 times\nexpect reach Main.Closing within 8.6 s'
    names = ("First", "Second", "Third")
    return replace(gate(), scenarios=tuple(Scenario(n, t) for n, t in zip(names, (first, second, third))))


def test_a_scenario_starts_in_the_situation_another_one_marks_and_counts_its_time_from_there():
    results = {r.scenario.name: r for r in run_all(starting())}
    assert {n: (r.outcome, r.problems) for n, r in results.items()} == dict.fromkeys(results, (Outcome.PASS, ()))
    assert [results[n].runs[0].start_ms for n in results] == [0, 1510, 2010], "in the scan after the row was due"
    assert [v.time_ms for v in results["Second"].verdicts] == [4990, 500]
    trace = results["Third"].session.trace
    assert trace.at("Main.Closing.X", results["Third"].verdicts[1].time_ms // 10 + 201)
    assert trace.at("Go", 300), "what was held down when the situation was marked is held on"


def test_a_situation_that_is_not_reached_or_begins_at_itself_is_told():
    project = starting()
    never = Scenario("Never", 'on Main.Closing: mark "late"\nrun for 1 s\nexpect no alarms')
    project = replace(project, scenarios=(never, Scenario("After", 'start at "late"\nrun for 1 s\nexpect no alarms')))
    result = run_scenario(project, project.scenarios[1])
    assert result.outcome is Outcome.FAIL and "'late' was not reached" in result.stopped
    loop = Scenario("Loop", 'start at "a"\nat 0 s: mark "a"\nrun for 1 s\nexpect no alarms')
    twice = Scenario("Twice", 'at 0 s: mark "A"\nrun for 1 s\nexpect no alarms')
    project = replace(project, scenarios=(loop, twice))
    messages = [p.message for s in project.scenarios for p in run_scenario(project, s).problems]
    bad = Scenario("Bad", 'on Main.Gone: mark "gone"\nrun for 1 s\nexpect no alarms')
    after = Scenario("After", 'start at "gone"\nrun for 1 s\nexpect no alarms')
    problem = run_scenario(replace(project, scenarios=(bad, after)), after).problems[0]
    assert (problem.line, problem.message) == (1, "Bad, which marks 'gone', cannot be run as it is")
    assert any("begin at itself" in m for m in messages) and any("marks 'A' too" in m for m in messages)


def test_a_result_holds_until_what_ran_or_a_scenario_it_starts_from_is_edited():
    project = starting()
    proofs = {r.scenario.name: proof_of(r) for r in run_all(project)}

    def held(after: Project) -> list[str]:
        return [n for n, proof in proofs.items() if not since(proof, after)]

    assert held(replace(project, name="Other")) == ["First", "Second", "Third"]
    first, second, third = project.scenarios
    assert held(replace(project, scenarios=(first, second, replace(third, text=third.text + "\n// note")))) == list(
        proofs
    )
    assert held(
        replace(project, scenarios=(first, second, replace(third, text=third.text + "\nexpect no alarms")))
    ) == [
        "First",
        "Second",
    ]
    assert (
        held(replace(project, scenarios=(replace(first, text="at 9 s: press Button\n" + first.text), second, third)))
        == []
    )
    assert held(replace(project, scenarios=(first, third))) == ["First"], "the situation of the last one is gone"
    assert held(replace(project, period_ms=20)) == []


def test_what_the_marking_scenario_gives_is_given_to_those_that_start_there():
    marks = Scenario(
        "A",
        'given Sluice.extend_s is 3\nat 10 ms: press Button\non Main.Opening: mark "o"\nrun for 9 s\nexpect no alarms',
    )
    from_there = Scenario(
        "B", 'start at "o"\nrun for 4 s\nexpect from 0 s to 2.9 s: NOT Opened\nexpect by 3.1 s: Opened'
    )
    result = run_scenario(replace(gate(), scenarios=(marks, from_there)), from_there)
    assert result.outcome is Outcome.PASS, result.verdicts


def test_what_a_scenario_shows_is_a_row_of_its_text_and_older_files_are_brought_up_to_date():
    assert Scenario("A", "// note\nShows R1,  R2\nrun for 1 s\nshows R2, R3").shows == ("R1", "R2", "R3")
    assert with_shows("// note\nrun for 1 s", ["R1"]) == "// note\nshows R1\nrun for 1 s"
    assert with_shows("shows R1\nrun for 1 s\nshows R2", ["R3", "R1"]) == "shows R3, R1\nrun for 1 s"
    assert with_shows("shows R1\nrun for 1 s", []) == "run for 1 s"
    old = '{"format": "spokeshave machine file", "version": 1, "scenarios": [{"name": "A", "text": "run for 1 s", "shows": ["R7"]}]}'
    read = spoke.loads(old)
    assert read.scenarios[0].text == "shows R7\nrun for 1 s" and f'"version": {spoke.VERSION}' in spoke.dumps(read)


@given(
    st.sampled_from([(s.text, r) for s in ROASTERY.scenarios for r in s.text.splitlines() if not r.startswith("//")]),
    st.data(),
)
def test_completion_offers_every_word_that_an_engineer_wrote(where, data):
    text, row = where
    words = [i for i, c in enumerate(row) if (c.isalpha() or c == '"') and (i == 0 or row[i - 1] in " (")]
    at = data.draw(st.sampled_from(words))
    word = row[at : row.find('"', at + 1) + 1] if row[at] == '"' else row[at:].split(" ")[0].rstrip(",:()")
    numbered = at and row[at - 2].isdigit() and word in ("s", "ms", "min")
    inside = row[:at].count('"') % 2 == 1
    own_name = row.startswith("for each") or row.startswith("mark", at - 5) or row.startswith("Start", at)
    if numbered or inside or own_name or word in ("T", "OR") or "#" in word:
        return
    first = row[: at + 1 if "." not in word or row.startswith("on") else at + word.index(".") + 2]
    offered = complete(ROASTERY, first, text)
    assert word.lower() in {w.lower().strip("(") for w in offered} or len(word) == 1, (first, offered)


def test_completion_offers_nothing_where_the_row_is_wrong_already():
    assert complete(ROASTERY, "at at ") == [] and complete(ROASTERY, "expect never )") == []


@pytest.fixture
def processes():
    yield
    let_go()


def wait(batch: Batch, until: float = 60.0) -> None:
    end = time.monotonic() + until
    while not batch.done and time.monotonic() < end:
        batch.poll()
        time.sleep(0.01)
    assert batch.done


def test_runs_in_processes_give_what_runs_here_give_and_can_be_looked_at(processes):
    project = replace(ROASTERY, scenarios=tuple(s for s in ROASTERY.scenarios if s.group in ("Manual", "Faults"))[:4])
    batch = Batch(project, list(project.scenarios), jobs=2)
    wait(batch)
    here = run_all(project)
    for mine, theirs in zip(here, [batch.results[i] for i in range(4)]):
        assert mine.verdicts == theirs.verdicts and [r.acted for r in mine.runs] == [r.acted for r in theirs.runs]
        for a, b in zip(mine.runs, theirs.runs):
            then, again = a.session().trace, b.session().trace
            assert b.live is None and (then.scan_count, then.events) == (again.scan_count, again.events)
            assert list(then.values) == list(again.values)


def test_a_batch_is_cancelled_and_the_next_one_runs(processes):
    long = Scenario("Long", "run for 100 h\nexpect no alarms")
    short = Scenario("Short", "run for 1 s\nexpect no alarms")
    batch = Batch(gate(), [short, long, long], jobs=2)
    end = time.monotonic() + 30
    while not (batch.results and batch.names) and time.monotonic() < end:
        batch.poll()
        time.sleep(0.01)
    assert 0 < batch.part < 1
    batch.cancel()
    wait(batch)
    assert list(batch.results) == [0]
    again = Batch(gate(), [short])
    wait(again)
    assert again.results[0].outcome is Outcome.PASS
    broken = Batch(replace(gate(), home="Nothing"), [short])
    wait(broken)
    assert "there is no Nothing" in broken.problem and not broken.results


def test_a_row_for_a_time_that_has_passed_is_told():
    project = gate()
    text = "at 2 s: press Button\nat 500 ms: acknowledge\nat 2 s: acknowledge\nrun for 3 s\nexpect no alarms"
    found = scenario_problems(project, Scenario("Late", text))
    late = [p for p in found if "stands under a row" in p.message]
    assert [(p.line, p.message) for p in late] == [(2, "this is for 0.5 s, and stands under a row for 2 s")]
