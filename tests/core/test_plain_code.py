"""Charts as plain code: lean, stable, and read back as the same chart without any pragma."""

from __future__ import annotations

import re
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import spokeshave
from spokeshave.engine.link import link_problems
from spokeshave.formats.code.as_run import as_project
from spokeshave.formats.code.write import generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_code
from spokeshave.model.diagnostics import errors
from spokeshave.model.project import (
    Action,
    Body,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Type,
)
from spokeshave.reading import read_project, read_text
from spokeshave.verify.equivalence import compare, runs_of
from tests.core.projects import build_project, structured

HERE = Path(__file__).parent / "state_programs"
EXAMPLES = Path(spokeshave.__file__).parent / "examples"


def plain(project: Project) -> str:
    """The plain code, as it stands without the pragma."""
    return write_code(project, "plain").partition("{spokeshave")[0]


def lines(text: str) -> int:
    """Lines of a program that are neither empty nor a comment alone."""
    bare = re.sub(r"\(\*.*?\*\)|//[^\n]*", "", text, flags=re.DOTALL)
    return sum(bool(line.strip()) for line in bare.split("\n"))


@st.composite
def charts(draw: st.DrawFn) -> Project:
    """A chart of the kind that people write as code: one thread, marks, bodies on entry and exit, edges, step times."""
    n = draw(st.integers(2, 6))
    names = draw(st.permutations(["Rest", "Dip_in", "Soak", "Drain", "Turn", "Lift_up", "S70"]))[:n]
    numbers = sorted(draw(st.sets(st.integers(0, 90), min_size=n, max_size=n)))
    terms = st.sampled_from(("Go", "NOT Go", "There", "Count >= 2", "RISING(Call)", "HELD(There, T#200ms)"))
    ways, bodies, steps = [], [], []
    for i, name in enumerate(names):
        asked = draw(st.lists(terms, min_size=1, max_size=3, unique_by=lambda x: x.removeprefix("NOT ")))
        if draw(st.booleans()):
            asked.insert(0, f"{name}.T {draw(st.sampled_from(('>=', '>')))} T#{draw(st.sampled_from(('300ms', '2s')))}")
        ways.append(Transition((name,), (names[(i + 1) % n],), " AND ".join(asked)))
        if draw(st.booleans()) and n > 2:
            other = draw(st.sampled_from([x for x in names if x not in (name, names[(i + 1) % n])]))
            ways[-1] = replace(ways[-1], priority=1)
            ways.append(Transition((name,), (other,), "NOT There AND Call", 2))
        marks = [
            Action(Qualifier.N, x) for x in sorted(draw(st.sets(st.sampled_from(("Down", "Heat", "Up")), max_size=2)))
        ]
        for qualifier, text in (
            (Qualifier.P1, "Count := Count + 1;"),
            (Qualifier.P0, "IF Count > 3 THEN\n  Count := 0;\nEND_IF;"),
        ):
            if draw(st.integers(0, 3)) == 0:
                bodies.append(Body(f"{name}_{qualifier}", text))
                marks.append(Action(qualifier, bodies[-1].name))
        steps.append(Step(name, numbers[i], tuple(marks)))
    signals = [Signal(x, SignalClass.INPUT) for x in ("Go", "There", "Call")]
    signals += [Signal(x, SignalClass.OUTPUT) for x in ("Down", "Heat", "Up")] + [
        Signal("Count", SignalClass.INTERNAL, Type.INT)
    ]
    q = Sequence("Carousel", names[0], tuple(steps), tuple(ways), tuple(bodies))
    return Project("Carousel", draw(st.sampled_from((10, 20))), signals=tuple(signals), sequences=(q,))


def bare(project: Project) -> tuple:
    """A chart without the order of what stands in no order."""
    (q,) = project.sequences
    steps = [(s.name, s.number, sorted((str(a.qualifier), a.target) for a in s.actions)) for s in q.steps]
    ways = sorted((t.sources, t.targets, t.condition, t.priority) for t in q.transitions)
    return project.period_ms, q.name, q.initial, steps, ways, sorted((b.name, b.text) for b in q.bodies)


