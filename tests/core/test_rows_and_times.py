"""Steps as rows for a spreadsheet, measured times, the cycle clock, find and replace, folded branches, kept edits."""

from __future__ import annotations

import json
import subprocess
import sys
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.chart.layout import Plan, layout
from spokeshave.engine.session import Session
from spokeshave.formats.errors import FormatError
from spokeshave.formats.recovery import Recovery
from spokeshave.formats.sequencer_table import block_from, from_text, table_of, to_text
from spokeshave.language.timed import ends_ms, set_end, times_of
from spokeshave.model import edits, fragments
from spokeshave.model.edits import EditError
from spokeshave.model.flow import flow, same_flow
from spokeshave.model.fold import foldable, folded
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
from spokeshave.model.sections import sections
from spokeshave.verify.find import find, replace_all
from spokeshave.verify.measure import measure
from tests.core.test_chart_edits import SECTION, Q, chart, ends, grown
from tests.core.test_drawing import apart, charts, many, rectangles

# -- rows


@settings(max_examples=80, deadline=None)
@given(grown())
def test_a_chart_copied_as_rows_and_pasted_is_the_same_chart_under_other_names(history):
    project = history.project
    q = project.sequences[0]
    reached = sections(q).of
    q = replace(q, steps=tuple(s for s in q.steps if s.name in reached),
                transitions=tuple(t for t in q.transitions if set(t.sources) <= set(reached)))  # fmt: skip
    text = to_text(table_of(q, []))
    block = block_from(from_text(text), q, [])
    assert [s.name for s in block.steps] == [s.name for s in q.steps]
    assert [s.longest for s in block.steps] == [s.longest for s in q.steps]
    shape = sorted((sorted(t.sources), t.targets, t.condition) for t in q.transitions if t.targets)
    made = sorted((sorted(t.sources), t.targets, t.condition) for t in (*block.inner, *block.out))
    assert made == shape


def test_rows_of_a_spreadsheet_become_steps_with_marks_and_conditions():
    text = "Step\tDrive\tGate\tAwaits\tDuration\tNext\nTurn\tX\t\tDone\t4s\tOpen\nOpen\tL 2s\tS / D 1s\tOpen.T >= T#2s\t\t\n"
    project = chart("A > B", "B > A")
    block = block_from(from_text(text), project.sequences[0], ["Drive", "Gate"])
    turn, opened = block.steps
    assert turn.actions == (Action(Qualifier.N, "Drive"),) and turn.longest == "T#4s"
    assert [(str(a.qualifier), a.target, a.time) for a in opened.actions] == [
        ("L", "Drive", "T#2s"),
        ("S", "Gate", ""),
        ("D", "Gate", "T#1s"),
    ]
    after, names = fragments.paste_block(project, Q, "A", block)
    assert names == ("Turn", "Open")
    assert ends(after) == ["A > Turn", "Turn > Open", "Open > B", "B > A"]


def test_rows_without_heads_are_read_by_the_columns_of_the_sheet():
    block = block_from(from_text("7\tDip\tX\tWarm\t3s\t\n"), SECTION.sequences[0], ["Heat"])
    assert (block.steps[0].name, block.steps[0].number, block.steps[0].longest) == ("Dip", 7, "T#3s")
    assert block.steps[0].actions[0].target == "Heat" and block.out[0].condition == "Warm"


def test_a_section_goes_out_as_rows_and_comes_back_with_its_join():
    line = chart("S > A", "A > B + C", "B > D", "C + D > E", "E > S")
    rows = table_of(line.sequences[0], [], ("A", "B", "C", "D", "E"))
    assert (rows[3][1], rows[3][-1]) == ("C", "waits with D")
    block = block_from(rows, line.sequences[0], [])
    after, names = fragments.paste_block(line, Q, "E", block)
    assert names == ("A2", "B2", "C2", "D2", "E2")
    assert "C2 + D2 > E2" in ends(after) and "E > A2" in ends(after) and "E2 > S" in ends(after)


@pytest.mark.parametrize(
    ("text", "why"),
    [("No.\tDrive\n1\tX\n", "no column Step|no rows"), ("Step\tDrive\nTurn\tZ9\n", "row 2, Drive: 'Z9' is not a mark"),
     ("Step\tAwaits\n\tGo\n", "row 2 has no step"), ("Step\tNext\n", "no rows with steps")],
)  # fmt: skip
def test_rows_that_are_no_steps_are_refused_with_the_row(text, why):
    with pytest.raises(EditError, match=why):
        block_from(from_text(text), SECTION.sequences[0], ["Drive"])


# -- times


def timed(*durations: int) -> Project:
    steps = tuple(Step(f"P{i}", 10 * i + 10, (Action(Qualifier.N, f"Y{i % 2}"),)) for i in range(len(durations)))
    ways = tuple(
        Transition((s.name,), (steps[(i + 1) % len(steps)].name,), f"{s.name}.T >= T#{d}ms")
        for i, (s, d) in enumerate(zip(steps, durations))
    )
    signals = (Signal("Y0", SignalClass.OUTPUT), Signal("Y1", SignalClass.OUTPUT))
    return Project("Dips", 10, signals=signals, sequences=(Sequence("Dip", "P0", steps, ways),))


