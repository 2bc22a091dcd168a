"""Sessions, traces and explanations on the roastery: what the desktop and the commands build on."""

from __future__ import annotations

from dataclasses import replace

import pytest

from spokeshave.chart.labels import condition_lines
from spokeshave.chart.layout import layout
from spokeshave.engine.explain import false_for_ms, given_by, waiting
from spokeshave.engine.phases import StimulusError
from spokeshave.engine.session import Session
from spokeshave.engine.situation import situation_of
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.trace_csv import trace_rows
from spokeshave.formats.vcd import identifier, vcd_lines
from spokeshave.model import edits, flow_edits
from spokeshave.model.flow import flow
from spokeshave.model.project import Project
from spokeshave.model.structure import structure
from spokeshave.verify.check.look import Look
from spokeshave.verify.waited import waited


def started(roastery: Project, ms: int) -> Session:
    """A session in which Start was pressed at 0.5 s, after `ms`."""
    session = Session(roastery, [Stimulus(500, "hand", "Start", 1), Stimulus(800, "hand", "Start", 0)])
    session.run_for(ms)
    return session


def test_the_same_stimuli_give_the_same_trace_to_the_byte(roastery):
    assert list(trace_rows(started(roastery, 50_000).trace)) == list(trace_rows(started(roastery, 50_000).trace))


def test_one_can_stop_at_a_step_change_at_a_condition_or_after_a_time(roastery):
    session = started(roastery, 0)
    assert session.run_to_step_change() and session.time_ms == 510
    assert situation_of(session.program, session.situation) == {"Roast": ["SpinUp", "Purge"], "Cool": ["Ready"]}
    slot = session.program.slots["beantemp"]
    assert session.run_until(lambda: session.situation.v[slot] >= 100.0, 60_000)
    assert session.trace.at("BeanTemp", session.k - 1) == 100.0
    assert not session.run_until(lambda: False, 50)
    before = session.time_ms
    session.run_for(25)
    assert session.time_ms == before + 30, "scans at t, t + 10 and t + 20 lie below t + 25"


def test_going_back_takes_back_what_was_done_by_hand_but_not_what_was_planned(roastery):
    session = Session(roastery, [Stimulus(1005, "hand", "Start", 1)])
    session.run_for(1000)
    session.do("hand", "Degree", 1)
    session.run_for(100)
    assert session.trace.at("DarkRoast", 105) is True
    session.back(10)
    assert session.time_ms == 1000
    session.run_for(100)
    assert session.trace.at("DarkRoast", 105) is False
    assert session.trace.windows("StartButton") == [(101, 110)]
    session.back(10_000)
    assert session.k == 0 and session.trace.scan_count == 0 and not len(session.trace.scans)


def test_going_far_back_starts_from_a_checkpoint_and_reaches_the_same_situation(roastery):
    session = started(roastery, 30_000)
    there = [
        list(session.situation.v),
        situation_of(session.program, session.situation),
        list(session.situation.dev_state),
    ]
    session.run_for(10_000)
    session.back(1000)
    assert [
        list(session.situation.v),
        situation_of(session.program, session.situation),
        session.situation.dev_state,
    ] == there


def test_hands_on_what_is_not_there_are_refused_and_change_nothing(roastery):
    session = started(roastery, 100)
    for what, target, value, why in (
        ("hand", "Strat", 1, "no device Strat"), ("fail", "DropGate", "bent", "no failure 'bent'; it has jammed"),
        ("set", "Nothing", True, "no signal Nothing"), ("force", "Nothing", True, "no signal Nothing"),
    ):  # fmt: skip
        with pytest.raises(StimulusError, match=why):
            session.do(what, target, value)
    assert len(session.log) == 2


def test_an_inserted_step_is_taken_into_a_running_session(roastery):
    session = started(roastery, 5000)
    temperature = session.trace.at("BeanTemp", 499)
    session.adopt(flow_edits.insert_step(roastery, "Roast", "Charge"))
    session.run_for(10)
    assert situation_of(session.program, session.situation)["Roast"] == ["Preheat"]
    assert session.trace.at("BeanTemp", 500) == pytest.approx(temperature, abs=1.0)
    assert session.trace.windows("Roast.Preheat.X")[0][0] == 215, "the trace before the edit stays"
    session.run_for(15_000)
    assert len(session.trace.windows("Roast.Step55.X")) == 1


