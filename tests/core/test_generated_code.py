"""Charts written out as plain code: the code does what the chart does, scan by scan."""

from __future__ import annotations

import random
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from typer.testing import CliRunner

import spokeshave
from spokeshave.cli import whole_app
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.code.as_run import as_project
from spokeshave.formats.code.finals import unprotected
from spokeshave.formats.code.read import _CodeReader
from spokeshave.formats.code.write import Generated, generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.files import read_project, write_project
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_code
from spokeshave.model.project import (
    Action,
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
)
from spokeshave.verify.equivalence import Comparison, Run, compare, runs_of
from tests.core.projects import INPUTS, PERIOD, projects, runs, structured

EXAMPLES = Path(spokeshave.__file__).parent / "examples"
hundreds = settings(
    max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large,
                                                            HealthCheck.filter_too_much]
)  # fmt: skip


def names(g: Generated) -> dict[str, str]:
    return {column: g.flag(column) for column in g.active}


def compared(
    project: Project, style: str, inputs: list[tuple[bool, ...]], named: tuple[str, ...] = INPUTS
) -> Comparison:
    stimuli = tuple(
        Stimulus(k * PERIOD, "set", name, value) for k, row in enumerate(inputs) for name, value in zip(named, row)
    )
    g = generate(project, style)
    return compare(project, as_project(g), names(g), iter([Run("random", stimuli, len(inputs) * PERIOD)]))


@hundreds
@given(projects(), runs())
def test_step_flags_do_what_any_chart_does(project, inputs):
    assert compared(project, "flags", inputs) == Comparison(1, len(inputs), None)


@hundreds
@given(structured(), runs())
def test_cases_do_what_a_chart_with_threads_does(project, inputs):
    assert compared(project, "case", inputs) == Comparison(1, len(inputs), None)


@hundreds
@given(structured(), runs())
def test_plain_code_does_what_a_chart_with_threads_does(project, inputs):
    assert compared(project, "plain", inputs) == Comparison(1, len(inputs), None)


@hundreds
@given(projects(), runs(), st.sampled_from(("case", "plain")))
def test_cases_do_what_any_chart_does_or_say_why_they_cannot(project, inputs, style):
    try:
        generate(project, style)
    except FormatError as error:
        assert "cannot be a CASE" in str(error)
        return
    assert compared(project, style, inputs) == Comparison(1, len(inputs), None)


@pytest.mark.parametrize("style", ["plain", "case", "flags"])
@pytest.mark.parametrize("file", ["roastery.spoke", "paddle.st"])
def test_code_of_the_examples_does_what_they_do_and_reads_back_whole(file, style):
    project = read_project(EXAMPLES / file)
    g = generate(project, style)
    found = compare(
        project, as_project(g), names(g), runs_of(replace(project, scenarios=project.scenarios[:7]), random_runs=1)
    )
    assert found.difference is None
    assert found.scans > 5000
    assert parse_iec(write_code(project, style)) == project


@hundreds
@given(projects(), st.sampled_from(("plain", "case", "flags")))
def test_code_that_was_written_reads_back_as_the_same_model(project, style):
    try:
        text = write_code(project, style)
    except FormatError:
        return
    assert parse_iec(text) == project


def paddle() -> Project:
    return read_project(EXAMPLES / "paddle.st")


@pytest.mark.parametrize(
    ("old", "new", "condition"),
    [
        ("Paddle_Raising2_T >= T#10s THEN", "Paddle_Raising2_T >= T#9s AND NOT Rising1 THEN", "Raising2.T >= T#9s AND NOT RISING(Raise)"),
        ("Paddle_Raising2_T >= T#10s THEN", "Lower or Paddle_At = 3 then", "Lower or Up3.X"),
    ],
)  # fmt: skip
def test_a_condition_edited_in_the_code_is_taken_over_in_the_words_of_the_model(old, new, condition):
    project = parse_iec(write_code(paddle(), "case").replace(old, new))
    q = paddle().sequences[0]
    index = next(i for i, t in enumerate(q.transitions) if "T#10s" in t.condition)
    assert project.sequences[0].transitions[index].condition == condition
    assert project == edits_at(paddle(), index, condition)


