"""Devices in a run: values between them, own devices, hazards that come by themselves, wires by their names."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from spokeshave.engine.by_hand import asked_by_click, is_asked, is_blocked
from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.spoke import dumps, loads
from spokeshave.language.rename import rename_device
from spokeshave.language.unit_deviations import deviations
from spokeshave.language.units import add_copy, take_over
from spokeshave.machine.belt import TAKING
from spokeshave.machine.kinds import device_problems
from spokeshave.machine.wiring import exchanged, likely_kind, make_device, proposals, unwired, wire
from spokeshave.model.edits import EditError, change_item, new_sequence
from spokeshave.model.project import (
    Action,
    Connection,
    Declared,
    Device,
    Group,
    Interlock,
    Project,
    Qualifier,
    Scenario,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Type,
    Unit,
)
from spokeshave.verify.keep import keep
from spokeshave.verify.scenario_language import scenario_problems
from spokeshave.verify.scenarios import Outcome, run_scenario

IN, OUT = SignalClass.INPUT, SignalClass.OUTPUT


def line() -> Project:
    """Items come on a belt, wait at a gate, and fall into a bin that is emptied by hand."""
    signals = (
        Signal("Run", SignalClass.SETTING, initial=True), Signal("Belt", OUT), Signal("Gate", OUT), Signal("Drain", OUT),
        Signal("Seen", IN), Signal("Level", IN, Type.REAL), Signal("Full", IN), Signal("Open", IN),
    )  # fmt: skip
    devices = (
        Device("Feed", "belt", (("run", "Belt"), ("eye1", "Seen")),
               (("length_m", 0.6), ("speed_m_s", 0.3), ("item_m", 0.1), ("period_s", 0.7), ("gate_m", 0.3), ("eye1_m", 0.25))),
        Device("Flap", "actuator", (("extend", "Gate"), ("extended", "Open")), (("extend_s", 0.3), ("retract_s", 0.2))),
        Device("Bin", "vessel", (("outlet", "Drain"), ("level", "Level"), ("high", "Full")),
               (("volume_l", 3.0), ("item_l", 0.5), ("high_l", 2.0), ("outlet_l_s", 0.4))),
    )  # fmt: skip
    connections = (
        Connection("Flap", "Feed", "shaft", "passable", "gate"),
        Connection("Feed", "Bin", "belt end", "off", "items"),
    )
    base = new_sequence(Project("Line", signals=signals, devices=devices, connections=connections))
    return replace(base, closing="Belt := Run; Gate := Seen AND Level < 1.9; Drain := Full;")


def ran(project: Project, scans: int, every_scan: bool = False, stimuli=()) -> Session:
    session = Session(project, stimuli, every_scan=every_scan)
    session.run_scans(scans)
    assert session.stopped is None
    return session


def rows(session: Session):
    t = session.trace
    return list(zip(t.scans, t.columns, t.values)), [(e.k, e.kind, e.text) for e in t.events]


def test_items_pass_a_gate_and_fill_a_bin():
    session = ran(line(), 3000)
    at = session.trace.at
    bin_ = next(i for i, d in enumerate(session.program.devices) if d.name == "Bin")
    falls = [s for s in session.trace.motions[bin_] if s[8]]
    assert falls
    # What fell in is what left the belt, and the bin lets out only while it is full.
    fell = max(s[8] for s in falls)
    off = session.program.machine["feed.off"]
    assert session.situation.v[off] == fell
    assert {e.text for e in session.trace.events} <= {"Feed is crushing an item"}
    assert max(at("Level", k) for k in range(0, 3000, 10)) >= 1.5


stimuli = st.lists(
    st.tuples(
        st.integers(0, 900),
        st.sampled_from([("set", "Run", True), ("set", "Run", False), ("fail", "Feed", "slip"), ("heal", "Feed", "slip"),
                         ("fail", "Flap", "slow"), ("fail", "Bin", "leak"), ("fail", "Feed", "jam"), ("power", "", None)]),
    ), max_size=5,
)  # fmt: skip


@example([(313, ("heal", "Feed", "slip")), (166, ("fail", "Flap", "slow")), (395, ("heal", "Feed", "slip"))], True)
@given(stimuli, st.booleans())
def test_machines_with_connections_run_alike_with_and_without_skip_ahead(deeds, closing):
    project = line() if closing else replace(line(), closing="Belt := TRUE;")
    planned = [Stimulus(10 * k, *what) for k, what in deeds]
    assert rows(ran(project, 1000, stimuli=planned)) == rows(ran(project, 1000, True, planned))


def test_one_device_can_give_the_same_to_two_others():
    project = line()
    second = replace(project.devices[2], name="Other", wires=(), at=(3, 3))
    project = replace(project, devices=(*project.devices, second),
                      connections=(*project.connections, Connection("Feed", "Other", "pipe", "off", "items")))  # fmt: skip
    session = ran(project, 2000)
    index = {d.name: i for i, d in enumerate(session.program.devices)}
    items = [session.situation.dev_state[index[n]][8] for n in ("Bin", "Other")]
    assert items[0] == items[1] == session.situation.v[session.program.machine["feed.off"]] > 0
    session.do("power")
    session.run_scans(300)
    assert session.situation.v[session.program.machine["feed.off"]] >= items[0]


@given(st.lists(st.integers(1, 400), min_size=1, max_size=5))
def test_going_back_brings_the_same_machine(stretches):
    session = Session(line())
    for n in stretches:
        session.run_scans(n)
        session.back(n // 2)
    assert rows(session) == rows(ran(line(), session.k))


def test_a_vessel_that_runs_over_is_told_in_its_scan_with_skip_ahead_too():
    project = Project(
        signals=(Signal("Fill", OUT),), closing="Fill := TRUE;",
        devices=(Device("Bin", "vessel", (("inlet", "Fill"),), (("volume_l", 5.0),)),),
    )  # fmt: skip
    for every in (True, False):
        session = ran(new_sequence(project), 2000, every)
        assert [(e.k, e.text) for e in session.trace.events] == [(501, "Bin is overfilled")]
    plain = new_sequence(replace(project, closing="", signals=(Signal("Fill", OUT),)))
    plain = replace(plain, sequences=(replace(plain.sequences[0], steps=tuple(
        replace(s, actions=(*s.actions, _always("Fill"))) for s in plain.sequences[0].steps)),))  # fmt: skip
    session = ran(plain, 2000)
    assert [(e.k, e.text) for e in session.trace.events] == [(501, "Bin is overfilled")]
    assert session.executed < 100


def _always(target: str):
    return Action(Qualifier.N, target)


OWN = """
IF Fault THEN Count := Count;
ELSIF On THEN Count := Count + 1; Since := Since + Period;
END_IF;
Half := Count MOD 2 = 1;
Mass := INT_TO_REAL(Count) * 0.5;
"""


def own() -> Project:
    declared = (
        Declared("On", "input"), Declared("Half", "output"), Declared("Mass", "output", Type.REAL),
        Declared("Count", "variable", Type.INT), Declared("Since", "variable", Type.TIME), Declared("Fault", "failure"),
    )  # fmt: skip
    device = Device("Scale", "own", (("On", "Y"), ("Half", "X"), ("Mass", "Kg")), declared=declared, text=OWN)
    signals = (Signal("Y", OUT), Signal("X", IN), Signal("Kg", IN, Type.REAL))
    return replace(new_sequence(Project(signals=signals, devices=(device,))), closing="Y := TRUE;")


def test_an_own_device_runs_once_a_scan_and_its_failures_are_its_flags():
    session = Session(own())
    session.run_scans(5)
    # Driven from t_0 on, it has counted four times by t_4.
    assert [session.trace.at("Kg", k) for k in range(5)] == [0.0, 0.5, 1.0, 1.5, 2.0]
    session.do("fail", "Scale", "Fault")
    session.run_scans(5)
    assert session.trace.at("Kg", 9) == 2.5
    session.do("heal", "Scale", "Fault")
    session.do("power")
    session.run_scans(2)
    assert session.trace.at("Kg", 11) == 3.0, "a power cycle of the controls leaves the machine as it is"
    session.back(6)
    assert session.trace.at("Kg", 5) == 2.5
    edited = change_item(session.program.project, "devices", 0, at=(3, 3))
    session.adopt(replace(edited, period_ms=10, closing="Y := FALSE;"))
    session.run_scans(3)
    assert session.trace.at("Kg", 8) == 2.5


def test_the_text_of_an_own_device_is_checked_in_its_place():
    def said(text: str) -> str:
        project = change_item(own(), "devices", 0, text=text)
        return "; ".join(str(d) for d in link_problems(project))

    assert said("Half := Cuont > 1;") == "device Scale, column 9: there is no Cuont; did you mean Count?"
    assert "On is an input of the device" in said("On := TRUE;")
    assert "Fault is set by injecting it" in said("Fault := TRUE;")
    assert "RISING is not for own devices" in said("Half := RISING(On);")
    assert "needs BOOL" in said("Half := Count;") or "BOOL" in said("Half := Count;")


def test_connections_and_declarations_that_make_no_sense_are_told():
    project = replace(line(), connections=(
        Connection("Fead", "Bin"), Connection("Feed", "Bin", "pipe", "of", "items"), Connection("Feed", "Bin", "pipe", "off", "outlet"),
        Connection("Feed", "Bin", "pipe", "off", ""), Connection("Feed", "Bin", "pipe", "off", "items"),
        Connection("Feed", "Bin", "pipe", "off", "items"),
    ))  # fmt: skip
    said = [str(d) for d in device_problems(project)]
    assert [s.partition(": ")[2] for s in said] == [
        "there is no device Fead; did you mean Feed?", "Feed gives no of; did you mean off?",
        "off is DINT, outlet takes BOOL", "outlet of Bin is driven by Drain already; take one of the two away",
        "it does not say what Bin takes; inlet, inlet2, inlet3, outlet, outlet2, outlet3, supply, items",
        "items of Bin is driven by Feed already; take one of the two away",
    ]  # fmt: skip
    bad = (Declared("On", "inpt"), Declared("on", "input"), Declared("2x"), Declared("F", "failure", Type.INT))
    said = [str(d) for d in device_problems(change_item(own(), "devices", 0, declared=bad, wires=(), text=""))]
    assert len(said) == 4


def test_a_machine_with_everything_is_saved_loaded_and_renamed():
    project = replace(line(), groups=(Group("Infeed", ("Feed", "Flap")),))
    assert loads(dumps(project)) == project
    assert loads(dumps(own())) == own()
    renamed = rename_device(project, "Feed", "Inlet")
    assert [(c.source, c.target) for c in renamed.connections] == [("Flap", "Inlet"), ("Inlet", "Bin")]
    assert renamed.groups[0].devices == ("Inlet", "Flap")
    assert rename_device(renamed, "Inlet", "Feed") == project


def test_wires_propose_themselves_from_the_names_of_signals():
    names = [("DropDoor", OUT), ("DropOpened", IN), ("DropClosed", IN), ("ChargeGate", OUT), ("ChargeClosed", IN),
             ("Drum", OUT), ("DrumRuns", IN), ("Spare", IN)]  # fmt: skip
    bare = Project(
        signals=tuple(Signal(n, c) for n, c in names),
        devices=(Device("DropGate", "actuator"), Device("ChargeSlide", "actuator"), Device("Drum2", "motor")),
    )
    found = {(p.device, p.terminal): p.signal for p in proposals(bare)}
    assert found == {
        ("DropGate", "extend"): "DropDoor", ("DropGate", "extended"): "DropOpened", ("DropGate", "retracted"): "DropClosed",
        ("ChargeSlide", "extend"): "ChargeGate", ("ChargeSlide", "retracted"): "ChargeClosed",
        ("Drum2", "run"): "Drum", ("Drum2", "running"): "DrumRuns",
    }  # fmt: skip
    assert unwired(bare).terminals[:2] == (("DropGate", "extend"), ("DropGate", "extended"))
    wired = wire(bare, proposals(bare))
    assert not device_problems(wired)
    assert proposals(wired) == ()
    assert unwired(wired) == type(unwired(wired))((), ("Spare",), ())


def test_switches_that_are_exchanged_are_seen_from_their_names():
    wires = (("extend", "Gate"), ("extended", "GateClosed"), ("retracted", "GateOpened"))
    signals = (Signal("Gate", OUT), Signal("GateOpened", IN), Signal("GateClosed", IN))
    project = Project(signals=signals, devices=(Device("Slide", "actuator", wires),))
    assert exchanged(project) == (("Slide", "extended", "retracted"),)
    right = (("extend", "Gate"), ("extended", "GateOpened"), ("retracted", "GateClosed"))
    assert exchanged(change_item(project, "devices", 0, wires=right)) == ()


def test_a_device_is_made_of_chosen_signals():
    names = [("ArmOut", OUT), ("ArmIn", OUT), ("ArmIsOut", IN), ("ArmIsIn", IN), ("Heat", OUT), ("HeatTemp", IN)]
    signals = tuple(Signal(n, c, Type.REAL if n == "HeatTemp" else Type.BOOL) for n, c in names)
    project = Project(signals=signals)
    four = [n for n, _ in names[:4]]
    assert likely_kind(project, four) == "actuator"
    assert likely_kind(project, ["Heat", "HeatTemp"]) == "thermal"
    made = make_device(project, "actuator", four)
    assert made.devices[0].wires == (
        ("extend", "ArmOut"), ("retract", "ArmIn"), ("extended", "ArmIsOut"), ("retracted", "ArmIsIn")
    )  # fmt: skip
    assert (made.devices[0].name, dict(made.devices[0].parameters)) == ("Arm", {"two_drives": 1.0})
    assert not device_problems(made)
    with pytest.raises(EditError, match="HeatTemp finds no terminal; a linear actuator has output extend BOOL"):
        make_device(project, "actuator", ["ArmOut", "HeatTemp"])


def test_what_was_done_on_the_bench_is_kept_as_a_scenario_that_passes(roastery):
    session = Session(roastery)
    session.run_scans(50)
    for what, target, value, scans in [
        ("hand", "Degree", 1, 20), ("hand", "Start", 1, 30), ("hand", "Start", 0, 900), ("force", "AirRuns", False, 200),
        ("unforce", "AirRuns", None, 300), ("fail", "DropGate", "slow", 700), ("hand", "Emergency", 1, 100),
        ("hand", "Emergency", 0, 50), ("ack", "", None, 20),
    ]:  # fmt: skip
        session.do(what, target, value)
        session.run_scans(scans)
    project = keep(session.program.project, session)
    scenario = project.scenarios[-1]
    assert "press Start for 0.3 s" in scenario.text
    assert "turn Degree to 1" in scenario.text
    assert 'break DropGate "slow"' in scenario.text
    result = run_scenario(project, scenario)
    assert not result.problems
    assert [v.text for v in result.verdicts if v.outcome is not Outcome.PASS] == []
    session.do("drive", "", True)
    session.run_scans(5)
    assert "hand drive on" in keep(project, session).scenarios[-1].text


def test_a_copy_of_a_unit_has_the_connections_between_its_devices():
    prefix = {n: f"A{n}" for n in ("Feed", "Flap", "Bin", "Belt", "Gate", "Drain", "Seen", "Level", "Full", "Open")}
    base = line()
    named = replace(
        base, closing="",
        signals=tuple(replace(s, name=prefix.get(s.name, s.name)) for s in base.signals),
        devices=tuple(replace(d, name=prefix[d.name], wires=tuple((t, prefix[s]) for t, s in d.wires)) for d in base.devices),
        connections=tuple(replace(c, source=prefix[c.source], target=prefix[c.target]) for c in base.connections),
    )  # fmt: skip
    signals = tuple(s.name for s in named.signals if s.name != "Run")
    unit = Unit("Station", "A", signals, (), tuple(d.name for d in named.devices))
    project = add_copy(replace(named, units=(unit,)), "Station", "B")
    copied = [(c.source, c.target, c.gives) for c in project.connections if c.source.startswith("B")]
    assert copied == [("BFlap", "BFeed", "passable"), ("BFeed", "BBin", "off")]
    assert not device_problems(project) and not deviations(project, project.units[0], "B")
    cut = replace(project, connections=project.connections[:-1])
    (told,) = deviations(cut, cut.units[0], "B")
    assert "connected in another way" in told.text
    assert take_over(cut, "Station", "B") == project


def test_scenarios_turn_setpoints_put_items_on_belts_and_expect_no_hazards():
    devices = (
        Device("Speed", "setpoint", (("value", "V"),), (("most", 2.0),)),
        Device("Line", "belt", (("run", "Run"), ("speed", "V"), ("eye1", "Seen")), (("eye1_m", 0.5),)),
    )
    signals = (Signal("V", IN, Type.REAL), Signal("Seen", IN), Signal("Run", OUT))
    project = replace(new_sequence(Project(signals=signals, devices=devices)), closing="Run := TRUE;")
    rows = "at 100 ms: turn Speed to 0.5\nat 200 ms: press Line\nrun for 4 s\nexpect by 2 s: Seen\nexpect at 1 s: V = 0.5\nexpect no hazards"
    result = run_scenario(project, Scenario("Slow", rows))
    assert result.outcome is Outcome.PASS, [str(v) for v in result.verdicts]
    for bad, said in (("turn Speed to 3", "Speed goes from 0 to 2, not to 3"), ("turn Line to 1", "Line is a belt"),
                      ("turn Speed to TRUE", "TRUE is not a number"), ('break Speed "jammed"', "Speed has no failure")):  # fmt: skip
        problems = run_scenario(project, Scenario("Bad", f"at 1 s: {bad}\nrun for 2 s\nexpect no alarms")).problems
        assert said in problems[0].message


def test_an_own_device_that_divides_by_nothing_stops_the_run_in_its_place():
    project = change_item(own(), "devices", 0, text="Count := 1;\nMass := 1.0 / INT_TO_REAL(Count - 1);")
    session = Session(project)
    assert session.run_scans(5) < 5
    assert str(session.stopped).startswith("device Scale, line 2")
    assert "at 0 ms" in str(session.stopped)


@given(
    st.lists(
        st.sampled_from(
            ["Drop", "Charge", "Drum", "Door", "Gate", "Opened", "Closed", "Runs", "Temp", "Level", "Fill", "Ok", "2"]
        ),
        min_size=1,
        max_size=3,
    ),
    st.data(),
)
def test_proposals_fit_their_terminals_and_give_no_input_twice(words, data):
    names = data.draw(
        st.lists(
            st.sampled_from(["Drop", "Charge", "Drum", "Door", "Gate", "Opened", "Closed", "Runs", "Temp", "Level"]),
            min_size=2,
            max_size=3,
        )
    )
    signals = tuple(
        Signal("".join(pair), data.draw(st.sampled_from([IN, OUT])), data.draw(st.sampled_from([Type.BOOL, Type.REAL])))
        for pair in {(a, b) for a in words for b in names}
    )
    kinds = ("actuator", "motor", "thermal", "vessel")
    devices = tuple(Device(f"{w}{i}", data.draw(st.sampled_from(kinds))) for i, w in enumerate(words))
    project = Project(signals=signals, devices=devices)
    found = proposals(project)
    assert len({p.signal for p in found}) == len({(p.device, p.terminal) for p in found}) == len(found)
    wired = wire(project, found)
    assert not device_problems(wired)
    loose = unwired(wired)
    given_now = {s for d in wired.devices for _, s in d.wires}
    assert given_now.isdisjoint({*loose.inputs, *loose.outputs})
    assert given_now | {*loose.inputs, *loose.outputs} == {s.name for s in signals}


def test_a_click_in_hand_drive_asks_for_the_right_drive_and_lets_go_of_the_other():
    wires = (("extend", "Out"), ("retract", "In"), ("extended", "AtOut"), ("retracted", "AtIn"))
    signals = (Signal("Out", OUT), Signal("In", OUT), Signal("AtOut", IN), Signal("AtIn", IN))
    devices = (Device("Arm", "actuator", wires, (("two_drives", 1.0),)), Device("Light", "lamp", (("lit", "AtIn"),)))
    project = replace(new_sequence(Project(signals=signals, devices=devices)), interlocks=(Interlock("In", "AtOut"),))
    session = Session(project)
    session.run_scans(5)
    assert asked_by_click(session.program, session.situation, "Arm") == [], "out of hand drive"
    session.do("drive", "", True)
    session.run_scans(2)

    def click(first_half: bool) -> list[tuple[str, bool]]:
        asked = asked_by_click(session.program, session.situation, "Arm", first_half)
        for output, on in asked:
            session.do("ask", output, on)
        session.run_scans(3)
        return asked

    assert click(True) == [("In", True)]
    assert is_blocked(session.program, session.situation, "In") and is_asked(session.program, session.situation, "In")
    assert click(False) == [("In", False), ("Out", True)]
    assert not is_blocked(session.program, session.situation, "Out")
    session.run_scans(200)
    assert click(True) == [("Out", False), ("In", True)]
    session.run_scans(3)
    assert not session.situation.v[session.program.slots["atout"]]
    assert asked_by_click(session.program, session.situation, "Light") == [], "an input is not asked for"
    assert asked_by_click(session.program, session.situation, "Nobody") == []


def test_items_are_put_on_and_taken_off_by_hand_and_what_was_done_is_kept_as_rows():
    project = Project(
        signals=(Signal("Run", SignalClass.SETTING, initial=True), Signal("Belt", OUT), Signal("Seen", IN)),
        devices=(Device("Feed", "belt", (("run", "Belt"), ("eye1", "Seen")), (("eye1_m", 1.0), ("speed_m_s", 0.5))), Device("Go", "button")),
        sequences=(Sequence("Main", "Only", (Step("Only", 10),)),), closing="Belt := Run;",
    )  # fmt: skip
    first, second = "at 0.5 s: press Feed\n", "at 1.5 s: press Feed\n"
    take, later = "at 1 s: take from Feed\n", "at 1.8 s: take from Feed\n"
    for text, times in ((first + second, 2), (first + second + later, 1), (first + take + second, 1), (take, 0)):
        result = run_scenario(project, Scenario("s", f"{text}run for 6 s\nexpect count Seen: {times} times"))
        assert result.outcome is Outcome.PASS, (text, result.worst)
    session = Session(project)
    for ms, hand in ((500, 1), (200, 0), (800, TAKING), (200, 0), (300, 1), (200, 0)):
        session.run_for(ms)
        session.do("hand", "Feed", hand)
    session.run_for(4000)
    kept = keep(project, session).scenarios[-1]
    assert "take from Feed" in kept.text and kept.text.count("press Feed") == 2
    again = run_scenario(project, kept)
    assert [v.outcome for v in again.verdicts] == [Outcome.PASS] * len(again.verdicts)
    problem = scenario_problems(project, Scenario("s", "at 1 s: take from Go\nrun for 1 s\nexpect no hazards"))[0]
    assert "items are taken from belts" in f"{problem.message} {problem.advice}"
