"""The reachability study: nothing that a run comes to is missing, nothing is said that the bench does not show."""

from __future__ import annotations

import json
from dataclasses import replace
from itertools import product

import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st
from typer.testing import CliRunner

from spokeshave.cli import whole_app
from spokeshave.engine.link import LinkError, link
from spokeshave.engine.scan import scan
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation
from spokeshave.engine.stimuli import Stimulus
from spokeshave.engine.trace import Trace
from spokeshave.formats import spoke
from spokeshave.language.rename import rename_sequence, rename_signal
from spokeshave.model.project import (
    Action,
    Body,
    Column,
    Instance,
    Interlock,
    OpposedPair,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Table,
    Transition,
    Trip,
    Type,
)
from spokeshave.model.study import StudyPlan
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.reach import answers, explore, frontier, outcomes
from spokeshave.verify.reach.answers import GROUP, study, with_ways
from spokeshave.verify.reach.asked import Answer, Says
from spokeshave.verify.reach.explore import Explorer
from spokeshave.verify.reach.groups import groups_of
from spokeshave.verify.reach.studied import Studied, StudyError
from spokeshave.verify.scenarios import run_scenario
from tests.core.projects import INPUTS, projects, runs

N, S, R, P1 = Qualifier.N, Qualifier.S, Qualifier.R, Qualifier.P1
IN, OUT, VAR, SET = SignalClass.INPUT, SignalClass.OUTPUT, SignalClass.INTERNAL, SignalClass.SETTING
SLOW = settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))


def seen(studied: Studied, s: Situation) -> tuple:
    """What a study tells situations apart by, but for times: active steps and carried variables."""
    active = tuple(tuple(sorted(a)) for a in s.active)
    return active, tuple(int(s.v[slot]) for slot in studied.carried)


def explored(studied: Studied, apart: bool = False, most: int = explore.MOST) -> tuple[set[tuple], bool]:
    """All situations; with `apart` even small clusters are taken apart where they can be, and few ways are scanned at once."""
    explorer = Explorer(studied, most)
    with pytest.MonkeyPatch.context() as patch:
        if apart:
            patch.setattr(outcomes, "LARGE", 0)
            patch.setattr(explore, "AT_ONCE", 300)
            patch.setattr(frontier, "LOT", 3)
        found = explorer.run()
    columns = explorer.layout.unpack(found.situations)
    out = set()
    for n in range(len(found.situations)):
        active = tuple(
            tuple(x.index for x in q.steps if columns["code", q.index, x.index][n]) for q in studied.program.sequences
        )
        out.add((active, tuple(int(columns["var", slot, 0][n]) for slot in studied.carried)))
    return out, found.whole


@SLOW
@given(project=projects(), inputs=runs(), apart=st.booleans())
def test_whatever_a_run_comes_to_is_among_the_situations_of_the_study(project, inputs, apart):
    studied = Studied(project)
    known, whole = explored(studied, apart, most=1200)
    stimuli = [Stimulus(10 * k, "set", n, bool(x)) for k, row in enumerate(inputs) for n, x in zip(INPUTS, row)]
    session = Session(project, stimuli, every_scan=True)
    for _ in range(len(inputs) + 5):
        session.scan()
        assert seen(studied, session.situation) in known or not whole


# -- brute force


@st.composite
def guards(draw: st.DrawFn, names: tuple[str, ...], depth: int = 2) -> str:
    if depth == 0 or draw(st.integers(0, 2)) == 0:
        return draw(st.sampled_from((*INPUTS, *names, "Mark", "Count = 1", "Count < 2", "Y")))
    a = draw(guards(names, depth - 1))
    if draw(st.integers(0, 3)) == 0:
        return f"NOT ({a})"
    return f"({a}) {draw(st.sampled_from(('AND', 'OR', 'XOR')))} ({draw(guards(names, depth - 1))})"


