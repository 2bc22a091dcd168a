"""What is done by rote, seen at a glance or told later: the same as the phases do, in every case they could differ."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from spokeshave.engine.crossings import next_wake
from spokeshave.engine.scan_memo import is_plain
from spokeshave.engine.session import Session
from spokeshave.engine.skip_ahead import SkipAhead
from spokeshave.engine.stimuli import Stimulus
from spokeshave.engine.waits import MIRROR, turns_in
from spokeshave.model.project import (
    Action,
    Body,
    Device,
    Instance,
    Interlock,
    OpposedPair,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
)  # fmt: skip
from tests.core.projects import build_structured as build
from tests.core.projects import structured
from tests.core.test_semantics import main
from tests.core.test_skip_ahead import borders, both, plain, seconds, story

some = settings(
    max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)
N = Qualifier.N


def carousel(**changes: object) -> Project:
    """Three slides one after the other, round and round; a cycle takes 1.8 s."""
    signals = [
        Signal(f"{s}{n}", c) for n in "123" for s, c in (("Out", SignalClass.OUTPUT), ("Far", SignalClass.INPUT))
    ]
    signals += [Signal("Halt", SignalClass.INPUT), Signal("Lamp", SignalClass.OUTPUT)]
    signals += [Signal("Wait", SignalClass.SETTING, Type.TIME, initial=300), Signal("Mark", SignalClass.INTERNAL)]
    steps = tuple(Step(f"S{n}", 10 * int(n), (Action(N, f"Out{n}"),)) for n in "123")
    ways = (
        Transition(("S1",), ("S2",), "Far1"),
        Transition(("S2",), ("S3",), "Far2"),
        Transition(("S3",), ("S1",), "Far3 AND S3.T >= Wait AND NOT Halt"),
    )
    devices = tuple(
        Device(
            f"D{n}",
            "actuator",
            (("extend", f"Out{n}"), ("extended", f"Far{n}")),
            (("extend_s", 0.6), ("retract_s", 0.4)),
        )
        for n in "123"
    )
    made = Project(
        "Carousel", 10, signals=tuple(signals), devices=devices, sequences=(Sequence("Main", "S1", steps, ways),)
    )
    return replace(made, **changes)


def with_action(*actions: Action) -> Project:
    """The carousel with more actions in its second step."""
    s1, s2, s3 = carousel().sequences[0].steps
    return main(carousel(), steps=(s1, replace(s2, actions=(*s2.actions, *actions)), s3))


def test_a_machine_that_goes_round_is_run_once_and_done_by_rote_from_then_on():
    session = Session(carousel())
    session.run_for(60_000)
    rote = session._memo
    assert rote.plain
    assert sorted(spot.active for spot in rote.spots.values()) == [(0,), (1,), (2,)]
    assert [len(spot.moves) for spot in rote.spots.values()] == [1, 1, 1]
    assert len(session.trace.windows("Main.S2.X")) == 33
    assert session.executed < 110
    assert session.glances < 300


@pytest.mark.parametrize(
    "project",
    [
        carousel(opening="Mark := Halt;"),
        carousel(closing="Mark := Halt;"),
        carousel(home="NOT Halt"),
        carousel(trips=(Trip("Stop", 1, "Halt", ("Main",)),)),
        carousel(opposed=(OpposedPair("Out1", "Out2", 50),)),
        main(carousel(), hold_when="Halt"),
        main(carousel(), restart_when="Halt"),
        with_action(Action(Qualifier.SD, "Lamp", "T#100ms")),
        with_action(Action(Qualifier.DS, "Lamp", "T#100ms")),
        main(carousel(), transitions=(*carousel().sequences[0].transitions[:2], Transition(("S3",), ("S1",), "RISING(Far3)"))),
        main(carousel(), transitions=(*carousel().sequences[0].transitions[:2], Transition(("S3",), ("S1",), "S3.T / 2 > T#1s"))),
        replace(with_action(Action(N, "Note")), sequences=(
            replace(with_action(Action(N, "Note")).sequences[0], bodies=(Body("Note", "Mark := Halt;"),)),)),
    ],
)  # fmt: skip
def test_what_is_not_plain_is_not_done_by_rote_and_runs_the_same(project):
    skipping, _ = both(project, [Stimulus(3000, "set", "Halt", True), Stimulus(5000, "set", "Halt", False)], 9000)
    assert not is_plain(skipping.program)
    assert not skipping._memo.spots


@pytest.mark.parametrize(
    "action",
    [
        Action(Qualifier.L, "Lamp", "T#250ms"), Action(Qualifier.D, "Lamp", "T#250ms"), Action(Qualifier.L, "Lamp", "Wait"),
        Action(Qualifier.P, "Lamp"), Action(Qualifier.P1, "Mark"), Action(Qualifier.P0, "Lamp"), Action(Qualifier.S, "Mark"),
        Action(Qualifier.L, "Out1", "T#250ms"), Action(Qualifier.D, "Out3", "T#400ms"), Action(Qualifier.L, "Lamp", "T#10s"),
    ],
)  # fmt: skip
def test_actions_of_every_simple_kind_by_rote(action):
    skipping, every = both(with_action(action), [], 20_000)
    assert skipping._memo.plain
    assert skipping.executed * 5 < every.executed
    assert any(spot.moves for spot in skipping._memo.spots.values())


def test_a_stored_action_and_its_reset_by_rote():
    s1, s2, s3 = carousel().sequences[0].steps
    steps = (
        replace(s1, actions=(*s1.actions, Action(Qualifier.R, "Lamp"))),
        replace(s2, actions=(*s2.actions, Action(Qualifier.S, "Lamp"))),
        s3,
    )
    skipping, _ = both(main(carousel(), steps=steps), [], 20_000)
    spans = skipping.trace.windows("Lamp")
    assert {b - a for a, b in spans[1:-1]} == {120}
    assert [a for a, _ in spans] == [a for a, _ in skipping.trace.windows("Main.S2.X")]


def test_a_step_that_is_late_or_early_once_is_so_by_rote_too():
    s1, s2, s3 = carousel().sequences[0].steps
    project = main(carousel(), steps=(s1, replace(s2, longest="T#900ms", shortest="T#550ms"), s3))
    jam = [
        ("fail", "jammed", 10_000),
        ("heal", "jammed", 12_000),
        ("fail", "extended stuck on", 20_000),
        ("heal", "extended stuck on", 22_000),
    ]
    stimuli = [Stimulus(t, what, "D2", how) for what, how, t in jam]
    skipping, _ = both(project, stimuli, 40_000)
    kinds = [e.kind for e in skipping.trace.events]
    assert kinds.count("late") == 1 and kinds.count("alarm cleared") == 1 and kinds.count("early") >= 1


def test_an_interlock_that_changes_its_mind_is_seen_by_rote():
    project = carousel(interlocks=(Interlock("Out2", "NOT Halt OR Far1"),))
    stimuli = [Stimulus(t, "set", "Halt", v) for t, v in ((5000, True), (9000, False), (9700, True), (11_000, False))]
    skipping, _ = both(project, stimuli, 20_000)
    assert skipping._memo.plain
    assert "blocked" in [e.kind for e in skipping.trace.events]


def test_a_setting_that_is_changed_makes_it_forget():
    session = Session(carousel(), [Stimulus(20_000, "set", "Wait", 1500)])
    session.run_for(20_000)
    before = session._memo
    session.run_for(20_000)
    assert session._memo is not before
    spans = [b - a for a, b in session.trace.windows("Main.S3.X")]
    assert spans[1:9] == [60] * 8 and spans[-4:-1] == [150] * 3
    both(carousel(), [Stimulus(20_000, "set", "Wait", 1500), Stimulus(31_005, "set", "Wait", 0)], 40_000)


def test_an_edit_in_mid_run_makes_it_forget():
    session = Session(carousel())
    session.run_for(10_000)
    session.adopt(
        main(carousel(), transitions=(Transition(("S1",), ("S3",), "Far1"), *carousel().sequences[0].transitions[1:]))
    )
    session.run_for(10_000)
    last = session.trace.windows("Main.S2.X")[-1]
    assert last[1] < 1100
    assert len(session.trace.windows("Main.S1.X")) > 12


@some
@example(build(19721), (25.5, 3.05), (0.03, 0.02, 3.0), 1)
@given(structured(), borders, seconds, st.integers(1, 700))
def test_one_can_go_back_to_any_scan_of_a_run_by_rote(project, at, parameters, scans):
    made = plain(project, at, parameters)
    session, straight = Session(made), Session(made)
    session.run_scans(800)
    straight.run_scans(800)
    session.back(scans)
    assert session.k == 800 - scans
    session.run_scans(scans)
    assert story(session) == story(straight)


@some
@given(structured(), borders, seconds, st.lists(st.integers(1, 200), min_size=1, max_size=6))
def test_a_run_in_parts_is_the_same_as_a_run_in_one(project, at, parameters, parts):
    made = plain(project, at, parameters)
    pieces, whole = Session(made), Session(made)
    for n in parts:
        pieces.run_scans(n)
        assert pieces.trace.scan_count == pieces.k
        assert pieces.trace.at("Level", pieces.k - 1) == pieces.situation.v[pieces.program.slots["level"]]
    whole.run_scans(sum(parts))
    assert story(pieces) == story(whole)
    assert pieces.situation.v[4:] == whole.situation.v[4:]


@some
@given(structured(), borders, seconds)
def test_by_rote_and_by_phases_leave_the_same_situation(project, at, parameters):
    made = plain(project, at, parameters)
    rote, phases = Session(made), Session(made)
    phases._memo.plain = False
    rote.run_scans(600)
    phases.run_scans(600)
    assert story(rote) == story(phases)
    a, b = rote.situation, phases.situation
    for name in ("active", "entered", "stored", "written", "dev_state", "drives", "blocked", "mode", "lost"):
        assert getattr(a, name) == getattr(b, name), name
    assert a.v[4:] == b.v[4:]


def heated(op: str, border: float, resolution: float) -> Project:
    """A mass that is heated and cooled in turn, with a step that waits for one comparison of its temperature."""
    signals = (
        Signal("Temp", SignalClass.INPUT, Type.REAL),
        Signal("Warm", SignalClass.OUTPUT),
        Signal("Hot", SignalClass.OUTPUT),
    )
    steps = (
        Step("Up", 10, (Action(N, "Warm"),)),
        Step("Down", 20),
        Step("Told", 30, (Action(N, "Hot"), Action(N, "Warm"))),
    )
    ways = (
        Transition(("Up",), ("Down",), "Up.T >= T#900ms"),
        Transition(("Down",), ("Up",), "Down.T >= T#700ms", 2),
        Transition(("Down",), ("Told",), f"Temp {op} {border}", 1),
        Transition(("Told",), ("Up",), f"NOT (Temp {op} {border}) OR Told.T >= T#300ms"),
    )
    mass = Device("Mass", "thermal", (("heater", "Warm"), ("temperature", "Temp")),
                  (("heater_k", 80.0), ("time_constant_s", 1.5), ("resolution_k", resolution)))  # fmt: skip
    return Project("Heat", 10, signals=signals, devices=(mass,), sequences=(Sequence("Main", "Up", steps, ways),))


@pytest.mark.parametrize("op", ["<", "<=", ">", ">="])
@pytest.mark.parametrize("border", [35.0, 40.0, 47.5, 52.25])
@pytest.mark.parametrize("resolution", [0.5, 2.5])
def test_a_number_is_met_at_its_border_in_its_scan(op, border, resolution):
    project = heated(op, border, resolution)
    skipping, every = both(project, [], 20_000)
    assert skipping._memo.plain
    assert skipping.executed + skipping.glances < every.executed / 2


@some
@given(st.sampled_from(("<", "<=", ">", ">=")), st.sampled_from((25.0, 40.5, 61.0)), st.integers(0, 300), st.booleans())
def test_no_comparison_turns_before_the_scan_that_is_asked_for(op, border, k, warm):
    session = Session(heated(op, border, 0.5), every_scan=True)
    s, d = session.situation, session.program.devices[0]
    session.run_scans(k + 1)
    s.k -= 1  # as if the last scan were still going on
    s.dev_state[0] = d.device.turn(s.dev_state[0], s.k, (warm, False, False, False), frozenset(), 0)
    s.dev_course[0] = None
    wake = next_wake(s, d, 0)
    compare = {"<": float.__lt__, "<=": float.__le__, ">": float.__gt__, ">=": float.__ge__}[op]
    now = compare(d.device.number(s.dev_state[0], s.k), border)
    for j in range(s.k + 1, min(wake, s.k + 1500)):
        assert compare(d.device.number(s.dev_state[0], j), border) == now


@given(st.sampled_from(sorted(MIRROR)), st.integers(0, 400), st.integers(-20, 400), st.sampled_from((1, 7, 10)))
def test_the_scans_until_a_comparison_turns_are_counted_exactly(op, now, c, period):
    compare = {
        "lt": int.__lt__,
        "gt": int.__gt__,
        "le": int.__le__,
        "ge": int.__ge__,
        "eq": int.__eq__,
        "ne": int.__ne__,
    }[op]
    expected = next((n for n in range(1, 500) if compare(now + n * period, c) != compare(now, c)), 0)
    found = turns_in(op, now, c, period)
    if op in ("eq", "ne"):  # a time may step over the number: then a scan is run for nothing
        assert found <= expected or not expected
    else:
        assert found == expected
    assert MIRROR[MIRROR[op]] == op


def test_a_timer_in_a_text_is_no_reason_to_run_every_scan():
    project = carousel(closing="Settle(IN := Far1, PT := T#90ms, Q => Mark);", instances=(Instance("Settle", "TON"),))
    skipping, every = both(project, [], 10_000)
    assert skipping.executed * 4 < every.executed


def test_a_run_that_stops_tells_its_place_and_keeps_its_trace_when_scans_are_left_out():
    text = "IF Far3 THEN Count := 10 / (Count - Count); END_IF;"
    signals = (*carousel().signals, Signal("Count", SignalClass.INTERNAL, Type.INT))
    skipping, _ = both(carousel(signals=signals, closing=text), [], 10_000)
    assert "division by zero" in str(skipping.stopped)
    assert skipping.trace.scan_count == skipping.k


def test_a_leap_does_no_more_scans_than_it_may():
    session = Session(carousel())
    session.scan()
    leap = SkipAhead(session.program, session.situation, session.trace, session._memo)
    leap.to(10_000, 3)
    assert leap.run == 3
    assert session.k < 10_000
