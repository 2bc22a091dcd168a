"""Generated code phase by phase: each feature of a machine file by itself, in both styles, beside its chart."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.code.as_run import as_project
from spokeshave.formats.code.tokens import tokens
from spokeshave.formats.code.write import generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_code
from spokeshave.model.project import (
    Action,
    Body,
    Interlock,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
)  # fmt: skip
from spokeshave.model.qualifiers import ACTING
from spokeshave.model.threads import threads
from spokeshave.verify.equivalence import Comparison, Run, compare, first_difference, runs_of
from tests.core.projects import structured
from tests.core.test_hostile import damage, damaged

N, S, R, P, P0, D, L = (Qualifier(q) for q in ("N", "S", "R", "P", "P0", "D", "L"))
BOTH = pytest.mark.parametrize("style", ["case", "flags"])


def gate(*actions: Action, **changes: object) -> Project:
    """Closed, Open and Shutting; `actions` belong to Open. Another sequence watches it."""
    signals = [Signal(n, SignalClass.INPUT) for n in ("Go", "Shut", "Halt", "Reset", "Again")]
    signals += [Signal(n, SignalClass.OUTPUT) for n in ("Drive", "Lamp")]
    signals += [Signal("Count", SignalClass.INTERNAL, Type.INT), Signal("Mark", SignalClass.INTERNAL)]
    signals += [Signal("Wait", SignalClass.SETTING, Type.TIME, initial=50)]
    steps = (Step("Closed", 10), Step("Open", 20, actions), Step("Shutting", 30, (Action(N, "Lamp"),)))
    ways = (
        Transition(("Closed",), ("Open",), "Go"),
        Transition(("Open",), ("Shutting",), "Shut OR Open.T >= T#300ms"),
        Transition(("Shutting",), ("Closed",), "HELD(Shut, T#40ms) // long enough"),
    )
    body = Body("Tell", "Count := Count + 1; // each scan")
    watch = Sequence(
        "Watch", "Rest", (Step("Rest", 1), Step("Seen", 2, (Action(N, "Mark"),))),
        (Transition(("Rest",), ("Seen",), "Main.Open.X AND Main.State = 20"), Transition(("Seen",), ("Rest",), "Main.Open.T > Wait")),
    )  # fmt: skip
    made = Project(
        "Gate",
        10,
        signals=tuple(signals),
        sequences=(Sequence("Main", "Closed", steps, ways, (body,)), watch),
        reset="Reset",
    )
    return replace(made, **changes)


def main(project: Project, **changes: object) -> Project:
    return replace(project, sequences=(replace(project.sequences[0], **changes), *project.sequences[1:]))


ROWS = (
    (30, "Go", True), (60, "Go", False), (100, "Halt", True), (150, "Halt", False), (180, "Reset", True), (190, "Reset", False),
    (220, "Shut", True), (300, "Shut", False), (330, "Go", True), (420, "Again", True), (440, "Again", False),
    (500, "Halt", True), (505, "Reset", True), (560, "Halt", False), (580, "Reset", False), (600, "Reset", True), (900, "Shut", True),
)  # fmt: skip


def same(project: Project, style: str, ms: int = 1200) -> Comparison:
    g = generate(project, style)
    run = Run("rows", tuple(Stimulus(t, "set", n, v) for t, n, v in ROWS), ms)
    return compare(project, as_project(g), {c: g.flag(c) for c in g.active}, iter([run]))


@BOTH
@pytest.mark.parametrize("qualifier", ACTING)
@pytest.mark.parametrize("target", ["Drive", "Mark2", "Tell"])
def test_each_qualifier_on_an_output_an_internal_and_a_body(style, qualifier, target):
    project = gate(Action(qualifier, target, "Wait" if qualifier.timed else ""))
    project = replace(project, signals=(*project.signals, Signal("Mark2", SignalClass.INTERNAL)))
    assert same(project, style) == Comparison(1, 120, None)


@BOTH
@pytest.mark.parametrize("steps", ["freeze", "restart", "go to"])
@pytest.mark.parametrize("stored", ["keep", "clear"])
@pytest.mark.parametrize("times", ["freeze", "zero"])
@pytest.mark.parametrize("latching", [True, False])
def test_each_effect_of_a_trip(style, steps, stored, times, latching):
    trip = Trip("Stop", 2, "Halt AND NOT Go", ("Main",), latching, steps, ("Main.Shutting",), stored, times, ("Count",))
    first = Trip("First", 1, "Halt AND Go", ("Main", "Watch"), False, "freeze")
    project = gate(Action(S, "Drive"), Action(N, "Tell"), Action(Qualifier.SD, "Lamp", "T#90ms"), trips=(trip, first))
    assert same(project, style) == Comparison(1, 120, None)


@BOTH
@pytest.mark.parametrize("outputs", ["keep", "drop"])
@pytest.mark.parametrize("response", ["alarm", "hold", "Stop"])
def test_holds_late_steps_and_restarts(style, outputs, response):
    project = gate(Action(P0, "Lamp"), Action(S, "Drive"), Action(N, "Tell"), Action(L, "Mark2", "T#80ms"),
                   trips=(Trip("Stop", 1, "FALSE", ("Main",), True, "restart"),))  # fmt: skip
    project = replace(project, signals=(*project.signals, Signal("Mark2", SignalClass.INTERNAL)))
    steps = list(project.sequences[0].steps)
    steps[1] = replace(steps[1], longest="T#60ms", response=response)
    steps[2] = replace(steps[2], actions=(*steps[2].actions, Action(R, "Drive")))
    project = main(
        project, steps=tuple(steps), hold_when="Halt OR Open.Late AND Again", hold_outputs=outputs, restart_when="Again"
    )
    assert same(project, style) == Comparison(1, 120, None)


@BOTH
def test_opening_and_closing_logic_home_interlocks_and_nested_edges(style):
    project = gate(
        Action(N, "Drive"), Action(P, "Tell"),
        opening="IF RISING(Halt OR FALLING(Shut)) THEN Count := Count + 10; END_IF; (* wakes *)",
        closing="Mark2 := HELD(Main.Open.X AND NOT RISING(Again), T#20ms) OR Home; // seen",
        home="Main.Closed.X AND NOT Drive", interlocks=(Interlock("Drive", "NOT Halt AND (Main.Open.T < T#90ms OR RISING(Reset))"),),
    )  # fmt: skip
    project = replace(project, signals=(*project.signals, Signal("Mark2", SignalClass.INTERNAL)))
    assert same(project, style) == Comparison(1, 120, None)
    assert parse_iec(write_code(project, style)) == project


@BOTH
def test_a_body_of_several_blocks_runs_once_at_its_first_block(style):
    """Between its blocks stands another body that reads what it writes, so the order shows."""
    first = Body("Tell", "Count := Count + 1;")
    second = Body("Twice", "Count := Count * 2; IF Count > 1000 THEN Count := 0; END_IF;")
    project = gate(Action(D, "Tell", "T#50ms"), Action(N, "Twice"), Action(L, "Tell", "T#90ms"))
    assert same(main(project, bodies=(first, second)), style) == Comparison(1, 120, None)


@BOTH
def test_permissives_priorities_and_conditions_that_compute(style):
    project = gate(Action(N, "Tell"))
    steps = [replace(s, permissive="NOT Again" if s.name == "Closed" else "") for s in project.sequences[0].steps]
    ways = (
        Transition(("Closed",), ("Shutting",), "Go AND Count + 1 > 30", 2),
        Transition(("Closed",), ("Open",), "Go", 7),
        Transition(("Open",), ("Open",), "Count = 5 OR Count = 9", 1),
        Transition(("Open",), ("Closed",), "Count MOD 7 = 6", 2),
        Transition(("Shutting",), ("Closed",), "TRUE"),
    )
    project = main(project, steps=tuple(steps), transitions=ways)
    assert same(project, style) == Comparison(1, 120, None)
    if style == "case":
        assert "Main_If1 := Go AND Count + 1 > 30;" in generate(project, style).text


@BOTH
def test_a_run_that_stops_does_so_in_the_same_scan(style):
    project = main(gate(), bodies=(Body("Tell", "Count := 10 / (3 - Count);"),))
    steps = list(project.sequences[0].steps)
    steps[1] = replace(steps[1], actions=(Action(N, "Tell"),))
    project = main(project, steps=tuple(steps))
    found = same(project, style)
    assert found.difference is None
    assert found.scans < 120


def test_names_of_the_code_keep_clear_of_those_of_the_model():
    project = gate(
        signals=(*gate().signals, Signal("FirstScan", SignalClass.OUTPUT), Signal("Main_At", SignalClass.INTERNAL))
    )
    g = generate(project, "case")
    names = [v.name.lower() for v in g.variables]
    assert "firstscan_2" in names and "main_at_2" in names
    assert len(set(names)) == len(names)
    assert same(project, "case").difference is None


def test_a_retained_sequence_keeps_its_place_in_the_code_too():
    project = main(gate(Action(S, "Drive")), retain=True)
    session = Session(as_project(generate(project, "case")), [Stimulus(30, "set", "Go", True)])
    session.run_scans(10)
    session.do("power")
    session.run_scans(5)
    assert session.trace.at("Main_At", 14) == 20


def test_the_code_reads_like_a_program_somebody_would_write():
    text = generate(gate(Action(N, "Drive")), "case").text
    assert re.search(
        r"CASE Main_At OF\n +10: \(\* Closed \*\)\n +IF Go THEN \(\* Closed to Open \*\)\n +Main_At := 20;", text
    )
    assert "  Drive := Main_At = 20;\n" in text
    assert text.count("END_CASE") == 2


@given(structured())
def test_no_two_steps_of_a_thread_are_active_together(project):
    q = project.sequences[0]
    found = threads(q)
    assert not found.problem
    assert set(found.of) == {s.name for s in q.steps}
    session = Session(replace(project, opening="Count := 1;"), [Stimulus(k * 30, "set", n, (k >> i) % 2 == 0)
                      for k in range(20) for i, n in enumerate("ABC")], every_scan=True)  # fmt: skip
    for _ in range(60):
        session.scan()
        active = [q.steps[a].name for a in session.situation.active[0]]
        mine = [found.of[name] for name in active]
        assert len(set(mine)) == len(mine) <= found.count


@damage
@given(damaged(write_code(gate(Action(N, "Tell"), Action(L, "Drive", "T#20ms")), "case").split("{spokeshave")[0]))
def test_damaged_code_is_read_or_refused_with_a_place(text):
    pragma = (
        "{spokeshave"
        + write_code(gate(Action(N, "Tell"), Action(L, "Drive", "T#20ms")), "case").split("{spokeshave")[1]
    )
    try:
        project = parse_iec(text + pragma)
    except FormatError as error:
        assert str(error)
    else:
        assert [s.name for s in project.sequences[0].steps] == ["Closed", "Open", "Shutting"]


@given(st.text(alphabet="AB_1 :=<>;()*\n/.#T", max_size=60))
def test_tokens_leave_out_blanks_and_comments_alone(text):
    found = tokens(text)
    assert [t.start for t in found] == sorted(t.start for t in found)
    for t in found:
        assert text[t.start : t.end] == t.word
    kept = "".join(t.word for t in found)
    assert kept == "".join(w.word for w in tokens(" ".join(t.word for t in found))) or "*" in text or "/" in text


def test_hands_that_move_at_random_are_always_the_same_and_touch_only_what_is_free():
    project = gate()
    once, again = list(runs_of(project)), list(runs_of(project))
    assert once == again
    assert len({r.stimuli for r in once}) == len(once) == 3
    assert {s.target for r in once for s in r.stimuli} == {"Go", "Shut", "Halt", "Reset", "Again"}


def test_two_runs_of_different_length_differ_where_the_shorter_one_ends():
    a, b = Session(gate()), Session(gate())
    a.run_scans(10)
    b.run_scans(12)
    found = first_difference(a.trace, b.trace, {}, "run")
    assert found is not None
    assert (found.time_ms, found.name, found.chart, found.code) == (100, "the run", "stopped", "running")