@st.composite
def small_charts(draw: st.DrawFn) -> Project:
    """Charts in which time plays no part, so that a study has to find just what brute force finds."""
    made = []
    flags: tuple[str, ...] = ()
    for name in draw(st.sampled_from((("P",), ("P", "R")))):
        n = draw(st.integers(2, 4))
        steps = tuple(f"{name}{i}" for i in range(n))
        own = (*flags, *(f"{name}.{s}.X" for s in steps))
        ways = [
            Transition((s,), (draw(st.sampled_from(steps)),), draw(guards(own)), draw(st.sampled_from((None, 1))))
            for s in steps
        ]
        if n > 2:
            a, b = draw(st.lists(st.sampled_from(steps), min_size=2, max_size=2, unique=True))
            ways += [Transition((draw(st.sampled_from(steps)),), (a, b), draw(guards(own))),
                     Transition((a, b), (draw(st.sampled_from(steps)),), draw(guards(own)))]  # fmt: skip
        body = Body(f"{name}Up", "IF Count < 2 THEN Count := Count + 1; ELSE Count := 0; END_IF;")
        blocks = st.lists(
            st.builds(Action, st.sampled_from((N, S, R, P1, Qualifier.P0)), st.sampled_from(("Mark", "Y", body.name))),
            max_size=2,
        )
        boxes = tuple(
            Step(s, 10 * i + 10, tuple(draw(blocks)), permissive=draw(st.sampled_from(("", "", "A"))))
            for i, s in enumerate(steps)
        )
        hold, outputs = draw(st.sampled_from(("", "C AND B", "B"))), draw(st.sampled_from(("keep", "drop")))
        made.append(Sequence(name, steps[0], boxes, tuple(ways), (body,), hold_when=hold, hold_outputs=outputs))
        flags = own
    signals = [Signal(n, IN) for n in INPUTS] + [Signal("Y", OUT), Signal("Count", VAR, Type.INT), Signal("Mark", VAR)]
    trip = Trip("High", 1, draw(st.sampled_from(("A AND B AND C", "FALSE"))), ("P",), False,
                draw(st.sampled_from(("freeze", "restart"))), stored=draw(st.sampled_from(("keep", "clear"))), zeroed=("Count",))  # fmt: skip
    opening = draw(st.sampled_from(("", "IF A AND NOT B THEN Count := 1; END_IF;")))
    return Project("Small", 10, signals=tuple(signals), sequences=tuple(made), trips=(trip,), opening=opening)


def by_force(project: Project, studied: Studied) -> set[tuple]:
    """Every situation by running every scan with every value of every input; what is behind a situation is tried once."""
    program = link(project)
    slots = [program.slots[n.lower()] for n in INPUTS]
    first = Situation(program)
    todo, known, out = [first], set(), set()
    while todo:
        for values in product((False, True), repeat=len(slots)):
            s = todo[-1].copy() if values != (True, True, True) else todo.pop()
            for slot, value in zip(slots, values):
                s.v[slot] = value
            scan(program, s, (), Trace(program))
            v = tuple(x for i, x in enumerate(s.v) if i > 3 and i not in slots and not isinstance(x, list) and i != 2)
            times = {x.t for q in program.sequences for x in q.steps}
            v = tuple(x for i, x in enumerate(s.v) if i > 3 and i not in slots and i not in times)
            key = (tuple(tuple(sorted(a)) for a in s.active), v, tuple(sorted(s.stored)), tuple(s.trip_on),
                   tuple(tuple(sorted(e)) for e in s.effected), tuple(map(tuple, s.kept)), tuple(s.mode))  # fmt: skip
            out.add(seen(studied, s))
            if key not in known:
                known.add(key)
                todo.insert(0, s)
    return out


@SLOW
@given(project=small_charts(), apart=st.booleans())
def test_a_study_finds_just_what_brute_force_finds(project, apart):
    studied = Studied(project)
    known, whole = explored(studied, apart)
    assert whole and known == by_force(project, studied)


