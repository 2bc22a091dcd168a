"""Edits and formats as properties: edit then undo, save then load, print then parse are the identity."""

from __future__ import annotations

import json
import re
from dataclasses import replace

import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from spokeshave.chart.layout import layout
from spokeshave.engine.link import link_problems
from spokeshave.formats import spoke
from spokeshave.formats.errors import FormatError
from spokeshave.formats.files import read_project, write_project
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_iec
from spokeshave.formats.stimuli_csv import parse_stimuli
from spokeshave.language.rename import rename_in_text, rename_signal, rename_step, with_room
from spokeshave.model import branch_edits, edits, flow_edits
from spokeshave.model.edits import EditError
from spokeshave.model.flow import flow
from spokeshave.model.history import History
from spokeshave.model.project import Action, Project, Qualifier, Signal, SignalClass, Trip
from tests.core.projects import projects

some = settings(
    max_examples=120, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)


@st.composite
def edited(draw: st.DrawFn, project: Project) -> tuple[str, Project]:
    """A random edit of a random place; illegal ones are refused and drawn again."""
    q = draw(st.sampled_from(project.sequences))
    step = draw(st.sampled_from(q.steps)).name
    assume(q.transitions)
    way = draw(st.integers(0, len(q.transitions) - 1))
    kind = draw(st.integers(0, 8))
    try:
        match kind:
            case 0:
                return "insert", with_room(project, q.name, lambda p: flow_edits.insert_step(p, q.name, step))
            case 1:
                return "delete", flow_edits.delete_step(project, q.name, step)
            case 2:
                return "mark", edits.set_mark(project, q.name, step, "Y1", edits.read_marks("L 2s / S", "Y1"))
            case 3:
                return "condition", flow_edits.change_transition(project, q.name, way, condition="A AND NOT B")
            case 4:
                return "way", branch_edits.add_transition(project, q.name, step, q.initial)
            case 5:
                return "no way", branch_edits.remove_transition(project, q.name, way)
            case 6:
                return "move", flow_edits.move_steps(project, q.name, (step,), draw(st.integers(-2, 2)))
            case 7:
                return "rename", rename_step(project, q.name, step, "Renamed")
            case _:
                return "signal", rename_signal(project, "A", "Alpha")
    except EditError:
        assume(False)
        raise


@some
@given(st.data(), projects())
def test_legal_edits_keep_the_machine_file_legal_and_undo_is_the_identity(data, project):
    assert not link_problems(project)
    history = History.of(project)
    for _ in range(4):
        name, after = data.draw(edited(history.project))
        history = history.do(name, after)
        # A deleted step may still be named in a text or by a trip; the check tells that. The chart itself stays whole.
        dangling = {"text", "trip-step"} if name == "delete" else set()
        assert not [d for d in link_problems(after) if d.code not in dangling], name
        if link_problems(after):
            break
        renamed = {s.name for s in after.signals} - {s.name for s in project.signals}
        assert renamed <= {"Alpha"}
        if "Alpha" in renamed:
            break
    steps = [history.project]
    while history.undo_name:
        history = history.undo()
        steps.append(history.project)
    assert history.project is project
    while history.redo_name:
        history = history.redo()
        steps.pop()
        assert history.project is steps[-1]


@some
@given(projects())
def test_saving_then_loading_is_the_identity_and_the_layout_of_the_file_is_stable(project):
    text = spoke.dumps(project)
    assert spoke.loads(text) == project
    assert spoke.dumps(spoke.loads(text)) == text


@some
@given(projects())
def test_writing_iec_text_then_reading_it_gives_the_same_machine_file(project):
    assert parse_iec(write_iec(project)) == project


@some
@given(projects(), st.data())
def test_the_flow_and_the_chart_are_drawn_without_overlaps(project, data):
    for q in project.sequences:
        plan = flow(q)
        dots = {(plan.first_row(i), lane) for i, lane in enumerate(plan.lane)}
        for link in plan.links:
            low, high = sorted((link.row, link.to_row))
            between = {(r, link.via) for r in range(low + 1, high)}
            assert not between & dots, "a track runs through a dot"
        boxes = layout(q).boxes
        for n, a in enumerate(boxes):
            for b in boxes[n + 1 :]:
                apart = a.x + a.w <= b.x or b.x + b.w <= a.x or a.y + a.h <= b.y or b.y + b.h <= a.y
                assert apart, (q.steps[a.step].name, q.steps[b.step].name)


