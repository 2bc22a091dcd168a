"""Sequences that steps run: what a mark RUN means in time, in code and files, for checks and the study (semantics section 12)."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.engine.link import LinkError, link, link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.code.as_run import as_project
from spokeshave.formats.code.write import STYLES, generate
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_code, write_iec
from spokeshave.formats.plcopen.reading import project_of
from spokeshave.formats.plcopen.writing import write_xml
from spokeshave.formats.spoke import dumps, loads
from spokeshave.formats.tables.book import read_tables
from spokeshave.formats.tables.write import write_tables
from spokeshave.language.rename import rename_sequence
from spokeshave.language.sub_sequences import (
    DEEPEST,
    ends_of,
    run_in,
    set_marks,
    taken_back,
    with_end,
    written_out,
)
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.flow_edits import change_transition
from spokeshave.model.project import Action, Device, Project, Qualifier, Scenario, Trip
from spokeshave.verify.check.remedies import remedy
from spokeshave.verify.check.run import findings
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.reach.answers import study
from spokeshave.verify.scenarios import run_scenario
from spokeshave.verify.standing import proof_of, since
from spokeshave.verify.sweep.concerns import Concerns

TEXT = """
VAR_GLOBAL
  Go AT %IX0.0 : BOOL; Halt AT %IX0.1 : BOOL; Pause AT %IX0.2 : BOOL; Jam AT %IX0.3 : BOOL;
  Lamp AT %QX0.0 : BOOL; Inlet AT %QX0.1 : BOOL; Outlet AT %QX0.2 : BOOL;
END_VAR
PROGRAM Main
  INITIAL_STEP Idle: END_STEP
  STEP Clean: Lamp(N); Wash(RUN); END_STEP
  STEP Again: Wash(RUN); END_STEP
  TRANSITION FROM Idle TO Clean := Go; END_TRANSITION
  TRANSITION (PRIORITY := 2) FROM Clean TO Again := TRUE; END_TRANSITION
  TRANSITION (PRIORITY := 1) FROM Clean TO Idle := Halt; END_TRANSITION
  TRANSITION FROM Again TO Idle := TRUE; END_TRANSITION
END_PROGRAM
PROGRAM Wash
  INITIAL_STEP Rest: END_STEP
  STEP Fill: Inlet(N); END_STEP
  STEP Drain: Outlet(N); END_STEP
  STEP Done: END_STEP
  TRANSITION FROM Rest TO Fill := TRUE; END_TRANSITION
  TRANSITION FROM Fill TO Drain := Fill.T >= T#50ms; END_TRANSITION
  TRANSITION FROM Drain TO Done := Drain.T >= T#50ms; END_TRANSITION