@SLOW
@given(project=small_charts(), assumed=st.booleans())
def test_every_way_replays_on_the_bench_and_ends_in_its_situation(project, assumed):
    found = study(project, ("NOT (A AND B)",) if assumed else (), before=(("P.P1", "P.P0"), ("P.P0", "P.P1")))
    assert found.whole and not any(a.says in (Says.MAY, Says.UNKNOWN) for a in found.answers)
    kept = with_ways(project, found)
    ways = [a for a in found.answers if a.way is not None]
    assert [s.group for s in kept.scenarios] == [GROUP] * len(ways)
    for s in kept.scenarios:
        rule = "expect never A AND B\n" if assumed else ""
        assert run_scenario(kept, replace(s, text=s.text + rule)).outcome is Outcome.PASS


def test_a_pulse_that_a_hold_keeps_is_seen():
    """Out comes for one scan; held behind it, it stays, so it can meet Other, which comes later in the hold."""
    drive = Sequence("Drive", "A", (Step("A", 10), Step("B", 20, (Action(P1, "Out"),))),
                     (Transition(("A",), ("B",), "Go"),), hold_when="H", hold_outputs="keep")  # fmt: skip
    gate = Sequence("Gate", "C", (Step("C", 10), Step("C2", 20), Step("D", 30, (Action(N, "Other"),))),
                    (Transition(("C",), ("C2",), "H"), Transition(("C2",), ("D",), "H"), Transition(("D",), ("C",), "NOT H")))  # fmt: skip
    signals = (Signal("Go", IN), Signal("H", IN), Signal("Out", OUT), Signal("Other", OUT))
    project = Project("M", 10, signals=signals, sequences=(drive, gate), opposed=(OpposedPair("Out", "Other", 0),))
    assert asked(project, "together", "before").says is Says.BAD
    dropped = replace(project, sequences=(replace(drive, hold_outputs="drop"), gate))
    assert asked(dropped, "together", "before").says is Says.GOOD


# -- questions


def hatch(**more) -> Project:
    """A hatch that opens on Go and closes on Shut."""
    signals = (Signal("Go", IN), Signal("Shut", IN), Signal("Opened", IN), Signal("Closed", IN), Signal("Far", IN, Type.REAL),
               Signal("Up", OUT), Signal("Down", OUT), Signal("Count", VAR, Type.INT), Signal("Goal", SET, Type.INT, initial=1),
               Signal("Done", VAR))  # fmt: skip
    steps = (
        Step("Rest", 10),
        Step("Opens", 20, (Action(N, "Up"),), "T#5s"),
        Step("Open", 30),
        Step("Closes", 40, (Action(N, "Down"),), "T#5s"),
    )
    ways = (Transition(("Rest",), ("Opens",), "RISING(Go)"), Transition(("Opens",), ("Open",), "Opened AND Opens.T >= T#1s"),
            Transition(("Open",), ("Closes",), "Shut AND Far > 2.5"), Transition(("Closes",), ("Rest",), "HELD(Closed, T#200ms)"))  # fmt: skip
    made = Project("Hatch", 10, signals=signals, sequences=(Sequence("Main", "Rest", steps, ways),))
    return replace(made, **more)


def changed(project: Project, index: int, condition: str) -> Project:
    q = project.sequences[0]
    ways = tuple(replace(t, condition=condition) if n == index else t for n, t in enumerate(q.transitions))
    return replace(project, sequences=(replace(q, transitions=ways), *project.sequences[1:]))


def asked(project: Project, kind: str, about: str = "", **more) -> Answer:
    return next(a for a in study(project, **more).answers if a.kind == kind and about in a.about)


def test_a_sound_hatch_can_do_everything_and_never_gets_stuck():
    found = study(hatch(), together=(("Up", "Down"),), before=(("Main.Opens", "Main.Closes"),))
    assert {a.says for a in found.answers} == {Says.GOOD} and found.whole
    assert {a.kind for a in found.answers} == {"reached", "stuck", "home", "together", "safe", "before"}


