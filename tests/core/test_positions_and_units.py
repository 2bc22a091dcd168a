"""Positions as readable rules in the opening logic, and units with copies that stay tied to their template."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.formats import spoke
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_iec
from spokeshave.language.rename import rename_signal
from spokeshave.language.unit_deviations import compare_copy, deviations
from spokeshave.language.units import (
    add_copy,
    belongings,
    common_prefix,
    copied_name,
    left_behind,
    new_unit,
    take_over,
)
from spokeshave.model import edits, flow_edits
from spokeshave.model.edits import EditError
from spokeshave.model.positions import Position, positions, put_position, remove_position
from spokeshave.model.project import (
    Action,
    AlarmRule,
    Body,
    Instance,
    Interlock,
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
    Unit,
)
from spokeshave.verify.check.run import findings
from spokeshave.verify.scenarios import run_scenario

PLAIN = Project(
    "Gate", 10,
    signals=(
        Signal("Up", SignalClass.INPUT), Signal("Down", SignalClass.INPUT), Signal("Lift", SignalClass.OUTPUT),
        Signal("Settle", SignalClass.SETTING, Type.TIME, initial=150), Signal("Reached", SignalClass.OUTPUT),
    ),
    sequences=(Sequence("Main", "A", (Step("A", 10),)),),
)  # fmt: skip


@st.composite
def rules(draw: st.DrawFn) -> Position:
    switch, opposite = draw(st.sampled_from((("Up", "Down"), ("Up", ""), ("", "Down"), ("Down", "Up"))))
    return Position(
        draw(st.sampled_from(("Top", "Bottom", "Parked"))), switch, opposite, draw(st.sampled_from(("", "Lift"))),
        draw(st.booleans()), draw(st.sampled_from(("", "T#200ms", "Settle"))),
    )  # fmt: skip


@settings(max_examples=150, deadline=None)
@given(st.lists(rules(), min_size=1, max_size=3, unique_by=lambda p: p.name), st.booleans())
def test_rules_are_read_back_from_the_opening_logic_as_they_were_made(made, more):
    project = replace(PLAIN, opening="Own := Up;\n" if more else "")
    if more:
        project = edits.add_item(project, "signals", Signal("Own", SignalClass.INTERNAL))
    for p in made:
        project = put_position(project, p)
    plain = [replace(p, commanded=p.commanded and bool(p.command)) for p in made]
    assert positions(project) == plain
    assert not link_problems(project)
    assert project.opening.endswith("Own := Up;\n" if more else "")
    assert positions(spoke.loads(spoke.dumps(project))) == plain
    assert positions(parse_iec(write_iec(project))) == plain
    for p in made:
        project = remove_position(project, p.name)
    assert positions(project) == [] and project.opening == ("Own := Up;\n" if more else "") and not project.instances


def test_a_position_is_confirmed_when_all_has_held_for_the_settle_time():
    project = put_position(PLAIN, Position("Top", "Up", "Down", "Lift", True, "T#50ms"))
    project = replace(
        project, sequences=(replace(project.sequences[0], steps=(Step("A", 10, (edits.read_block("Lift"),)),)),)
    )  # type: ignore[arg-type]
    session = Session(project)
    session.run_scans(2)
    session.do("set", "Up", True)
    session.run_scans(30)
    windows = session.trace.windows("Top")
    assert windows[0][0] * 10 == 20 + 50, "the switch was seen in scan 2, and held for 50 ms"
    session.do("set", "Down", True)
    session.run_scans(2)
    assert session.trace.at("Top", session.k - 1) is False


def test_a_rule_says_what_it_does_and_follows_a_renamed_switch():
    p = Position("Top", "Up", "Down", "Lift", False, "T#200ms")
    assert p.sentence == "Top is confirmed while Up is on, Down is off and Lift is off for 200ms"
    assert replace(p, switch="", command="", settle="").sentence == "Top is inferred while Down is off"
    project = rename_signal(put_position(PLAIN, p), "Up", "TopSwitch")
    assert positions(project)[0].switch == "TopSwitch"


@pytest.mark.parametrize(
    ("position", "why"),
    [
        (Position("Top"), "needs its own switch or the opposite one"),
        (Position("Top", "Nowhere"), "Nowhere is no input"),
        (Position("Top", "Up", command="Down"), "Down is no output"),
        (Position("9", "Up"), "is not a name"),
        (Position("Lift", "Up"), "already the name of something else"),
        (Position("Main", "Up"), "already the name of something else"),
    ],
)  # fmt: skip
def test_a_position_that_cannot_be_is_refused_with_the_reason(position, why):
    with pytest.raises(EditError, match=why):
        put_position(PLAIN, position)
    with pytest.raises(EditError, match="there is no position Top"):
        remove_position(PLAIN, "Top")


# -- units


def with_tray(roastery: Project) -> Project:
    signals, devices = belongings(roastery, ("Cool",))
    return new_unit(roastery, Unit("Tray", "", signals, ("Cool",), devices))


def test_what_belongs_to_a_unit_is_what_only_its_sequences_speak_of(roastery):
    signals, devices = belongings(roastery, ("Cool",))
    assert "Stirrer" in signals and "CoolTime" in signals and "TrayFlap" in devices
    assert "DropOpened" not in signals and "Burner" not in signals


def test_a_copy_runs_as_its_template_does(roastery):
    project = add_copy(with_tray(roastery), "Tray", "B_")
    assert not link_problems(project)
    unit = project.units[0]
    assert not deviations(project, unit, "B_")
    assert project.signal("B_Stirrer").address == "", "two outputs never have one address"
    assert spoke.loads(spoke.dumps(project)) == project
    session = Session(project)
    session.run_for(500)
    session.do("hand", "Start", 1)
    session.run_for(300)
    session.do("hand", "Start", 0)
    session.run_for(80_000)
    for name in ("Cool.Stir.X", "Stirrer", "TrayFan", "Flap"):
        copied = f"B_{name}"
        windows = session.trace.windows(name)
        assert session.trace.windows(copied) == windows
    assert session.trace.windows("B_Cool.Stir.X"), "the tray was used"


def test_a_change_in_the_template_shows_in_its_copies_and_can_be_taken_over(roastery):
    project = add_copy(with_tray(roastery), "Tray", "B_")
    unit = project.units[0]
    own = edits.change_item(project, "signals", [s.name for s in project.signals].index("B_CoolTime"), initial=20_000)
    own = edits.change_item(
        own, "signals", [s.name for s in own.signals].index("B_Flap"), address="%QX5.0", comment="second"
    )
    assert not deviations(own, unit, "B_"), "settings, addresses and comments are the copy's own"
    changed = flow_edits.insert_step(own, "Cool", "Stir")
    changed = edits.change_step(changed, "Cool", "Empty", longest="T#9s")
    texts = [d.text for d in deviations(changed, unit, "B_")]
    assert "step Empty of B_Cool is another" in texts and any("is missing" in t for t in texts)
    after = take_over(changed, "Tray", "B_")
    assert not deviations(after, unit, "B_")
    assert after.signal("B_CoolTime").initial == 20_000 and after.signal("B_Flap").address == "%QX5.0"
    assert len(after.sequence("B_Cool").steps) == len(changed.sequence("Cool").steps)


def test_every_kind_of_deviation_is_named(roastery):
    locked = replace(roastery, interlocks=(*roastery.interlocks, Interlock("Flap", "NOT StirrerRuns")))
    project = add_copy(with_tray(locked), "Tray", "B_")
    assert any(i.output == "B_Flap" and i.condition == "NOT B_StirrerRuns" for i in project.interlocks)
    unit = project.units[0]
    broken = replace(
        project,
        signals=tuple(s for s in project.signals if s.name != "B_Flap"),
        devices=tuple(
            replace(d, parameters=(("extend_s", 9.0),)) if d.name == "B_TrayFlap" else d for d in project.devices
        ),
        interlocks=tuple(i for i in project.interlocks if i.output != "B_Flap"),
    )
    texts = [d.text for d in deviations(broken, unit, "B_")]
    assert texts == [
        "signal B_Flap is missing",
        "device B_TrayFlap is wired or set in another way",
        "the interlock of B_Flap is another",
    ]
    whole = take_over(broken, "Tray", "B_")
    assert deviations(whole, unit, "B_") == () and "copy-otherwise" not in {d.code for d in findings(whole)}
    (finding,) = (d for d in findings(broken) if d.code == "copy-otherwise")
    assert finding.message == "copy B_ of Tray is not as the template: signal B_Flap is missing, and 2 more"


@pytest.mark.parametrize(
    ("prefix", "why"), [("", "there would be a second"), ("9", "is not a name"), ("Roast.", "is not a name")]
)
def test_a_copy_under_a_prefix_that_makes_no_free_names_is_refused(roastery, prefix, why):
    with pytest.raises(EditError, match=why):
        add_copy(with_tray(roastery), "Tray", prefix)


def test_a_unit_needs_a_name_and_something_in_it(roastery):
    with pytest.raises(EditError, match="choose the signals"):
        new_unit(roastery, Unit("Empty"))
    with pytest.raises(EditError, match="a name of its own"):
        new_unit(with_tray(roastery), Unit("tray", "", ("Gate",)))
    with pytest.raises(EditError, match="there is no unit"):
        add_copy(roastery, "Nothing", "B_")


@given(st.sampled_from(("", "A_", "Left")), st.sampled_from(("B_", "Right")), st.sampled_from(("Open", "Shut", "X1")))
def test_names_of_copies_have_their_own_prefix_in_the_place_of_the_templates(old, new, rest):
    assert copied_name(Unit("U", old), new, old + rest) == new + rest


def test_the_prefix_of_a_template_is_what_its_names_begin_with():
    assert common_prefix(["A_Open", "A_Shut", "A_Move"]) == "A_"
    assert common_prefix(["Gate1Up", "Gate1Down"]) == "Gate1"
    assert common_prefix(["Up", "Down"]) == common_prefix([]) == ""


def test_renaming_a_signal_of_a_template_keeps_it_in_the_unit(roastery):
    project = rename_signal(with_tray(roastery), "Stirrer", "Paddle")
    assert "Paddle" in project.units[0].signals and "Stirrer" not in project.units[0].signals


def test_transitions_of_a_copied_sequence_lead_to_its_own_steps(roastery):
    project = add_copy(with_tray(roastery), "Tray", "B_")
    q: Sequence = project.sequence("B_Cool")
    names = {s.name for s in q.steps}
    t: Transition
    for t in q.transitions:
        assert names.issuperset((*t.sources, *t.targets))
    assert any("B_StirrerRuns" in t.condition or "B_Flap" in t.condition for t in q.transitions)


MOVES = """at 0 s: set L_Free to 1
at 1 s: mark "Out"
run for 2 s
expect order L_Leaf: L_Rest
expect no alarm "L_Leaf.L_Move is late\""""