def test_moving_one_step_changes_few_lines_of_the_file(roastery):
    before = spoke.dumps(roastery).splitlines()
    after = spoke.dumps(flow_edits.move_steps(roastery, "Roast", ("Drop",), 1)).splitlines()
    assert sum(a != b for a, b in zip(before, after)) <= 16


def test_a_step_is_inserted_with_a_number_in_between_and_takes_over_the_way(roastery):
    after = flow_edits.insert_step(roastery, "Roast", "SpinUp")
    q = after.sequence("Roast")
    assert [(s.name, s.number) for s in q.steps[:3]] == [("Idle", 10), ("SpinUp", 20), ("Step25", 25)]
    join = next(t for t in q.transitions if "Preheat" in t.targets and len(t.sources) > 1)
    assert join.sources == ("Step25", "Purged")
    for _ in range(4):
        after = with_room(after, "Roast", lambda p: flow_edits.insert_step(p, "Roast", "Idle"))
    numbers = [s.number for s in after.sequence("Roast").steps]
    assert numbers == sorted(set(numbers))


@pytest.mark.parametrize(
    ("step", "why"),
    [("Idle", "is the initial step"), ("CloseDoor", "has 2 ways out"), ("SpinUp", "alone in its simultaneous branch")],
)
def test_deleting_where_the_flow_would_be_unclear_is_refused_with_the_reason(roastery, step, why):
    with pytest.raises(EditError, match=why):
        flow_edits.delete_step(roastery, "Roast", step)


def test_deleting_the_step_before_a_join_lets_its_predecessor_join(roastery):
    q = flow_edits.delete_step(roastery, "Roast", "Purged").sequence("Roast")
    assert any(t.sources == ("SpinUp", "Purge") for t in q.transitions)


@pytest.mark.parametrize(
    ("text", "action"),
    [("x", Action(Qualifier.N, "Y")), ("s", Action(Qualifier.S, "Y")), ("D T#5s", Action(Qualifier.D, "Y", "T#5s")),
     ("SL, Wait", Action(Qualifier.SL, "Y", "Wait")), ("", None), ("L 2 s", Action(Qualifier.L, "Y", "T#2s")),
     ("d1,5", Action(Qualifier.D, "Y", "T#1.5s")), ("P1", Action(Qualifier.P1, "Y")), ("SD , 4 min", Action(Qualifier.SD, "Y", "T#4m"))],
)  # fmt: skip
def test_what_is_typed_into_a_cell_becomes_an_action(text, action):
    assert edits.read_mark(text, "Y") == action


@pytest.mark.parametrize(
    ("text", "shortest", "longest"),
    [("12", "", "T#12s"), ("1 to 6 s", "T#1s", "T#6s"), ("at least 2", "T#2s", ""), ("at most 3 min", "", "T#3m"), ("1s to Limit", "T#1s", "Limit"),
     ("T#1m30s", "", "T#1m30s"), ("", "", "")],
)  # fmt: skip
def test_windows_are_typed_as_people_write_times(text, shortest, longest):
    assert edits.read_window(text) == {"shortest": shortest, "longest": longest}
    with pytest.raises(EditError, match="is not a time"):
        edits.read_window(f"{text} to 5x")


@pytest.mark.parametrize(("text", "why"), [("Q", "is not a mark"), ("L", "needs a time"), ("S 2s", "takes no time")])
def test_marks_that_mean_nothing_are_refused(text, why):
    with pytest.raises(EditError, match=why):
        edits.read_mark(text, "Y")


def test_renaming_follows_into_every_text_and_wire_but_not_into_comments_and_longer_names(roastery):
    after = rename_signal(roastery, "GateOpened", "GateIsOpen")
    text = spoke.dumps(after)
    assert not re.search(r"\bGateOpened\b", text)
    assert not link_problems(after)
    assert rename_in_text("Go AND GoOn (* Go *) // Go", "GO", "Run") == "Run AND GoOn (* Go *) // Go"
    with pytest.raises(EditError, match="already the name"):
        rename_signal(roastery, "Gate", "Drum")
    with pytest.raises(EditError, match="a word of the language"):
        rename_signal(roastery, "Gate", "Until")


