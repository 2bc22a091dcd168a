"""Every rule of the static check has one wrong machine file that shows it, and is silent on the one put right."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.engine.session import Session
from spokeshave.formats.spoke import dumps, loads
from spokeshave.model.diagnostics import Severity
from spokeshave.model.edits import EditError
from spokeshave.model.project import (
    Action,
    AlarmRule,
    Body,
    Connection,
    Declared,
    Device,
    Instance,
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
)  # fmt: skip
from spokeshave.verify.check import findings, look_over
from spokeshave.verify.check.remedies import REMEDIES, remedy
from spokeshave.verify.check.waivers import place_text, unwaive, waive
from spokeshave.verify.record import record_html
from tests.clock import within

IN, OUT, VAR, SET = SignalClass.INPUT, SignalClass.OUTPUT, SignalClass.INTERNAL, SignalClass.SETTING


def gate() -> Project:
    """A sluice that opens on a button and closes on another: without findings."""
    return Project(
        "Gate", signals=(
            Signal("Go", IN), Signal("Shut", IN), Signal("Opened", IN), Signal("Closed", IN), Signal("Halt", IN, contact="nc"),
            Signal("Drive", OUT), Signal("Lamp", OUT), Signal("Count", VAR, Type.INT), Signal("Wait", SET, Type.TIME, initial=3000),
        ),
        sequences=(Sequence("Main", "Idle", (
            Step("Idle", 10, (Action(Qualifier.R, "Lamp"), Action(Qualifier.P1, "Clear"))),
            Step("Opening", 20, (Action(Qualifier.N, "Drive"), Action(Qualifier.S, "Lamp")), "T#5s"),
            Step("Closing", 30, (Action(Qualifier.P1, "Up"),), "T#5s"),
        ), (
            Transition(("Idle",), ("Opening",), "RISING(Go) AND Count < 9"),
            Transition(("Opening",), ("Closing",), "Opened AND Opening.T >= Wait OR RISING(Shut)"),
            Transition(("Closing",), ("Idle",), "Closed"),
        ), (Body("Up", "Count := Count + 1;"), Body("Clear", "Count := 0;"))),),
        trips=(Trip("Safety", 1, "NOT Halt", ("Main",)),), reset="Go",
        devices=(
            Device("Sluice", "actuator", (("extend", "Drive"), ("extended", "Opened"), ("retracted", "Closed"))),
            Device("Button", "button", (("contact", "Go"),)), Device("Shutter", "button", (("contact", "Shut"),)),
            Device("Mushroom", "emergency", (("contact", "Halt"),)), Device("Light", "lamp", (("lit", "Lamp"),)),
        ),
    )  # fmt: skip


def chart(project: Project, **changes: object) -> Project:
    return replace(project, sequences=(replace(project.sequences[0], **changes),))


def way(project: Project, index: int, condition: str) -> Project:
    ways = list(project.sequences[0].transitions)
    ways[index] = replace(ways[index], condition=condition)
    return chart(project, transitions=tuple(ways))


def step(project: Project, index: int, **changes: object) -> Project:
    steps = list(project.sequences[0].steps)
    steps[index] = replace(steps[index], **changes)
    return chart(project, steps=tuple(steps))


def signal(project: Project, *more: Signal, **changes: object) -> Project:
    name = changes.pop("name", "")
    kept = tuple(replace(s, **changes) if s.name == name else s for s in project.signals)
    return replace(project, signals=(*kept, *more))


G = gate()
MAIN = G.sequences[0]
SLUICE = G.devices[0]
BOTH = replace(
    signal(G, Signal("Back", OUT)),
    devices=(replace(SLUICE, wires=(*SLUICE.wires, ("retract", "Back"))), *G.devices[1:]),
)
CASES = {
    "text": way(G, 0, "Goo"),
    "name": signal(G, Signal("9th", IN)),
    "name-twice": signal(G, Signal("GO", IN)),
    "name-clash": signal(G, Signal("Idle", VAR)),
    "number-twice": step(G, 1, number=10),
    "initial-step": chart(G, initial="Gone"),
    "unknown-step": chart(G, transitions=(*MAIN.transitions, Transition(("Idle",), ("Opned",), "Go"))),
    "transition-ends": chart(G, transitions=(*MAIN.transitions, Transition(("Idle",), (), "Go"))),
    "initial": signal(G, name="Count", initial=True),
    "period": replace(G, period_ms=0),
    "action-target": step(G, 1, actions=(Action(Qualifier.N, "Go"),)),
    "action-time": step(G, 1, actions=(Action(Qualifier.L, "Drive"),)),
    "time-form": step(G, 1, longest="Count * T#1s"),
    "time-negative": step(G, 1, longest="T#-1s"),
    "response": step(G, 1, response="Saftey"),
    "trip-scope": replace(G, trips=(replace(G.trips[0], scope=("Mian",)),)),
    "trip-step": replace(G, trips=(replace(G.trips[0], steps="go to", go_to=("Main.Nowhere",)),)),
    "trip-variable": replace(G, trips=(replace(G.trips[0], zeroed=("Nothing",)),)),
    "not-an-output": replace(G, interlocks=(Interlock("Go", "TRUE"),)),
    "device-kind": replace(G, devices=(*G.devices, Device("Odd", "moter"))),
    "device-parameter": replace(G, devices=(*G.devices, Device("Odd", "motor", parameters=(("run_up_s", -1.0),)))),
    "device-wire": replace(G, devices=(*G.devices, Device("Odd", "motor", (("run", "Drvie"),)))),
    "scenario": replace(G, scenarios=(Scenario("Odd", "run for 1 s\nexpect never Goo"),)),
    "step-unreachable": chart(G, steps=(*MAIN.steps, Step("Lost", 40)), transitions=(*MAIN.transitions, Transition(("Lost",), ("Idle",), "Go"))),
    "step-no-exit": chart(G, transitions=MAIN.transitions[:2]),
    "condition-constant": way(G, 2, "TRUE"),
    "branches-overlap": chart(G, transitions=(*MAIN.transitions, Transition(("Closing",), ("Opening",), "Halt"))),
    "branches-gap": chart(G, transitions=(*MAIN.transitions[:2], *(Transition(("Closing",), (to,), f"Shut AND Count {op} 5")
                                          for to, op in (("Idle", "<"), ("Opening", ">"))))),
    "priorities-mixed": chart(G, transitions=(
        Transition(("Closing",), ("Opening",), "Halt AND Opened"), *MAIN.transitions[:2], replace(MAIN.transitions[2], priority=1))),
    "written-twice": replace(chart(signal(G, Signal("Horn", OUT)), bodies=(Body("Up", "Count := Count + 1; Horn := TRUE;"), MAIN.bodies[1])),
                             closing="Horn := Halt;"),
    "target-shared": replace(G, sequences=(MAIN, Sequence("More", "S1", (Step("S1", 10, (Action(Qualifier.N, "Drive"),)),)))),
    "read-nowhere": signal(G, Signal("Spare", IN)),
    "written-nowhere": signal(G, Signal("Spare", OUT)),
    "movement-unconfirmed": way(G, 1, "Opening.T >= Wait OR RISING(Shut)"),
    "stop-normally-open": signal(G, name="Halt", contact="no"),
    "wires-exchanged": replace(G, devices=(
        Device("Sluice", "actuator", (("extend", "Drive"), ("extended", "Closed"), ("retracted", "Opened"))), *G.devices[1:])),
    "counter-never-reset": step(G, 0, actions=(Action(Qualifier.R, "Lamp"),)),
    "stored-never-reset": step(G, 0, actions=(Action(Qualifier.P1, "Clear"),)),
    "reset-never-stored": step(G, 1, actions=(Action(Qualifier.N, "Drive"),)),
    "opposed-together": replace(G, opposed=(OpposedPair("Drive", "Lamp"),)),
    "no-longest": step(G, 1, longest=""),
    "window-reversed": step(G, 1, shortest="T#9s"),
    "level-for-edge": way(way(G, 0, "Go"), 1, "Go AND Opened"),
    "device-declared": replace(G, devices=(*G.devices, Device("Odd", "own", declared=(Declared("On", "inpt"),)))),
    "connection": replace(G, connections=(Connection("Sluice", "Nobody"),)),
    "name-near": signal(G, Signal("0pened", IN), Signal("Lamp_", OUT)),
    "timer-resets-itself": replace(G, instances=(Instance("Beat", "TON"),), opening="Beat(IN := NOT Beat.Q, PT := T#1s);"),
    "input-not-given": way(signal(G, Signal("Loose", IN)), 2, "Closed AND Loose"),
    "contact-otherwise": signal(G, name="Shut", contact="nc"),
    "drives-unopposed": BOTH,
    "dead-time-zero": replace(G, signals=BOTH.signals, opposed=(OpposedPair("Drive", "Back"),), devices=(
        *G.devices, Device("Winch", "motor", (("run", "Drive"), ("reverse", "Back"))))),
    "window-below-travel": replace(G, devices=(replace(SLUICE, parameters=(("extend_s", 6.0),)), *G.devices[1:])),
    "equal-overshoots": way(G, 0, "RISING(Go) AND Count = 9"),
    "time-beyond-window": way(G, 1, "Opened AND Opening.T >= T#6s"),
    "statement-unreachable": chart(G, bodies=(Body("Up", "RETURN; Count := Count + 1;"), MAIN.bodies[1])),
    "interlock-circular": replace(G, interlocks=(Interlock("Drive", "Halt AND Opened"),)),
    "time-zero": step(G, 1, actions=(Action(Qualifier.L, "Drive", "T#0s"), Action(Qualifier.S, "Lamp"))),
    "section-unsound": chart(G, steps=(*MAIN.steps, Step("Beside", 40)), transitions=(
        Transition(("Idle",), ("Opening", "Beside"), "RISING(Go)"), *MAIN.transitions[1:], Transition(("Beside",), ("Idle",), "Go"))),
    "section-never-joins": chart(G, steps=(*MAIN.steps, Step("Beside", 40)), transitions=(
        Transition(("Idle",), ("Opening", "Beside"), "RISING(Go)"), Transition(("Opening",), ("Closing",), "Opened"))),
    "trip-no-reset": replace(G, reset=""),
    "trip-no-scope": replace(G, trips=(replace(G.trips[0], scope=()),)),
    "alarm-of-nothing": replace(G, alarms=(AlarmRule("", text="slow", on="late Main.Idle"),)),
    "alarm-no-device": replace(G, alarms=(AlarmRule("Slow", "Halt", device="Sluices"),)),
    "alarms-alike": replace(G, alarms=(AlarmRule("Slow", "Halt", "look"), AlarmRule("Low", "NOT Halt", "Look"))),
}  # fmt: skip


def test_the_gate_put_right_has_no_finding():
    assert findings(G) == []


@pytest.mark.parametrize("code", CASES)
def test_each_rule_finds_its_mistake(code):
    found = [d for d in findings(CASES[code]) if d.code == code]
    assert found
    for d in found:
        assert d.message and str(d.place)
        assert d.advice or d.severity is Severity.ERROR


def test_findings_say_where_what_and_what_to_do():
    (found,) = findings(CASES["text"])
    assert str(found) == "Main, transition 10 to 20, column 1: in the condition: there is no Goo; did you mean Go?"
    assert findings(CASES["level-for-edge"])[0].advice == "write RISING(Go)"


ALSO = (
    ("interlock-circular", replace(G, interlocks=(Interlock("Drive", "Halt AND NOT Drive"),))),
    ("opposed-together", replace(step(signal(G, Signal("Back", OUT)), 1, actions=(
        Action(Qualifier.N, "Drive"), Action(Qualifier.N, "Back"), Action(Qualifier.S, "Lamp"))),
        devices=(replace(G.devices[0], wires=(*G.devices[0].wires, ("retract", "Back"))), *G.devices[1:]))),
    ("stop-normally-open", replace(G, devices=(*G.devices[:2], replace(G.devices[2], name="LineStop"), *G.devices[3:]))),
)  # fmt: skip


@pytest.mark.parametrize(("code", "project"), ALSO)
def test_rules_find_their_mistake_in_its_other_forms(code, project):
    (found,) = [d for d in findings(project) if d.code == code]
    mend = remedy(project, found)
    assert mend is None or not [d for d in findings(mend[1](project)) if d.code == code]


def test_an_output_that_no_latching_trip_turns_off_is_an_error_unless_it_is_said():
    """A sequence added after a narrow trip: its output stays on with the stop open."""
    extra = Sequence("Side", "Off", (Step("Off", 10), Step("On", 20, (Action(Qualifier.N, "Fan"),), "T#9s")), (
        Transition(("Off",), ("On",), "RISING(Go)"), Transition(("On",), ("Off",), "RISING(Shut)")))  # fmt: skip
    grown = signal(replace(G, sequences=(*G.sequences, extra)), Signal("Fan", OUT))
    narrow = G.trips[0]

    def missed(trip: Trip, **more: object) -> list[str]:
        found = findings(replace(grown, trips=(trip,), **more))
        return [d.place.item for d in found if d.code == "trip-misses-output" and d.severity is Severity.ERROR]

    assert missed(narrow) == ["Fan"]
    assert missed(replace(narrow, scope=None)) == []
    assert missed(replace(narrow, stays=("Fan",))) == []
    assert missed(narrow, interlocks=(Interlock("Fan", "Halt"),)) == []
    assert missed(narrow, closing="Fan := Opened;", sequences=G.sequences) == ["Fan"]
    assert missed(narrow, closing="Fan := Opened AND Halt;", sequences=G.sequences) == []
    kept = replace(narrow, scope=None, stored="keep")
    lit = (*G.devices[:-1], Device("Slide", "actuator", (("extend", "Lamp"),)))
    assert missed(kept, devices=lit) == ["Lamp"]


def test_a_step_that_only_a_trip_goes_to_is_reached_and_what_is_named_is_not_deleted():
    fault = chart(G, steps=(*MAIN.steps, Step("Fault", 90, (Action(Qualifier.N, "Drive"),), "T#5s"), Step("Back", 95, (), "T#5s")), transitions=(
        *MAIN.transitions, Transition(("Fault",), ("Back",), "RISING(Shut)"), Transition(("Back",), ("Idle",), "Back.T >= Wait")))  # fmt: skip
    (found,) = [d for d in findings(fault) if d.code == "step-unreachable"]
    assert remedy(fault, found)[0] == "Delete Fault with its 1 way and 1 action"
    gone = replace(fault, trips=(replace(G.trips[0], steps="go to", go_to=("Main.Fault",)),))
    assert "step-unreachable" not in {d.code for d in findings(gone)}
    read = replace(fault, closing="IF Main.Fault.X THEN Count := 5; END_IF;")
    assert remedy(read, found) is None
    spare = signal(G, Signal("Spare", IN))
    (found,) = [d for d in findings(spare) if d.code == "read-nowhere"]
    assert remedy(spare, found) is not None
    tried = replace(spare, scenarios=(Scenario("Uses it", "at 1 s: set Spare to 1\nrun for 2 s\nexpect no alarms"),))
    assert remedy(tried, found) is None


def test_a_counter_that_its_own_text_or_a_body_on_leaving_sets_back_is_not_reported():
    up = "IF Count >= 5 THEN Count := 0; END_IF; Count := Count + 1;"
    own = chart(G, bodies=(Body("Up", up), Body("Clear", "Lamp2 := TRUE;")))
    own = signal(own, Signal("Lamp2", VAR))
    assert "counter-never-reset" not in {d.code for d in findings(own)}
    left = step(chart(G, bodies=(Body("Up", "Count := Count + 1;"), Body("Clear", "Count := 0;"))), 0, actions=(
        Action(Qualifier.R, "Lamp"), Action(Qualifier.P0, "Clear")))  # fmt: skip
    assert "counter-never-reset" not in {d.code for d in findings(left)}
    never = chart(
        G, bodies=(Body("Up", "IF Count < 9 THEN Count := Count + 1; END_IF;"), Body("Clear", "Count := Count;"))
    )
    assert "counter-never-reset" in {d.code for d in findings(never)}


def test_a_join_may_go_on_at_once():
    extra = (Step("Beside", 40, (), "T#5s"), Step("Both", 50, (), "T#5s"))
    ways = (Transition(("Idle",), ("Opening", "Beside"), "RISING(Go) AND Count < 9"), Transition(("Opening", "Beside"), ("Closing",), "TRUE"),
            Transition(("Closing",), ("Idle",), "Closed"))  # fmt: skip
    assert "condition-constant" not in {
        d.code for d in findings(chart(G, steps=(*MAIN.steps, extra[0]), transitions=ways))
    }


def test_the_last_way_by_priority_may_be_open_at_once():
    ways = (
        *MAIN.transitions[:2],
        Transition(("Closing",), ("Opening",), "Closed", 1),
        Transition(("Closing",), ("Idle",), "TRUE", 2),
    )
    steps = (*MAIN.steps[:2], replace(MAIN.steps[2], longest=""))
    last = {(d.code, d.place.item) for d in findings(chart(G, steps=steps, transitions=ways))}
    assert not {("condition-constant", "3"), ("no-longest", "Closing")} & last and "condition-constant" not in {
        c for c, _ in last
    }
    for time, goes_on in (("Closing.T >= T#3s", True), ("Closing.T >= T#3s AND Closed", False)):
        timed = chart(G, steps=steps, transitions=(*ways[:3], replace(ways[3], condition=time)))
        assert goes_on is (("no-longest", "Closing") not in {(d.code, d.place.item) for d in findings(timed)})
    first = chart(G, steps=steps, transitions=(*ways[:2], replace(ways[2], priority=2), replace(ways[3], priority=1)))
    assert "condition-constant" in {d.code for d in findings(first)}


def test_bodies_of_one_step_at_a_time_may_write_one_output():
    bodies = tuple(Body(name, f"Horn := {value};") for name, value in (("Loud", "TRUE"), ("Still", "FALSE")))
    steps = tuple(
        replace(s, actions=(*s.actions, Action(Qualifier.N, name))) for s, name in zip(MAIN.steps, ("Loud", "Still"))
    )
    steps = (*steps, *MAIN.steps[2:])
    project = chart(signal(G, Signal("Horn", OUT)), steps=steps, bodies=(*MAIN.bodies, *bodies))
    assert "written-twice" not in {d.code for d in findings(project)}
    assert "written-twice" in {d.code for d in findings(replace(project, closing="Horn := FALSE;"))}


@pytest.mark.parametrize("drives", [("Up", "Down"), ("Up", ""), ("", "Down")])
def test_end_switches_against_the_words_of_their_drive_look_exchanged(drives):
    def wires(out: str, back: str) -> Device:
        pairs = (("extend", drives[0]), ("retract", drives[1]), ("extended", out), ("retracted", back))
        return Device("Shuttle", "actuator", tuple((t, s) for t, s in pairs if s))

    signals = (*(Signal(n, OUT) for n in drives if n), Signal("AtTop", IN), Signal("AtBottom", IN))
    for out, back, wrong in (("AtTop", "AtBottom", False), ("AtBottom", "AtTop", True)):
        project = Project(signals=signals, devices=(wires(out, back),))
        found = [d for d in findings(project) if d.code == "wires-exchanged"]
        assert bool(found) is wrong
        if wrong:
            (mended,) = remedy(project, found[0])[1](project).devices
            assert dict(mended.wires) == dict(wires("AtTop", "AtBottom").wires)


def test_an_interlock_may_read_its_own_output_which_is_on_wherever_it_is_asked():
    """Semantics 8: it reads the outputs as the logic asks for them."""
    assert not findings(replace(G, interlocks=(Interlock("Drive", "Halt AND (Drive OR Closed)"),)))
    assert not findings(replace(G, devices=(*G.devices[:2], replace(G.devices[2], name="Backstopper"), *G.devices[3:])))


def test_branches_with_a_term_and_its_opposite_or_a_priority_do_not_overlap():
    extra = Transition(("Closing",), ("Opening",), "NOT Closed AND Halt")
    assert not findings(chart(G, transitions=(*MAIN.transitions, extra)))
    ways = (
        *MAIN.transitions[:2],
        replace(MAIN.transitions[2], priority=1),
        Transition(("Closing",), ("Opening",), "Halt", priority=2),
    )
    assert not findings(chart(G, transitions=ways))


def test_the_roastery_has_no_finding_at_all(roastery):
    assert findings(roastery) == []


MENDED = [
    c
    for c in CASES
    if c in REMEDIES and remedy(CASES[c], next(d for d in findings(CASES[c]) if d.code == c)) is not None
]


@pytest.mark.parametrize("code", MENDED)
def test_a_remedy_mends_its_finding_and_brings_no_error(code):
    project = CASES[code]
    count = sum(d.code == code for d in findings(project))
    finding = next(d for d in findings(project) if d.code == code)
    says, edit = remedy(project, finding)
    mended = edit(project)
    assert says and mended != project
    left = findings(mended)
    assert sum(d.code == code for d in left) < count and finding not in left
    assert not [d for d in left if d.severity is Severity.ERROR]


def test_most_findings_that_have_one_answer_have_a_remedy():
    assert {
        "branches-overlap",
        "level-for-edge",
        "wires-exchanged",
        "window-reversed",
        "read-nowhere",
        "equal-overshoots",
    } <= set(MENDED)
    assert remedy(G, findings(CASES["text"])[0]) is None


def test_a_finding_is_waived_with_a_reason_until_it_is_gone():
    project = CASES["no-longest"]
    (finding,) = findings(project)
    for reason in ("", "because"):
        with pytest.raises(EditError, match="say why"):
            waive(project, finding, reason)
    waived = waive(project, finding, "the gate is opened by hand")
    assert findings(waived) == [] and loads(dumps(waived)) == waived
    assert look_over(waived).waived == ((finding, "the gate is opened by hand"),)
    again = waive(waived, finding, "nobody waits for it")
    assert len(again.waivers) == 1
    mended = step(again, 1, longest="T#5s")
    (stale,) = findings(mended)
    assert stale.code == "waiver-stale"
    assert findings(remedy(mended, stale)[1](mended)) == []
    assert unwaive(waived, "no-longest", place_text(finding)) == project
    assert "the gate is opened by hand" in record_html(waived, [], [], "2031-05-06")
    with pytest.raises(EditError, match="mended, not waived"):
        waive(CASES["text"], findings(CASES["text"])[0], "it does not matter")


CHECKED = 16
"""Pieces of ordinary work, some four times what was measured (`tests/clock.py`)."""


@pytest.mark.quiet
def test_a_project_of_three_hundred_steps_is_checked_while_one_types():
    """A fifth of a second on a quick machine; as a ratio, since this one may be slow or shared."""
    steps = tuple(Step(f"S{i}", 10 * i, (Action(Qualifier.N, "Drive"),), "T#5s") for i in range(1, 301))
    ways = tuple(Transition((f"S{i}",), (f"S{i % 300 + 1}",), f"Opened AND S{i}.T >= T#1s") for i in range(1, 301))
    project = replace(G, sequences=(MAIN, replace(MAIN, name="Long", initial="S1", steps=steps, transitions=ways)))
    findings(project)
    names = iter(range(1000))
    within(CHECKED, lambda: findings(replace(project, name=f"Long {next(names)}")))


def test_a_state_beside_a_count_is_not_counted():
    """In one text a number is counted and another one is set: only the first can step over a value."""
    bodies = (
        Body("Up", "Count := Count + 1; IF Go THEN Stage := 3; ELSIF Stage = 3 THEN Stage := 4; END_IF;"),
        MAIN.bodies[1],
    )
    staged = chart(signal(G, Signal("Stage", VAR, Type.INT)), bodies=bodies)
    assert "equal-overshoots" not in {d.code for d in findings(way(staged, 0, "RISING(Go) AND Stage = 3"))}
    assert "equal-overshoots" in {d.code for d in findings(way(staged, 0, "RISING(Go) AND Count = 3"))}


def test_logic_that_fits_its_devices_is_not_called():
    """Beside each wrong file a right one that looks much like it."""
    locked = replace(BOTH, interlocks=(Interlock("Drive", "NOT Back"),))
    paired = replace(BOTH, opposed=(OpposedPair("Back", "Drive"),))
    slow = replace(SLUICE, parameters=(("extend_s", 6.0),))
    moving = step(
        replace(G, devices=(slow, *G.devices[1:])), 0, actions=(*MAIN.steps[0].actions, Action(Qualifier.N, "Drive"))
    )
    roomy = step(replace(G, devices=(slow, *G.devices[1:])), 1, longest="T#6s")
    by_time = way(replace(G, devices=(slow, *G.devices[1:])), 1, "Opening.T >= Wait")
    turned = replace(signal(G, name="Shut", contact="nc"), devices=tuple(
        replace(d, parameters=(("normally_closed", 1.0),)) if d.name == "Shutter" else d for d in G.devices))  # fmt: skip
    bare = replace(way(signal(G, Signal("Loose", IN)), 2, "Closed AND Loose"), devices=())
    for code, projects in (("drives-unopposed", (G, locked, paired)), ("window-below-travel", (G, moving, roomy, by_time)),
                           ("contact-otherwise", (G, turned)), ("input-not-given", (G, bare)), ("dead-time-zero", (G, paired))):  # fmt: skip
        for n, project in enumerate(projects):
            assert code not in {d.code for d in findings(project)}, (code, n)


@given(st.integers(2, 60), st.integers(2, 60), st.booleans())
def test_a_window_below_the_travel_is_one_that_the_run_is_late_in(travel, longest, driven_before):
    """In tenths of a second: what the check says of a movement is what happens when the machine runs."""
    if travel == longest:
        return  # the scan in which the switch is seen decides
    sluice = replace(SLUICE, parameters=(("extend_s", travel / 10), ("retract_s", 0.1)))
    project = step(replace(G, devices=(sluice, *G.devices[1:])), 1, longest=f"T#{100 * longest}ms")
    project = signal(way(project, 1, "Opened"), name="Wait", initial=0)
    if driven_before:  # the movement has begun when the step is entered
        project = step(project, 0, actions=(*MAIN.steps[0].actions, Action(Qualifier.N, "Drive")))
    called = "window-below-travel" in {d.code for d in findings(project)}
    session = Session(project)
    session.run_for(100)
    session.do("hand", "Button", 1)
    session.run_for(8000)
    late = any(e.kind == "late" and "Opening" in e.text for e in session.trace.events)
    assert not session.stopped and called <= late
    assert driven_before or called is late


@given(st.booleans(), st.booleans(), st.sampled_from(["", "pair", "lock", "other lock"]))
def test_drives_that_are_called_unopposed_can_be_on_together_and_no_others(one, other, kept_apart):
    """Both asked for by hand, which nothing but a rule keeps apart."""
    project = {
        "": BOTH,
        "pair": replace(BOTH, opposed=(OpposedPair("Drive", "Back"),)),
        "lock": replace(BOTH, interlocks=(Interlock("Drive", "NOT Back"),)),
        "other lock": replace(BOTH, interlocks=(Interlock("Back", "NOT Drive"),)),
    }[kept_apart]
    session = Session(project)
    session.do("drive", "", True)
    for name, on in (("Drive", one), ("Back", other)):
        session.do("ask", name, on)
    session.run_for(100)
    together = all(session.trace.at(name, session.k - 1) for name in ("Drive", "Back"))
    called = "drives-unopposed" in {d.code for d in findings(project)}
    assert called is (kept_apart == "") and together is (one and other and called)


@pytest.mark.parametrize(
    ("condition", "opening", "wrong"),
    [
        ("RISING(Go) AND Count = Most", "", True), ("RISING(Go) AND Count <> Most", "", True), ("RISING(Go) AND Count >= Most", "", False),
        ("RISING(Go) AND Count <> 3", "", False), ("RISING(Go)", "IF Most = Count THEN Count := 0; END_IF;", True),
        ("RISING(Go)", "IF Count >= Most THEN Count := 0; END_IF;", False), ("RISING(Go)", "IF Count = 9 THEN Count := 0; END_IF;", False),
    ],
)  # fmt: skip
def test_a_count_that_meets_a_setting_by_chance(condition, opening, wrong):
    project = replace(signal(G, Signal("Most", SignalClass.SETTING, Type.INT, initial=3)), opening=opening)
    assert ("equal-overshoots" in {d.code for d in findings(way(project, 0, condition))}) is wrong
