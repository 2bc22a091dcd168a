"""What must never be, proven of everything that can be reached: as the logic asks for outputs, and as they go out."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.engine.session import Session
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.spoke import dumps, loads
from spokeshave.language.rename import rename_signal
from spokeshave.model.project import Action, Interlock, OpposedPair, Project, Qualifier, Scenario, SignalClass, Type
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.reach.answers import study
from spokeshave.verify.reach.asked import Says
from spokeshave.verify.reach.invariants import broken, of_scenarios, of_stored, watched, watching
from spokeshave.verify.reach.questions import parse_plan, print_plan
from spokeshave.verify.reach.studied import StudyError
from spokeshave.verify.scenarios import run_scenario
from tests.core.projects import INPUTS, runs
from tests.core.test_reach import SLOW, small_charts

TEXT = """
VAR_GLOBAL
  Go AT %IX0.0 : BOOL; Clamped AT %IX0.1 : BOOL; Done AT %IX0.2 : BOOL;
  Knife AT %QX0.0 : BOOL; Clamp AT %QX0.1 : BOOL; Fan AT %QX0.2 : BOOL;
END_VAR
PROGRAM Air
  INITIAL_STEP Still: END_STEP
  STEP Blows: Fan(N); END_STEP
  TRANSITION FROM Still TO Blows := Done; END_TRANSITION
  TRANSITION FROM Blows TO Still := NOT Done; END_TRANSITION
END_PROGRAM
PROGRAM Main
  INITIAL_STEP Idle: END_STEP
  STEP Hold: Clamp(N); END_STEP
  STEP Cut: Clamp(N); Knife(N); END_STEP
  TRANSITION FROM Idle TO Hold := Go; END_TRANSITION
  TRANSITION FROM Hold TO Cut := Clamped; END_TRANSITION
  TRANSITION FROM Cut TO Idle := NOT Go; END_TRANSITION