# -- files

HAND_WRITTEN = """(* A sluice paddle, written by hand *)
VAR_GLOBAL
  Raise AT %IX0.0 : BOOL; Lower AT %IX0.1 : BOOL;   // two buttons
  Up AT %IX0.2 : BOOL;
  Winch AT %QX0.0 : BOOL;
END_VAR
VAR_GLOBAL CONSTANT Linger : TIME := T#1s_500ms; END_VAR
PROGRAM Before  HeldUp := Up AND NOT Lower; END_PROGRAM
PROGRAM Paddle
  VAR_EXTERNAL Raise, Up, Winch : BOOL; END_VAR
  VAR HeldUp : BOOL; Lifts : INT := -3; END_VAR
  VAR RETAIN Total : DINT; END_VAR
  initial_step s1: END_STEP
  STEP S2: winch(N); Bump(P1); END_STEP
  STEP S3: Winch(SL, Linger); END_STEP
  TRANSITION FROM S1 TO S2 := RISING(Raise) (* pressed *); END_TRANSITION
  TRANSITION Rise (PRIORITY := 2) FROM S2 TO S3 := HeldUp OR S2.T >= T#1.5s; END_TRANSITION
  TRANSITION FROM S3 TO S1 := HELD(Lower, Linger); END_TRANSITION
  ACTION Bump: // counts
    Lifts := Lifts + 1; END_ACTION
END_PROGRAM
PROGRAM After  IF Paddle.S2.X THEN Total := Total + 1; END_IF; END_PROGRAM
"""


def test_a_hand_written_chart_is_read_with_everything_in_it():
    p = parse_iec(HAND_WRITTEN)
    assert not link_problems(p)
    classes = {s.name: s.cls.value for s in p.signals}
    assert classes == {
        "Raise": "input", "Lower": "input", "Up": "input", "Winch": "output", "Linger": "setting", "HeldUp": "internal",
        "Lifts": "internal", "Total": "internal",
    }  # fmt: skip
    q = p.sequences[0]
    assert [(s.name, s.number) for s in q.steps] == [("s1", 1), ("S2", 2), ("S3", 3)]
    assert q.initial == "s1"
    assert q.transitions[0].condition == "RISING(Raise) (* pressed *)"
    assert (q.transitions[1].name, q.transitions[1].priority) == ("Rise", 2)
    assert p.signal("Linger").start == 1500 and p.signal("Lifts").start == -3 and p.signal("Total").retain
    assert p.opening.startswith("HeldUp") and "// counts" in q.bodies[0].text


@pytest.mark.parametrize(
    ("old", "new", "where"),
    [
        ("INT := -3", "INT := -3; Raise : BOOL", "line 11, column 41: Raise is declared twice"),
        ("initial_step s1", "STEP s1", "line 9, column 9: Paddle has no initial step"),
        ("FROM S3 TO S1", "FROM S3 TO S9", "line 18, column 25: there is no step S9"),
        ("winch(N)", "winch(Q)", "line 14, column 18: Q is not an action qualifier"),
        ("winch(N)", "winch(L)", "line 14, column 12: L needs a time"),
        (": DINT", ": WORD", "line 12, column 22: type WORD is not supported"),
        ("HeldUp OR", "HeldUp OR OR", "line 17, column 62: OR does not fit here"),
        ("END_PROGRAM\nPROGRAM After", "PROGRAM After", "PROGRAM does not fit here"),
    ],
)
def test_iec_text_outside_the_form_is_refused_with_its_place(old, new, where):
    with pytest.raises(FormatError) as caught:
        parse_iec(HAND_WRITTEN.replace(old, new))
    assert where.partition(": ")[2] in str(caught.value)
    place = re.match(r"line (\d+), column (\d+)", where)
    if place:
        assert (caught.value.line, caught.value.column) == (int(place[1]), int(place[2]))


