"""Case-state programs read as sequences, and syntax trees printed."""

from __future__ import annotations

import dataclasses

import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.engine.trace import Trace
from spokeshave.formats import spoke
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec, parse_states
from spokeshave.formats.iec_write import write_iec
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.printer import expression_text, statements_text
from spokeshave.model.project import Project
from spokeshave.reading import read_iec, read_text
from tests.core.projects import conditions, runs

PADDLE = """PROGRAM Paddle
  VAR_INPUT Raise, Lower, AtTop, AtBottom : BOOL; END_VAR
  VAR_OUTPUT Up, Down, Bell : BOOL; END_VAR
  VAR State : INT := 10; Lifts : INT; Wait : TON; END_VAR
  VAR CONSTANT Lowering : INT := 30; END_VAR
  CASE State OF
    10:
      Down := FALSE;
      IF Raise AND NOT Lower THEN State := 20; Lifts := Lifts + 1; END_IF;
    20:
      Up := TRUE;
      Wait(IN := AtTop, PT := T#200ms);
      IF Wait.Q THEN
        Up := FALSE;
        IF Lower OR Lifts > 9 THEN State := Lowering; ELSE Bell := State = 20; END_IF;
      ELSIF Lower THEN
        State := 10;
      END_IF;
    Lowering:
      Down := TRUE; Up := FALSE; Bell := FALSE;
      IF AtBottom THEN State := 10; END_IF;
  END_CASE;
END_PROGRAM
"""


def test_a_case_program_becomes_a_sequence():
    project = parse_iec(PADDLE)
    assert not link_problems(project)
    (q,) = project.sequences
    assert [(s.name, s.number) for s in q.steps] == [("S10", 10), ("S20", 20), ("Lowering", 30)]
    assert q.initial == "S10" and project.signal("State") is None
    assert [(t.sources, t.targets, t.condition, t.priority) for t in q.transitions] == [
        (("S10",), ("S20",), "Raise AND NOT Lower", None),
        (("S20",), ("Lowering",), "Wait.Q AND (Lower OR Lifts > 9)", 1),
        (("S20",), ("S10",), "NOT Wait.Q AND Lower", 2),
        (("Lowering",), ("S10",), "AtBottom", None),
    ]
    texts = {b.name: b.text for b in q.bodies}
    assert (
        "IF NOT (Lower OR Lifts > 9) THEN\n    Bell := TRUE;" in texts["While_S20"]
        and "State" not in texts["While_S20"]
    )
    assert texts["Count_Lifts"] == "Lifts := Lifts + 1;"
    assert parse_iec(write_iec(project)) == project


def run_both(
    text: str, rows: list[tuple[int, str, object]], outputs: tuple[str, ...], states: dict[str, int]
) -> Project:
    """What was read beside the text itself, as it stands, one scan later: neither state nor outputs may differ."""
    project, written = read_iec(text), parse_states(text).written
    stimuli = [Stimulus(t, "set", n, v) for t, n, v in rows]
    a, b = (Session(p, stimuli, every_scan=True) for p in (project, written))
    for s in (a, b):
        s.run_for(6000)
    for name, number in states.items():
        on = a.trace.windows(f"{project.sequences[0].name}.{name}.X")
        assert on == [(i, j) for i, j in windows_of(b.trace, "State", number)]
    for name in outputs:
        assert a.trace.windows(name) == b.trace.windows(name)
    return project


def windows_of(trace: Trace, name: str, value: int) -> list[tuple[int, int]]:
    """When a number had a value."""
    scans, values = trace.changes(trace.column(name))
    ends = [*scans[1:], trace.scan_count]
    return [(int(k), int(end)) for k, end, v in zip(scans, ends, values) if v == value]