def used(project: Project) -> set[str]:
    return {a.target for s in project.sequences[0].steps for a in s.actions}


@settings(max_examples=10, deadline=None)
@given(charts(), st.booleans())
def test_plain_code_reads_back_as_the_same_chart_without_a_pragma(project, by_hand):
    """As what it is, and as a program that somebody wrote by hand in the same words."""
    text = plain(project)
    found = read_text(text.replace("Task period", "A task period of") if by_hand else text)
    assert bare(found.project) == bare(project)
    assert found.shown and not found.project.opening and not found.project.closing
    assert ("the outputs change in the same scans" in found.shown) is by_hand
    assert {s.name for s in found.project.signals} >= used(project) - {b.name for b in project.sequences[0].bodies}


def told(project: Project) -> tuple:
    """What plain code tells of a machine file: all but windows that nobody asks for, and the order of what stands in no order."""
    sequences = []
    for q in project.sequences:
        steps = [
            (s.name, s.number, sorted((str(a.qualifier.rule), a.target, a.time) for a in s.actions)) for s in q.steps
        ]
        ways = sorted((sorted(t.sources), sorted(t.targets), t.condition) for t in q.transitions)
        bodies = sorted((b.name, b.text) for b in q.bodies)
        sequences.append((q.name, q.initial, steps, ways, bodies, q.hold_when, q.restart_when, q.retain))
    trips = [replace(t, scope=None, stored="", stays=()) for t in project.trips]
    locks = [(i.output, i.condition) for i in project.interlocks]
    return project.period_ms, sequences, trips, locks, project.opposed, project.opening, project.closing, project.home


@settings(max_examples=60, deadline=None)
@given(structured())
def test_charts_with_threads_and_all_that_protects_are_found_in_their_plain_code(project):
    text = plain(project)
    found = read_text(text)
    assert "word by word" in found.shown and plain(found.project) == text
    assert told(found.project)[1] == told(project)[1] and not errors(link_problems(found.project))


def test_charts_with_trips_holds_and_restarts_are_found_in_their_plain_code():
    """The first sixty random files that can run, with steps that nothing leads to in some: all but one, which has another name for a
    helper where a block of no effect is gone.
    """
    texts = []
    for project in map(build_project, range(110)):
        with suppress(FormatError):  # two steps of a thread at once
            texts += [plain(project)] if not errors(link_problems(project)) else []
    assert len(texts) >= 50
    same = 0
    for text in texts:
        with suppress(FormatError):  # it is read as a program of somebody else then
            found = read_text(text)
            same += "word by word" in found.shown and plain(found.project) == text
    assert same >= len(texts) - 1


def test_the_roastery_is_found_in_its_plain_code_and_goes_as_it_did():
    project = read_project(EXAMPLES / "roastery.spoke")
    found = read_text(plain(project))
    assert told(found.project)[2:] == told(project)[2:]
    names = [[(s.name, s.number, s.actions, s.comment) for s in q.steps] for q in project.sequences]
    assert names == [[(s.name, s.number, s.actions, s.comment) for s in q.steps] for q in found.project.sequences]
    assert len(found.notes) == sum(len(q.steps) for q in project.sequences)
    lines = plain(project).split("\n")
    assert all(n.text.split()[-1] in lines[n.line - 1] for n in found.notes)


def many_sequences(count: int) -> Project:
    """Sequences that all begin in the same number."""
    signals, sequences = list[Signal](), list[Sequence]()
    for k in range(count):
        signals += [Signal(f"Go{k}", SignalClass.INPUT), Signal(f"Run{k}", SignalClass.OUTPUT)]
        steps = (Step(f"Rest{k}", 10), Step(f"Turn{k}", 20, (Action(Qualifier.N, f"Run{k}"),)))
        ways = (
            Transition((f"Rest{k}",), (f"Turn{k}",), f"Go{k}"),
            Transition((f"Turn{k}",), (f"Rest{k}",), f"Turn{k}.T >= T#2s"),
        )
        sequences.append(Sequence(f"Reel{k}", f"Rest{k}", steps, ways))
    signals.sort(key=lambda s: s.cls.value)
    return Project("Reels", signals=tuple(signals), sequences=tuple(sequences))


