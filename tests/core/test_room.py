"""Room: what was measured, how far everything can be turned before the first thing fails, and what a cycle waits on."""

from __future__ import annotations

import json
import re
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.formats import spoke
from spokeshave.language.rename import rename_device, rename_signal
from spokeshave.model.edits import change_step
from spokeshave.model.project import Project, Scenario, Signal, SignalClass, Type
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.room.drawn import cycle_of, draw
from spokeshave.verify.room.knobs import Knob, knobs_of, later, turned
from spokeshave.verify.room.limits import Judge, Limit, limits_of
from spokeshave.verify.room.tolerances import ToleranceError, read_tolerances, tolerances_text
from spokeshave.verify.room.work import Room, RoomReport
from spokeshave.verify.scenarios import run_all, run_scenario
from tests.core.test_cli import call
from tests.core.test_modes import hoist

ONE = Scenario(
    "One",
    "at 1 s: set Start to TRUE\nrun for 20 s\nexpect order Main: Idle, Lifts, Stays, Sinks, Idle\nexpect no alarms",
)
LATE = Scenario("Late", 'given Gate "jammed"\nat 1 s: set Start to TRUE\nrun for 10 s\nexpect alarm "Lifts is late"')


def proven(*more: Scenario, stays: str = "Stays.T >= Long") -> Project:
    """The hoist (1 s up, 1 s down, windows of 5 s) with a wait that is a setting."""
    project = hoist()
    q = project.sequences[0]
    ways = tuple(replace(t, condition=stays) if "Stays" in t.sources else t for t in q.transitions)
    long = Signal("Long", SignalClass.SETTING, Type.TIME, initial=2000)
    return replace(
        project, sequences=(replace(q, transitions=ways),), signals=(*project.signals, long), scenarios=(ONE, *more)
    )


def told(project: Project, **more) -> RoomReport:
    run = Room(project, **more)
    while not run.done:
        run.poll()
    assert run.problem == "" and run.part == 1.0
    return run.report


def test_windows_are_measured_without_times_that_stood_still_and_stays_that_were_late_on_purpose():
    held = replace(proven(LATE).sequences[0], hold_when="Halt")
    project = proven(
        LATE, Scenario("Held", ONE.text.replace("run", "at 1.5 s: set Halt to TRUE\nat 9 s: set Halt to FALSE\nrun"))
    )
    project = replace(project, sequences=(held,), signals=(*project.signals, Signal("Halt", SignalClass.INPUT)))
    project = change_step(project, "Main", "Stays", shortest="T#1500ms")
    found = {(w.place.item, w.kind): w for w in told(project, draws=0, turn=False).windows}
    assert {k: (w.limit, w.measured, w.left) for k, w in found.items()} == {
        ("Lifts", "longest"): (5000, 1000, 4000), ("Sinks", "longest"): (5000, 1000, 4000), ("Stays", "shortest"): (1500, 2000, 500),
    }  # fmt: skip


def test_a_fixed_wait_beside_a_switch_is_named_with_what_was_not_needed():
    project = proven()
    q = project.sequences[0]
    ways = tuple(replace(t, condition="Lifts.T >= T#3s") if "Lifts" in t.sources else t for t in q.transitions)
    found = told(replace(project, sequences=(replace(q, transitions=ways),)), draws=0, turn=False)
    (wait,) = [w for w in found.windows if w.kind == "wait"]
    assert (wait.place.item, wait.limit, wait.measured, wait.left) == ("Lifts", 3000, 1000, 2000)
    assert wait.what == "Up had come, and is not asked for" and "2 s of it to spare" in "\n".join(found.lines())


