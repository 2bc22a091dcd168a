"""What a qualifier does stands in its rule alone: a rule that nobody has written for is run, written as code and studied."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.engine.link import link
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.project import (
    Action,
    OpposedPair,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
)
from spokeshave.model.qualifiers import RULES, By, Rule, When
from spokeshave.verify.equivalence import Comparison
from spokeshave.verify.reach.asked import Says
from tests.core.projects import projects, runs
from tests.core.test_generated_code import compared, hundreds
from tests.core.test_reach import asked

NEW = [
    Rule(When.LEFT, stored=True),
    Rule(When.LEFT, stored=True, since_stored=By.SINCE),
    Rule(When.ENTERED, in_step=By.BEFORE),
    Rule(When.ACTIVE, in_step=By.BEFORE, stored=True, since_stored=By.BEFORE),
    Rule(When.LEFT, resets=True),
]


def with_rule(patch: pytest.MonkeyPatch, new: Rule) -> None:
    patch.setitem(RULES, Qualifier.SD if new.timed else Qualifier.P, new)


@hundreds
@given(project=projects(), inputs=runs(), new=st.sampled_from(NEW))
def test_code_follows_a_new_rule_as_the_bench_does(project, inputs, new):
    with pytest.MonkeyPatch.context() as patch:
        with_rule(patch, new)
        assert compared(project, "flags", inputs) == Comparison(1, len(inputs), None)


def test_what_is_stored_on_leaving_stays_and_the_study_knows(monkeypatch):
    monkeypatch.setitem(RULES, Qualifier.P, Rule(When.LEFT, stored=True))
    steps = (Step("Rest", 10, (Action(Qualifier.P, "Chime"),)), Step("Work", 20, (Action(Qualifier.N, "Drive"),)))
    ways = (Transition(("Rest",), ("Work",), "Go"), Transition(("Work",), ("Rest",), "NOT Go"))
    signals = (
        Signal("Go", SignalClass.INPUT),
        Signal("Chime", SignalClass.OUTPUT),
        Signal("Drive", SignalClass.OUTPUT),
    )
    project = Project("M", 10, signals=signals, sequences=(Sequence("Main", "Rest", steps, ways),),
                      opposed=(OpposedPair("Chime", "Drive"),))  # fmt: skip
    session = Session(
        link(replace(project, opposed=())), [Stimulus(20, "set", "Go", True), Stimulus(50, "set", "Go", False)]
    )
    session.run_for(100)
    assert [session.trace.at("Chime", k) for k in (1, 2, 6, 9)] == [False, True, True, True]
    assert asked(project, "together", "before").says is Says.BAD
    kept = replace(project, sequences=(replace(project.sequences[0], steps=(steps[0], replace(steps[1], actions=()))),))
    assert asked(kept, "together", "before").says is Says.GOOD
