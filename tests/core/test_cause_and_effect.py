"""What protects: the matrix shows and edits all of it, tells what acts now, and which scenario shows it."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.engine.session import Session
from spokeshave.language.terms import terms_of, with_terms
from spokeshave.model.edits import EditError
from spokeshave.model.project import Interlock, OpposedPair, Project, Scenario, Trip
from spokeshave.verify.cause_effect import Cause, matrix, shown
from spokeshave.verify.cause_effect_edits import (
    KINDS,
    add,
    change_trip,
    choices,
    guards_of,
    remove,
    set_cause,
    set_effect,
)
from spokeshave.verify.protection import ActedWatch, ActingNow, rules
from spokeshave.verify.scenarios import run_scenario
from spokeshave.verify.trip_story import trip_story
from tests.core.projects import projects
from tests.core.test_check import gate


def guarded() -> Project:
    """A gate with every kind of rule."""
    project = replace(
        gate(), interlocks=(Interlock("Drive", "Halt AND Count < 5"), Interlock("Lamp", "Halt")),
        opposed=(OpposedPair("Drive", "Lamp", 200),),
    )  # fmt: skip
    for kind, guards, text in (("hold", "Main", "Shut AND Go"), ("restart", "Main", "Count > 8"), ("permissive", "Main.Closing", "Halt"),
                               ("trip", "Overrun", "Opening_late"), ("window", "Main.Idle", "1 s to 90 s")):  # fmt: skip
        project = add(project, kind, guards, "Count > 7" if text == "Opening_late" else text)
    return change_trip(project, "Overrun", steps="go to", go_to=("Main.Idle",), stored="keep")


def row(project: Project, name: str) -> Cause:
    return next(c for c in matrix(project).causes if name in c.names or name == c.condition)


def words(project: Project, name: str) -> dict[str, str]:
    m = matrix(project)
    return {f"{m.effects[i].kind} {m.effects[i].name}": cell.word for i, cell in row(project, name).cells.items()}


def effect(project: Project, kind: str, name: str):
    return next(e for e in matrix(project).effects if (e.kind, e.name) == (kind, name))


def test_every_rule_is_a_row_and_its_cells_say_what_happens():
    project = guarded()
    assert {r.kind for r in rules(project)} == set(KINDS)
    assert words(project, "trip Safety") == {"sequence Main": "freeze", "output Drive": "off", "output Lamp": "off"}
    assert words(project, "trip Overrun") == {
        "sequence Main": "go to", "step Main": "Idle", "output Drive": "off", "output Lamp": "keeps"
    }  # fmt: skip
    assert words(project, "Halt") in ({"output Drive": "off", "output Lamp": "off"}, {"step Main": "waits"})
    assert words(project, "Count < 5") == {"output Drive": "off"}
    assert words(project, "opposed Drive/Lamp") == {"output Drive": "not both", "output Lamp": "not both"}
    assert words(project, "hold Main") == {"sequence Main": "keeps"}
    assert words(project, "restart Main") == {"sequence Main": "restart"}
    assert words(project, "permissive Main.Closing") == {"step Main": "waits"}
    assert words(project, "window Main.Idle") == {"step Main": "alarm"}
    shared = next(c for c in matrix(project).causes if c.kind == "interlock" and c.condition == "Halt")
    assert shared.keys == (("interlock Drive", "Halt"), ("interlock Lamp", "Halt")), (
        "one term at two outputs is one row"
    )


@given(
    st.lists(st.sampled_from(["A", "NOT B", "(A OR B)", "C > 3", "HELD(A, T#1s)"]), min_size=1, max_size=4, unique=True)
)
def test_terms_of_a_condition_put_together_again_are_the_condition(terms):
    assert terms_of(with_terms(tuple(terms))) in (
        tuple(terms),
        tuple(t.strip("()") if len(terms) == 1 else t for t in terms),
    )


@settings(max_examples=60, deadline=None)
@given(projects(), st.data())
def test_whatever_a_cell_is_made_to_say_it_says_afterwards(project, data):
    found = [(c, e, w) for c in matrix(project).causes for e in matrix(project).effects for w in choices(project, c, e)]
    if not found:
        return
    cause, where, word = data.draw(st.sampled_from(found))
    after = set_effect(project, cause, where, word)
    m = matrix(after)
    if word == "-":
        left = [
            c
            for c in m.causes
            if c.kind == cause.kind and set(c.names) & set(cause.names) and c.condition == cause.condition
        ]
        assert not any(m.effects[i] == where for c in left for i in c.cells)
    else:
        same = [
            c
            for c in m.causes
            if c.kind == cause.kind and (c.condition == cause.condition or set(c.names) & set(cause.names))
        ]
        said = {c.cells[i].word for c in same for i in c.cells if m.effects[i] == where}
        assert word in said or (cause.kind == "trip" and where.kind == "output")


@pytest.mark.parametrize(
    ("kind", "guards", "text"),
    [("interlock", "Lamp", "Opened"), ("opposed", "Drive/Lamp", "300 ms"), ("permissive", "Main.Opening", "Halt"),
     ("window", "Main.Idle", "Wait"), ("hold", "Main", "Shut"), ("restart", "Main", "Shut"), ("trip", "New", "Shut")],
)  # fmt: skip
def test_a_rule_is_added_changed_and_taken_away_again(kind, guards, text):
    project = gate()
    assert guards in guards_of(project, kind) or kind == "trip"
    added = add(project, kind, guards, text)
    name = f"{kind} {guards}"
    cause = row(added, name)
    changed = set_cause(added, cause, {"opposed": "1 s", "window": "2 s to 9 s"}.get(kind, "Go OR Closed"))
    assert changed != added and row(changed, name).kind == kind
    assert remove(changed, row(changed, name)) == project
    assert set_cause(added, cause, "  ") == project, "an empty cause takes the row away"


@pytest.mark.parametrize(
    ("kind", "guards", "text", "message"),
    [("interlock", "Drove", "Go", "no BOOL output Drove; did you mean Drive"), ("interlock", "Drive", "", "say what"),
     ("opposed", "Drive", "", r"no BOOL output \(none\)"), ("opposed", "Drive/Lamp", "long", "no dead time"),
     ("window", "Main.Idle", "Go", "no time"), ("permissive", "Main.Gone", "Go", "no step"), ("hold", "Maine", "Go", "no sequence"),
     ("trip", "Safety", "Go", "a trip Safety already"), ("fuse", "Drive", "Go", "no rule 'fuse'")],
)  # fmt: skip
def test_a_rule_that_makes_no_sense_is_refused_with_what_would(kind, guards, text, message):
    with pytest.raises(EditError, match=message):
        add(gate(), kind, guards, text)


def test_a_trip_that_is_renamed_or_taken_away_is_followed_by_the_steps_that_raise_it():
    project = set_effect(guarded(), row(guarded(), "window Main.Idle"), effect(guarded(), "step", "Main"), "Safety")
    assert project.sequences[0].steps[0].response == "Safety"
    renamed = change_trip(project, "Safety", name="Guard", rank=3)
    assert renamed.sequences[0].steps[0].response == "Guard"
    assert remove(renamed, row(renamed, "trip Guard")).sequences[0].steps[0].response == "alarm"
    with pytest.raises(EditError, match="a trip Overrun already"):
        change_trip(project, "Safety", name="Overrun")


def test_a_term_acts_while_its_output_is_asked_for_and_it_is_false():
    session = Session(guarded())
    acting = ActingNow(session.program)
    session.do("hand", "Button", 1)
    session.scan()
    session.do("hand", "Button", 0)
    session.run_scans(2)
    session.do("hand", "Button", 1)
    session.scan()
    # Idle was left too early; Lamp and Drive are both asked for in Opening: they oppose each other.
    assert acting.keys(session.situation) == {("opposed Drive/Lamp", ""), ("window Main.Idle", "")}
    session.do("set", "Halt", False)
    session.scan()
    keys = acting.keys(session.situation)
    assert ("trip Safety", "") in keys and ("interlock Drive", "Count < 5") not in keys


@pytest.mark.parametrize(
    ("rows", "key"),
    [
        ("at 10 ms: press Button\non Main.Opening: hold Mushroom", ("trip Safety", "")),
        ("at 10 ms: press Button for 10 ms\nafter 100 ms: hold Button\nafter 1 s: hold Shutter", ("hold Main", "")),
        ("at 2 s: hand drive on\nafter 0 s: ask Drive to TRUE\nafter 0 s: hold Mushroom", ("interlock Drive", "Halt")),
        ("at 10 ms: press Button", ("opposed Drive/Lamp", "")),
        ("at 10 ms: press Button", ("window Main.Idle", "")),
        ("given Sluice \"jammed\"\nat 2 s: press Button", ("window Main.Opening", "")),
    ],
)  # fmt: skip
def test_a_run_tells_which_rules_came_into_play(rows, key):
    project = guarded()
    result = run_scenario(project, Scenario("Try", f"{rows}\nrun for 8 s\nexpect always Count < 9"))
    assert key in dict(result.runs[0].acted)
    assert key in shown([result]) and shown([result])[key][0].time_ms == dict(result.runs[0].acted)[key]
    session = result.runs[0].session()
    k = dict(result.runs[0].acted)[key] // 10
    program, then = session.moment(k)
    assert key in ActingNow(program).keys(then), "and it acts in that scan"
    if k:
        assert key not in ActingNow(*session.moment(k - 1)[:1]).keys(session.moment(k - 1)[1])


def test_what_was_seen_acting_is_what_acted_in_any_scan():
    session = Session(guarded())
    watch, acting, seen = ActedWatch(session.program, 0), ActingNow(session.program), set()
    for k in range(300):
        if k % 40 == 3:
            session.do("hand", ("Button", "Shutter", "Mushroom")[k // 40 % 3], k // 120 % 2 == 0)
        session.scan()
        watch.see(session.situation)
        seen |= acting.keys(session.situation)
    assert set(watch.first) == seen and len(seen) > 2


@pytest.mark.parametrize("latching", [True, False])
@pytest.mark.parametrize("stored", ["clear", "keep"])
@pytest.mark.parametrize("steps", ["freeze", "restart", "go to"])
def test_the_picture_of_a_trip_is_a_run_of_one_with_these_effects(steps, stored, latching):
    lanes, period = trip_story(
        Trip("X", 4, "Cause", steps=steps, stored=stored, latching=latching, times="zero", zeroed=("N",))
    )
    at = {lane.name: lane.values for lane in lanes}
    before, during, after_cause = 2400 // period, 3000 // period, 4000 // period
    assert at["Cause"][during] and not at["Cause"][after_cause]
    assert bool(at["Trip"][after_cause]) is latching and at["Trip"][during]
    assert at["Step output"][before] and not at["Step output"][during]
    assert bool(at["Stored output"][during]) is (stored == "keep" and steps != "go to")
    assert at[{"freeze": "Work", "restart": "Rest", "go to": "Away"}[steps]][2600 // period]
    assert at["Number"][before] == 1 and at["Number"][2600 // period] == 0
    assert ("Reset" in at) is latching