def test_a_text_whose_bodies_would_come_early_or_late_stays_text_and_does_the_same():
    rows = [
        (50, "Raise", True),
        (80, "Raise", False),
        (500, "AtTop", True),
        (900, "Lower", True),
        (1500, "AtBottom", True),
    ]
    project = run_both(PADDLE, rows, ("Up", "Down", "Bell"), {"S10": 10, "S20": 20, "Lowering": 30})
    assert "IF Paddle.S20.X THEN\n  Up := TRUE;" in project.opening and not link_problems(project)
    assert [(a.qualifier, a.target) for s in project.sequences[0].steps for a in s.actions] == [
        ("P0", "Count_Lifts"), ("D", "Down"), ("P0", "Down")]  # fmt: skip
    assert parse_iec(write_iec(project)) == project


COUNTED = """PROGRAM Dip
  VAR_INPUT Go, Done : BOOL; END_VAR
  VAR State, Cycles : INT; END_VAR
  VAR_OUTPUT Full : BOOL; END_VAR
  CASE State OF
    0: IF Go THEN State := 10; Full := FALSE; END_IF;
    10: IF Done THEN State := 20; Cycles := Cycles + 1; END_IF;
    20:
      IF NOT Done THEN
        IF Cycles >= 3 THEN State := 0; Cycles := 0; Full := TRUE; ELSE State := 10; END_IF;
      END_IF;
  END_CASE;
END_PROGRAM
"""


def test_what_stands_beside_a_transition_runs_when_it_is_taken():
    """A counter that is reset on the way back: the second batch has as many cycles as the first."""
    rows = [(40, "Go", True), *((100 * n, "Done", n % 2 == 1) for n in range(1, 30))]
    project = run_both(COUNTED, rows, ("Full",), {"S0": 0, "S10": 10, "S20": 20})
    assert [(a.qualifier, a.target) for s in project.sequences[0].steps for a in s.actions] == [
        ("P0", "Clear_Full"), ("P0", "Count_Cycles"), ("P0", "Leave_S20")]  # fmt: skip
    session = Session(project, [Stimulus(t, "set", n, v) for t, n, v in rows])
    session.run_for(3000)
    assert len(session.trace.windows("Dip.S0.X")) == 5, "three cycles a batch, every time"


def statement(draw: st.DrawFn, depth: int = 1) -> str:
    kind = draw(st.integers(0, 5 if depth else 3))
    if kind == 0:
        return draw(st.sampled_from(("X", "Y"))) + f" := {draw(st.sampled_from(('TRUE', 'FALSE', 'A', 'NOT B')))};"
    if kind == 1:
        return draw(st.sampled_from(("N := N + 1;", "N := 0;", "IF N > 3 THEN N := 0; END_IF;")))
    if kind in (2, 3):
        return f"State := {draw(st.sampled_from((0, 10, 20)))};"
    condition = draw(st.sampled_from(("A", "NOT B", "A AND NOT C", "N >= 2", "X")))
    inner = " ".join(statement(draw, depth - 1) for _ in range(draw(st.integers(1, 3))))
    other = f" ELSE {statement(draw, depth - 1)}" if kind == 5 else ""
    return f"IF {condition} THEN {inner}{other} END_IF;"


@st.composite
def programs(draw: st.DrawFn) -> str:
    branches = "\n".join(
        f"{n}: " + " ".join(statement(draw, 2) for _ in range(draw(st.integers(1, 3)))) for n in (0, 10, 20)
    )
    return (f"PROGRAM P VAR_INPUT A, B, C : BOOL; END_VAR VAR_OUTPUT X, Y : BOOL; END_VAR VAR State, N : INT; END_VAR\n"
            f"CASE State OF\n{branches}\nEND_CASE;\nState := State;\nEND_PROGRAM").replace("State := State;\n", "")  # fmt: skip