def test_limits_are_where_the_first_thing_fails_and_not_a_step_before():
    project = proven()
    judge = Judge(project, run_all(project))
    for knob in knobs_of(project, project.scenarios):
        for limit in limits_of(judge, knob):
            assert judge.fails(knob, limit.holds) == ""
            if limit.fails is not None:
                assert judge.fails(knob, limit.fails) and limit.what.startswith("One: ")
    slower = limits_of(judge, Knob("device", "Gate", 1.0))[0]
    assert (
        slower.holds == pytest.approx(5.0, rel=0.02)
        and "no alarms" in slower.what
        and slower.said().startswith("Gate may be 4.9")
    )
    longer, shorter = limits_of(judge, Knob("setting", "Long", 2000.0))
    # 1 s to the start, 1 s up, 1 s down: what is left of 20 s
    assert 16_900 <= longer.holds <= 17_000 and longer.fails == longer.holds + 10 and shorter.fails is None


@given(st.floats(0.2, 5.0), st.integers(0, 9000))
def test_knobs_turn_what_they_name_and_nothing_else(factor, ms):
    project = proven()
    slower = turned(project, Knob("device", "Gate", 1.0), factor)
    assert (
        dict(slower.devices[0].parameters)["extend_s"] == pytest.approx(factor)
        and replace(slower, devices=project.devices) == project
    )
    assert turned(slower, Knob("device", "Gate", 1.0), 1 / factor).devices[0].wires == project.devices[0].wires
    assert turned(project, Knob("setting", "Long", 2000.0), ms).signal("Long").start == ms


def test_hands_come_later_in_all_their_moments():
    text = "at 1 s: press Go for 0.3 s\nafter 2 s: hold Stop\non A.B, 0.5 s later: press Go\nwhen X AND Y: turn Go to 1\nrun for 9 s"
    assert later(Scenario("s", text), "go", 250).text == (
        "at 1250 ms: press Go for 0.3 s\nafter 2 s: hold Stop\non A.B, 750 ms later: press Go\nwhen X AND Y, 250 ms later: turn Go to 1\nrun for 9 s"
    )


def test_draws_are_the_same_for_a_seed_and_say_what_fails_and_how_long_a_cycle_takes():
    project = proven()
    knobs = knobs_of(project, ())
    some = [draw(project, ONE, knobs, 0.3, 7, n) for n in range(12)]
    assert (
        some
        == [draw(project, ONE, knobs, 0.3, 7, n) for n in range(12)]
        != [draw(project, ONE, knobs, 0.3, 8, n) for n in range(12)]
    )
    for d in some:
        (factor,) = (f for _, f in d.factors)
        assert 0.7 <= factor <= 1.3 and not d.failed and abs(d.cycle_ms - (2000 + 2000 * factor)) <= 40
    tight = replace(ONE, text=ONE.text.replace("expect no alarms", "expect Main.Lifts lasts at most 1 s"))
    report = told(replace(project, scenarios=(tight,)), tolerance=0.3, draws=30, turn=False)
    assert 5 < report.drawn.passed < 25 and report.drawn.failed_first[0][0].startswith("expect Main.Lifts lasts")
    assert sum(n for _, n in report.drawn.failed_first) == 30 - report.drawn.passed


def test_the_path_of_a_cycle_is_whole_and_says_what_each_step_waited_on():
    report = told(proven(), draws=0, turn=False)
    assert [(x.step, x.end - x.begin, x.waited_on) for x in report.path] == [
        ("Lifts", 1000, "Gate (Up)"), ("Stays", 2000, "a time"), ("Sinks", 1000, "Gate (Down)"),
    ]  # fmt: skip
    run = run_scenario(proven(), ONE)
    assert cycle_of(proven().sequences[0], run.session.trace) == 4000 == sum(x.end - x.begin for x in report.path)


def test_the_path_goes_through_the_thread_that_came_last():
    project = spoke.read(__import__("tests.conftest", fromlist=["EXAMPLES"]).EXAMPLES / "lock.spoke")
    report = told(project, draws=0, turn=False)
    steps = [x.step for x in report.path]
    assert steps[:3] == ["Lower", "LowOpensR", "LowOpenR"] or "LowOpensR" in steps
    assert "LowOpensL" not in steps, "the left leaf is quicker"
    assert [x.begin for x in report.path[1:]] == [x.end for x in report.path[:-1]]


