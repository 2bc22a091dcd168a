"""Skip-ahead against running every scan: the same changes, the same events, in the same scans."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from spokeshave.engine.next_change import first_at
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.project import (
    Action,
    Column,
    Device,
    Instance,
    Interlock,
    Project,
    Qualifier,
    Signal,
    SignalClass,
    Table,
    Type,
)  # fmt: skip
from tests.core.projects import INPUTS, projects, structured
from tests.core.test_semantics import PASS, gate, main
from tests.core.test_statements import project as logic

thousands = settings(
    max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)
LENGTH_MS = 2500


def story(session: Session) -> tuple[object, ...]:
    t = session.trace
    return (
        list(t.scans),
        list(t.columns),
        list(t.values),
        [(e.k, e.kind, e.text) for e in t.events],
        t.scan_count,
        str(session.stopped),
    )


def both(project: Project, stimuli: list[Stimulus], ms: int = LENGTH_MS) -> tuple[Session, Session]:
    """The same run with and without skip-ahead, compared."""
    runs = Session(project, stimuli), Session(project, stimuli, every_scan=True)
    for part in (0.1, 0.104, 0.3, 0.304, 0.308, 0.75, 1):  # what is known to be quiet goes on quiet
        runs[0].run_for(int(ms * part) - runs[0].time_ms)
    runs[1].run_for(ms)
    assert story(runs[0]) == story(runs[1])
    ends = [
        [r.program.times.unseen(r.situation.v), [r.situation.v[x.t] for q in r.program.sequences for x in q.steps]]
        for r in runs
    ]
    assert ends[0] == ends[1]
    assert runs[0].executed <= runs[1].executed
    return runs


times = st.integers(0, LENGTH_MS)
hands = st.lists(st.tuples(times, st.sampled_from(INPUTS), st.booleans()), max_size=8)


@thousands
@given(projects(), hands)
def test_random_charts_run_the_same(project, rows):
    both(project, [Stimulus(t, "set", n, v) for t, n, v in sorted(rows)])


def with_machine(project: Project, seconds: tuple[float, float, float]) -> Project:
    """The inputs given by devices that answer the outputs: an actuator, a motor, a thermal mass with its thermostat."""
    travel, run_up, constant = seconds
    devices = (
        Device("Slide", "actuator", (("extend", "Y1"), ("retract", "Y2"), ("extended", "A"), ("retracted", "B")),
               (("extend_s", travel), ("retract_s", travel / 2), ("two_drives", 1.0))),
        Device("Fan", "motor", (("run", "Y3"), ("running", "C")), (("run_up_s", run_up), ("run_down_s", run_up))),
        Device("Heat", "thermal", (("heater", "Z"), ("temperature", "Temp")),
               (("time_constant_s", constant), ("heater_k", 60.0), ("resolution_k", 0.5))),
    )  # fmt: skip
    signals = (*project.signals, Signal("Temp", SignalClass.INPUT, Type.REAL))
    closing = f"{project.closing if 'Z' not in project.closing else ''} Z := Temp < 40.0 OR Y1 AND Temp <= 42.5;"
    return replace(project, signals=signals, devices=devices, closing=closing)


deeds = st.lists(
    st.tuples(
        times,
        st.sampled_from((
            ("fail", "Slide", "jammed"), ("heal", "Slide", "jammed"), ("fail", "Slide", "slow"), ("fail", "Fan", "overload tripped"),
            ("heal", "Fan", "overload tripped"), ("fail", "Slide", "extended stuck on"), ("fail", "Heat", "sensor frozen"),
            ("heal", "Heat", "sensor frozen"), ("power", "", None), ("force", "A", True), ("unforce", "A", None), ("force", "Y2", True),
            ("drive", "", True), ("drive", "", False),
        )),
    ),
    max_size=6,
)  # fmt: skip
seconds = st.tuples(st.sampled_from((0.03, 0.2, 0.55)), st.sampled_from((0.02, 0.3)), st.sampled_from((0.5, 3.0)))


TEXTS: dict[str, dict[str, object]] = {
    "none": {},
    "home": {"home": "B AND NOT P.P10.X", "opening": "Soon := Home;"},
    "timers": {"opening": "On(IN := A OR P.P20.X, PT := T#230ms); Off(IN := B, PT := Delay); Soon := On.Q XOR Off.Q;",
               "closing": "Once(IN := P.P10.X, PT := T#170ms); Gone := Once.Q;"},
    "a timer and its time": {"opening": "On(IN := C, PT := T#90ms); Soon := On.ET > T#40ms;"},
    "logic that seldom does anything": {"opening": "IF C THEN Soon := A; END_IF;", "closing": "IF NOT B THEN Gone := C; END_IF;"},
    "overflows": {"interlocks": (Interlock("Y1", "Count * 9000 >= 0"), Interlock("Z", "10 / Count < 20")), "opening": "Soon := A;"},
}  # fmt: skip
"""What may run in every scan beside the chart."""


@thousands
@given(projects(), seconds, deeds, st.sampled_from(sorted(TEXTS)))
def test_random_charts_with_a_machine_that_answers_and_fails_run_the_same(project, parameters, done, texts):
    stimuli = [Stimulus(t, *deed) for t, deed in sorted(done, key=lambda d: d[0])]
    instances = (Instance("On", "TON"), Instance("Off", "TOF"), Instance("Once", "TP"))
    signals = (*project.signals, *(Signal(n, SignalClass.INTERNAL) for n in ("Soon", "Gone")))
    more = replace(project, signals=signals, instances=instances)
    both(with_machine(replace(more, **TEXTS[texts]), parameters), stimuli)


def plain(project: Project, borders: tuple[float, float], seconds: tuple[float, float, float]) -> Project:
    """A chart alone with its machine: no texts but conditions, which look at a temperature and a level too."""
    q = project.sequences[0]
    simple = ("N", "L", "D", "P", "P1", "P0", "S", "R")
    steps = tuple(replace(s, actions=tuple(a for a in s.actions if a.qualifier in simple)) for s in q.steps)
    ways = []
    for i, t in enumerate(q.transitions):
        condition = re.sub(r"(?:RISING|FALLING|HELD)\((\w)(?:, [^)]*)?\)", r"\1", t.condition)
        late = f" OR {t.sources[0]}.T >= T#{40 + 30 * (i % 3)}ms"
        more = (
            late,
            f"{late} OR Temp >= {borders[0]}",
            f" AND NOT (Level > {borders[1]}){late}",
            f" OR Level <= {borders[1]}",
        )
        ways.append(replace(t, condition=f"({condition}){more[i % 4]}"))
    travel, run_up, constant = seconds
    devices = (
        Device("Slide", "actuator", (("extend", "Y1"), ("extended", "A"), ("retracted", "B")),
               (("extend_s", travel), ("retract_s", travel / 2))),
        Device("Fan", "motor", (("run", "Y3"), ("running", "C")), (("run_up_s", run_up), ("run_down_s", run_up))),
        Device("Heat", "thermal", (("heater", "Y2"), ("temperature", "Temp")),
               (("time_constant_s", constant), ("heater_k", 60.0), ("resolution_k", 0.5))),
        Device("Tank", "vessel", (("inlet", "Z"), ("outlet", "Y1"), ("level", "Level"), ("high", "High")),
               (("volume_l", 5.0), ("start_l", 2.0), ("inlet_l_s", 4.0), ("outlet_l_s", 1.5), ("high_l", 4.0))),
    )  # fmt: skip
    signals = [Signal(n, SignalClass.INPUT, Type.REAL) for n in ("Temp", "Level")] + [Signal("High", SignalClass.INPUT)]
    steps = (replace(steps[0], actions=(*steps[0].actions, Action(Qualifier.N, "Z"))), *steps[1:])
    locks = (Interlock("Y2", f"Temp < {borders[0] + 4} OR B"), Interlock("Z", "NOT High"))
    return replace(
        project, signals=(*project.signals, *signals), devices=devices, opening="", closing="", opposed=(), interlocks=locks, alarms=(),
        sequences=(replace(q, steps=steps, transitions=tuple(ways), hold_when=""),),
    )  # fmt: skip


borders = st.tuples(st.sampled_from((25.0, 25.5, 60.25)), st.sampled_from((0.0, 1.0, 3.05)))


@thousands
@given(structured(), borders, seconds, st.lists(st.tuples(times, st.sampled_from(("Delay", "Delay", "A"))), max_size=2))
def test_plain_charts_that_go_round_and_round_run_the_same_by_rote(project, at, parameters, done):
    made = plain(project, at, parameters)
    stimuli = [Stimulus(t, "force" if n == "A" else "set", n, True if n == "A" else t) for t, n in sorted(done)]
    skipping, _ = both(made, stimuli, 8000)
    assert skipping._memo.plain


@pytest.mark.parametrize("op", ["<", ">", "<=", ">=", "=", "<>"])
@pytest.mark.parametrize("time", ["T#55ms", "T#60ms", "Wait * 2"])
@pytest.mark.parametrize("mirrored", [False, True])
def test_each_comparison_of_a_step_time_is_met_in_its_scan(op, time, mirrored):
    text = f"{time} {op} Open.T" if mirrored else f"Open.T {op} {time}"
    project = gate(closing=f"Lamp := Main.{text};" if not mirrored else f"Lamp := {time} {op} Main.Open.T;")
    skipping, _ = both(project, [Stimulus(t, "set", n, v) for t, n, v in PASS], 1000)
    assert skipping.executed < 30


@pytest.mark.parametrize(
    "closing",
    [
        "MyTON(IN := Go, PT := T#355ms, Q => Y);", "MyTOF(IN := Go, PT := T#355ms, Q => Y);", "MyTP(IN := Go, PT := T#355ms, Q => Y);",
        "MyTON(IN := NOT MyTON.Q, PT := T#100ms, Q => Y);", "MyTON(IN := Go, PT := T#300ms); T1 := MyTON.ET; Y := T1 > T#100ms;",
        "IF Go THEN MyTON(IN := Halt, PT := T#50ms); END_IF; Y := MyTON.Q;", "N := N + 1; Y := N > 40;",
        "Y := HELD(Go, T#250ms) OR RISING(Halt);", "IF RISING(Go) THEN N := 32767; END_IF; N := N + D_TO(D);",
    ],
)  # fmt: skip
def test_timers_counters_and_edges_run_the_same(closing):
    closing = closing.replace("D_TO(D)", "DINT_TO_INT(D)")
    rows = [
        (20, "Go", True),
        (40, "Halt", True),
        (60, "Halt", False),
        (700, "Go", False),
        (705, "Go", True),
        (1500, "Halt", True),
    ]
    both(logic(closing), [Stimulus(t, "set", n, v) for t, n, v in rows])


@pytest.mark.parametrize("row", ["N", "N + 1", "1 / N"])
def test_a_time_of_a_table_whose_row_is_not_there_yet_is_not_asked_for(row):
    """The text around it asks for the row first: a run that jumps must not stop where one scan by scan goes on."""
    plan = Table("Plan", SignalClass.SETTING, (Column("Long", Type.TIME),), ((100,), (250,)), row_type="Row")
    asked = f"IF Main.Open.T > Plan[{row}].Long THEN Lamp := TRUE; END_IF;"
    closing = f"IF Main.Open.X AND Go THEN N := N + 1; END_IF;\nIF N > 0 AND N < 2 THEN {asked} END_IF;"
    project = replace(gate(closing=closing), tables=(plan,))
    project = replace(project, signals=(*project.signals, Signal("N", SignalClass.INTERNAL, Type.INT)))
    both(project, [Stimulus(20, "set", "Go", True), Stimulus(40, "set", "Go", False)], 1000)


def test_a_setting_changed_in_mid_wait_is_seen():
    project = main(gate(), steps=(gate().sequences[0].steps[0], replace(gate().sequences[0].steps[1], longest="Wait")))
    stimuli = [Stimulus(20, "set", "Go", True), Stimulus(0, "set", "Wait", 900), Stimulus(500, "set", "Wait", 300)]
    skipping, _ = both(project, sorted(stimuli, key=lambda x: x.time_ms), 1000)
    assert [(e.k, e.kind) for e in skipping.trace.events] == [(50, "alarm"), (50, "late")]


@given(st.integers(0, 10_000), st.integers(-50, 10_000), st.sampled_from((1, 7, 10, 1000)))
@example(0, 0, 10)
def test_the_scans_until_a_time_is_reached_are_counted_exactly(now, need, period):
    n = first_at(now, need, period)
    assert now + n * period >= need
    assert n == 0 or now + (n - 1) * period < need


def test_the_roastery_runs_the_same_for_a_quarter_of_an_hour_in_a_fraction_of_the_scans(roastery):
    stimuli = [Stimulus(500 + 60_000 * n + d, "hand", "Start", v) for n in range(15) for d, v in ((0, 1), (400, 0))]
    stimuli += [Stimulus(200_000, "fail", "DropGate", "jammed"), Stimulus(230_000, "heal", "DropGate", "jammed")]
    stimuli += [Stimulus(231_000, "hand", "Reset", 1), Stimulus(232_000, "hand", "Reset", 0)]
    stimuli += [
        Stimulus(400_000, "hand", "Emergency", 1),
        Stimulus(410_000, "hand", "Emergency", 0),
        Stimulus(411_000, "hand", "Reset", 1),
    ]
    skipping, every = both(roastery, sorted(stimuli, key=lambda x: x.time_ms), 900_000)
    assert skipping.executed * 4 < every.executed


def test_one_can_go_back_into_a_stretch_that_was_jumped_over(roastery):
    session = Session(roastery)
    session.run_for(60_000)
    assert session.executed < 100
    session.back(2345)
    assert session.time_ms == 36_550
    session.do("hand", "Start", 1)
    session.run_for(100)
    assert session.trace.windows("Roast.SpinUp.X") == [(3655, 3665)]


def test_a_model_with_something_new_in_every_scan_is_run_scan_by_scan():
    made = logic("N := N + 1; IF N > 30000 THEN N := 0; END_IF;")
    skipping, every = both(replace(made, instances=(Instance("MyTON", "TON"),)), [])
    assert skipping.executed == every.executed == LENGTH_MS // 10


def test_a_timer_comes_in_its_scan_behind_a_switch_that_nobody_looks_at():
    """The scan in which the switch turns is not run; the timer counts from when it began all the same."""
    signals = (
        *(Signal(n, SignalClass.INPUT) for n in ("A", "C")),
        Signal("Y3", SignalClass.OUTPUT),
        Signal("Soon", SignalClass.INTERNAL),
    )
    fan = Device("Fan", "motor", (("run", "Y3"), ("running", "C")), (("run_up_s", 0.4), ("run_down_s", 0.4)))
    project = Project("Timer", signals=signals, devices=(fan,), instances=(Instance("On", "TON"),),
                      opening="On(IN := A, PT := T#1s); Soon := On.Q;", closing="Y3 := A;")  # fmt: skip
    skipping, every = both(project, [Stimulus(100, "set", "A", True), Stimulus(1800, "set", "A", False)])
    assert skipping.executed < 12 < every.executed