def test_what_is_wrong_is_found_with_the_shortest_way_there():
    never = asked(changed(hatch(), 2, "Shut AND Far > 2.5 AND Far < 2.0"), "reached")
    assert never.says is Says.BAD and never.text == "never active: Closes; never clears: Open to Closes, Closes to Rest"
    stuck = asked(changed(hatch(), 1, "Opened AND Opens.T < T#1s AND Opens.T >= T#1s"), "stuck")
    assert stuck.says is Says.BAD and stuck.way.replays and stuck.text == "in Opens it can get stuck for ever"
    assert stuck.way.steps == ("Main.Opens",) and stuck.way.end_ms <= 50
    home = asked(changed(hatch(), 3, "Closed AND Done"), "home")
    assert home.says is Says.BAD and "no way back" in home.text and home.way.steps == ("Main.Opens",)
    early = asked(hatch(), "before", before=(("Main.Open", "Main.Opens"),))
    assert early.says is Says.BAD and early.way.steps == ("Main.Opens",)


def test_outputs_are_asked_for_together_before_interlocks_and_go_out_after_them():
    q = hatch().sequences[0]
    both = tuple(replace(s, actions=(Action(N, "Up"), Action(N, "Down"))) if s.name == "Open" else s for s in q.steps)
    wrong = hatch(sequences=(replace(q, steps=both),))
    told = {a.about: a for a in study(wrong, together=(("Up", "Down"),)).answers if a.kind == "together"}
    assert [a.says for a in told.values()] == [Says.BAD, Says.BAD]
    assert told["Up and Down, after interlocks"].way.steps == ("Main.Open",)
    for more in ({"interlocks": (Interlock("Up", "NOT Down"),)}, {"opposed": (OpposedPair("Up", "Down", 100),)}):
        told = {
            a.about: a.says
            for a in study(replace(wrong, **more), together=(("Up", "Down"),)).answers
            if a.kind == "together"
        }
        assert list(told.values()) == [Says.BAD, Says.GOOD]


def test_a_time_out_of_a_table_may_be_that_of_each_row():
    """A step that the fast row leaves in time and the slow one does not; before any row is chosen there is none."""
    plan = Table("Plan", SET, (Column("Long", Type.TIME),), ((1000,), (6000,)), row_type="Row")
    project = changed(replace(hatch(), tables=(plan,)), 1, "Opens.T >= Plan[Count].Long AND NOT Opens.Late")
    body = Body("Choose", "IF Far > 1.0 THEN Count := 1; ELSE Count := 2; END_IF;")
    q = project.sequences[0]
    steps = (replace(q.steps[0], actions=(Action(N, "Choose"),)), *q.steps[1:])
    project = replace(project, sequences=(replace(q, steps=steps, bodies=(body,)),))
    assert asked(project, "stuck").says is Says.BAD
    assert asked(replace(project, tables=(replace(plan, rows=((1000,), (4000,))),)), "stuck").says is Says.GOOD
    project = replace(project, signals=(*project.signals, Signal("Wait", VAR, Type.TIME)), closing="Wait := T#1s;")
    said = study(changed(project, 1, "Opens.T >= Plan[Count].Long + Wait")).limits
    assert any("Wait: only the values at the start are tried" in limit for limit in said)


def test_a_step_whose_lateness_raises_a_trip_is_not_stuck_and_a_trip_elsewhere_keeps_nobody():
    """In the scan in which it is late nothing but the trip can come; the reset ends it. The other sequence goes on in it."""
    q = hatch().sequences[0]
    steps = tuple(replace(s, response="Slow") if s.longest else s for s in q.steps)
    other = Sequence(
        "Lamp",
        "Off",
        (Step("Off", 10), Step("On", 20)),
        (Transition(("Off",), ("On",), "Go"), Transition(("On",), ("Off",), "NOT Go")),
    )
    trip = Trip("Slow", 1, "FALSE", ("Main",), True, "restart")
    project = hatch(sequences=(replace(q, steps=steps), other), trips=(trip,), reset="RISING(Shut)")
    answers = [a for a in study(project).answers if a.kind in ("stuck", "home")]
    assert len(answers) == 3 and {a.says for a in answers} == {Says.GOOD}, answers