END_PROGRAM
"""


def washing(**changes: str) -> Project:
    project = parse_iec(TEXT)
    main, wash = project.sequences
    return replace(project, reset="Go", sequences=(replace(main, **changes), wash))


def ran(project: Project, ms: int, *sets: tuple[int, str, bool]) -> Session:
    session = Session(project, [Stimulus(t, "set", n, v) for t, n, v in sets])
    session.run_scans(ms // 10)
    return session


def on(session: Session, name: str) -> list[tuple[int, int]]:
    """From when to when something was TRUE, in ms."""
    return [(10 * a, 10 * b) for a, b in session.trace.windows(name)]


def turned(project: Project) -> Project:
    """With the sequence that is run before the one that runs it."""
    return replace(project, sequences=project.sequences[::-1])


@pytest.mark.parametrize("order", [lambda p: p, turned])
def test_a_step_starts_a_sequence_awaits_its_end_and_the_next_starts_it_anew(order):
    session = ran(order(washing()), 600, (20, "Go", True), (30, "Go", False))
    (clean,), (again,) = on(session, "Main.Clean.X"), on(session, "Main.Again.X")
    fills, drains = on(session, "Inlet"), on(session, "Outlet")
    assert len(fills) == len(drains) == 2 and all(b - a == 50 for a, b in fills + drains)
    for step, fill, drain in zip((clean, again), fills, drains):
        assert step[0] <= fill[0] <= step[0] + 30 and fill[1] == drain[0]
        assert drain[1] <= step[1] <= drain[1] + 10, "it goes on at once"
    assert clean[1] == again[0] and on(session, "Wash.Rest.X")[-1][1] == 600


def test_a_step_that_is_left_before_breaks_it_off_in_the_next_scan():
    session = ran(washing(), 300, (20, "Go", True), (30, "Go", False), (50, "Halt", True))
    assert on(session, "Main.Clean.X") == [(20, 50)] and on(session, "Inlet") == [(20, 60)]
    assert not on(session, "Outlet") and not on(session, "Wash.Done.X")


def test_it_stands_while_the_sequence_that_runs_it_is_held_and_times_stand_too():
    held = washing(hold_when="Pause", hold_outputs="drop")
    session = ran(held, 400, (20, "Go", True), (30, "Go", False), (40, "Pause", True), (140, "Pause", False))
    assert on(session, "Wash.Fill.X")[0] == (20, 170) and on(session, "Inlet")[:2] == [(20, 40), (140, 170)]
    own = replace(held.sequences[1], hold_when="Jam")
    both = ran(replace(held, sequences=(held.sequences[0], own)), 200, (20, "Go", True), (40, "Jam", True))
    assert on(both, "Wash.Fill.X") == [(20, 200)], "a hold of its own stays, and the other goes on"


def test_a_trip_on_the_one_acts_on_the_other_and_a_power_cycle_or_restart_begins_both_anew():
    jam = Trip("Jammed", 1, "Jam", scope=("Main",), steps="go to", go_to=("Main.Idle",))
    session = ran(replace(washing(), trips=(jam,)), 200, (20, "Go", True), (30, "Go", False), (50, "Jam", True))
    assert on(session, "Wash.Fill.X") == [(20, 50)] and on(session, "Wash.Rest.X")[-1][0] == 50
    frozen = replace(jam, steps="freeze", go_to=())
    session = ran(replace(washing(), trips=(frozen,)), 200, (20, "Go", True), (30, "Go", False), (50, "Jam", True))
    assert on(session, "Inlet") == [(20, 50)] and on(session, "Wash.Fill.X") == [(20, 200)]
    project = washing(restart_when="Halt")
    main = project.sequences[0]
    project = replace(
        project,
        sequences=(replace(main, transitions=(main.transitions[0], *main.transitions[1::2])), project.sequences[1]),
    )
    session = ran(project, 200, (20, "Go", True), (30, "Go", False), (50, "Halt", True))
    assert on(session, "Main.Clean.X") == [(20, 50)] and on(session, "Wash.Fill.X") == [(20, 60)]
    kept = replace(
        washing(retain=True),
        sequences=(washing(retain=True).sequences[0], replace(washing().sequences[1], retain=True)),
    )
    rows = [Stimulus(20, "set", "Go", True), Stimulus(30, "set", "Go", False), Stimulus(50, "power", "", True)]
    for made, still in (
        (washing(), False),
        (kept, True),
        (replace(kept, sequences=(washing().sequences[0], kept.sequences[1])), False),
    ):
        session = Session(made, rows)
        session.run_scans(12)
        assert bool(on(session, "Outlet")) is still, "what is kept goes on, together or not at all"


@given(
    st.lists(
        st.tuples(st.integers(1, 40), st.sampled_from(["Go", "Halt", "Pause", "Jam"]), st.booleans()), max_size=12
    ),
    st.booleans(),
)
def test_code_of_it_does_the_same_and_every_file_brings_it_back(rows, drop):
    project = washing(hold_when="Pause", hold_outputs="drop" if drop else "keep")
    project = replace(project, trips=(Trip("Jammed", 1, "Jam", scope=("Main",), latching=False),))
    sets = [Stimulus(10 * t, "set", n, v) for t, n, v in sorted(rows)]
    plain = Session(project, sets, every_scan=True)
    plain.run_scans(60)
    jumped = Session(project, sets)
    jumped.run_scans(60)
    for style in STYLES:
        made = generate(project, style)
        code = Session(as_project(made), sets, every_scan=True)
        code.run_scans(60)
        for name in ("Lamp", "Inlet", "Outlet"):
            assert plain.trace.windows(name) == code.trace.windows(name) == jumped.trace.windows(name), (style, name)


def test_files_and_code_bring_the_marks_back_and_an_edited_text_keeps_them(tmp_path):
    project = washing(hold_when="Pause")
    project = replace(project, trips=(Trip("Jammed", 1, "Jam", scope=("Main",), steps="go to", go_to=("Main.Idle",)),))
    assert loads(dumps(project)) == project
    assert parse_iec(write_iec(project)) == project and "RUN" not in write_iec(project).split("{spokeshave")[0]
    assert project_of(write_xml(project).encode()) == project
    bare = [replace(q, hold_when="") for q in project.sequences]  # a table has no holds
    write_tables(replace(project, sequences=tuple(bare)), tmp_path / "wash.xlsx")
    assert list(read_tables(tmp_path / "wash.xlsx").project.sequences) == bare
    for style in STYLES:
        text = write_code(project, style)
        assert parse_iec(text) == project
        wanted = change_transition(project, "Wash", 1, condition="Fill.T >= T#70ms")
        assert parse_iec(text.replace("T#50ms", "T#70ms", 1)) == wanted, style
    other = change_transition(project, "Wash", 0, condition="NOT Jam")
    assert taken_back(written_out(other), project) == other
    text = write_iec(project).replace("Wash.Done.X", "Wash.Done.X AND Halt")
    assert "Wash(RUN)" not in text and parse_iec(text).sequences[0].transitions[1].condition == "Wash.Done.X AND Halt"


def test_a_mark_that_runs_nothing_or_in_a_circle_is_told_and_a_round_gets_an_end():
    project = washing()
    main, wash = project.sequences
    for target, code in (("Wahs", "run-nothing"), ("Main", "run-circle")):
        steps = (main.steps[0], replace(main.steps[1], actions=(Action(Qualifier.RUN, target),)), *main.steps[2:])
        wrong = replace(project, sequences=(replace(main, steps=steps), wash))
        assert [d.code for d in link_problems(wrong)] == [code]
        with pytest.raises(LinkError):
            link(wrong)
    ways = (*wash.transitions[:2], replace(wash.transitions[2], targets=("Rest",)))
    round_ = replace(project, sequences=(main, replace(wash, steps=wash.steps[:3], transitions=ways)))
    (found,) = [d for d in findings(round_) if d.code == "run-no-end"]
    words, mend = remedy(round_, found)
    assert words == "Let Wash end in a step of its own" and [s.name for s in ends_of(mend(round_).sequences[1])] == [
        "Done"
    ]
    assert not [d for d in findings(mend(round_)) if d.code.startswith("run-")]
    with pytest.raises(EditError, match="nothing of Wash leads back"):
        with_end(project, "Wash")
    typo = change_transition(project, "Wash", 0, condition="Nobody AND Go")
    (problem,) = link_problems(typo)
    assert "Nobody" in problem.message and "Main" not in problem.message, "told of the text as it is written"


def test_a_step_that_does_not_await_it_is_told_and_mended():
    project = change_transition(washing(), "Main", 3, condition="Go")
    (found,) = [d for d in findings(project) if d.code == "run-not-awaited"]
    assert found.place.item == "Again"
    mended = remedy(project, found)[1](project)
    assert mended.sequences[0].transitions[3].condition == "(Go) AND Wash.Done.X"
    assert not [
        d
        for d in findings(mended)
        if d.code in ("run-not-awaited", "condition-constant", "step-no-exit", "branches-overlap")
    ]


def test_a_sequence_is_run_by_what_is_typed_and_refused_in_words():
    bare = set_marks(washing(), "Main", "Again", "Wash", "")
    assert not bare.sequences[0].step("Again").actions
    for made in (set_marks(bare, "Main", "Again", "Wash", "x"), run_in(bare, "Main", "Again", "wash")):
        assert made.sequences[0].step("Again").actions == (Action(Qualifier.RUN, "Wash"),)
        assert made.sequences[0].transitions[3].condition == "Wash.Done.X", "what it awaits is seen"
        assert rename_sequence(made, "Wash", "Rinse").sequences[0].step("Again").actions[0].target == "Rinse"
    for target, text, says in (
        ("Lamp", "RUN", "no sequence"),
        ("Wash", "S", "can RUN it"),
        ("Wash", "L 2s", "can RUN it"),
    ):
        with pytest.raises(EditError, match=says):
            set_marks(bare, "Main", "Again", target, text)
    for other, says in (("Main", "cannot be run here"), ("Nobody", "there is Wash")):
        with pytest.raises(EditError, match=says):
            run_in(bare, "Main", "Again", other)


def test_the_study_goes_into_it():
    free = {(a.kind, a.about): a.text for a in study(washing()).answers}
    assert free["reached", "Wash"] == free["reached", "Main"] == "every step and every transition is reached"
    never = change_transition(washing(), "Wash", 2, condition="FALSE")
    told = {(a.kind, a.about): a.text for a in study(never).answers}
    assert "never active: Done" in told["reached", "Wash"] and "never active: Again" in told["reached", "Main"]


def chain(length: int) -> Project:
    """Sequences that each run the next one."""
    start = washing().sequences[1]
    rows = []
    for n in range(length):
        marks = (Action(Qualifier.RUN, f"S{n + 1}"),) if n + 1 < length else ()
        rows.append(
            replace(
                start,
                name=f"S{n}",
                steps=tuple(replace(s, actions=marks if s.name == "Fill" else ()) for s in start.steps),
            )
        )
    return replace(washing(), sequences=tuple(rows))


def test_sequences_run_each_other_in_a_row_up_to_a_limit_that_is_told():
    deep = chain(DEEPEST + 1)
    assert not link_problems(deep)
    session = ran(change_transition(deep, "S0", 0, condition="Go"), 1000, (20, "Go", True))
    assert all(session.trace.windows(f"S{n}.Fill.X") for n in range(DEEPEST + 1)), "the last one runs too"
    long = chain(1500)
    found = link_problems(long)
    assert (
        {d.code for d in found} == {"run-circle"} and f"more than {DEEPEST}" in found[0].message and len(found) < 1500
    )
    ring = replace(long, sequences=tuple(
        replace(q, steps=tuple(replace(s, actions=(Action(Qualifier.RUN, "S0"),)) if s.name == "Fill" and q.name == "S1499" else s for s in q.steps))
        for q in long.sequences
    ))  # fmt: skip
    assert {d.code for d in link_problems(ring)} == {"run-circle"}


def test_a_mark_in_a_step_that_no_run_came_to_may_change_a_verdict():
    """Nobody runs Wash yet, so it goes by itself: run by a step that is never entered it would wait."""
    main, wash = washing().sequences
    free = replace(washing(), sequences=(replace(main, steps=tuple(replace(s, actions=()) for s in main.steps)), wash))
    free = replace(free, scenarios=(Scenario("s", "run for 1 s\nexpect Wash.Fill entered 1 times"),))
    free = change_transition(change_transition(free, "Main", 1, condition="Halt"), "Main", 3, condition="Halt")
    result = run_scenario(free, free.scenarios[0])
    run = run_in(free, "Main", "Again", "Wash")
    assert result.outcome is Outcome.PASS and run_scenario(run, run.scenarios[0]).outcome is not Outcome.PASS
    assert since(proof_of(result), run) and not since(proof_of(result), free), "it is to be run again"


def test_an_alarm_of_a_step_points_at_what_the_sequence_that_it_runs_drives():
    tank = Device("Tub", "vessel", (("inlet", "Inlet"), ("outlet", "Outlet")))
    lamp = Device("Light", "lamp", (("lamp", "Lamp"),))
    concerns = Concerns(replace(washing(), devices=(tank, lamp)))
    assert concerns.points_at(Place("step", "Main", "Again"), "Tub") and not concerns.points_at(
        Place("step", "Main", "Again"), "Light"
    )
    assert concerns.points_at(Place("step", "Main", "Clean"), "Light") and not concerns.points_at(
        Place("step", "Main", "Idle"), "Tub"
    )