def test_the_command_tells_writes_and_refuses(tmp_path):
    file = tmp_path / "m.spoke"
    spoke.write(proven(LATE), file)
    code, out, _ = call("room", str(file), "--jobs", "1", "--draws", "5", "--csv", str(tmp_path / "r.csv"))
    assert code == 0 and "Gate may be 4.9" in out and "5 of 5 cycles pass" in out and "in Stays: a time" in out
    assert (tmp_path / "r.csv").read_text().startswith("what,kind,limit or usual")
    code, out, _ = call("room", str(file), "--jobs", "1", "--draws", "3", "--quick", "--json")
    assert code == 0 and json.loads(out)["draws"]["runs"] == 3 and json.loads(out)["limits"] == []
    spoke.write(proven(), file)
    failing = replace(proven(), scenarios=(replace(ONE, text=ONE.text + "\nexpect finally Up"),))
    assert run_all(failing)[0].outcome is Outcome.FAIL
    spoke.write(failing, file)
    code, _, err = call("room", str(file), "--jobs", "1")
    assert code == 2 and "no scenario passes" in err


def test_tolerances_of_their_own_are_drawn_kept_and_follow_names(tmp_path):
    project = proven()
    for text, says in (
        ("Gate", "Gate is no tolerance; write Name 20 %"), ("Gaet 20 %", "Gaet has no tolerance; did you mean Gate?"),
        ("Start 5 %", "devices that take time"), ("Gate 95 %", "Gate may be off by 90 % at most"),
    ):  # fmt: skip
        with pytest.raises(ToleranceError, match=re.escape(says)):
            read_tolerances(project, text)
    own = read_tolerances(project, " gate 40 %, Long=2.5 ,")
    assert own == (("Gate", 40.0), ("Long", 2.5)) and tolerances_text(own) == "Gate 40 %, Long 2.5 %"
    mine = replace(project, tolerances=own)
    factors = [dict(draw(mine, ONE, knobs_of(mine, ()), 0.1, 0, n).factors) for n in range(40)]
    assert max(abs(f["Gate"] - 1) for f in factors) > 0.3 and all(abs(f["Gate"] - 1) <= 0.4 for f in factors)
    assert 0 < max(abs(f["Long"] - 1) for f in factors) <= 0.025
    usual = [dict(draw(project, ONE, knobs_of(project, ()), 0.1, 0, n).factors) for n in range(9)]
    assert all(set(f) == {"Gate"} and abs(f["Gate"] - 1) <= 0.1 for f in usual)
    renamed = rename_signal(rename_device(mine, "Gate", "Door"), "Long", "Pause")
    assert renamed.tolerances == (("Door", 40.0), ("Pause", 2.5)) and spoke.loads(spoke.dumps(renamed)) == renamed
    file = tmp_path / "hoist.spoke"
    spoke.write(project, file)
    code, out, _ = call(
        "room", str(file), "--jobs", "1", "--quick", "--draws", "3", "--tolerance-of", "Gate 40 %", "--keep"
    )
    assert code == 0 and "tolerance 10 %, Gate 40 %, One:" in out
    assert spoke.read(file).tolerances == (("Gate", 40.0),)
    code, _, err = call("room", str(file), "--tolerance-of", "Nobody 3")
    assert code == 2 and "Nobody has no tolerance" in err


def test_a_limit_without_room_says_so():
    at_once = Limit(Knob("setting", "Long", 12_000.0), False, 12_000.0, 11_990.0, "One: expect ...")
    assert at_once.said() == "Long may not be shorter than 12 s; then One: expect ..."
    assert "may be 13 s instead of 12 s" in replace(at_once, up=True, holds=13_000.0).said()
