"""The semantics clause by clause, as short stories with hand-worked times. Section numbers are those of docs/semantics.md."""

from __future__ import annotations

from dataclasses import replace

import pytest

from spokeshave.engine.explain import waiting
from spokeshave.engine.link import LinkError
from spokeshave.engine.session import Session, StimulusError
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.project import (
    Action,
    Body,
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

IN, OUT, VAR, SET = SignalClass.INPUT, SignalClass.OUTPUT, SignalClass.INTERNAL, SignalClass.SETTING


def gate(*actions: Action, **changes: object) -> Project:
    """Closed to Open on Go, back on Shut; `actions` belong to Open. The scan period is 10 ms."""
    signals = (
        Signal("Go", IN), Signal("Shut", IN), Signal("Stop", IN), Signal("Reset", IN),
        Signal("Drive", OUT), Signal("Lamp", OUT), Signal("Count", VAR, Type.INT), Signal("Wait", SET, Type.TIME, initial=30),
    )  # fmt: skip
    steps = (Step("Closed", 10), Step("Open", 20, actions))
    ways = (Transition(("Closed",), ("Open",), "Go"), Transition(("Open",), ("Closed",), "Shut"))
    project = Project("Gate", 10, signals=signals, sequences=(Sequence("Main", "Closed", steps, ways),), reset="Reset")
    return replace(project, **changes)


def main(project: Project, **changes: object) -> Project:
    return replace(project, sequences=(replace(project.sequences[0], **changes),))


def run(project: Project, scans: int, *rows: tuple[int, str, object]) -> Session:
    session = Session(project, [Stimulus(t, "set", n, v) for t, n, v in rows])
    session.run_scans(scans)
    return session


def on(session: Session, name: str) -> list[int]:
    """Scans in which a BOOL was TRUE."""
    return [k for a, b in session.trace.windows(name) for k in range(a, b)]


# Open is active in scans 2 to 9 in all of these: Go at 20 ms, Shut at 100 ms.
PASS = ((20, "Go", True), (40, "Go", False), (100, "Shut", True))


@pytest.mark.parametrize(
    ("action", "scans"),
    [
        (Action(Qualifier.N, "Drive"), range(2, 10)),
        (Action(Qualifier.L, "Drive", "T#30ms"), range(2, 5)),
        (Action(Qualifier.L, "Drive", "Wait"), range(2, 5)),
        (Action(Qualifier.D, "Drive", "T#30ms"), range(5, 10)),
        (Action(Qualifier.P, "Drive"), [2]),
        (Action(Qualifier.P1, "Drive"), [2]),
        (Action(Qualifier.P0, "Drive"), [10]),
        (Action(Qualifier.S, "Drive"), range(2, 20)),
        (Action(Qualifier.SD, "Drive", "T#120ms"), range(14, 20)),
        (Action(Qualifier.DS, "Drive", "T#50ms"), range(7, 20)),
        (Action(Qualifier.DS, "Drive", "T#200ms"), []),
        (Action(Qualifier.SL, "Drive", "T#120ms"), range(2, 14)),
    ],
)
def test_section_5_each_qualifier_holds_its_target_for_its_scans(action, scans):
    assert on(run(gate(action), 20, *PASS), "Drive") == list(scans)


def test_section_5_r_wins_and_clears_what_is_stored():
    project = gate(Action(Qualifier.S, "Drive"))
    project = main(project, steps=(Step("Closed", 10, (Action(Qualifier.R, "Drive"),)), project.sequences[0].steps[1]))
    assert on(run(project, 20, *PASS), "Drive") == list(range(2, 10))


def test_section_5_a_body_runs_once_a_scan_and_p0_runs_it_on_leaving():
    project = main(
        gate(Action(Qualifier.P1, "Up"), Action(Qualifier.P0, "Up")), bodies=(Body("Up", "Count := Count + 1;"),)
    )
    session = run(project, 20, *PASS)
    assert session.trace.at("Count", 2) == 1
    assert session.trace.at("Count", 12) == 2


def test_section_3_the_first_scan_does_not_evolve_so_every_step_acts_once():
    session = run(main(gate(), transitions=(Transition(("Closed",), ("Open",), "TRUE"),)), 3)
    assert on(session, "Main.Closed.X") == [0]


def test_section_4_one_evolution_a_scan_and_a_step_keeps_its_last_time():
    project = main(
        gate(), transitions=(Transition(("Closed",), ("Open",), "TRUE"), Transition(("Open",), ("Closed",), "TRUE"))
    )
    assert on(run(project, 6), "Main.Open.X") == [1, 3, 5]
    session = run(gate(), 15, *PASS)
    step = session.program.sequences[0].steps[1]
    assert session.situation.v[step.t] == 80


def test_section_4_a_self_loop_leaves_and_enters_in_one_scan():
    ways = (Transition(("Closed",), ("Open",), "Go"), Transition(("Open",), ("Open",), "Open.T >= T#30ms"))
    project = main(gate(Action(Qualifier.P1, "Drive"), Action(Qualifier.P0, "Lamp")), transitions=ways)
    session = run(project, 12, (20, "Go", True))
    assert on(session, "Drive") == [2, 5, 8, 11]
    assert on(session, "Lamp") == [5, 8, 11]


def test_section_4_priority_decides_then_the_listed_order():
    steps = (Step("Idle", 10), Step("Left", 20), Step("Right", 30))
    ways = [Transition(("Idle",), ("Left",), "TRUE"), Transition(("Idle",), ("Right",), "TRUE")]
    project = main(gate(), initial="Idle", steps=steps, transitions=tuple(ways))
    assert on(run(project, 3), "Main.Left.X") == [1, 2]
    ways[1] = replace(ways[1], priority=1)
    assert on(run(main(project, transitions=tuple(ways)), 3), "Main.Right.X") == [1, 2]


def test_section_4_a_simultaneous_section_joins_when_all_its_ends_are_active():
    steps = (Step("Idle", 10), Step("Left", 20), Step("Right", 30), Step("Ready", 40), Step("Both", 50))
    ways = (
        Transition(("Idle",), ("Left", "Right"), "TRUE"),
        Transition(("Right",), ("Ready",), "Right.T >= T#50ms"),
        Transition(("Left", "Ready"), ("Both",), "TRUE"),
    )
    session = run(main(gate(), initial="Idle", steps=steps, transitions=ways), 12)
    assert on(session, "Main.Left.X") == [*on(session, "Main.Right.X"), 6] == list(range(1, 7))
    assert on(session, "Main.Both.X")[0] == 7


def test_section_4_entering_an_active_step_is_an_unsafe_activation():
    steps = (Step("Idle", 10), Step("Left", 20), Step("Right", 30))
    ways = (Transition(("Idle",), ("Left", "Right"), "TRUE"), Transition(("Left",), ("Right",), "TRUE"))
    session = run(main(gate(), initial="Idle", steps=steps, transitions=ways), 3)
    assert [(e.k, e.kind) for e in session.trace.events] == [(2, "unsafe activation")]


def test_section_7_edges_are_false_in_scan_0_and_held_counts_from_its_scan():
    project = gate(closing="Drive := RISING(Go); Lamp := HELD(Go, T#30ms);")
    session = run(project, 12, (0, "Go", True), (40, "Go", False), (60, "Go", True))
    assert on(session, "Drive") == [6]
    assert on(session, "Lamp") == [3, 9, 10, 11]


def test_section_8_an_interlock_blocks_and_names_its_false_terms():
    project = gate(Action(Qualifier.N, "Drive"), interlocks=(Interlock("Drive", "NOT Stop AND (Reset OR Shut)"),))
    session = run(project, 12, (20, "Go", True), (60, "Reset", True))
    assert on(session, "Drive") == list(range(6, 12))
    assert [e.text for e in session.trace.events] == ["Drive is asked for, blocked by Reset or Shut"]


def test_section_8_an_opposed_pair_keeps_its_dead_time():
    project = gate(opposed=(OpposedPair("Drive", "Lamp", 30),), closing="Drive := Go; Lamp := Shut;")
    session = run(project, 20, (0, "Go", True), (50, "Go", False), (50, "Shut", True), (150, "Go", True))
    assert on(session, "Drive") == [0, 1, 2, 3, 4]
    assert on(session, "Lamp") == list(range(8, 15))


def test_section_8_a_permissive_holds_every_way_into_its_step_and_is_told_apart():
    project = gate()
    project = main(project, steps=(project.sequences[0].steps[0], Step("Open", 20, permissive="Stop")))
    session = run(project, 5, (0, "Go", True))
    way = waiting(session.program, session.situation)[0].ways[0]
    assert (way.permitted, [t.text for t in way.missing]) == (False, ["Stop"])
    session.do("set", "Stop", True)
    session.scan()
    assert session.situation.active == [[1]]


def test_section_9_1_a_step_is_late_once_and_the_alarm_clears_when_it_is_left():
    project = main(gate(), steps=(Step("Closed", 10), Step("Open", 20, longest="T#50ms")))
    session = run(project, 15, *PASS)
    late = [(e.k, e.kind) for e in session.trace.events]
    assert late == [(7, "alarm"), (7, "late"), (10, "alarm cleared")]


def test_section_9_1_leaving_before_the_shortest_time_is_early():
    project = main(gate(), steps=(Step("Closed", 10), Step("Open", 20, shortest="T#100ms")))
    assert [e.kind for e in run(project, 15, *PASS).trace.events] == ["early"]


def test_section_9_1_the_response_hold_waits_for_the_reset():
    project = main(gate(), steps=(Step("Closed", 10), Step("Open", 20, longest="T#50ms", response="hold")))
    session = run(project, 30, *PASS, (150, "Reset", True))
    assert on(session, "Main.Open.X") == list(range(2, 15))


@pytest.mark.parametrize(("outputs", "drive"), [("keep", range(2, 14)), ("drop", [2, 3, 4, 10, 11, 12, 13])])
def test_section_9_2_a_hold_stops_times_and_keeps_or_drops_outputs(outputs, drive):
    project = main(
        gate(Action(Qualifier.N, "Drive")), hold_when="Stop", hold_outputs=outputs,
        transitions=(Transition(("Closed",), ("Open",), "Go"), Transition(("Open",), ("Closed",), "Open.T >= T#70ms")),
    )  # fmt: skip
    session = run(project, 16, (20, "Go", True), (40, "Go", False), (50, "Stop", True), (100, "Stop", False))
    assert on(session, "Drive") == list(drive)


def trip(**changes: object) -> Project:
    return gate(
        Action(Qualifier.N, "Drive"), Action(Qualifier.S, "Lamp"), trips=(replace(Trip("Safety", 1, "Stop", ("Main",)), **changes),)
    )  # fmt: skip


def test_section_9_3_a_latching_trip_freezes_until_its_condition_is_gone_and_reset_rises():
    rows = ((20, "Go", True), (50, "Stop", True), (70, "Reset", True), (90, "Reset", False), (100, "Stop", False))
    session = run(trip(stored="keep"), 20, *rows, (150, "Reset", True))
    assert on(session, "Drive") == [2, 3, 4, *range(15, 20)]
    assert on(session, "Lamp") == list(range(2, 20))


def test_section_9_3_effects_restart_clear_and_go_to():
    rows = ((20, "Go", True), (40, "Go", False), (50, "Stop", True))
    session = run(trip(steps="restart"), 12, *rows)
    assert on(session, "Main.Open.X") == [2, 3, 4]
    assert on(session, "Lamp") == [2, 3, 4]
    session = run(trip(steps="go to", go_to=("Main.Open",)), 12, (50, "Stop", True))
    assert on(session, "Main.Open.X") == on(session, "Drive") == list(range(5, 12))


def test_section_9_3_the_lowest_rank_decides():
    high = Trip("High", 1, "Reset", ("Main",), latching=False, steps="restart")
    low = Trip("Low", 2, "Stop", ("Main",), latching=False, steps="freeze")
    project = replace(trip(), trips=(low, high), reset="")
    session = run(project, 20, (20, "Go", True), (40, "Go", False), (50, "Stop", True), (80, "Reset", True))
    assert on(session, "Main.Open.X") == list(range(2, 8))


def test_section_9_5_in_hand_drive_sequences_wait_and_outputs_are_asked_for_by_hand():
    """Interlocks stay in force; afterwards the sequence goes on where it stood."""
    project = gate(Action(Qualifier.L, "Drive", "T#100ms"), interlocks=(Interlock("Drive", "NOT Stop"),))
    session = run(project, 5, (20, "Go", True))
    assert on(session, "Drive") == [2, 3, 4]
    deeds = [
        ("drive", "", True),
        ("ask", "Drive", True),
        ("set", "Stop", True),
        ("set", "Stop", False),
        ("drive", "", False),
    ]
    for what, target, value in deeds:
        session.do(what, target, value)
        session.run_scans(10)
    # Asked for by hand from scan 15, blocked from 25 to 34; the seven scans that L has left come from 45 on.
    assert on(session, "Drive") == [2, 3, 4, *range(15, 25), *range(35, 45), *range(45, 52)]
    kinds = [e.kind for e in session.trace.events]
    assert kinds == ["hand drive", "held", "blocked", "hand drive ends", "runs"]
    with pytest.raises(StimulusError, match="in hand drive only"):
        session.do("ask", "Drive", True)
    session.do("drive", value=True)
    with pytest.raises(StimulusError, match="Count is not an output"):
        session.do("ask", "Count", 1)


def test_section_9_4_restart_and_power_cycle():
    project = main(gate(Action(Qualifier.S, "Lamp")), restart_when="Stop")
    session = run(project, 12, (20, "Go", True), (40, "Go", False), (60, "Stop", True))
    assert on(session, "Lamp") == on(session, "Main.Open.X") == [2, 3, 4, 5]
    signals = (*gate().signals, Signal("Kept", VAR, Type.INT, retain=True), Signal("Lost", VAR, Type.INT))
    project = gate(signals=signals, closing="Kept := Kept + 1; Lost := Lost + 1;")
    session = run(project, 5, (0, "Go", True))
    session.do("power")
    session.scan()
    assert (session.trace.at("Kept", 5), session.trace.at("Lost", 5)) == (6, 1)
    assert session.situation.active == [[0]]
    assert session.trace.at("Go", 5) is True


def test_section_9_6_an_alarm_keeps_its_three_times():
    session = run(trip(latching=False), 6, (20, "Stop", True))
    session.do("ack", "trip:Safety")
    session.run_scans(2)
    session.do("set", "Stop", False)
    session.scan()
    a = session.situation.alarms["trip:Safety"]
    assert (a.raised, a.acknowledged, a.cleared) == (2, 6, 8)


def test_section_2_results_wrap_and_leave_an_event_and_division_by_zero_stops_the_run():
    session = run(gate(closing="Count := Count + 20000;"), 3)
    assert [session.trace.at("Count", k) for k in range(3)] == [20000, -25536, -5536]
    assert [(e.k, e.kind) for e in session.trace.events] == [(1, "numeric overflow")]
    session = run(gate(closing="IF Go THEN Count := 7 / Count; END_IF;"), 9, (40, "Go", True))
    assert (session.k, str(session.stopped)) == (4, "closing logic, column 21: division by zero, at 40 ms")


def test_forces_act_on_inputs_before_and_on_outputs_after_the_logic():
    session = Session(gate(Action(Qualifier.N, "Drive"), interlocks=(Interlock("Drive", "FALSE"),)))
    session.do("force", "Go", True)
    session.do("force", "Lamp", True)
    session.do("force", "Drive", True)
    session.run_scans(4)
    assert on(session, "Main.Open.X") == [1, 2, 3]
    assert on(session, "Lamp") == on(session, "Drive") == [0, 1, 2, 3]
    session.do("unforce", "Drive")
    session.scan()
    assert on(session, "Drive") == [0, 1, 2, 3]


def test_an_edit_while_running_takes_effect_between_scans_and_is_marked():
    session = run(gate(), 5, (20, "Go", True), (40, "Go", False))
    edited = main(
        gate(),
        transitions=(Transition(("Closed",), ("Open",), "Go"), Transition(("Open",), ("Closed",), "Open.T >= T#60ms")),
    )
    session.adopt(edited)
    session.run_scans(10)
    assert on(session, "Main.Open.X") == list(range(2, 8))
    assert [(e.k, e.kind) for e in session.trace.events] == [(5, "edit")]
    with pytest.raises(LinkError):
        session.adopt(main(edited, transitions=(Transition(("Closed",), ("Open",), "Gone"),)))
    assert session.scan()


def test_the_smallest_set_of_missing_terms_is_named_with_its_values():
    project = main(
        gate(), transitions=(Transition(("Closed",), ("Open",), "Go AND NOT Stop AND (Count > 3 AND Shut OR Reset)"),)
    )
    session = run(project, 3, (0, "Stop", True))
    (w,) = waiting(session.program, session.situation)
    assert [str(t) for t in w.ways[0].missing] == [
        "Go (FALSE)",
        "NOT Stop (Stop = TRUE)",
        "Reset (FALSE) or Count > 3 (Count = 0) and Shut (FALSE)",
    ]
