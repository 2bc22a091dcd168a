"""The measured machine: what the other ways of running it say, and that they are what they claim to be."""

from __future__ import annotations

import subprocess
from dataclasses import replace
from itertools import pairwise

import pytest
from benchmarks import c_program, simpy_model
from benchmarks.__main__ import changes, dense, long_file, memory_mb, run
from benchmarks.tree_walker import Walker
from benchmarks.workload import LAMPS, SLIDES, workload
from hypothesis import HealthCheck, given, settings

from spokeshave.engine.session import Session
from spokeshave.model.project import Qualifier, SignalClass
from spokeshave.verify.check import findings
from tests.core.projects import structured
from tests.core.test_skip_ahead import borders, plain, seconds


def test_the_machine_is_what_the_promises_speak_of():
    project = workload()
    q = project.sequences[0]
    assert len(q.steps) == 40 and all(s.longest for s in q.steps)
    assert sum(s.cls is SignalClass.OUTPUT for s in project.signals) == SLIDES + 4 + 1 + len(LAMPS) == 30
    assert [len(t.targets) for t in q.transitions].count(3) == 2  # from either candle into three branches
    assert [len(t.sources) for t in q.transitions].count(3) == 1
    assert len(project.interlocks) == 6
    kinds = [d.kind for d in project.devices]
    assert (kinds.count("actuator"), kinds.count("vessel"), kinds.count("thermal")) == (20, 2, 1)
    used = {a.qualifier for s in q.steps for a in s.actions}
    assert used == {Qualifier.N, Qualifier.S, Qualifier.R, Qualifier.D}
    assert [a.qualifier for s in q.steps for a in s.actions].count(Qualifier.D) == 1
    assert not [d for d in findings(project) if d.severity == "error"]


def test_a_cycle_takes_one_to_two_minutes_and_both_candles_are_made():
    session = run(workload(), 600_000)
    starts = [a for a, _ in session.trace.windows("Carousel.Ready.X")]
    assert all(6000 <= b - a <= 12_000 for a, b in pairwise(starts))
    assert len(session.trace.windows("Carousel.Small.X")) >= 4
    assert len(session.trace.windows("Carousel.Large2.X")) >= 4
    assert session.executed < 400


@pytest.mark.parametrize("period_ms", [5, 10, 20])
def test_the_c_program_has_the_same_trace(period_ms, tmp_path):
    project = workload(period_ms)
    session = run(project, 150_000)
    try:
        program = c_program.build(project, tmp_path, "-O0")
    except FileNotFoundError:
        pytest.skip("there is no gcc")
    ran = c_program.run(program, 150_000 // period_ms)
    assert ran.changes == changes(session)
    assert ran.events == len(session.trace.events)


def test_the_c_program_refuses_what_it_cannot_say():
    with pytest.raises(NotImplementedError, match="one sequence"):
        c_program.c_text(replace(workload(), opening="IF Home1 THEN RETURN; END_IF;"))
    text = c_program.c_text(workload())
    assert text.count("static inline void sense") == 23
    with pytest.raises(subprocess.CalledProcessError):
        subprocess.run(
            ["gcc", "-fsyntax-only", "-x", "c", "-"], input=text[:-40], text=True, check=True, capture_output=True
        )


machines = settings(
    max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)


@machines
@given(structured(), borders, seconds)
def test_the_obvious_interpreter_with_a_machine_around_it_tells_the_same(project, at, parameters):
    made = plain(project, at, parameters)
    session = Session(made)
    session.run_scans(150)
    walker = Walker(made)
    for _ in range(150):
        walker.scan()
    names = [r.name for r in session.program.recorded]
    told = sorted((k, names[c], v) for k, c, v in changes(session))
    assert told == sorted((k, name, float(v)) for k, name, v in walker.changes())


def test_the_processes_go_through_the_same_steps_in_about_the_same_time():
    board = simpy_model.run(60_000)
    session = run(workload(), 600_000)
    for step in ("Ready", "Move10", "Wax1", "Plate4", "Joined", "Turn4"):
        mine = [a for a, _ in session.trace.windows(f"Carousel.{step}.X")]
        theirs = [t for t, name, on in board.trace if name == f"{step}.X" and on]
        assert abs(len(mine) - len(theirs)) <= 1, step
        assert abs(mine[1] - theirs[1]) < 500, step


def test_a_dense_machine_changes_in_a_third_of_its_scans_and_is_run_scan_by_scan():
    session = run(dense(workload()), 20_000)
    scans = {k for k, c, _ in changes(session) if session.trace.recorded[c].name == "Shown"}
    assert len(scans) > 0.3 * session.trace.scan_count
    assert session.executed == session.trace.scan_count


def test_a_long_file_runs_and_a_run_is_small():
    project = long_file(200)
    session = Session(project)
    session.run_for(60_000)
    assert session.stopped is None
    assert len(session.trace.windows("Long.S10.X")) == 1
    assert memory_mb(workload(), 120_000) < 5
