"""Edits of charts as properties: charts grown by random edits stay sound and run; what is refused says why."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.language.rename import renumber, with_room
from spokeshave.model import branch_edits, flow_edits, fragments
from spokeshave.model.edits import EditError, new_sequence
from spokeshave.model.history import History
from spokeshave.model.project import Project, Sequence, Signal, SignalClass, Step, Transition
from spokeshave.model.sections import begins_branch, sections

Q = "Sequence"


def one_edit(draw: st.DrawFn, project: Project) -> Project:
    """A random edit at a random place."""
    q = project.sequences[0]
    step, other = (draw(st.sampled_from(q.steps)).name for _ in range(2))
    at = draw(st.integers(0, len(q.steps) - 1))
    rows = tuple(s.name for s in q.steps[at : at + draw(st.integers(1, 4))])
    kinds = {
        "after": lambda p: flow_edits.insert_step(p, Q, step),
        "before": lambda p: flow_edits.insert_before(p, Q, step),
        "alternative": lambda p: branch_edits.add_alternative(p, Q, step),
        "simultaneous": lambda p: branch_edits.add_simultaneous(p, Q, step, draw(st.sampled_from(("", other)))),
        "way": lambda p: branch_edits.add_transition(p, Q, step, other),
        "jump": lambda p: branch_edits.jump_to(p, Q, step, other),
        "close": lambda p: branch_edits.close_branch(p, Q, step),
        "delete": lambda p: flow_edits.delete_step(p, Q, step),
        "branch": lambda p: branch_edits.delete_branch(p, Q, step),
        "place": lambda p: flow_edits.place_behind(p, Q, step, other),
        "move": lambda p: flow_edits.move_steps(p, Q, rows, draw(st.integers(-3, 3))),
        "copy": lambda p: fragments.duplicate(p, Q, rows)[0],
        "rows": lambda p: fragments.delete_steps(p, Q, rows),
        "initial": lambda p: flow_edits.make_initial(p, Q, step),
    }
    usual = ("after", "alternative", "simultaneous", "copy", "before")
    kind = draw(st.sampled_from((*kinds, *usual, *usual)))
    return with_room(project, Q, kinds[kind])


@st.composite
def grown(draw: st.DrawFn, edits: int = 12) -> History:
    """A chart that began with two steps, through edits; those that were refused changed nothing."""
    history = History.of(new_sequence(Project("Grown", 10)))
    for n in range(draw(st.integers(1, edits))):
        if len(history.project.sequences[0].steps) > 24:
            break
        try:
            history = history.do(f"edit {n}", one_edit(draw, history.project))
        except EditError as error:
            assert len(str(error)) > 20, "a refusal says why"
    return history


def connected(q: Sequence) -> set[str]:
    seen, todo = {q.initial}, [q.initial]
    while todo:
        for _, t in q.leaving(todo.pop()):
            for target in t.targets:
                if target not in seen:
                    seen.add(target)
                    todo.append(target)
    return seen


@settings(max_examples=250, deadline=None)
@given(grown())
def test_charts_stay_sound_whatever_is_edited_and_undo_is_the_identity(history):
    before = history
    seen = [history.project]
    while history.undo_name:
        history = history.undo()
        seen.append(history.project)
    for project in seen:
        q = project.sequences[0]
        assert not sections(q).problem
        assert not [d for d in link_problems(project) if d.code != "text"]
        assert len({s.number for s in q.steps}) == len({s.name.lower() for s in q.steps}) == len(q.steps)
    while history.redo_name:
        history = history.redo()
    assert history.project is before.project


@settings(max_examples=60, deadline=None)
@given(grown(), st.lists(st.integers(0, 1), min_size=40, max_size=40))
def test_a_sound_chart_never_enters_a_step_that_is_active(history, turns):
    """Every condition an input of its own, driven at random: the engine would tell an unsafe activation."""
    q = history.project.sequences[0]
    ways = tuple(Transition(t.sources, t.targets, f"In{i}") for i, t in enumerate(q.transitions))
    signals = tuple(Signal(f"In{i}", SignalClass.INPUT) for i in range(len(ways)))
    session = Session(Project("P", 10, signals=signals, sequences=(Sequence(Q, q.initial, q.steps, ways),)))
    for k, turn in enumerate(turns):
        session.do("set", f"In{(k * 7 + turn) % len(ways)}", bool(turn))
        session.run_scans(1)
    assert session.stopped is None
    assert not [e for e in session.trace.events if e.kind == "unsafe activation"]


@settings(max_examples=60, deadline=None)
@given(grown(), st.data())
def test_what_is_deleted_step_by_step_leaves_the_rest_connected(history, data):
    project = history.project
    reached = connected(project.sequences[0])
    step = data.draw(st.sampled_from([s.name for s in project.sequences[0].steps if s.name in reached]))
    try:
        after = flow_edits.delete_step(project, Q, step)
    except EditError:
        return
    assert connected(after.sequences[0]) == reached - {step}


def chart(*ways: str) -> Project:
    """A project from lines such as `A > B + C`; numbers in order of first mention."""
    made = []
    for line in ways:
        left, _, right = line.partition(">")
        made.append(Transition(tuple(x.strip() for x in left.split("+")), tuple(x.strip() for x in right.split("+"))))
    names = list(dict.fromkeys(n for t in made for n in (*t.sources, *t.targets)))
    steps = tuple(Step(n, 10 * i + 10) for i, n in enumerate(names))
    return Project("P", 10, sequences=(Sequence(Q, names[0], steps, tuple(made)),))


def ends(project: Project) -> list[str]:
    return [f"{' + '.join(t.sources)} > {' + '.join(t.targets)}" for t in project.sequences[0].transitions]


SECTION = chart("A > B + C", "B > D", "C + D > E", "E > A")


def test_an_alternative_branch_stands_beside_what_follows_and_meets_it_again():
    after = branch_edits.add_alternative(chart("A > B", "B > C", "C > A"), Q, "A")
    assert ends(after) == ["A > B", "A > Step25", "Step25 > C", "B > C", "C > A"]
    assert after.sequences[0].transitions[1].condition == "FALSE"
    beside_section = branch_edits.add_alternative(SECTION, Q, "A")
    assert "Step35 > E" in ends(beside_section) or "Step45 > E" in ends(beside_section)


def test_a_simultaneous_branch_goes_beside_one_step_or_several():
    line = chart("A > B", "B > C", "C > D", "D > A")
    assert ends(branch_edits.add_simultaneous(line, Q, "B"))[:2] == ["A > B + Step25", "B + Step25 > C"]
    assert ends(branch_edits.add_simultaneous(line, Q, "B", "C"))[:3] == ["A > B + Step35", "B > C", "C + Step35 > D"]


@pytest.mark.parametrize(
    ("edit", "why"),
    [
        (lambda: branch_edits.jump_to(SECTION, Q, "B", "A"), "leaves the simultaneous branches of B and C"),
        (lambda: branch_edits.jump_to(SECTION, Q, "E", "D"), "goes into the simultaneous branches of B and C"),
        (lambda: branch_edits.jump_to(chart("A > B + C", "B > D", "C > F", "D + F > A"), Q, "B", "F"), "from one simultaneous branch to another"),
        (lambda: branch_edits.add_transition(SECTION, Q, "C", "A"), "C waits for D; another way out of it would leave them"),
        (lambda: branch_edits.add_simultaneous(SECTION, Q, "A"), "A is the initial step"),
        (lambda: branch_edits.add_simultaneous(chart("A > B", "A > C", "B > D", "C > D", "D > A"), Q, "D"), "entered by 2 transitions"),
        (lambda: branch_edits.delete_branch(SECTION, Q, "E"), "does not begin a branch"),
        (lambda: branch_edits.close_branch(chart("A > B", "B > A"), Q, "B"), "no branch that could be closed"),
        (lambda: flow_edits.insert_before(SECTION, Q, "A"), "nothing comes before it"),
        (lambda: flow_edits.delete_step(SECTION, Q, "C"), "alone in its simultaneous branch"),
        (lambda: fragments.block_of(SECTION.sequences[0], ("B", "C")), "entered at B and C"),
        (lambda: fragments.block_of(SECTION.sequences[0], ("B", "D", "E")), "entered at B and E|cuts through"),
        (lambda: renumber(SECTION, Q, 0), "spacing is 0"),
    ],
)  # fmt: skip
def test_an_edit_that_would_break_the_flow_is_refused_with_the_reason(edit, why):
    with pytest.raises(EditError, match=why):
        edit()


def test_a_branch_is_closed_where_its_neighbours_meet():
    opened = chart("A > B", "A > C", "B > D", "D > A", "C > A")
    assert "C > D" in ends(branch_edits.close_branch(opened, Q, "C"))
    side = chart("A > B + C + F", "B > D", "C + D > E", "E > A")
    assert "C + D + F > E" in ends(branch_edits.close_branch(side, Q, "F"))


def test_a_deleted_branch_takes_its_steps_with_it():
    assert ends(branch_edits.delete_branch(SECTION, Q, "B")) == ["A > C", "C > E", "E > A"]
    assert begins_branch(SECTION.sequences[0], "B") and not begins_branch(SECTION.sequences[0], "E")


def test_a_copied_block_speaks_of_its_own_steps_and_leads_to_what_followed():
    line = chart("A > B", "B > C", "C > A")
    line = flow_edits.change_transition(line, Q, 1, condition="B.T >= T#2s AND NOT A.X AND Sequence.B.X")
    after, names = fragments.duplicate(line, Q, ("B", "C"))
    assert names == ("B2", "C2")
    assert ends(after) == ["A > B", "B > C", "C > B2", "B2 > C2", "C2 > A"]
    assert after.sequences[0].transitions[3].condition == "B2.T >= T#2s AND NOT A.X AND Sequence.B2.X"


def test_renumbering_carries_what_texts_say_of_the_state():
    project = flow_edits.change_transition(
        SECTION, Q, 3, condition="Sequence.State = 20 OR 40 < sequence.State OR Other.State = 20"
    )
    after = renumber(project, Q, 100)
    assert [s.number for s in after.sequences[0].steps] == [100, 200, 300, 400, 500]
    assert (
        after.sequences[0].transitions[3].condition
        == "Sequence.State = 200 OR 400 < sequence.State OR Other.State = 20"
    )