def test_a_section_that_is_entered_twice_is_not_safe():
    steps = tuple(Step(n, 10 * i + 10) for i, n in enumerate(("Rest", "Left", "Right", "Both")))
    ways = (Transition(("Rest",), ("Left", "Right"), "Go"), Transition(("Left",), ("Rest",), "Shut"),
            Transition(("Right",), ("Both",), "Opened"), Transition(("Both",), ("Rest",), "Closed"))  # fmt: skip
    answer = asked(hatch(sequences=(Sequence("Main", "Rest", steps, ways),)), "safe")
    assert answer.says is Says.BAD and answer.way.replays and "can be entered while it is active" in answer.text


def test_assumptions_settings_and_limits():
    project = changed(hatch(), 2, "Opened AND Closed")
    assert asked(project, "reached").says is Says.GOOD
    assert asked(project, "reached", assumptions=("NOT (Opened AND Closed)",)).says is Says.BAD
    assert asked(hatch(), "reached", assumptions=("NOT Go",)).text.startswith("never active: Opens, Open"), (
        "nor an edge of it"
    )
    chain = ("NOT Go OR Closed", "NOT Closed")
    assert asked(hatch(), "reached", assumptions=chain).says is Says.BAD, "though nobody looks at Closed in Rest"
    with pytest.raises(StudyError, match="what is assumed contradicts itself"):
        study(hatch(), assumptions=("Go", "NOT Go"))
    counted = changed(hatch(), 2, "Goal > 1")
    assert asked(counted, "reached").says is Says.BAD
    assert asked(replace(counted, study=StudyPlan(settings=(("Goal", (1, 2)),))), "reached").says is Says.GOOD
    for plan, message in (
        (StudyPlan(assumptions=("Count > 1",)), "reads Count; assumptions are about inputs"),
        (StudyPlan(assumptions=("Gone",)), "the assumption 'Gone'"),
        (StudyPlan(together=(("Up", "Go"),)), "Go is no BOOL output"), (StudyPlan(settings=(("Go", (1,)),)), "Go is no setting"),
        (StudyPlan(before=(("Main.Rest", "Main.Gone"),)), "there is no step Main.Gone"),
    ):  # fmt: skip
        with pytest.raises(StudyError, match=message):
            study(hatch(study=plan))
    with pytest.raises(LinkError):
        study(changed(hatch(), 0, "Gone"))


def test_what_is_left_out_is_said_and_nothing_is_proven_that_was_not_looked_at():
    counting = changed(hatch(closing="Count := Count + 1;"), 0, "Go AND Count > 3")
    found = study(counting)
    assert not found.whole and "Count goes beyond the numbers" in found.limits[-1]
    assert {a.says for a in found.answers} == {Says.UNKNOWN}
    assert not study(hatch(), most=2).whole
    timed = changed(hatch(instances=(Instance("Pause", "TON"),), opening="Pause(IN := Go, PT := T#1s);"), 0, "Pause.Q")
    found = study(timed)
    assert found.whole and any("not followed" in x for x in found.limits) and asked(timed, "reached").says is Says.GOOD
    assert study(hatch(), progress=lambda n: False).limits[-1].endswith("it was cancelled")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(explore, "MOST_LINKS", 5)
        found = study(hatch())
    assert not found.whole and found.limits[-1].endswith("there are more than 5 ways from situation to situation")


def together(many: int) -> Project:
    """Sequences that go round by themselves, and all stop for one input."""
    signals, made = [Signal("Halt", IN)], []
    for n in range(many):
        signals += [Signal(f"On{n}", IN), Signal(f"Back{n}", IN)]
        ways = [Transition((f"S{i}",), (f"S{(i + 1) % 3}",), f"On{n} AND NOT Back{n} AND NOT Halt") for i in range(3)]
        ways += [Transition((f"S{i}",), (f"S{i - 1}",), f"Back{n} AND NOT Halt") for i in (1, 2)]
        made.append(Sequence(f"Q{n}", "S0", tuple(Step(f"S{i}", 10 * i + 10) for i in range(3)), tuple(ways)))
    return Project("Together", 10, signals=tuple(signals), sequences=tuple(made))


