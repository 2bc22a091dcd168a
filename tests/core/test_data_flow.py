"""Each rule on what becomes of values, with a wrong file and right ones beside it."""

from __future__ import annotations

from dataclasses import replace

import pytest

from spokeshave.model.project import (
    Action,
    Body,
    Device,
    Instance,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
    Unit,
)
from spokeshave.verify.check.run import findings

N, S = Qualifier.N, Qualifier.S
NEW = {"set-never-cleared", "timer-in-step", "confirmed-too-late", "other-copy"}


def told(project: Project) -> list[tuple[str, str]]:
    return [(d.code, str(d.place)) for d in findings(project) if d.code in NEW]


def slide(**more) -> Project:
    """A slide that goes down, dwells, and comes back."""
    signals = [Signal(n, SignalClass.INPUT) for n in ("Go", "Low", "High")] + [
        Signal("Down", SignalClass.OUTPUT),
        Signal("Lamp", SignalClass.OUTPUT),
    ]
    signals += [Signal("Fault", SignalClass.INTERNAL), Signal("Held", SignalClass.SETTING, Type.BOOL)]
    steps = (Step("Rest", 10), Step("Sink", 20, (Action(N, "Down"),)), Step("Dwell", 30))
    ways = (Transition(("Rest",), ("Sink",), "RISING(Go) AND High"), Transition(("Sink",), ("Dwell",), "Low"),
            Transition(("Dwell",), ("Rest",), "Dwell.T >= T#1s"))  # fmt: skip
    device = Device("Rack", "actuator", (("extend", "Down"), ("extended", "Low"), ("retracted", "High")))
    made = Project("Slide", 10, signals=tuple(signals), sequences=(Sequence("Main", "Rest", steps, ways),), devices=(device,),
                   closing="Lamp := Fault;")  # fmt: skip
    return replace(made, **more)


def with_ways(*conditions: str, dwells: tuple[Action, ...] = (), sinks: Qualifier = N) -> Project:
    q = slide().sequences[0]
    steps = (q.steps[0], replace(q.steps[1], actions=(Action(sinks, "Down"),)), replace(q.steps[2], actions=dwells))
    ways = tuple(replace(t, condition=c) for t, c in zip(q.transitions, conditions))
    return slide(sequences=(replace(q, steps=steps, transitions=ways),))


def test_a_sound_file_is_told_nothing():
    assert told(slide()) == []


@pytest.mark.parametrize(
    ("opening", "trips", "wrong"),
    [
        ("IF Go AND Low THEN Fault := TRUE; END_IF;", (), True),
        ("IF Go AND Low THEN Fault := TRUE; END_IF; IF High THEN Fault := FALSE; END_IF;", (), False),
        (
            "IF Go AND Low THEN Fault := TRUE; END_IF;",
            (Trip("Stop", 1, "NOT Go", zeroed=("Fault",), latching=False),),
            False,
        ),
        ("Fault := Go AND Low;", (), False),
        ("Fault := TRUE;", (), False),
    ],
)
def test_a_flag_that_nothing_clears(opening, trips, wrong):
    found = told(slide(opening=opening, trips=trips))
    assert [c for c, _ in found] == (["set-never-cleared"] if wrong else []), found


def test_a_timer_that_only_a_step_calls():
    q = slide().sequences[0]
    body, timers = Body("Wait", "Pause(IN := TRUE, PT := T#1s);"), (Instance("Pause", "TON"),)
    steps = (*q.steps[:2], replace(q.steps[2], actions=(Action(N, "Wait"),)))
    ways = (*q.transitions[:2], replace(q.transitions[2], condition="Pause.Q"))
    wrong = slide(sequences=(replace(q, steps=steps, transitions=ways, bodies=(body,)),), instances=timers)
    assert [c for c, _ in told(wrong)] == ["timer-in-step"]
    right = slide(
        sequences=(replace(q, transitions=ways),), instances=timers, opening="Pause(IN := Main.Dwell.X, PT := T#1s);"
    )
    assert told(right) == []


def test_a_movement_that_is_let_go_of_before_it_is_there():
    go = "RISING(Go) AND High"
    wrong = with_ways(go, "Sink.T >= T#300ms", "Low AND Dwell.T >= T#1s")
    assert told(wrong) == [("confirmed-too-late", "Main, transition 20 to 30")]
    for right in (
        with_ways(go, "Low", "Dwell.T >= T#1s"),
        with_ways(go, "Sink.T >= T#300ms", "Low", dwells=(Action(N, "Down"),)),
        with_ways(go, "Sink.T >= T#300ms", "Low", sinks=S),
    ):
        assert "confirmed-too-late" not in [c for c, _ in told(right)]


def test_a_copy_that_reads_another_copy():
    signals = tuple(Signal(f"{p}_{n}", SignalClass.INPUT) for p in "AB" for n in ("Go", "Low"))

    def main(prefix: str, reads: str) -> Sequence:
        ways = (
            Transition(("Rest",), ("Run",), f"RISING({reads}_Go)"),
            Transition(("Run",), ("Rest",), f"{prefix}_Low"),
        )
        return Sequence(f"{prefix}_Main", "Rest", (Step("Rest", 10), Step("Run", 20)), ways)

    unit = Unit("Gate", "A_", ("A_Go", "A_Low"), ("A_Main",), (), ("B_",))
    for reads, wrong in (("A", [("other-copy", "B_Main, transition 10 to 20")]), ("B", [])):
        project = Project("Two", 10, signals=signals, sequences=(main("A", "A"), main("B", reads)), units=(unit,))
        assert told(project) == wrong


@pytest.mark.parametrize(("cleared", "wrong"), [("", True), ("IF High THEN Lamp := FALSE; END_IF;", False)])
def test_an_output_that_nothing_clears(cleared, wrong):
    found = told(replace(slide(opening=f"IF Go AND Low THEN Lamp := TRUE; END_IF; {cleared}"), closing=""))
    assert ("set-never-cleared" in [c for c, _ in found]) is wrong, found