@settings(max_examples=60, deadline=None)
@given(st.lists(st.integers(1, 30), min_size=2, max_size=5))
def test_measured_times_of_a_timed_sequence_are_its_durations(tens):
    durations = [10 * n for n in tens]
    session = Session(timed(*durations))
    session.run_for(3 * sum(durations) + 500)
    m = measure(session.trace, session.program.project.sequences[0], ("Y0", "Y1", "Nowhere"))
    assert m.whole and m.cycle_ms == sum(durations)
    for i, d in enumerate(durations):
        lasted = m.lasted[f"P{i}"]
        # The first stay counts the scan of the start too, in which nothing evolves.
        assert lasted.least >= d and lasted.greatest <= d + 10 and lasted.least <= lasted.mean <= lasted.greatest
    assert sum(b - a for spans in m.on.values() for a, b in spans) == sum(durations)
    assert set(m.on) == {"Y0", "Y1"}


def test_without_a_whole_cycle_the_run_is_measured():
    session = Session(timed(1000, 1000))
    session.run_for(500)
    m = measure(session.trace, session.program.project.sequences[0])
    assert not m.whole and m.cycle == (0, 500) and m.lasted == {}


@settings(max_examples=80, deadline=None)
@given(st.lists(st.integers(1, 30), min_size=2, max_size=6), st.data())
def test_an_end_that_is_moved_on_the_clock_moves_no_other_end(tens, data):
    project = timed(*[10 * n for n in tens])
    before = ends_ms(project.sequences[0])
    assert before is not None
    names = list(before)
    at = data.draw(st.integers(0, len(names) - 1))
    low = before[names[at - 1]] if at else 0
    high = before[names[at + 1]] if at + 1 < len(names) else before[names[at]] + 500
    wanted = data.draw(st.integers(low - 10, high + 10))
    try:
        after = ends_ms(set_end(project, "Dip", names[at], wanted).sequences[0])
    except EditError as error:
        assert not low < wanted < high or (at + 1 == len(names) and wanted <= low)
        assert "has to end after" in str(error)
        return
    assert after == before | {names[at]: wanted}


def test_a_sequence_that_waits_for_anything_else_has_no_clock():
    project = timed(1000, 2000)
    assert ends_ms(project.sequences[0]) == {"P0": 1000, "P1": 3000}
    q = project.sequences[0]
    other = replace(q, transitions=(replace(q.transitions[0], condition="Y0"), q.transitions[1]))
    assert ends_ms(other) is None and ends_ms(SECTION.sequences[0]) is None
    with pytest.raises(EditError, match="not purely timed"):
        set_end(replace(project, sequences=(other,)), "Dip", "P0", 500)


# -- find and replace


def test_everything_that_is_written_in_a_sequence_is_found_in_its_order():
    q = replace(
        timed(1000, 2000).sequences[0], bodies=(Body("Count", "Dips := Dips + 1;"),),
    )  # fmt: skip
    q = replace(q, steps=(replace(q.steps[0], comment="first of the dips", permissive="Warm"), q.steps[1]))
    assert [(h.place.kind, h.text) for h in find(q, "dips")] == [
        ("step", "first of the dips"),
        ("body", "Dips := Dips + 1;"),
    ]
    assert [h.place.kind for h in find(q, "P0")] == ["step", "transition"]
    assert [h.place.kind for h in find(q, "P", whole=True)] == [] and find(q, "") == []
    assert [h.place.item for h in find(q, "Y1")] == ["P1 Y1"]


def test_replacing_changes_texts_and_leaves_names_alone():
    project = timed(1000, 2000)
    project = edits.change_step(project, "Dip", "P1", permissive="Y0 OR Y00", comment="Y0 first")
    after = replace_all(project, "Dip", "y0", "Y1", whole=True)
    step = after.sequences[0].step("P1")
    assert (step.permissive, step.comment) == ("Y1 OR Y00", "Y1 first")
    assert after.sequences[0].steps[0].actions[0].target == "Y1"
    assert replace_all(project, "Dip", "P1", "Other", whole=True).sequences[0].steps[1].name == "P1"
    assert replace_all(project, "Dip", "nothing like it", "x") is project
    only = find(project.sequences[0], "Y0")[0].place
    one = replace_all(project, "Dip", "Y0", "Z", only=only)
    assert one.sequences[0].steps[0].actions[0].target == "Z" and "Y0" in one.sequences[0].step("P1").permissive


# -- the drawing