def test_every_one_of_many_sequences_begins_where_it_should():
    """Names of one type and value stand together on lines; each of these lines says the value."""
    project = many_sequences(70)
    text = write_code(project, "plain")
    assert parse_iec(text) == project
    found = read_text(text.partition("{spokeshave")[0])
    assert "word by word" in found.shown and [q.initial for q in found.project.sequences] == [
        q.initial for q in project.sequences
    ]
    assert sum(len(re.findall(r"\bReel\d+\b", x)) for x in text.split("\n") if x.endswith(" : INT := 10;")) == 70


@pytest.mark.parametrize("count", [1, 2])
def test_inputs_and_outputs_that_are_retained_are_still_what_they_are(count):
    project = many_sequences(count)
    project = replace(project, signals=tuple(replace(s, retain=True) for s in project.signals))
    text = write_code(project, "plain")
    assert "RETAIN_" not in text and parse_iec(text) == project
    found = read_text(text.partition("{spokeshave")[0]).project
    assert {s.name: (s.cls, s.retain) for s in found.signals} == {s.name: (s.cls, s.retain) for s in project.signals}


def test_code_whose_times_are_measured_is_found_too():
    project = read_project(EXAMPLES / "roastery.spoke")
    text = write_code(project, "plain", measured=True).partition("{spokeshave")[0]
    assert "ScanTime" in text and told(read_text(text).project) == told(read_text(plain(project)).project)


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("RunCool();", "RunCool(); Drum := FALSE;"),
        ("Roast := 50; END_IF;", "Roast := 50; Air := TRUE; END_IF;"),
        ("Flap := Cool_Run AND Cool = 40;", "Flap := Cool_Run AND Cool = 40 AND TempOk;"),
    ],
)
def test_plain_code_that_somebody_changed_by_hand_is_not_taken_for_what_it_was(old, new):
    text = plain(read_project(EXAMPLES / "roastery.spoke"))
    assert old in text
    try:
        found = read_text(text.replace(old, new))
    except FormatError:
        return
    assert "word by word" not in found.shown


@settings(max_examples=30, deadline=None)
@given(charts(), st.data())
def test_an_edit_of_one_step_changes_the_lines_of_that_step_only(project, data):
    (q,) = project.sequences
    i = data.draw(st.integers(0, len(q.transitions) - 1))
    ways = tuple(replace(t, condition=f"{t.condition} AND There") if n == i else t for n, t in enumerate(q.transitions))
    before, after = (
        plain(p).split("\n") for p in (project, replace(project, sequences=(replace(q, transitions=ways),)))
    )
    assert len(before) == len(after) and sum(a != b for a, b in zip(before, after)) == 1


AWNING = """PROGRAM Awning
  VAR_INPUT Sunny, AtOut, AtIn : BOOL; END_VAR
  VAR_OUTPUT RollOut, RollIn, Chime : BOOL; END_VAR
  VAR State : INT := 10; Warn : TON; END_VAR
  Warn(IN := State = 20, PT := T#2s);
  CASE State OF
    10: // Rolled in
      IF Sunny AND AtIn THEN State := 20; END_IF;
    20: // Warning
      IF Warn.Q THEN State := 30; END_IF;
    30: // Rolling out
      IF AtOut THEN State := 40; END_IF;
    40: // Rolled out
      IF NOT Sunny THEN State := 50; END_IF;
    50: // Rolling in
      IF AtIn THEN State := 10; END_IF;
  END_CASE;
  Chime := State = 20 OR State = 50;
  RollOut := State = 30;
  RollIn := State = 50;
END_PROGRAM
"""


def test_plain_code_of_a_program_is_as_long_as_the_program():
    assert lines(plain(read_text(AWNING).project)) <= 1.3 * lines(AWNING)