def edits_at(project: Project, index: int, condition: str) -> Project:
    q = project.sequences[0]
    ways = tuple(replace(t, condition=condition) if i == index else t for i, t in enumerate(q.transitions))
    return replace(project, sequences=(replace(q, transitions=ways),))


def test_a_body_edited_in_the_code_is_taken_over_and_the_layout_does_not_matter():
    text = write_code(paddle(), "flags").replace("Lifts := Lifts + 1;", "Lifts := Lifts + 2;  (* twice *)")
    changed = parse_iec("\n".join(line.strip() for line in text.splitlines()))
    assert "Lifts + 2" in changed.sequences[0].bodies[0].text
    assert changed.sequences[0].transitions == paddle().sequences[0].transitions


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("WinchUp :=", "WinchUp := NOT", "NOT stands where the code has Paddle_At"),
        ("AtTop THEN", "AtTop AND FirstScan THEN", "FirstScan is a variable of the code alone"),
        (
            "FirstScan := FALSE;\nEND_P",
            "FirstScan := FALSE; Lifts := 0;\nEND_P",
            "Lifts stands behind the end of the code",
        ),
        ("IF AtTop THEN", "IF THEN", "expected a value, a name or a condition"),
    ],
)
def test_what_is_outside_the_form_is_refused_with_its_place(old, new, said):
    text = write_code(paddle(), "case").replace(old, new, 1)
    with pytest.raises(FormatError) as found:
        parse_iec(text)
    assert said in str(found.value)
    assert (found.value.line or 0) > 50


def chart(*ways: tuple[tuple[str, ...], tuple[str, ...]]) -> Project:
    steps = dict.fromkeys(n for a, b in ways for n in (*a, *b))
    made = tuple(Step(n, 10 * i + 10) for i, n in enumerate(steps))
    return Project(sequences=(Sequence("Main", "A", made, tuple(Transition(a, b) for a, b in ways)),))


@pytest.mark.parametrize(
    ("project", "why"),
    [
        (chart((("A",), ("B", "C")), (("B",), ("A",))), "the transition from A to B and C can come to C while it is active already"),
        (chart((("A",), ("B", "C")), (("B",), ("D",)), (("C",), ("D",))), "can come to D while"),
        (chart((("A",), ("B", "C")), (("B", "C"), ("A",)), (("B",), ("A",))), "B waits together with other steps and has another way out too"),
        (chart((("A",), ("B",)), (("A", "B"), ("A",))), "waits for steps of which only one can be active"),
    ],
)  # fmt: skip
def test_a_chart_that_cannot_be_a_case_says_why(project, why):
    with pytest.raises(FormatError, match="Main cannot be a CASE") as found:
        generate(project, "case")
    assert why in str(found.value)
    generate(project, "flags")


def test_a_return_would_end_the_whole_scan_and_is_refused():
    with pytest.raises(FormatError, match="the opening logic has a RETURN"):
        generate(replace(paddle(), opening="IF Raise THEN RETURN; END_IF;"), "flags")


def test_the_first_difference_is_told_with_its_scan_and_both_values():
    project = paddle()
    g = generate(project, "case")
    other = replace(as_project(g), opening=g.text.replace("T#500ms", "T#510ms"))
    found = compare(project, other, names(g), runs_of(project)).difference
    assert found is not None
    assert (found.name, found.chart, found.code) == ("Bell", "FALSE", "TRUE")


def guarded() -> Project:
    """A machine whose interlock, opposed pair and dead time all act in its scenario."""
    rows = (
        "set Clear off at 40 ms", "set Go on at 0 ms", "set Clear on at 80 ms", "run for 1 s", "expect Down on at 200 ms"
    )  # fmt: skip
    ways = (("A", "B", "Go"), ("B", "C", "B.T >= T#100ms"), ("C", "A", "NOT Go"))
    on = {"A": (), "B": ("Up",), "C": ("Down",)}
    steps = tuple(Step(n, 10 * i + 10, tuple(Action(Qualifier.N, t) for t in on[n])) for i, n in enumerate(on))
    signals = (
        Signal("Go", SignalClass.INPUT), Signal("Clear", SignalClass.INPUT, initial=True),
        Signal("Up", SignalClass.OUTPUT, address="%QX0.0"), Signal("Down", SignalClass.OUTPUT),
    )  # fmt: skip
    return Project(
        signals=signals, interlocks=(Interlock("Up", "Clear"),), opposed=(OpposedPair("Up", "Down", 50),),
        sequences=(Sequence("Main", "A", steps, tuple(Transition((a,), (b,), c) for a, b, c in ways)),),
        scenarios=(Scenario("Up and down", "\n".join(rows)),),
    )  # fmt: skip


