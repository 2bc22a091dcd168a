"""Proposed scenarios: they pass, show what they say, and reach what can be reached; on charts, programs and machines without any."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings

from spokeshave.engine.link import LinkError, link
from spokeshave.engine.session import Session
from spokeshave.formats import spoke
from spokeshave.model.project import (
    Action,
    Body,
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
    Trip,
    Type,
)
from spokeshave.reading import read_text
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.proposed.circumstances import CIRCUMSTANCE
from spokeshave.verify.proposed.goals import WAY, goals_of, open_goals, shown_by, ways_gone
from spokeshave.verify.proposed.search import Search
from spokeshave.verify.proposed.without import without
from spokeshave.verify.proposed.work import Proposals, propose, proposed
from spokeshave.verify.scenarios import run_scenario
from tests.conftest import EXAMPLES
from tests.core.projects import structured
from tests.core.test_cli import call
from tests.core.test_semantics import gate
from tests.core.test_strength import kiln

IN, OUT, VAR, SET = SignalClass.INPUT, SignalClass.OUTPUT, SignalClass.INTERNAL, SignalClass.SETTING
N, S, R, P1 = Qualifier.N, Qualifier.S, Qualifier.R, Qualifier.P1


def hold_true(project: Project, found: Proposals) -> None:
    """Each proposal passes, and shows each of its goals, in a run that is made and looked at again from its text alone."""
    program = link(project)
    for p in found.found:
        result = run_scenario(project, p.scenario, every_scan=True)
        if p.goals[0].kind == CIRCUMSTANCE:
            assert result.runs and result.worst is None and not result.problems, p.scenario.text
            continue
        (run,) = result.runs
        assert not result.problems and run.live is not None
        assert all(v.outcome is Outcome.PASS for v in run.verdicts), (p.scenario.text, result.worst)
        came = {
            (g.kind, g.key) for g in shown_by(project, ways_gone(run.live.trace, program), (k for k, _ in run.acted))
        }
        assert p.goals and all((g.kind, g.key) in came for g in p.goals), p.scenario.text
        fails = {g for g in p.goals if run_scenario(without(project, g), p.scenario).worst is not None}
        assert fails == set(p.goals) - set(p.unnoticed), p.said()
    of_circumstances = {
        g for p in found.found for g in p.goals if g.kind == CIRCUMSTANCE
    }  # some take several scenarios
    shown = [*of_circumstances, *(g for p in found.found for g in p.goals if g.kind != CIRCUMSTANCE)]
    assert len(shown) == len(set(shown)) and set(shown).isdisjoint(found.left)
    assert len(shown) + len(found.left) == found.goals


def shutter() -> Project:
    """Goes up by a button, waits for its switch, goes down by another: with an emergency stop, a window, an interlock, a pair, a count."""
    signals = [Signal(n, IN) for n in ("UpButton", "DownButton", "SafeOk", "IsUp", "IsDown")]
    signals += [Signal(n, OUT) for n in ("Up", "Down", "Lamp")]
    signals += [Signal("Turns", VAR, Type.INT), Signal("Most", SET, Type.INT, initial=2)]
    steps = (
        Step("Closed", 10),
        Step("Rises", 20, (Action(N, "Up"), Action(S, "Lamp")), longest="T#4s"),
        Step("Open", 30, (Action(P1, "Turned"),)),
        Step("Sinks", 40, (Action(N, "Down"),), longest="T#4s", response="hold"),
        Step("Greased", 50, (Action(R, "Lamp"),)),
    )
    ways = (
        Transition(("Closed",), ("Rises",), "RISING(UpButton)"), Transition(("Rises",), ("Open",), "IsUp"),
        Transition(("Open",), ("Sinks",), "RISING(DownButton) AND Turns < Most"), Transition(("Sinks",), ("Closed",), "IsDown"),
        Transition(("Open",), ("Greased",), "Turns >= Most"), Transition(("Greased",), ("Sinks",), "Greased.T >= T#2s"),
    )  # fmt: skip
    return Project(
        "Shutter", signals=tuple(signals), sequences=(Sequence("Main", "Closed", steps, ways, (Body("Turned", "Turns := Turns + 1;"),)),),
        trips=(Trip("Stop", 1, "NOT SafeOk", steps="restart"),), reset="RISING(UpButton)", interlocks=(Interlock("Up", "SafeOk"),),
        opposed=(OpposedPair("Up", "Down", 200),),
        devices=(
            Device("Leaf", "actuator", (("extend", "Up"), ("retract", "Down"), ("extended", "IsUp"), ("retracted", "IsDown")),
                   (("extend_s", 2.0), ("retract_s", 2.0))),
            Device("Rise", "button", (("contact", "UpButton"),)), Device("Sink", "button", (("contact", "DownButton"),)),
            Device("Safe", "emergency", (("contact", "SafeOk"),)),
        ),
    )  # fmt: skip


def test_a_machine_without_scenarios_gets_some_for_every_way_and_every_rule():
    project = shutter()
    found = propose(project)
    hold_true(project, found)
    befalls = {g.words for p in found.found for g in p.goals if g.kind == CIRCUMSTANCE}
    assert befalls == {
        "Rise stays pressed",
        "Sink stays pressed",
        "power is cut in each step",
        "Safe is hit in each step",
    }
    assert not found.left and found.whole and found.goals - 4 == len(goals_of(project)) == 12
    cut = [p.scenario.text.splitlines() for p in found.found if p.scenario.name.startswith("Power is cut")]
    assert [rows[0] for rows in cut] == ["for each Where in Main.Rises, Main.Open", "for each Where in Main.Sinks"]
    assert all("on Where: power cycle" in rows and "expect never Up AND Down" in rows for rows in cut)
    assert cut[1].index("on Where: power cycle") > cut[0].index("on Where: power cycle"), (
        "deeds wait one after the other"
    )
    assert {"expect finally Main.Closed.X", "expect finally NOT (Up OR Down OR Lamp)"} <= {*cut[0]}
    ways = next(p for p in found.found if p.scenario.name == "Ways of Main")
    assert "press Rise for 0.3 s" in ways.scenario.text and "on Main.Open" in ways.scenario.text
    late = next(p for p in found.found if p.scenario.name == "window Main.Rises")
    assert 'break Leaf "' in late.scenario.text and 'expect alarm "Main.Rises is late"' in late.scenario.text
    taken = replace(project, scenarios=tuple(p.scenario for p in found.found))
    assert propose(taken).found == () and propose(taken).goals == 0, "what they show is shown"


def test_what_does_not_hold_when_power_is_cut_is_said_in_place_of_a_scenario():
    """The inlet is kept over the power cut while its step is not: it runs over, which no other run shows."""
    signals = (
        Signal("Go", IN),
        Signal("Full", IN),
        Signal("Inlet", OUT),
        Signal("Drain", OUT),
        Signal("Keep", VAR, retain=True),
    )
    steps = (
        Step("Rest", 10),
        Step("Fills", 20, (Action(P1, "Begin"), Action(Qualifier.P0, "End"))),
        Step("Drains", 30, (Action(N, "Drain"),)),
    )
    ways = (Transition(("Rest",), ("Fills",), "RISING(Go)"), Transition(("Fills",), ("Drains",), "Full"),
            Transition(("Drains",), ("Rest",), "Drains.T >= T#8s"))  # fmt: skip
    q = Sequence("Main", "Rest", steps, ways, (Body("Begin", "Keep := TRUE;"), Body("End", "Keep := FALSE;")))
    vessel = Device("Bath", "vessel", (("inlet", "Inlet"), ("outlet", "Drain"), ("high", "Full")),
                    (("volume_l", 20.0), ("inlet_l_s", 2.0), ("outlet_l_s", 2.0), ("high_l", 10.0)))  # fmt: skip
    go = Device("GoButton", "button", (("contact", "Go"),))
    project = Project(signals=signals, sequences=(q,), devices=(vessel, go), closing="Inlet := Keep;")
    (left,) = propose(project).left
    assert left.words.startswith(
        "power is cut in each step: with Where = Main.Fills there fails expect no hazards, since"
    )


def test_what_counts_and_what_a_setting_bars_is_come_to():
    found = propose(replace(kiln(), scenarios=()))
    hold_true(replace(kiln(), scenarios=()), found)
    assert not found.left, "the third turn leads from Cool to Rest"
    once = replace(
        shutter(), signals=tuple(replace(s, initial=1) if s.name == "Most" else s for s in shutter().signals)
    )
    found = propose(once)
    hold_true(once, found)
    (given,) = [p for p in found.found if "Main, Open to Sinks" in [g.words for g in p.goals]]
    assert given.scenario.text.startswith("given Most is 2\n") and not found.left


def test_what_must_be_warm_first_is_waited_for_and_no_longer():
    signals = (Signal("Go", IN, Type.BOOL), Signal("WaxTemp", IN, Type.REAL), Signal("Heater", OUT, Type.BOOL),
               Signal("Dip", OUT, Type.BOOL), Signal("Warm", SET, Type.REAL, initial=66.0))  # fmt: skip
    q = Sequence("Main", "Rest", (Step("Rest", 10), Step("Down", 20, (Action(N, "Dip"),))),
                 (Transition(("Rest",), ("Down",), "RISING(Go) AND WaxTemp >= Warm"),
                  Transition(("Down",), ("Rest",), "Down.T >= T#1s")))  # fmt: skip
    devices = (Device("GoButton", "button", (("contact", "Go"),)),
               Device("Wax", "thermal", (("heater", "Heater"), ("temperature", "WaxTemp"))))  # fmt: skip
    project = Project(signals=signals, sequences=(q,), devices=devices, closing="Heater := WaxTemp < 72.0;")
    found = propose(project)
    hold_true(project, found)
    assert found.left == () and [p.goals[0].kind for p in found.found] == [WAY, *(CIRCUMSTANCE,) * 3]
    session = Session(project)
    slot = session.program.slots["waxtemp"]
    assert session.run_until(lambda: session.situation.v[slot] >= 66.0, 120_000)
    first = found.found[0].scenario.text.splitlines()[0]
    at = float(first.removeprefix("at ").partition(" s:")[0])
    assert session.time_ms < 1000 * at < session.time_ms + 1000, first


@pytest.mark.parametrize("number", [6, 11, 30])
def test_a_program_that_somebody_brought_gets_some_by_its_inputs_alone(number):
    path = sorted((Path(__file__).parent / "state_programs").glob("*.st"))[number]
    project = replace(read_text(path.read_text()).project, scenarios=())
    found = propose(project, 20)
    hold_true(project, found)
    assert sum(g.kind == WAY for p in found.found for g in p.goals) >= 0.7 * sum(
        g.kind == WAY for g in goals_of(project)
    )


@settings(max_examples=20, deadline=None)
@given(structured())
def test_whatever_is_proposed_of_any_chart_is_true(project):
    hold_true(project, propose(project, 1))


def test_values_of_inputs_are_found_through_what_texts_make_of_them():
    """What is awaited is worked out of a number by a function of the file, and the start is an edge of a block."""
    text = (
        "FUNCTION Clamp : REAL VAR_INPUT Value, High : REAL; END_VAR\n"
        "IF Value > High THEN Clamp := High; ELSE Clamp := Value; END_IF; END_FUNCTION\n"
        "PROGRAM Line VAR_INPUT Go, There : BOOL; Pressure : REAL; END_VAR VAR_OUTPUT Feed : BOOL; END_VAR\n"
        "VAR State : INT; Enough : BOOL; Low : REAL := 2.5; Rise : R_TRIG; END_VAR\n"
        "Rise(CLK := Go); Enough := Clamp(Pressure, 10.0) >= Low;\n"
        "CASE State OF 0: IF Rise.Q AND Enough THEN State := 10; END_IF;\n"
        "10: IF There AND NOT Enough THEN State := 0; END_IF; END_CASE;\n"
        "Feed := State = 10; END_PROGRAM"
    )
    project = read_text(text).project
    found = propose(project)
    assert found.left == () and sum(g.kind == WAY for p in found.found for g in p.goals) == 2
    hold_true(project, found)


def test_what_is_shown_already_is_not_proposed_and_what_cannot_be_is_told():
    project, q = gate(), gate().sequences[0]
    ways = (
        *q.transitions,
        Transition(("Open",), ("Closed",), "Stop"),
        Transition(("Open",), ("Gone",), "Go AND NOT Go"),
    )
    found = propose(replace(project, sequences=(replace(q, steps=(*q.steps, Step("Gone", 30)), transitions=ways),)))
    assert [g.words for g in found.left] == ["Main, Open to Gone"] and found.goals == 4, (
        "ways between the same steps are one; power is cut"
    )
    assert "3 of 4" in found.said()
    assert open_goals(project, goals_of(project)) == []
    broken = replace(project, opening="Nowhere := 1;")
    with pytest.raises(LinkError):
        propose(broken)
    assert "Nowhere" in str(proposed(broken))


@pytest.mark.parametrize("name", ["roastery", "carousel"])
def test_examples_without_their_scenarios_get_some_for_every_step_way_rule_and_window(name):
    """Also for windows that are longer than anything else takes, and for an input that no fault of a device turns."""
    project = replace(spoke.read(EXAMPLES / f"{name}.spoke"), scenarios=(), accepted=(), requirements=())
    found = propose(project, seconds=3600)
    assert [g.words for g in found.left] == [] and len(found.found) > 15


def test_the_command_writes_them_into_a_file(tmp_path):
    file, out = tmp_path / "shutter.spoke", tmp_path / "with.spoke"
    spoke.write(shutter(), file)
    code, said, _ = call("propose", str(file), "--out", str(out))
    assert code == 0 and "ways, rules and circumstances that nothing showed" in said and spoke.read(file) == shutter()
    assert call("verify", str(out))[0] == 0 and len(spoke.read(out).scenarios) > 4
    assert call("propose", str(file), "--take", "--seconds", "30")[0] == 0 and spoke.read(file).scenarios
    assert call("propose", str(file), "--take", "--out", str(out))[0] == 2


def test_a_step_that_lasts_longer_than_another_sequence_takes_to_go_round_comes_to_its_end():
    """A bath that is kept warm goes round every two seconds beside a dip of five."""
    bath = Sequence("Bath", "Heat", (Step("Heat", 10), Step("Keep", 20)), (
        Transition(("Heat",), ("Keep",), "Heat.T >= T#1s"), Transition(("Keep",), ("Heat",), "Keep.T >= T#1s")))  # fmt: skip
    dip = Sequence("Dip", "Rest", (Step("Rest", 10), Step("Stay", 20), Step("Done", 30)), (
        Transition(("Rest",), ("Stay",), "Start"), Transition(("Stay",), ("Done",), "Stay.T >= T#5s"),
        Transition(("Done",), ("Rest",), "RISING(Start)")), hold_when="Halt AND Done.X")  # fmt: skip
    buttons = tuple(Device(f"{n}Button", "button", wires=(("contact", n),)) for n in ("Start", "Halt"))
    signals = (Signal("Start", IN), Signal("Halt", IN))
    project = Project("Bath", 10, signals=signals, sequences=(bath, dip), devices=buttons)
    search = Search(link(project))
    while not search.done:
        search.expand()
    assert {tuple(n.session.situation.active[1]) for n in search.nodes} == {(0,), (1,), (2,)}
    found = propose(project)
    assert found.left == ()
    rows = [row for p in found.found for row in p.scenario.text.splitlines() if row.startswith("expect order Bath")]
    assert all(row.count("Heat") <= 3 for row in rows), "how often the bath goes round beside is by chance"
