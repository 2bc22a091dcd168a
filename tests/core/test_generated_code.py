"""Charts written out as plain code: the code does what the chart does, scan by scan."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import spokeshave
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.code.write import Generated, generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.files import read_project
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_code
from spokeshave.model.project import Project, Sequence, Step, Transition
from spokeshave.verify.equivalence import Comparison, Run, compare, runs_of
from tests.core.projects import INPUTS, PERIOD, projects, runs, structured

EXAMPLES = Path(spokeshave.__file__).parent / "examples"
hundreds = settings(
    max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large,
                                                            HealthCheck.filter_too_much]
)  # fmt: skip


def names(g: Generated) -> dict[str, str]:
    return {column: g.flag(column) for column in g.active}


def compared(project: Project, style: str, inputs: list[tuple[bool, ...]]) -> Comparison:
    stimuli = tuple(
        Stimulus(k * PERIOD, "set", name, value) for k, row in enumerate(inputs) for name, value in zip(INPUTS, row)
    )
    g = generate(project, style)
    return compare(project, g.as_project(), names(g), iter([Run("random", stimuli, len(inputs) * PERIOD)]))


@hundreds
@given(projects(), runs())
def test_step_flags_do_what_any_chart_does(project, inputs):
    assert compared(project, "flags", inputs) == Comparison(1, len(inputs), None)


@hundreds
@given(structured(), runs())
def test_cases_do_what_a_chart_with_threads_does(project, inputs):
    assert compared(project, "case", inputs) == Comparison(1, len(inputs), None)


@hundreds
@given(projects(), runs())
def test_cases_do_what_any_chart_does_or_say_why_they_cannot(project, inputs):
    try:
        generate(project, "case")
    except FormatError as error:
        assert "cannot be a CASE" in str(error)
        return
    assert compared(project, "case", inputs) == Comparison(1, len(inputs), None)


@pytest.mark.parametrize("style", ["case", "flags"])
@pytest.mark.parametrize("file", ["roastery.spoke", "paddle.st"])
def test_code_of_the_examples_does_what_they_do_and_reads_back_whole(file, style):
    project = read_project(EXAMPLES / file)
    g = generate(project, style)
    found = compare(
        project, g.as_project(), names(g), runs_of(replace(project, scenarios=project.scenarios[:7]), random_runs=1)
    )
    assert found.difference is None
    assert found.scans > 5000
    assert parse_iec(write_code(project, style)) == project


@hundreds
@given(projects(), st.sampled_from(("case", "flags")))
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
    other = replace(g.as_project(), opening=g.text.replace("T#500ms", "T#510ms"))
    found = compare(project, other, names(g), runs_of(project)).difference
    assert found is not None
    assert (found.name, found.chart, found.code) == ("Bell", "FALSE", "TRUE")