def test_an_older_file_keeps_the_meaning_of_its_trips(roastery):
    """Up to version 2 a trip without a scope acted on nothing; one that named all sequences meant all."""
    data = {"format": "spokeshave machine file", "version": 2, **spoke.to_data(roastery)}
    scopes = {"Emergency": ["Cool", "roast"], "Overheat": ["Roast"]}
    for t in data["trips"]:
        t["scope"] = scopes[t["name"]]
    data["trips"].append({"name": "Told", "rank": 9, "condition": "FALSE"})
    read = {t.name: t.scope for t in spoke.loads(json.dumps(data)).trips}
    assert read == {"Emergency": None, "Overheat": ("Roast",), "Told": ()}
    assert spoke.loads(spoke.dumps(replace(roastery, trips=(Trip("A", 1, "FALSE", ()), Trip("B", 2, "FALSE"))))).trips == (
        Trip("A", 1, "FALSE", ()), Trip("B", 2, "FALSE"))  # fmt: skip


def test_the_pragma_never_ends_early_and_a_text_without_it_is_still_read(roastery):
    tricky = edits.change_item(roastery, "signals", 0, comment='braces { } and (parentheses) "quoted" (* here *)')
    text = write_iec(tricky)
    assert text.count("}") == 1
    assert parse_iec(text) == tricky
    bare = parse_iec(text[: text.index("{spokeshave")])
    assert [q.name for q in bare.sequences] == ["Roast", "Cool"]
    with pytest.raises(FormatError, match="pragma is damaged"):
        parse_iec(text.replace(f'"version": {spoke.VERSION}', '"version": '))


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (b"", "not a whole machine file"),
        (b"[1, 2]", "not a machine file"),
        (b"{", "not a whole machine file"),
        (b"\xff\xfe", "not UTF-8"),
        (b'{"format": "spokeshave machine file", "version": 99}', f"version 99, this program reads up to {spoke.VERSION}"),
        (b'{"format": "spokeshave machine file", "version": "1"}', "is not a number of a version"),
        (b'{"format": "spokeshave machine file", "version": 1, "signals": [{"name": "X", "cls": "inptu"}]}',
         r"signals\[0\] \(X\).cls"),
        (b'{"format": "spokeshave machine file", "version": 1, "period_ms": NaN}', "NaN is not a number"),
        (b"[" * 100_000, "not a machine file|not a whole"),
    ],
)  # fmt: skip
def test_a_damaged_file_gets_a_clear_message_that_names_it(tmp_path, content, message):
    path = tmp_path / "bad.spoke"
    path.write_bytes(content)
    with pytest.raises(FormatError, match=message) as caught:
        read_project(path)
    assert "bad.spoke" in str(caught.value)


def test_a_write_that_fails_leaves_the_old_file(tmp_path, roastery, monkeypatch):
    path = tmp_path / "a.spoke"
    write_project(roastery, path)
    before = path.read_bytes()
    monkeypatch.setattr("os.fsync", lambda _: (_ for _ in ()).throw(OSError(28, "No space left")))
    with pytest.raises(FormatError, match="No space left"):
        write_project(Project(), path)
    assert path.read_bytes() == before
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.spoke", "a.spoke.accepted"]
    assert read_project(path) == roastery


STIMULI = Project(signals=(Signal("Go", SignalClass.INPUT), Signal("Y", SignalClass.OUTPUT)))


def test_stimuli_are_read_sorted_stably_with_bom_and_crlf():
    rows = parse_stimuli("\ufefftime_ms,signal,value\r\n20,go,1\r\n10,GO,TRUE\r\n20,Go,0\r\n".lstrip("\ufeff"), STIMULI)
    assert [(r.time_ms, r.signal, r.value) for r in rows] == [(10, "Go", True), (20, "Go", True), (20, "Go", False)]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "file is empty"), ("10,Go,1", "line 1: the header line is missing"),
        ("time_ms,signal,value\n10,Gone,1", "line 2: there is no signal Gone; did you mean Go?"),
        ("time_ms,signal,value\n10,Y,1", "line 2: Y is an output"),
        ("time_ms,signal,value\n10,Go,2", "line 2, Go: '2' is not a BOOL value"),
        ("time_ms,signal,value\n-1,Go,1", "line 2: time -1 is before the start"),
        ("time_ms,signal,value\n1.5,Go,1", "line 2: '1.5' is not a time"),
        ("time_ms,signal,value\n1,Go", "line 2: 2 values instead of 3"),
    ],
)  # fmt: skip
def test_wrong_stimuli_are_refused_with_their_line(text, message):
    with pytest.raises(FormatError) as caught:
        parse_stimuli(text, STIMULI)
    assert message in str(caught.value)