def test_a_changed_device_begins_anew_and_keeps_its_failures(roastery):
    session = started(roastery, 5000)
    session.do("fail", "DropGate", "jammed")
    session.scan()
    index = next(i for i, d in enumerate(roastery.devices) if d.name == "DropGate")
    session.adopt(edits.change_item(roastery, "devices", index, parameters=(("extend_s", 2.0),)))
    session.scan()
    assert session.situation.dev_failed[index] == {"jammed"}
    assert session.program.devices[index].device.value["extend_s"] == 2.0


def test_words_that_no_run_depends_on_do_not_make_another_machine(roastery):
    renamed = edits.change_item(roastery, "requirements", 0, text="Another sentence.")
    moved = edits.change_item(renamed, "devices", 0, at=(9, 9))
    assert moved.runs_like(roastery) and replace(moved, comment="x").runs_like(roastery)
    assert not edits.change_item(roastery, "signals", 0, initial=True).runs_like(roastery)
    assert not edits.change_item(roastery, "devices", 0, parameters=()).runs_like(roastery)


def test_waiting_tells_runs_late_held_and_tripped_apart(roastery):
    session = started(roastery, 100)
    session.do("fail", "ExhaustFan", "does not start")
    session.run_for(1000)

    def state(step: str) -> str:
        return next(w.state for w in waiting(session.program, session.situation) if w.step == step)

    assert state("Purge") == "runs"
    session.run_for(5000)
    assert state("Purge") == "late"
    session.do("hand", "Emergency", 1)
    session.run_for(10)
    assert state("Idle") == "tripped"


def test_a_join_says_which_branch_is_missing(roastery):
    session = started(roastery, 600)
    found = {w.step: w.ways[0] for w in waiting(session.program, session.situation) if w.sequence == "Roast"}
    assert found["SpinUp"].absent == ("Purged",)
    assert [str(t) for t in found["Purge"].missing] == ["HELD(AirRuns, T#1s) (AirRuns = FALSE)"]


def test_values_and_windows_are_looked_up_in_the_trace(roastery):
    trace = started(roastery, 20_000).trace
    assert trace.windows("gate") == [(1273, 1573)]
    assert trace.at("Gate", 1272) is False and trace.at("Gate", 1273) is True
    assert isinstance(trace.at("BeanTemp", 1500), float) and isinstance(trace.at("Batches", 1500), int)
    with pytest.raises(KeyError):
        trace.column("Nothing")
    assert trace.motion(0, 1300)[0] == 1273, "the gate was last turned in the scan of its command"


def test_the_structure_of_the_roast_is_seen_as_it_is(roastery):
    q = roastery.sequence("Roast")
    shape = structure(q)
    back = {(q.transitions[a[1]].sources[0], q.steps[b[1]].name) for a, b in shape.back}
    assert back == {("CloseDoor", "Preheat"), ("Stop", "Idle")}
    assert len(shape.roots) == 1
    plan = flow(q)
    doubled = {q.transitions[link.transition].targets for link in plan.links if link.doubled}
    assert doubled == {("SpinUp", "Purge"), ("Preheat",)}
    chart = layout(q)
    assert sorted(b.back for b in chart.bars if b.back) == [(0,), (4,)]
    column = {q.steps[b.step].name: b.cx for b in chart.boxes}
    assert column["Idle"] == column["Preheat"] == column["Stop"] < column["Purge"]
    assert column["RoastDark"] == column["Rest"] > column["RoastLight"]


def test_a_long_condition_is_set_in_lines_cut_at_an_operator():
    assert condition_lines("A AND B") == ("A AND B",)
    assert condition_lines("GateClosed AND NOT GateOpened OR DrumRuns") == (
        "GateClosed AND NOT GateOpened",
        "OR DrumRuns",
    )
    whole = " AND ".join(f"Switch{i}" for i in range(10))
    lines = condition_lines(whole)
    assert " ".join(lines) == whole and 4 <= len(lines) <= 6 and all(x.startswith("AND ") for x in lines[1:])
    lines = condition_lines("X" * 50 + " AND " + "Y" * 900)
    assert len(lines) == 6 and max(map(len, lines)) <= 32 and lines[-1].endswith("…")


def test_uses_of_a_name_are_found_wherever_it_is_used(roastery):
    look = Look(roastery)
    assert {(u.how, u.place.kind) for u in look.by_name["drumruns"]} == {
        ("read", "transition"), ("read", "interlock"), ("sense", "device")
    }  # fmt: skip
    assert {(u.how, str(u.place)) for u in look.by_name["batches"] if u.how == "write"} == {
        ("write", "Roast, body ResetCount, column 1"), ("write", "Roast, body CountBatch, column 1")
    }  # fmt: skip
    assert all(u.edge for u in look.by_name["startbutton"] if u.how == "read")