@st.composite
def surrounded(draw: st.DrawFn) -> str:
    """A program as most are: a timer and a latch above the CASE, outputs set below it, a way to a state from any other."""
    timer = "Tick(IN := State = 10, PT := T#20ms); X := (A OR X) AND NOT B;"
    above, below = (" ".join(statement(draw, 1) for _ in range(draw(st.integers(0, 2)))) for _ in range(2))
    leads = draw(
        st.sampled_from(("", "IF C THEN State := 0; END_IF;", "IF Tick.Q AND State <> 20 THEN State := 20; END_IF;"))
    )
    text = draw(programs()).replace("State, N : INT;", "State, N : INT; Tick : TON;")
    head, _, rest = text.partition("CASE")
    body, _, tail = rest.rpartition("END_CASE;")
    return f"{head}{timer} {above}\nCASE{body}END_CASE; {below} {leads} Y := State = 20 OR Tick.Q;{tail}"


def behind_first(windows: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Without the first scan, in which no text counts."""
    return [(max(i, 1), j) for i, j in windows if j > 1]


@settings(
    max_examples=25,
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow],
    phases=[Phase.explicit, Phase.reuse, Phase.generate],
)
@given(programs() | surrounded(), runs())
def test_no_program_is_taken_in_with_another_behaviour(text, inputs):
    """Random state programs: what is read changes its state in the same scans, its outputs too or all one scan earlier."""
    try:
        written = parse_states(text).written
    except FormatError:
        return
    if written is None:
        return
    project, read = read_iec(text), parse_states(text)
    stimuli = [Stimulus(10 * (k + 1), "set", n, v) for k, row in enumerate(inputs) for n, v in zip("ABC", row)]
    assert any(does_the_same(project, w, stimuli, 10 * len(inputs) + 50) for w in (read.written, read.at_once))


def does_the_same(project: Project, written: Project, stimuli: list[Stimulus], ms: int) -> bool:
    a, b = (Session(p, stimuli, every_scan=True) for p in (project, written))
    for s in (a, b):
        s.run_for(ms)
    if any(a.trace.windows(f"P.S{n}.X") != windows_of(b.trace, "State", n) for n in (0, 10, 20)):
        return False
    same = all(behind_first(a.trace.windows(n)) == behind_first(b.trace.windows(n)) for n in "XY")
    end = b.trace.scan_count
    early = all([(max(i, 2), j) for i, j in ((i + 1, j + 1) for i, j in a.trace.windows(n)) if i < end and j > 2]
                == [(max(i, 2), j + (j == end)) for i, j in b.trace.windows(n) if j > 2] for n in "XY")  # fmt: skip
    return same or early


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("State := 20;", "State := 25;", "there is no state 25"),
        ("State := 20;", "State := Lifts;", "a state is a whole number or a constant"),
        ("    20:", "    10:", "state 10 stands twice"),
        (":= 10; Lifts", ":= 11; Lifts", "State starts in 11, which is no state"),
        ("State := 20;", "WHILE Raise DO State := 20; END_WHILE;", "inside a loop"),
    ],
)  # fmt: skip
def test_what_is_outside_the_form_is_refused_with_its_place(old, new, message):
    with pytest.raises(FormatError, match=message) as caught:
        parse_iec(PADDLE.replace(old, new, 1))
    assert caught.value.line >= 6 and caught.value.column >= 1


def bare(tree: object) -> object:
    """A tree without its places."""
    if dataclasses.is_dataclass(tree) and not isinstance(tree, type):
        return (
            type(tree).__name__,
            *(bare(getattr(tree, f.name)) for f in dataclasses.fields(tree) if f.name != "span"),
        )
    return tuple(bare(x) for x in tree) if isinstance(tree, tuple) else tree


@given(conditions(("P10", "P20"), ("R.R10",), depth=5))
@settings(max_examples=200, deadline=None)
def test_printing_an_expression_and_parsing_it_again_is_the_identity(text):
    tree = parse_expression(text)
    assert bare(parse_expression(expression_text(tree))) == bare(tree)


@given(st.recursive(
    st.sampled_from(("a", "3", "2.5", "T#2s", "f.T")),
    lambda x: st.one_of(
        st.tuples(x, st.sampled_from(("+", "-", "*", "/", "MOD", "**", "<", "=", "AND", "OR")), x).map(lambda t: f"({t[0]}) {t[1]} ({t[2]})"),
        x.map(lambda t: f"-({t})"), x.map(lambda t: f"NOT ({t})"), st.tuples(x, x).map(lambda t: f"MAX({t[0]}, {t[1]})"),
    ), max_leaves=12,
))  # fmt: skip
@settings(max_examples=200, deadline=None)
def test_parentheses_are_printed_where_they_are_needed(text):
    tree = parse_expression(text)
    assert bare(parse_expression(expression_text(tree))) == bare(tree)


def test_every_statement_is_printed_so_that_it_parses_again():
    text = """IF a THEN b := 1; ELSIF NOT c THEN IF d THEN e := -2; END_IF; ELSE f := T#1m2s; END_IF;
    CASE n OF 1, 3..5: a := TRUE; Two: ; -7: b := 2; ELSE c := 3; END_CASE;
    FOR i := 1 TO 9 BY 2 DO EXIT; END_FOR; FOR i := 1 TO 2 DO END_FOR; WHILE a DO b := b + 1; END_WHILE;
    REPEAT RETURN; UNTIL a OR b END_REPEAT; Wait(IN := a AND b, PT := T#2s, Q => c); x := LIMIT(1, INT#2, 16#FF);"""
    tree = parse_statements(text)
    assert bare(parse_statements(statements_text(tree))) == bare(tree)


def test_what_differs_only_once_behind_the_start_is_seen():
    """State 0 is there for one scan: a body of its step would not run in it with the inputs of that scan."""
    text = ("PROGRAM P VAR_INPUT A, B, C : BOOL; END_VAR VAR_OUTPUT X, Y : BOOL; END_VAR VAR State, N : INT; END_VAR\n"
            "CASE State OF\n0: Y := FALSE; State := 10; IF B THEN IF N >= 2 THEN N := 0; State := 10; ELSE Y := A; END_IF; END_IF;\n"
            "10: X := FALSE;\nEND_CASE;\nEND_PROGRAM")  # fmt: skip
    hands = [Stimulus(10, "set", n, True) for n in "ABC"]
    written = parse_states(text).written
    a, b = (Session(p, hands, every_scan=True) for p in (read_iec(text), written))
    for s in (a, b):
        s.run_for(100)
    assert b.trace.windows("Y") and a.trace.windows("Y") == b.trace.windows("Y")


AWNING = """PROGRAM Shutter
  VAR_INPUT Wind, AtUp, AtDown, Off : BOOL; END_VAR
  VAR_OUTPUT Wind_Up, Wind_Down, Horn : BOOL; END_VAR
  VAR State : INT := 10; Warn : TON; END_VAR
  VAR CONSTANT FAULT : INT := 99; END_VAR
  Warn(IN := State = 20, PT := T#500ms);
  CASE State OF
    10: IF Wind THEN State := 20; END_IF;
    20: IF Warn.Q THEN State := 30; END_IF;
    30: IF AtUp THEN State := 40; END_IF;
    40: IF NOT Wind THEN State := 50; END_IF;
    50: IF AtDown THEN State := 10; END_IF;
    FAULT: IF NOT Off AND NOT Wind THEN State := 10; END_IF;
  END_CASE;
  IF Off THEN State := FAULT; END_IF;
  Horn := State = 20; Wind_Up := State = 30; Wind_Down := State = 50;
END_PROGRAM
"""


def test_a_program_with_a_timer_above_its_case_and_outputs_below_is_read_and_does_the_same():
    project = read_iec(AWNING)
    (q,) = project.sequences
    assert [s.name for s in q.steps] == ["S10", "S20", "S30", "S40", "S50", "FAULT"] and not link_problems(project)
    ends = {(t.sources[0], t.targets[0]) for t in q.transitions}
    (trip,) = project.trips
    assert (trip.name, trip.condition, trip.go_to) == ("ToFAULT", "Off", (f"{q.name}.FAULT",)) and (
        "S20",
        "S30",
    ) in ends
    hands = [
        (100, "Wind", True),
        (900, "AtUp", True),
        (1200, "Wind", False),
        (1500, "AtDown", True),
        (1700, "Off", True),
        (1900, "Off", False),
    ]
    rows = [Stimulus(t, "set", n, v) for t, n, v in hands]
    session = Session(project, rows)
    session.run_for(2200)
    horn, up = (session.trace.windows(n) for n in ("Horn", "Wind_Up"))
    assert [end - begin for begin, end in horn] == [51] and up[0][0] == horn[0][1], "the warning, then the motor"
    assert session.trace.windows("Shutter.FAULT.X")[0][0] == 170 and parse_iec(write_iec(project)) == project


def test_where_there_is_a_chart_a_text_with_a_case_in_it_stays_logic():
    chart = "PROGRAM Main INITIAL_STEP A: END_STEP STEP B: END_STEP TRANSITION FROM A TO B := Off; END_TRANSITION " \
            "TRANSITION FROM B TO A := NOT Off; END_TRANSITION END_PROGRAM"  # fmt: skip
    project = parse_iec(f"{AWNING}\n{chart}")
    assert [q.name for q in project.sequences] == ["Main"] and "CASE State OF" in project.opening
    with pytest.raises(FormatError, match="Step is a word of the language; choose another name") as told:
        parse_iec(f"{AWNING.replace('State', 'Step')}\n{chart}")
    assert (told.value.line, told.value.column) == (4, 7)
    with pytest.raises(FormatError, match="there is no sequence in this text"):
        parse_iec("PROGRAM Plain VAR_INPUT A : BOOL; END_VAR VAR_OUTPUT X : BOOL; END_VAR X := A; END_PROGRAM")


def over(states: int, below: str, above: str = "") -> str:
    """A ring of states with an override below its CASE."""
    arms = "\n".join(f"{10 * n}: IF A THEN State := {10 * (n % states + 1)}; END_IF;" for n in range(1, states + 1))
    return (
        f"PROGRAM P\nVAR_INPUT A, B, C : BOOL; END_VAR\nVAR_OUTPUT X, Y : BOOL; END_VAR\nVAR State : INT := 10; END_VAR\n{above}\n"
        f"CASE State OF\n{arms}\n90: IF C AND NOT B THEN State := 10; END_IF;\n95: IF C THEN State := 20; END_IF;\nEND_CASE;\n"
        f"{below}\nX := State = 20; Y := State = 90 OR State = 95;\nEND_PROGRAM\n"
    )


@pytest.mark.parametrize(
    ("text", "trips", "ways"),
    [
        (over(6, "IF B THEN State := 90; END_IF;"), ["To90: B"], 0),
        (over(6, "IF B THEN State := 90; END_IF; IF A AND C THEN State := 95; END_IF;"), ["To95: A AND C"], 7),
        (over(2, "IF B THEN State := 90; END_IF;"), [], 3),
        (over(6, "IF B AND State <> 20 THEN State := 90; END_IF;"), [], 7),
        (over(6, "IF B AND State < 50 THEN State := 90; END_IF;"), [], 6),
    ],
)  # fmt: skip
def test_an_override_from_every_state_is_a_trip_that_goes_to_its_state(text, trips, ways):
    found = read_text(text)
    project = found.project
    assert [f"{t.name.replace('S', '')}: {t.condition}" for t in project.trips] == trips
    assert [t.rank for t in project.trips] == list(range(1, len(trips) + 1)) and "in the same scans" in found.shown
    into = [t for t in project.sequences[0].transitions if t.targets == ("S90",)]
    assert len(into) == ways
    assert sum("is the trip To" in n.text for n in found.notes) == len(trips)
    if trips and not ways:
        assert all(t.priority is None for t in project.sequences[0].transitions)
    if trips:
        assert spoke.loads(spoke.dumps(project)) == project and parse_iec(write_iec(project)) == project