def leaf() -> Project:
    """A unit of one gate leaf with everything that belongs to it, and what speaks of it from outside."""
    ways = (Transition(("L_Rest",), ("L_Move",), "Go AND L_Slow.Q"), Transition(("L_Move",), ("L_Rest",), "L_There"))
    move = Step("L_Move", 20, (Action(Qualifier.N, "L_Drive"), Action(Qualifier.P1, "Note")), "T#5s", response="L_Jam")
    chart = Sequence("L_Leaf", "L_Rest", (Step("L_Rest", 10), move), ways, (Body("Note", "L_Moves := L_Moves + 1;"),))
    other = replace(chart, name="Main", initial="Idle", steps=(Step("Idle", 10), Step("Busy", 20)), bodies=(),
                    transitions=(Transition(("Idle",), ("Busy",), "Go"), Transition(("Busy",), ("Idle",), "L_Leaf.L_Rest.X")))  # fmt: skip
    inputs = [Signal(n, SignalClass.INPUT) for n in ("Go", "Again", "L_There", "L_Free", "Ok")]
    signals = (*inputs, Signal("L_Drive", SignalClass.OUTPUT), Signal("Horn", SignalClass.OUTPUT),
               Signal("L_Moves", SignalClass.INTERNAL, Type.INT), Signal("L_Near", SignalClass.INTERNAL))  # fmt: skip
    return Project(
        signals=signals, sequences=(chart, other), instances=(Instance("L_Slow", "TON"),), reset="Again",
        opening="L_Slow(IN := L_Free, PT := T#20ms); // settles\nL_Near := L_There OR L_Moves > 3;\n",
        closing="Horn := L_Leaf.L_Move.Late AND Ok;",
        interlocks=(Interlock("L_Drive", "L_Free"), Interlock("Horn", "NOT L_There")),
        trips=(Trip("L_Jam", 2, "NOT L_Free", ("L_Leaf",)), Trip("Stop", 1, "NOT Ok", zeroed=("L_Moves",)),
               Trip("Two", 3, "NOT Ok", ("L_Leaf", "Main"), steps="go to", go_to=("L_Leaf.L_Rest",))),
        scenarios=(Scenario("Moves", MOVES),
                   Scenario("Both", "at 0 s: set Go to 1\nrun for 2 s\nexpect order Main: Idle\nexpect never L_Drive")),
        units=(Unit("Leaf", "L_", ("L_There", "L_Free", "L_Drive", "L_Moves", "L_Near"), ("L_Leaf",)),),
    )  # fmt: skip


