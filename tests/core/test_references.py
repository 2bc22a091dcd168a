"""Names mean what they resolve to: renames, used-where, and words of ours as names of steps."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import HealthCheck, given, settings

from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.language.references import Names, Where, put_names
from spokeshave.language.rename import rename_sequence, rename_signal, rename_step
from spokeshave.model.edits import EditError
from spokeshave.model.positions import Position, positions, put_position
from spokeshave.model.project import (
    Action,
    Body,
    Project,
    Qualifier,
    Scenario,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
)
from spokeshave.verify.scenarios import run_scenario
from spokeshave.verify.usage import uses
from tests.core.projects import INPUTS, PERIOD, projects, runs

hundred = settings(
    max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)
SCENARIO = 'on Two.B: mark "B"\nrun for 1 s\nexpect order One: A, B\nexpect order Two: A, B\nexpect at 500 ms: Two.B.X OR One.B.X'


def two() -> Project:
    """Two sequences whose steps have the same names."""
    ways = (Transition(("A",), ("B",), "A.T >= T#100ms"), Transition(("B",), ("A",), "B.T >= T#2s AND Go"))
    steps = (Step("A", 10), Step("B", 20, (Action(Qualifier.N, "Run"), Action(Qualifier.P1, "Note"))))
    made = Sequence("One", "A", steps, ways, (Body("Note", "Seen := B.X;"),))
    other = replace(made, name="Two", steps=(Step("A", 10), Step("B", 20)), bodies=(),
                    transitions=(replace(ways[0], condition="A.T >= T#200ms AND One.B.X"), ways[1]))  # fmt: skip
    signals = (Signal("Go", SignalClass.INPUT), Signal("Run", SignalClass.OUTPUT), Signal("Seen", SignalClass.INTERNAL))
    trip = Trip("Stop", 1, "FALSE", ("Two",), steps="go to", go_to=("Two.B",))
    return Project(signals=signals, sequences=(made, other), scenarios=(Scenario("Both", SCENARIO),), trips=(trip,))


def test_a_step_that_is_renamed_leaves_the_step_of_the_same_name_elsewhere_alone():
    after = rename_step(two(), "One", "B", "Work")
    one, other = after.sequences
    assert one.transitions[1].condition == "Work.T >= T#2s AND Go"
    assert one.bodies[0].text == "Seen := Work.X;"
    assert other.steps == two().sequences[1].steps
    assert [t.condition for t in other.transitions] == ["A.T >= T#200ms AND One.Work.X", "B.T >= T#2s AND Go"]
    assert after.trips == two().trips
    text = after.scenarios[0].text
    assert "order One: A, Work\n" in text and "order Two: A, B\n" in text and "Two.B.X OR One.Work.X" in text
    assert [d for d in link_problems(after) if d.severity == "error"] == []
    assert run_scenario(after, after.scenarios[0]).outcome is run_scenario(two(), two().scenarios[0]).outcome
    back = rename_step(after, "One", "Work", "B")
    assert back == two()


def test_a_sequence_takes_its_new_name_along_everywhere():
    after = rename_sequence(two(), "Two", "Tray")
    assert after.trips[0].scope == ("Tray",) and after.trips[0].go_to == ("Tray.B",)
    assert "on Tray.B:" in after.scenarios[0].text and "order Tray: A, B" in after.scenarios[0].text
    assert rename_sequence(after, "Tray", "Two") == two()
    with pytest.raises(EditError, match="One is already the name of the sequence One"):
        rename_sequence(two(), "Two", "One")


def test_a_message_says_by_what_a_name_is_taken():
    with pytest.raises(EditError, match="B is already the name of step 20 of One"):
        rename_signal(two(), "Go", "B")
    with pytest.raises(EditError, match="Go is already the name of the input Go"):
        rename_step(two(), "One", "A", "Go")


def test_uses_tell_steps_of_the_same_name_apart():
    found = {u.name for u in uses(two())}
    assert {"one.b.t", "two.b.t", "one.b.x", "one.note"} <= found
    assert "b.t" not in found


def test_a_renamed_position_stays_a_position_and_formal_parameters_stay():
    project = replace(
        two(), signals=(*two().signals, Signal("Top", SignalClass.INPUT), Signal("In", SignalClass.INTERNAL))
    )
    project = put_position(project, Position("AtTop", "Top", settle="T#50ms"))
    after = rename_signal(rename_signal(project, "AtTop", "Above"), "In", "Inside")
    assert [p.name for p in positions(after)] == ["Above"]
    assert "(IN := Top," in after.opening
    assert put_names("T(IN := In, PT := x)", Names(project), Where(), lambda t: "Y") == "T(IN := Y, PT := x)"


def changes(project: Project, inputs: list[tuple[bool, ...]]) -> list[tuple[int, str, object]]:
    stimuli = [
        Stimulus(k * PERIOD, "set", name, value) for k, row in enumerate(inputs) for name, value in zip(INPUTS, row)
    ]
    session = Session(project, stimuli)
    session.run_for(len(inputs) * PERIOD)
    t = session.trace
    return [(k, t.recorded[c].name, v) for k, c, v in zip(t.scans, t.columns, t.values)]


@hundred
@given(projects(), runs())
def test_what_is_renamed_runs_as_before_and_back_is_the_identity(project, inputs):
    q = project.sequences[0]
    after = rename_step(rename_sequence(project, q.name, "Renamed"), "Renamed", q.steps[0].name, "First")
    after = rename_signal(after, "Y1", "Why")
    names = {"Why": "Y1", **{f"Renamed.{s.name}.X": f"{q.name}.{s.name}.X" for s in q.steps},
             "Renamed.First.X": f"{q.name}.{q.steps[0].name}.X"}  # fmt: skip
    assert [(k, names.get(n, n), v) for k, n, v in changes(after, inputs)] == changes(project, inputs)
    back = rename_signal(rename_step(after, "Renamed", "First", q.steps[0].name), "Why", "Y1")
    assert rename_sequence(back, "Renamed", q.name) == project


def at_home(home: str = "", condition: str = "Home.T >= T#1s AND Go") -> Project:
    steps = (Step("Home", 10), Step("Begin", 20), Step("Held", 30))
    ways = (
        ("Home", "Begin", condition),
        ("Begin", "Held", "NOT Go"),
        ("Held", "Home", "Held.X AND Main.Home.T > T#0s"),
    )
    chart = Sequence("Main", "Home", steps, tuple(Transition((a,), (b,), c) for a, b, c in ways))
    return Project(signals=(Signal("Go", SignalClass.INPUT),), sequences=(chart,), home=home)


def test_a_step_may_have_any_name_that_is_no_keyword_of_the_standard():
    assert link_problems(at_home()) == []
    assert link_problems(at_home("NOT Go", "Home AND Home.X")) == []
    assert rename_step(at_home(), "Main", "Home", "Rest").sequences[0].transitions[0].condition.startswith("Rest.T")
    assert (
        rename_step(at_home("NOT Go", "Home AND Home.X"), "Main", "Home", "Rest").sequences[0].transitions[0].condition
        == "Home AND Rest.X"
    )
    with pytest.raises(EditError, match="word of the language"):
        rename_step(at_home(), "Main", "Home", "Until")


def test_the_bare_word_home_is_told_apart_from_the_step():
    (found,) = link_problems(at_home("", "Home"))
    assert "Home is the home of the project, which has none; for the step write Home.X" in found.message
    project = at_home()
    far = replace(project, sequences=(*project.sequences, Sequence("Far", "A", (Step("A", 10), Step("B", 20)), (
        Transition(("A",), ("B",), "Home.X"), Transition(("B",), ("A",), "Go")))))  # fmt: skip
    (found,) = link_problems(far)
    assert "for the step of Main write Main.Home.X" in found.message
