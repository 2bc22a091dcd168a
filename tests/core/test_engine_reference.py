"""The engine against the slow, obvious interpreter, on random charts."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.project import Project
from tests.core.projects import INPUTS, OUTPUTS, PERIOD, projects, runs
from tests.core.reference import Reference

slow = settings(
    max_examples=250, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)


def engine_rows(project: Project, inputs: list[tuple[bool, ...]]) -> list[dict[str, object]]:
    stimuli = [
        Stimulus(k * PERIOD, "set", name, value) for k, row in enumerate(inputs) for name, value in zip(INPUTS, row)
    ]
    session = Session(project, stimuli)
    rows = []
    for _ in inputs:
        assert session.scan(), session.stopped
        rows.append({r.name: session.situation.v[r.slot] for r in session.program.recorded})
    return rows


@slow
@given(projects(), runs())
def test_the_engine_runs_as_the_obvious_interpreter_does(project, inputs):
    reference = Reference(project)
    for row in inputs:
        reference.scan(dict(zip(INPUTS, row)))
    for k, (mine, theirs) in enumerate(zip(engine_rows(project, inputs), reference.rows)):
        assert mine == theirs, f"scan {k}"


hands = st.none() | st.dictionaries(st.sampled_from(OUTPUTS), st.booleans(), max_size=2)


@slow
@given(projects(), runs(), st.lists(st.tuples(st.integers(1, 30), hands), max_size=4))
def test_hand_drive_is_as_the_obvious_interpreter_has_it(project, inputs, deeds):
    """Hand drive comes and goes, and asks for outputs, at any scans."""
    reference, session = Reference(project), Session(project)
    asked: dict[str, bool] | None = None
    for k, row in enumerate(inputs):
        for name, value in zip(INPUTS, row):
            session.do("set", name, value)
        for at, hand in deeds:
            if at == k:
                asked = hand
                session.do("drive", value=hand is not None)
                for name, value in (hand or {}).items():
                    session.do("ask", name, value)
        reference.scan(dict(zip(INPUTS, row)), asked)
        session.scan()
        assert {r.name: session.situation.v[r.slot] for r in session.program.recorded} == reference.rows[k], f"scan {k}"


@slow
@given(projects(), runs())
def test_going_back_and_on_again_gives_the_same_run(project, inputs):
    stimuli = [Stimulus(k * PERIOD, "set", n, v) for k, row in enumerate(inputs) for n, v in zip(INPUTS, row)]
    session = Session(project, stimuli)
    session.run_scans(len(inputs))
    straight = list(zip(session.trace.scans, session.trace.columns, session.trace.values))
    session.back(len(inputs) // 2)
    assert session.k == len(inputs) - len(inputs) // 2
    session.run_scans(len(inputs) // 2)
    assert list(zip(session.trace.scans, session.trace.columns, session.trace.values)) == straight


@slow
@given(projects(), runs(), st.lists(st.integers(0, 40), max_size=3, unique=True))
def test_taking_the_same_file_in_again_at_any_scan_changes_nothing(project, inputs, edits_at):
    stimuli = [Stimulus(k * PERIOD, "set", n, v) for k, row in enumerate(inputs) for n, v in zip(INPUTS, row)]
    plain, edited = Session(project, stimuli), Session(project, stimuli)
    plain.run_scans(len(inputs))
    for k in sorted(edits_at):
        if k < len(inputs):
            edited.run_scans(k - edited.k)
            edited.adopt(replace(project, comment=f"at {k}"))
    edited.run_scans(len(inputs) - edited.k)
    told = [[(e.k, e.kind, e.text) for e in s.trace.events if e.kind != "edit"] for s in (plain, edited)]
    assert list(zip(edited.trace.scans, edited.trace.columns, edited.trace.values)) == list(
        zip(plain.trace.scans, plain.trace.columns, plain.trace.values)
    )
    assert told[0] == told[1]