@pytest.mark.parametrize("style", ["plain", "case", "flags"])
def test_code_holds_all_that_protects_and_what_is_left_out_would_be_seen(style):
    project = guarded()
    with_all = generate(project, style)
    assert compare(project, as_project(with_all), names(with_all), runs_of(project)).difference is None
    bare = generate(unprotected(project), style)
    seen = {compare(p, as_project(bare), names(bare), runs_of(p)).difference.name  # type: ignore[union-attr]
            for p in (replace(project, interlocks=()), replace(project, opposed=()))}  # fmt: skip
    assert seen == {"Up", "Down"}
    text = write_code(project, style)
    assert parse_iec(text) == project
    changed = parse_iec(text.replace("NOT (Clear)", "NOT (Clear OR Up_Asked)"))
    assert changed.interlocks == (Interlock("Up", "Clear OR Up"),)


def test_code_without_protection_says_so_at_its_head_and_on_standard_error(tmp_path):
    file, out = tmp_path / "guarded.spoke", tmp_path / "guarded.st"
    write_project(guarded(), file)
    left = "the interlock of Up, the opposed pair Up, Down with its dead time of T#50ms"
    told = CliRunner().invoke(whole_app(), ["convert", str(file), str(out), "--style", "case", "--without-interlocks"])
    assert told.exit_code == 0
    assert f"the code leaves out {left}" in told.stderr
    assert out.read_text().startswith(f"(* Not protected: this code leaves out {left} *)")
    assert read_project(out) == guarded()
    told = CliRunner().invoke(whole_app(), ["convert", str(file), str(out)])
    assert "interlocks, opposed pairs of this machine stand in the pragma only" in told.stderr
    assert "is not protected" in out.read_text().splitlines()[0]
    assert read_project(out) == guarded()


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("IF Go THEN", "IF Clear THEN Up_Asked := FALSE; END_IF; IF Go THEN", "this is no condition"),
        ("IF Go THEN", "IF Go AND THEN", "expected a value"),
        ("IF Go THEN", "IF Go; Go THEN", "; does not fit here"),
    ],
)  # fmt: skip
def test_statements_before_a_condition_are_not_swallowed(old, new, said):
    text = write_code(guarded(), "case")
    assert text.count(old) == 1
    with pytest.raises(FormatError, match=said) as found:
        parse_iec(text.replace(old, new))
    line = next(i for i, row in enumerate(text.splitlines(), 1) if old in row)
    assert found.value.line == line


@settings(max_examples=150, suppress_health_check=list(HealthCheck))
@given(project=projects(), seed=st.integers(0, 2**32))
def test_what_is_the_same_around_an_edit_need_not_be_looked_at(project, seed):
    """Texts with something typed, taken out or copied somewhere, read by their window and whole: the same comes of it."""
    rng = random.Random(seed)
    code = generate(project, "flags")
    text = code.text
    for _ in range(rng.randint(1, 2)):
        at = rng.randrange(len(text))
        to = min(len(text), at + rng.choice((0, 0, 1, 4, 40)))
        new = rng.choice(("", " ", "A", " AND B", "(", "END_IF;", "(* note *)", text[rng.randrange(len(text)) :][:20]))
        text = text[:at] + new + text[to:]

    def outcome(read):
        try:
            return read()
        except FormatError as error:
            return str(error)

    reader = _CodeReader(text, code)
    assert outcome(lambda: reader.changes(0, len(text))) == outcome(
        lambda: reader._changes(reader._texts(), 0, len(text))
    )
