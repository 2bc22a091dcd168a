"""The form of modes: what it makes works at once, on one's own chart too, and each mode is shown by its scenario."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.code.as_run import as_project
from spokeshave.formats.code.write import generate
from spokeshave.machine.wiring import exchanged
from spokeshave.model.edits import EditError
from spokeshave.model.modes import PAUSES, Modes, has_modes, outputs_of, with_modes
from spokeshave.model.project import (
    Action,
    Device,
    Interlock,
    OpposedPair,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
)
from spokeshave.verify.check import findings
from spokeshave.verify.equivalence import compare, runs_of
from spokeshave.verify.modes import build_modes, try_modes
from tests.core.projects import INPUTS, projects

IN, OUT = SignalClass.INPUT, SignalClass.OUTPUT


def hoist(start: str = "RISING(Start) AND Down") -> Project:
    """A gate that goes up, stays a while, and sinks."""
    names = (("Start", IN), ("Up", IN), ("Down", IN), ("Raise", OUT), ("Lower", OUT))
    steps = (Step("Idle", 10), Step("Lifts", 20, (Action(Qualifier.N, "Raise"),), "T#5s"), Step("Stays", 30),
             Step("Sinks", 40, (Action(Qualifier.N, "Lower"),), "T#5s"))  # fmt: skip
    ways = (
        ("Idle", "Lifts", start),
        ("Lifts", "Stays", "Up"),
        ("Stays", "Sinks", "Stays.T >= T#2s"),
        ("Sinks", "Idle", "Down"),
    )
    wires = (("extend", "Raise"), ("retract", "Lower"), ("extended", "Up"), ("retracted", "Down"))
    return Project(
        "Hoist", 10, signals=tuple(Signal(n, c) for n, c in names),
        sequences=(Sequence("Main", "Idle", steps, tuple(Transition((a,), (b,), c) for a, b, c in ways)),),
        devices=(Device("Gate", "actuator", wires, (("two_drives", 1.0),)),), opposed=(OpposedPair("Raise", "Lower", 0),),
        home="Down",
    )  # fmt: skip


wanted = st.builds(
    Modes, st.just("Start"), st.sampled_from(("", "Continuous")), st.sampled_from(("", "LastCycle")), st.sampled_from(("", "ByStep")),
    st.just("NextStep"), st.sampled_from(PAUSES), st.just("Pause"), st.sampled_from(("keep", "drop")), st.sampled_from(("", "GoHome")),
    st.sampled_from(("", "ByHand")), st.just(outputs_of(hoist(), "Main")),
)  # fmt: skip


@settings(max_examples=30)
@given(wanted, st.sampled_from(("RISING(Start) AND Down", "Start", "Down OR Start", "TRUE", "Down")))
def test_every_mode_works_in_the_first_try_and_its_code_does_the_same(modes, start):
    made = build_modes(hoist(start), "Main", modes)
    assert not [d for d in findings(made) if d.severity != "advice"] and has_modes(made, "Main")
    tried = try_modes(made, "Main", modes)
    expected = 2 + bool(modes.continuous) * (1 + bool(modes.stop)) + 2 * bool(modes.by_step)
    assert tried.left == () and len(tried.passed) == expected + 2 * bool(modes.pause) + bool(modes.home) + 2 * bool(
        modes.hand
    )
    whole = replace(made, scenarios=tried.passed[1:2])
    code = generate(whole, "plain")
    found = compare(whole, as_project(code), {c: code.flag(c) for c in code.active}, runs_of(whole, random_runs=1))
    assert found.difference is None


def test_by_hand_each_output_is_on_while_its_button_is_held_and_what_protects_it_stays_in_force():
    project = hoist()
    outputs = outputs_of(project, "Main")
    guarded = replace(project, interlocks=(Interlock("Raise", "NOT Up"),))
    made = with_modes(guarded, "Main", Modes(pause="at once", outputs="keep", hand="ByHand", by_hand=outputs))
    assert outputs == ("Raise", "Lower") and made.sequences[0].hold_outputs == "drop"
    assert not [d for d in findings(made) if d.code in ("target-shared", "section-never-joins")]
    session = Session(replace(made, devices=()))
    slots = session.program.slots
    for name, value, on, main in (
        ("Down", True, [], 0), ("Start", True, ["Raise"], 1), ("ByHand", True, [], 0), ("RaiseByHand", True, ["Raise"], 0),
        ("LowerByHand", True, [], 0), ("LowerByHand", False, ["Raise"], 0), ("Up", True, [], 0), ("Up", False, ["Raise"], 0),
        ("Start", False, ["Raise"], 0), ("Start", True, ["Raise"], 0), ("ByHand", False, [], 0),
    ):  # fmt: skip
        session.do("set", name, value)
        session.run_for(50)
        assert [o for o in outputs if session.situation.v[slots[o.lower()]]] == on and session.situation.active[0] == [
            main
        ], name
    assert session.situation.active[1] == [0], "hands off, and nothing goes on by itself"
    with pytest.raises(EditError, match="acts on no output"):
        with_modes(project, "Main", Modes(hand="ByHand"))


def test_a_start_is_refused_or_followed_at_once_and_held_or_stepped_it_loses_no_edge():
    made = with_modes(hoist(), "Main", Modes(by_step="ByStep", pause="at once"))
    steps = []
    session = Session(replace(made, devices=()))
    rows = [(0, "Start", True), (50, "Start", False), (100, "Down", True),  # refused: not down; nothing comes later by itself
            (500, "ByStep", True), (600, "Start", True), (650, "Start", False), (900, "NextStep", True), (950, "NextStep", False),
            (1000, "Up", True), (1500, "NextStep", True)]  # fmt: skip
    for at, name, value in rows:
        session.run_for(at - session.time_ms) if at > session.time_ms else None
        steps.append(session.situation.active[0][0])
        session.do("set", name, value)
    session.run_for(1000)
    assert steps == [0, 0, 0, 0, 0, 0, 0, 1, 1, 1] and session.situation.active[0] == [2]


@settings(max_examples=40)
@given(projects(), st.lists(st.integers(1, 60), max_size=8, unique=True), st.data())
def test_step_by_step_each_press_lets_every_thread_of_any_chart_go_on_by_one_at_most(project, presses, data):
    calm = tuple(replace(x, restart_when="") for x in project.sequences)
    project = replace(project, sequences=calm, trips=tuple(replace(t, steps="freeze", go_to=()) for t in project.trips))
    q = project.sequences[0]
    modes = Modes("Begin", "", "", "ByStep", "NextOne", "after the step", "Halt")
    try:
        made = with_modes(project, q.name, modes)
    except EditError:
        return
    assert not [p for p in link_problems(made) if p not in link_problems(project)]
    stimuli = [Stimulus(0, "set", "ByStep", True)]
    stimuli += [
        Stimulus(at, "set", n, v)
        for n in INPUTS
        for at, v in data.draw(st.lists(st.tuples(st.integers(0, 600), st.booleans()), max_size=4))
    ]
    for at in presses:
        stimuli += [Stimulus(at * 10, "set", "NextOne", True), Stimulus(at * 10 + 5, "set", "NextOne", False)]
    session = Session(made, sorted(stimuli, key=lambda s: s.time_ms), every_scan=True)
    index = next(i for i, x in enumerate(session.program.sequences) if x.name == q.name)
    for k in range(62):
        session.scan()
        if session.situation.came[index] and k:
            assert k in presses


@pytest.mark.parametrize(
    ("condition", "asked"),
    [
        ("RISING( start ) AND Down", "MainRun AND Down"), ("Down AND NOT Start", "Down AND NOT Start AND MainRun"), ("true", "MainRun"),
        ("Start OR Up", "(MainRun OR Up) AND MainRun"), ("Restart.X AND Main.Start", "Restart.X AND Main.Start AND MainRun"),
    ],
)  # fmt: skip
def test_the_way_out_of_the_initial_step_is_asked_for_by_the_start_that_is_kept(condition, asked):
    made = with_modes(hoist(condition), "Main", Modes())
    assert made.sequences[0].transitions[0].condition == asked


def test_names_that_mean_something_else_and_charts_that_lead_nowhere_are_refused():
    project = hoist()
    for modes in (
        Modes(start="Up side"),
        Modes(start="Raise"),
        Modes(stop="Lifts"),
        Modes(stop="Start"),
        Modes(home="Main"),
        Modes(pause="soon"),
    ):
        with pytest.raises(EditError):
            with_modes(project, "Main", modes)
    taken = replace(project, signals=(*project.signals, Signal("MainRun", SignalClass.INTERNAL)))
    nowhere = replace(project, sequences=(replace(project.sequences[0], transitions=()),))
    for file, name in (
        (taken, "Main"),
        (nowhere, "Main"),
        (project, "Other"),
        (with_modes(project, "Main", Modes()), "Main"),
    ):
        with pytest.raises(EditError):
            with_modes(file, name, Modes())


def test_an_actuator_that_lifts_or_lowers_as_it_goes_out_is_wired_either_way():
    project = hoist()
    lowering = replace(
        project.devices[0], wires=(("extend", "Lower"), ("retract", "Raise"), ("extended", "Down"), ("retracted", "Up"))
    )
    crossed = replace(
        project.devices[0], wires=(("extend", "Raise"), ("retract", "Lower"), ("extended", "Down"), ("retracted", "Up"))
    )
    assert exchanged(project) == exchanged(replace(project, devices=(lowering,))) == ()
    assert exchanged(replace(project, devices=(crossed,))) == (("Gate", "extended", "retracted"),)