def test_what_many_sequences_look_at_is_chosen_first_so_that_each_is_tried_by_itself():
    explorer = Explorer(Studied(together(4)))
    found = explorer.run()
    assert found.whole and len(found.situations) == 3**4
    assert sum(map(len, found.links)) == 8**4, "in S0 there are two ways, in S1 and S2 three"
    assert max(t.size for t in explorer.outcomes.pool.tried) <= 4, "not 2 to the power of nine"
    stopped = Explorer(Studied(together(13))).run()
    assert not stopped.whole and "from one situation there are 1,594,323 ways to go on" in stopped.stopped
    assert len(stopped.situations) > 1000, "what was found until then stands"


def test_a_trip_that_is_gone_leaves_no_trace_and_who_stands_still_chooses_nothing():
    signals = tuple(Signal(n, IN) for n in ("Go", "Back", "Bad", "Worse", "Reset"))
    ways = (Transition(("Rest",), ("Work",), "Go"), Transition(("Work",), ("Rest",), "Back"))
    main = Sequence("Main", "Rest", (Step("Rest", 10), Step("Work", 20, (Action(N, "Y"),))), ways)
    low, high = Trip("Low", 1, "HELD(Bad, T#1s)"), Trip("High", 2, "HELD(Worse, T#2s)")
    counts = []
    for trips in ((), (low,), (low, high)):
        explorer = Explorer(
            Studied(
                Project("M", 10, signals=(*signals, Signal("Y", OUT)), sequences=(main,), trips=trips, reset="Reset")
            )
        )
        counts.append((len(explorer.run().situations), explorer.scans))
    assert [n for n, _ in counts] == [2, 2 * 2, 2 * 5], (
        "either, Low, High, both, and both where Low has had no effect yet"
    )
    assert counts[1][1] < 2 * counts[0][1] + 2 * 8, "a frozen step asks for the trip and reset alone"


def test_times_that_cannot_come_so_are_told_from_those_that_can():
    """Two steps side by side: one lasts at most as long as the other, which free times do not know."""
    steps = (Step("Rest", 10), Step("Short", 20), Step("Long", 30), Step("Early", 40), Step("Late", 50))
    ways = (Transition(("Rest",), ("Short", "Long"), "RISING(Go)"), Transition(("Short",), ("Early",), "Short.T >= T#1s"),
            Transition(("Long",), ("Late",), "Long.T >= T#3s"), Transition(("Early", "Late"), ("Rest",), "Shut"))  # fmt: skip
    project = hatch(sequences=(Sequence("Main", "Rest", steps, ways),))
    answer = asked(project, "before", before=(("Main.Early", "Main.Late"),))
    assert answer.says is Says.MAY and answer.way is not None and not answer.way.replays
    assert asked(project, "before", before=(("Main.Late", "Main.Early"),)).says is Says.BAD


@st.composite
def beside_each_other(draw: st.DrawFn) -> Project:
    """Two small charts in one file: they share their inputs, the reset, and a trip that follows an input."""
    first, second = draw(small_charts()), draw(small_charts())
    for name in ("Y", "Count", "Mark"):
        second = rename_signal(second, name, f"{name}2")
    sequences = (first.sequences[0], rename_sequence(second, "P", "T").sequences[0])
    stop = Trip("Stop", 1, draw(st.sampled_from(("NOT A AND B", "RISING(C)"))), None, draw(st.booleans()))
    new = [*(s for s in second.signals if s.name.endswith("2")), Signal("Z", OUT)]
    return replace(first, signals=(*first.signals, *new), sequences=sequences, trips=(stop,), opening="",
                   reset="C", closing="Z := P.P0.X AND T.P0.X;")  # fmt: skip


@SLOW
@given(project=beside_each_other())
def test_what_shares_nothing_but_inputs_is_answered_alike_by_itself(project):
    whole = Studied(project)
    assert groups_of(whole, (), ()) == [("P", "T")]
    assume(len(groups_of(whole, (), (), through_inputs=False)) == 2)
    told = []
    for most in (1 << 60, 0):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(answers, "MOST_TRIED_TOGETHER", most)
            found = study(project)
        assert found.whole and ("but inputs" in " ".join(found.limits)) is (most == 0)
        told.append([(a.kind, a.about, a.says is Says.GOOD) for a in found.answers if a.kind != "home"])
    assert told[0] == told[1]