FIELDS = (
    "sequences",
    "signals",
    "devices",
    "interlocks",
    "trips",
    "scenarios",
    "instances",
    "alarms",
    "connections",
    "opening",
    "closing",
)


@settings(max_examples=300)
@given(st.lists(st.tuples(st.sampled_from(FIELDS), st.integers(0, 40)), max_size=5))
def test_what_is_kept_of_a_comparison_is_what_a_new_one_finds(edits):
    """Each edit asks for all copies again, of which most have stayed as they were."""
    project = add_copy(replace(leaf(), alarms=(AlarmRule("L_High", "L_Near"), AlarmRule("Any", "Ok"))), "Leaf", "R_")
    for field, at in edits:
        there = getattr(project, field)
        if isinstance(there, str):
            changed = there.replace("R_Free", "R_There") if at % 2 else f"{there}R_Near := L_Near;\n"
        elif not there:
            continue
        else:
            item, at = there[at % len(there)], at % len(there)
            if field == "sequences":
                way = replace(item.transitions[0], condition="R_Slow.Q AND Go")
                item = replace(item, transitions=(way, *item.transitions[1:]))
            changed = (*there[:at], *((item,) if field == "sequences" else ()), *there[at + 1 :])
        project = replace(project, **{field: changed})
        fresh = tuple(compare_copy(project, project.units[0], "R_"))
        assert deviations(project, project.units[0], "R_") == fresh