END_PROGRAM
"""


def cutter(**changes: object) -> Project:
    return replace(parse_iec(TEXT), **changes)


def says(project: Project, *never: str) -> dict[str, Says]:
    return {a.about: a.says for a in study(project, never=never).answers if a.kind == "never"}


@pytest.mark.parametrize(
    ("never", "asked", "out"),
    [
        ("Knife AND NOT Clamp", Says.GOOD, Says.GOOD),
        ("Knife AND NOT Clamped", Says.BAD, Says.GOOD),  # the interlock keeps it off
        ("while Main.Idle.X: NOT Clamp", Says.GOOD, Says.GOOD),
        ("while Go: NOT Knife", Says.BAD, Says.BAD),
        ("Knife AND Fan", Says.BAD, Says.BAD),  # of two sequences that have nothing to do with each other
        ("Clamp AND Air.Blows.X", Says.BAD, Says.BAD),
        ("Fan AND NOT Done", Says.GOOD, Says.GOOD),
    ],
)
def test_what_must_never_be_is_proven_or_shown(never, asked, out):
    project = cutter(interlocks=(Interlock("Knife", "Clamped"),))
    found = {a.about.rpartition(", ")[2]: a for a in study(project, never=(never,)).answers if a.kind == "never"}
    assert {k: a.says for k, a in found.items()} == {"before interlocks": asked, "after interlocks": out}
    for a in found.values():
        assert (a.way is None) is (a.says is Says.GOOD)
        assert a.way is None or run_scenario(project, Scenario("s", a.way.text)).outcome is Outcome.PASS, (
            "the way plays"
        )


def outputs_of(project: Project) -> list[str]:
    return [s.name for s in project.signals if s.cls is SignalClass.OUTPUT and s.type is Type.BOOL]


guarded = st.builds(
    lambda project, lock, opposed: replace(
        project, signals=tuple(replace(s, cls=SignalClass.OUTPUT) if s.name == "Mark" else s for s in project.signals),
        interlocks=(Interlock("Y", "NOT C"),) * lock, opposed=(OpposedPair("Mark", "Y"),) * opposed,
    ),
    small_charts(), st.booleans(), st.booleans(),
)  # fmt: skip


@SLOW
@given(guarded)
def test_two_outputs_that_are_never_on_together_are_the_question_that_was_there(project):
    a, b = "Mark", "Y"
    found = study(project, together=((a, b),), never=(f"{a} AND {b}",))
    assert found.whole
    by = {(x.kind, x.about): x.says for x in found.answers}
    assert by["together", f"{a} and {b}, before interlocks"] == by["never", f"never {a} AND {b}, before interlocks"]
    out = by["never", f"never {a} AND {b}, after interlocks"]
    assert by["together", f"{a} and {b}, after interlocks"] == out or Says.MAY in (
        out,
        by["together", f"{a} and {b}, after interlocks"],
    )


@SLOW
@given(guarded, runs(), st.data())
def test_nothing_that_is_proven_never_to_be_comes_in_a_run(project, inputs, data):
    steps = [f"{q.name}.{s.name}.X" for q in project.sequences for s in q.steps]
    terms = [data.draw(st.sampled_from([*outputs_of(project), *steps])) for _ in range(2)]
    text = f"{terms[0]} AND {'NOT ' * data.draw(st.booleans())}{terms[1]}"
    found = study(project, never=(text,))
    assert found.whole
    proven = [a for a in found.answers if a.kind == "never" and a.says is Says.GOOD]
    session = Session(watched(project, watching(project, (text,))), every_scan=True)
    for values in inputs:
        for name, value in zip(INPUTS, values):
            session.do("set", name, value)
        session.scan()
    for a in proven:
        stage = "NeverAsked1" if "before" in a.about else "NeverOut1"
        assert not session.trace.windows(stage), a.about


def test_what_is_still_stored_at_home_is_asked_and_found():
    air, main = cutter().sequences

    def with_blocks(first: tuple[Action, ...]) -> Project:
        cut = replace(main.steps[-1], actions=(*main.steps[-1].actions, Action(Qualifier.S, "Knife")))
        steps = (replace(main.steps[0], actions=first), *main.steps[1:-1], cut)
        return cutter(sequences=(air, replace(main, steps=steps)))

    wrong = with_blocks(())
    (line,) = of_stored(wrong)
    assert line == "Main.Idle.X AND Knife" and set(says(wrong, line).values()) == {Says.BAD}
    right = with_blocks((Action(Qualifier.R, "Knife"),))
    assert of_stored(right) == () == of_stored(cutter()), "the initial step resets it; nothing is stored"
    assert set(says(right, line).values()) == {Says.GOOD}


def test_rows_of_scenarios_are_taken_over_and_lines_kept_renamed_and_refused(tmp_path):
    rows = "run for 1 s\nexpect never Knife AND NOT Clamp\nexpect while Main.Idle.X: NOT Clamp\nexpect always NOT (Knife AND Fan)\n"
    project = cutter(
        scenarios=(Scenario("s", f"{rows}expect never RISING(Go) AND Knife"),), opposed=(OpposedPair("Knife", "Fan"),)
    )
    lines = of_scenarios(project)
    assert lines == ("Knife AND NOT Clamp", "while Main.Idle.X: NOT Clamp", "NOT (NOT (Knife AND Fan))")
    plan, problems = parse_plan(project, "never Knife AND NOT Clamp\nwhile Main.Idle.X: NOT Clamp")
    assert not problems and plan.never == lines[:2] and parse_plan(project, print_plan(plan))[0] == plan
    kept = replace(project, study=plan)
    assert loads(dumps(kept)) == kept and rename_signal(kept, "Knife", "Blade").study.never[0] == "Blade AND NOT Clamp"
    assert says(kept, lines[2]) == {
        "never Knife AND NOT Clamp, before interlocks": Says.GOOD, "never Knife AND NOT Clamp, after interlocks": Says.GOOD,
        "while Main.Idle.X: NOT Clamp, before interlocks": Says.GOOD, "while Main.Idle.X: NOT Clamp, after interlocks": Says.GOOD,
        f"never {lines[2]}, before interlocks": Says.BAD, f"never {lines[2]}, after interlocks": Says.GOOD,
    }  # fmt: skip
    for wrong, text in (
        ("never Blade", "there is no Blade"),
        ("never Knife AND", "Knife AND"),
        ("while Go", "while"),
        ("never RISING(Go)", "an edge"),
    ):
        (problem,) = parse_plan(project, wrong)[1]
        assert text in problem.message
    with pytest.raises(StudyError, match="there is no Blade"):
        study(project, never=("Blade",))
    with pytest.raises(StudyError, match="has a RETURN"):
        study(replace(project, closing="IF Go THEN RETURN; END_IF;"), never=("Knife",))
    assert broken("while A: B") == "(A) AND NOT (B)"
    file = tmp_path / "cutter.spoke"
    file.write_text(dumps(project))
    done = CliRunner().invoke(whole_app(), ["reach", str(file), "--rows", "--never", "while Go: NOT Knife"])
    assert (
        done.exit_code == 1 and "proven         never Knife AND NOT Clamp, after interlocks: it never is" in done.stdout
    )
    assert "no             while Go: NOT Knife, before interlocks: it can be" in done.stdout
    refused = CliRunner().invoke(whole_app(), ["reach", str(file), "--never", "Blade AND Knife"])
    assert refused.exit_code == 2 and "there is no Blade" in refused.stderr