@pytest.mark.parametrize("written", ["", "Stop := TRUE;"])
def test_what_opening_logic_makes_of_inputs_is_as_free_as_they_are_unless_others_write_it(written):
    body = Body("Mine", f"Count := 1; {written}")
    ways = tuple(Transition((a,), (b,), "Go AND NOT Stop") for a, b in (("S0", "S1"), ("S1", "S0")))
    steps = (Step("S0", 10, (Action(N, "Mine"),)), Step("S1", 20))
    first = Sequence("P", "S0", steps, ways, (body,))
    second = Sequence("Q", "S0", (Step("S0", 10), Step("S1", 20)), ways)
    signals = (Signal("Go", IN), Signal("Halt", IN), Signal("Stop", VAR), Signal("Count", VAR, Type.INT))
    studied = Studied(Project("Two", 10, signals=signals, sequences=(first, second), opening="Stop := NOT Halt;"))
    apart = groups_of(studied, (), (), through_inputs=False)
    assert apart == ([("P", "Q")] if written else [("P",), ("Q",)])


def test_sequences_that_have_nothing_to_do_with_each_other_are_taken_by_themselves():
    def copy(n: int) -> tuple[tuple[Signal, ...], Sequence]:
        signals = (Signal(f"Go{n}", IN), Signal(f"Run{n}", OUT))
        steps = (Step("A", 10), Step("B", 20, (Action(N, f"Run{n}"),)), Step("C", 30))
        ways = [Transition((a,), (b,), f"{x}Go{n}") for a, b, x in (("A", "B", ""), ("B", "C", "NOT "), ("C", "A", ""))]
        return signals, Sequence(f"Q{n}", "A", steps, tuple(ways))

    parts = [copy(n) for n in range(12)]
    project = Project("Many", 10, signals=tuple(s for p in parts for s in p[0]), sequences=tuple(p[1] for p in parts))
    assert groups_of(Studied(project), (), ()) == [(f"Q{n}",) for n in range(12)]
    found = study(project)
    assert found.situations == 3**12 and {a.says for a in found.answers} == {Says.GOOD}
    assert any("looked at by themselves" in x for x in found.limits)
    joined = study(project, together=(("Run0", "Run1"),))
    told = [a for a in joined.answers if a.kind == "together"]
    assert joined.situations == 3**12 and all(a.says is Says.BAD and a.way.replays for a in told)


def test_the_command_answers_keeps_ways_and_refuses(tmp_path):
    file = tmp_path / "hatch.spoke"
    spoke.write(changed(hatch(), 3, "Closed AND Done"), file)
    said = CliRunner().invoke(
        whole_app(),
        [
            "reach",
            str(file),
            "--together",
            "Up,Down",
            "--before",
            "Main.Rest,Main.Open",
            "--assume",
            "NOT (Opened AND Closed)",
        ],
    )
    assert said.exit_code == 1 and "no             Main: in Closes it can get stuck for ever" in said.output
    assert "proven         Up and Down, after interlocks: they are never on together" in said.output
    assert "assumed: NOT (Opened AND Closed)" in said.output and "expect finally Main.Closes.X" in said.output
    said = CliRunner().invoke(whole_app(), ["reach", str(file), "--keep", "--json"])
    answers = {a["kind"]: a for a in json.loads(said.output)["answers"]}
    assert answers["stuck"]["replays"] is True and answers["safe"]["says"] == "good"
    kept = spoke.read(file)
    assert kept.scenarios and all(run_scenario(kept, s).outcome is Outcome.PASS for s in kept.scenarios)
    assert CliRunner().invoke(whole_app(), ["reach", str(file), "--together", "Up"]).exit_code == 2
    assert CliRunner().invoke(whole_app(), ["reach", str(file), "--before", "Main.Rest,Main.Gone"]).exit_code == 2


def test_the_roastery_is_proven_whole(roastery):
    found = study(roastery)
    assert found.whole and {a.says for a in found.answers} == {Says.GOOD}
    assert sum(a.kind == "together" for a in found.answers) == 6 and sum(a.kind == "before" for a in found.answers) == 3