def test_a_value_change_dump_says_what_the_trace_says(roastery):
    """Read back with a reader of a few lines, every change stands at its time under its name."""
    trace = started(roastery, 45_000).trace
    names: dict[str, str] = {}
    scope, now, seen = "", 0, []
    for line in vcd_lines(trace):
        words = line.split()
        if words[0] == "$scope":
            scope = words[2]
        elif words[0] == "$var":
            names[words[3]] = words[4] if scope == "signals" else f"{scope}.{words[4]}.X"
        elif line[0] == "#":
            now = int(line[1:])
        elif line[0] in "01":
            seen.append((now, names[line[1:]], float(line[0])))
        elif line[0] in "br":
            raw, ident = words
            bits = int(raw[1:], 2) if raw[0] == "b" else 0
            seen.append((now, names[ident], float(raw[1:]) if raw[0] == "r" else float(bits)))
    rows = [r.split(",") for r in trace_rows(trace)][1:]
    assert seen == [(int(t), name, float(value)) for t, name, value in rows]
    assert now == trace.end_ms and len(names) == len(trace.recorded)


@pytest.mark.parametrize("count", [1, 94, 95, 94 * 95, 94 * 95 + 1])
def test_identifiers_of_a_dump_differ_and_are_short(count):
    made = [identifier(n) for n in range(count)]
    assert len(set(made)) == count and all("!" <= c <= "~" for c in made[-1])
    assert len(made[-1]) == (1 if count <= 94 else 2 if count <= 94 * 95 else 3)


def test_a_term_tells_how_long_it_has_stood_in_the_way_and_what_gives_it(roastery):
    session = started(roastery, 20_000)
    found = {str(t.text): t for w in waiting(session.program, session.situation) for a in w.ways for t in a.missing}

    def ms(term: str) -> int:
        return false_for_ms(session.program, session.situation, session.trace, found[term])

    assert ms("DropOpened") == 20_000, "never TRUE so far"
    hot = session.trace.changes(session.trace.column("BeanTemp"))
    last_above = max((int(k) for k, x in zip(*hot) if x >= 185.0), default=-1)
    assert last_above == -1 and ms("BeanTemp >= LightTemp") == 20_000
    session.run_for(10_000)
    (way,) = next(
        w for w in waiting(session.program, session.situation) if w.step == "Receive" or w.sequence == "Cool"
    ).ways
    shut = next(t for t in way.missing if t.text == "DoorShut")
    opened = session.trace.windows("DoorShut")[0][1]
    assert false_for_ms(session.program, session.situation, session.trace, shut) == (session.k - opened) * 10
    assert given_by(session.program, "DropOpened") == "device DropGate"
    assert given_by(session.program, "DoorShut") == "logic"
    assert given_by(session.program, "Burner") == "step Roast.Preheat, Roast.RoastLight, Roast.RoastDark"
    assert given_by(session.program, "Roast.Drop.X") == "sequence Roast"
    assert given_by(session.program, "Charge.T") == "time"


def test_an_edited_edge_starts_from_its_present_value_and_the_others_remember(roastery):
    """Another operand under the same RISING is another edge: the edit itself makes no pulse and inherits no memory."""
    session = Session(roastery)
    session.run_for(1000)
    index = next(i for i, t in enumerate(roastery.sequence("Roast").transitions) if "StartButton" in t.condition)
    session.adopt(flow_edits.change_transition(roastery, "Roast", index, condition="RISING(EmergencyOk) AND Home"))
    session.run_for(500)
    assert situation_of(session.program, session.situation)["Roast"] == ["Idle"], "EmergencyOk was TRUE all along"
    assert session.trace.windows("DoorShut") == [(11, 150)], "HELD went on counting through the edit"


def test_what_kept_a_step_is_told_from_the_scan_before_it_was_left(roastery):
    session = Session(roastery)
    session.run_scans(20)
    session.do("hand", "Start", 1)
    session.run_scans(6000)
    found = {(w.sequence, w.step): w for w in waited(session)}
    assert str(found["Cool", "CloseFlap"]) == "Cool.CloseFlap waited 0.70 s for FlapClosed"
    assert found["Roast", "SpinUp"].on == ("Purged.X",), "the other branch of a join"
    for w in found.values():
        windows = session.trace.windows(f"{w.sequence}.{w.step}.X")
        assert (w.begin, w.end) in windows
    assert [w.end for w in waited(session)] == sorted((w.end for w in waited(session)), reverse=True)