def test_a_copy_takes_all_that_protects_and_tells_what_it_leaves_behind():
    before = leaf()
    assert left_behind(before, "Leaf") == [
        "the closing logic, line 1: Horn := L_Leaf.L_Move.Late AND Ok;",
        "the interlock of Horn: NOT L_There",
        "the sequence Main, which speaks of the unit",
        "the scenario Both, which speaks of other parts too",
    ]
    project = add_copy(before, "Leaf", "R_")
    unit = project.units[0]
    assert deviations(project, unit, "R_") == ()
    assert [d for d in link_problems(project) if d.severity == "error"] == []
    trips = {t.name: t for t in project.trips}
    assert trips["R_Jam"].scope == ("R_Leaf",) and trips["R_Jam"].condition == "NOT R_Free"
    assert trips["Two"].scope == ("L_Leaf", "Main", "R_Leaf") and "R_Leaf.L_Rest" in trips["Two"].go_to
    assert trips["Stop"].zeroed == ("L_Moves", "R_Moves") and trips["Stop"].scope is None
    copied = project.sequence("R_Leaf")
    assert copied.step("L_Move").response == "R_Jam" and copied.bodies[0].text == "R_Moves := R_Moves + 1;"
    assert "R_Slow(IN := R_Free, PT := T#20ms);" in project.opening and "R_Near := R_There" in project.opening
    assert project.closing == before.closing
    scenario = project.scenario("Moves (R)")
    assert 'mark "R Out"' in scenario.text and 'no alarm "R_Leaf.L_Move is late"' in scenario.text
    assert run_scenario(project, scenario).outcome is run_scenario(before, before.scenarios[0]).outcome
    edited = replace(project, opening=project.opening.replace("L_Moves > 3", "L_Moves > 4"))
    assert [d.text for d in deviations(edited, unit, "R_")] == [
        "the opening logic lacks: R_Near := R_There OR R_Moves > 4;"
    ]
    after = take_over(edited, "Leaf", "R_")
    assert deviations(after, unit, "R_") == () and "R_Moves > 3" not in after.opening