@pytest.mark.parametrize("name", ["02-assigned-in-each-state", "15-entry-pulse-below", "30-german"])
def test_plain_code_is_as_lean_as_what_a_person_wrote(name):
    text = (HERE / f"{name}.st").read_text()
    assert lines(plain(read_text(text).project)) <= 1.3 * lines(text)


def test_the_roastery_in_plain_code_has_no_more_than_it_needs():
    project = read_project(EXAMPLES / "roastery.spoke")
    text = plain(project)
    assert lines(text) < 0.5 * lines(write_code(project, "flags").partition("{spokeshave")[0])
    assert "Task period 10 ms" in text and "(* settings *)" in text and "VAR_EXTERNAL" in text
    assert not re.search(r"\b(RISING|FALLING|HELD|Home)\b|\.Late\b", re.sub(r"\(\*.*?\*\)|//[^\n]*", "", text)), (
        "no words of ours"
    )


def test_what_nobody_uses_costs_no_line():
    steps = (Step("Rest", 10), Step("Work", 20, (Action(Qualifier.N, "Drive"),)))
    ways = (Transition(("Rest",), ("Work",), "Rest.T >= T#2s AND Go"), Transition(("Work",), ("Rest",), "NOT Go"))
    signals = (Signal("Go", SignalClass.INPUT), Signal("Drive", SignalClass.OUTPUT))
    project = Project("M", 10, signals=signals, sequences=(Sequence("Main", "Rest", steps, ways),))
    text = plain(project)
    assert "FirstScan" not in text, "no way out of the first step can be taken in the first scan"
    steady = replace(
        project, sequences=(replace(project.sequences[0], transitions=(replace(ways[0], condition="Go"), ways[1])),)
    )
    assert "MainT" not in plain(steady) and "MainLast" not in plain(steady)
    assert plain(steady).count("FirstScan") == 3


def test_measured_time_stands_for_the_period_and_reads_back():
    project = read_text(AWNING).project
    text = write_code(project, "plain", measured=True)
    assert (
        "AwningT := AwningT + ScanTime;" in text
        and "T#10ms;" not in text.partition("ScanTime : TIME")[2].partition("\n")[2]
    )
    assert parse_iec(text) == project
    g = generate(project, "plain", measured=True)
    found = compare(project, as_project(g), {c: g.flag(c) for c in g.active}, runs_of(project))
    assert found.difference is None and found.scans > 1000


@pytest.mark.parametrize(
    ("file", "sequence"), [("01-mapped", "Shutter"), ("15-entry-pulse-below", "Dip"), ("38-chain-timers", "Blinds")]
)
def test_states_edited_in_the_file_are_taken_over_and_the_rest_stays(file, sequence):
    """The pragma holds a window that the text does not speak of; a new state stands between two others."""
    project = read_text((HERE / f"{file}.st").read_text()).project
    (q,) = project.sequences
    first, second = q.steps[0], q.steps[1]
    windowed = replace(q, steps=(replace(first, longest="T#5s"), *q.steps[1:]))
    text = write_code(replace(project, sequences=(windowed,)), "plain")
    label, number = (
        f"{second.number}: (* {second.name} *)",
        first.number + 5 if first.number + 5 not in {s.number for s in q.steps} else 77,
    )
    assert f"{q.name} := {second.number};" in text and label in text
    text = text.replace(f"{q.name} := {second.number};", f"{q.name} := {number};", 1)
    text = text.replace(label, f"{number}: (* Between *)\n        IF {q.name}T >= T#1s THEN {q.name} := {second.number}; END_IF;\n      {label}"
                        if f"{q.name}T" in text else f"{number}: (* Between *) {q.name} := {second.number};\n      {label}", 1)  # fmt: skip
    after = parse_iec(text).sequence(sequence)
    assert after is not None and after.step("Between") is not None and after.step(first.name).longest == "T#5s"
    assert [t.targets for _, t in after.leaving("Between")] == [(second.name,)]
    assert {s.name for s in after.steps} == {s.name for s in q.steps} | {"Between"}