@many
@given(charts(), st.data())
def test_folded_branches_are_drawn_as_one_step_and_open_again(q, data):
    heads = [s.name for s in q.steps if foldable(q, s.name)]
    chosen = data.draw(st.lists(st.sampled_from(heads), unique=True)) if heads else []
    f = folded(q, chosen)
    hidden = {n for names in f.within.values() for n in names}
    assert {s.name for s in f.sequence.steps} == {s.name for s in q.steps if s.name not in hidden} | set(f.within)
    assert not sections(f.sequence).problem or sections(q).problem
    for t, i in zip(f.sequence.transitions, f.ways):
        whole = q.transitions[i]
        assert t.sources == tuple(dict.fromkeys(f.shown_as(n) for n in whole.sources))
    boxes = rectangles(layout(f.sequence))
    assert all(apart(a, b) for i, a in enumerate(boxes) for b in boxes[i + 1 :])
    assert folded(q, ()).sequence is q


@many
@given(charts(), st.data())
def test_other_texts_in_the_same_places_are_drawn_as_a_fresh_layout_would(q, data):
    plan = Plan(q)
    plan.drawn()
    i = data.draw(st.integers(0, len(q.steps) - 1))
    step = replace(
        q.steps[i],
        comment="new",
        actions=q.steps[i].actions[:1],
        longest=data.draw(st.sampled_from(("", "T#1s", "T#9s"))),
    )
    ways = list(q.transitions)
    n = data.draw(st.integers(0, len(ways) - 1))
    ways[n] = replace(ways[n], condition=data.draw(st.sampled_from(("Go", "Halt", "Go AND NOT Halt"))))
    after = replace(q, steps=edits.replaced(q.steps, i, step), transitions=tuple(ways))
    assert same_flow(q, after)
    found = plan.with_texts(after)
    if found is not None:
        assert found[0] == layout(after) and i in found[1]


@many
@given(charts())
def test_only_steps_and_ways_decide_how_a_sequence_is_drawn(q):
    other = replace(q, steps=tuple(replace(s, comment="x") for s in q.steps))
    assert same_flow(q, other) and flow(q) == flow(other)
    assert not same_flow(q, replace(q, transitions=q.transitions[:-1]))


# -- kept edits


def test_what_a_program_that_died_has_kept_is_found_by_the_next_one(tmp_path):
    code = (
        "import sys; from pathlib import Path; from spokeshave.formats.recovery import Recovery;"
        "from spokeshave.model.project import Project;"
        f"Recovery(Path({str(tmp_path)!r})).keep(Project('Left over'), Path('here.spoke')); import os; os._exit(9)"
    )
    assert subprocess.run([sys.executable, "-c", code], check=False, timeout=60).returncode == 9
    found = Recovery(tmp_path).left_over()
    assert [(k.project.name, k.origin.endswith("here.spoke")) for k in found] == [("Left over", True)]


def test_what_runs_still_is_not_offered_and_what_was_saved_is_gone(tmp_path):
    mine, other = Recovery(tmp_path), Recovery(tmp_path)
    mine.keep(Project("First"), None)
    mine.keep(Project("Second"), None)
    assert len(list(tmp_path.glob("*.kept"))) == 1
    running = json.loads(next(tmp_path.glob("*.kept")).read_text().split("\n", 1)[0])
    assert running["origin"] == ""
    (tmp_path / "bad.1.kept").write_text("no json")
    assert other.left_over() == []
    mine.forget()
    mine.forget()
    assert other.left_over() == [] and (tmp_path / "bad.1.kept").exists()


def test_a_folder_that_cannot_be_written_is_told(tmp_path):
    (tmp_path / "file").write_text("")
    with pytest.raises(FormatError, match="cannot be kept"):
        Recovery(tmp_path / "file" / "kept").keep(Project(), None)


def test_a_step_of_the_cycle_clock_may_last_as_long_as_a_setting_says():
    settings_ = (
        Signal("Dip", SignalClass.SETTING, Type.TIME, initial=4000),
        Signal("Drip", SignalClass.SETTING, Type.TIME, initial=1500),
    )
    ways = (Transition(("P0",), ("P1",), "P0.T >= Dip"), Transition(("P1",), ("P2",), "P1.T >= T#1s"),
            Transition(("P2",), ("P0",), "p2.t >= drip"))  # fmt: skip
    ring = Sequence("Ring", "P0", tuple(Step(f"P{i}", 10 * i + 10) for i in range(3)), ways)
    project = Project(signals=settings_, sequences=(ring,))
    assert ends_ms(ring, times_of(project)) == {"P0": 4000, "P1": 5000, "P2": 6500} and ends_ms(ring) is None
    moved = set_end(project, "Ring", "P0", 4400)
    assert [s.initial for s in moved.signals] == [4400, 1500]
    assert [t.condition for t in moved.sequences[0].transitions] == ["P0.T >= Dip", "P1.T >= T#600ms", "p2.t >= drip"]
    assert [s.initial for s in set_end(project, "Ring", "P2", 7000).signals] == [4000, 2000]
    both = replace(
        project, sequences=(replace(ring, transitions=(ways[0], replace(ways[1], condition="P1.T >= Dip"), ways[2])),)
    )
    with pytest.raises(EditError, match="several steps last as long as Dip"):
        set_end(both, "Ring", "P0", 4400)
