"""The trace as a record: what it keeps, what it costs, what is cut off and asked of it."""

from __future__ import annotations

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.project import Project, Type
from tests.core.projects import INPUTS, PERIOD, projects, runs

some = settings(
    max_examples=80, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)


def watched(project: Project, inputs: list[tuple[bool, ...]]) -> tuple[Session, list[list[object]]]:
    """A run with the values of every column noted by hand after each scan."""
    stimuli = [Stimulus(k * PERIOD, "set", n, v) for k, row in enumerate(inputs) for n, v in zip(INPUTS, row)]
    session = Session(project, stimuli)
    rows = []
    for _ in inputs:
        session.scan()
        rows.append([session.situation.v[r.slot] for r in session.program.recorded])
    return session, rows


@some
@given(projects(), runs())
def test_every_value_of_every_scan_can_be_asked_back(project, inputs):
    session, rows = watched(project, inputs)
    trace = session.trace
    for column, recorded in enumerate(trace.recorded):
        told = [trace.at(recorded.name, k) for k in range(len(rows))]
        assert told == [row[column] for row in rows]
        if recorded.type is Type.BOOL:
            on = {k for a, b in trace.windows(recorded.name) for k in range(a, b)}
            assert on == {k for k, row in enumerate(rows) if row[column]}


@some
@given(projects(), runs())
def test_a_trace_holds_changes_only_in_the_order_of_scan_and_column(project, inputs):
    trace = watched(project, inputs)[0].trace
    keys = list(zip(trace.scans, trace.columns))
    assert keys == sorted(set(keys))
    last: dict[int, float] = {}
    for column, value in zip(trace.columns, trace.values):
        assert last.get(column) != value
        last[column] = value
    assert [c for k, c in keys if k == 0] == list(range(len(trace.recorded))), "everything once at time 0"


@some
@given(projects(), runs(), st.data())
def test_cutting_a_trace_leaves_what_was_before(project, inputs, data):
    session, rows = watched(project, inputs)
    k = data.draw(st.integers(1, len(rows)))
    trace = session.trace
    before = [x for x in zip(trace.scans, trace.columns, trace.values) if x[0] < k]
    events = [e for e in trace.events if e.k < k]
    trace.cut(k)
    assert list(zip(trace.scans, trace.columns, trace.values)) == before
    assert trace.events == events and trace.scan_count == k and trace.end_ms == k * PERIOD
    assert [trace.at(r.name, k - 1) for r in trace.recorded] == rows[k - 1]


def test_an_hour_of_the_roastery_takes_a_few_megabytes(roastery):
    stimuli = [Stimulus(500 + 60_000 * n + d, "hand", "Start", v) for n in range(60) for d, v in ((0, 1), (400, 0))]
    session = Session(roastery, stimuli)
    session.run_for(3_600_000)
    trace = session.trace
    size = sum(a.itemsize * len(a) for a in (trace.scans, trace.columns, trace.values))
    assert len(trace.windows("Roast.Drop.X")) == 60
    assert size < 3_000_000
    assert sum(map(len, trace.motions)) < 20_000
