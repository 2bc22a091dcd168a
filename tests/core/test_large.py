"""Large machine files: ready to run, checked and drawn in the time a person waits without noticing."""

from __future__ import annotations

import tracemalloc
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.chart.layout import layout
from spokeshave.engine.link import link
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats import spoke
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_iec
from spokeshave.model import edits
from spokeshave.model.flow import flow
from spokeshave.model.history import History
from spokeshave.model.project import Action, Device, Project, Qualifier, Sequence, Signal, SignalClass, Step, Transition
from spokeshave.verify.check import findings
from tests.clock import within
from tests.core.projects import INPUTS, PERIOD, projects, runs


def long_table(count: int, outputs: int = 20) -> Project:
    """A table of `count` steps, each with an output and a confirmed or timed way on, a jump back now and then."""
    signals = [Signal(f"In{i}", SignalClass.INPUT) for i in range(outputs)]
    signals += [Signal(f"Out{i}", SignalClass.OUTPUT) for i in range(outputs)]
    steps = tuple(
        Step(f"S{10 * i + 10}", 10 * i + 10, (Action(Qualifier.N, f"Out{i % outputs}"),), longest="T#5s")
        for i in range(count)
    )
    ways = []
    for i in range(count):
        target = steps[(i + 1) % count].name
        condition = (
            f"In{i % outputs} AND NOT In{(i + 1) % outputs} AND {steps[i].name}.T >= T#200ms"
            if i % 3
            else f"{steps[i].name}.T >= T#1s"
        )
        ways.append(Transition((steps[i].name,), (target,), condition, 1 if i % 50 == 49 else None))
        if i % 50 == 49:
            ways.append(
                Transition(
                    (steps[i].name,), (steps[i - 40].name,), f"NOT In{i % outputs} AND {steps[i].name}.T >= T#3s", 2
                )
            )
    devices = tuple(
        Device(f"D{i}", "actuator", (("extend", f"Out{i}"), ("extended", f"In{i}"))) for i in range(outputs)
    )
    return Project(
        "Long table",
        10,
        signals=tuple(signals),
        sequences=(Sequence("Main", steps[0].name, steps, tuple(ways)),),
        devices=devices,
    )


OPENED, CHECKED, LAID_OUT = 80, 64, 16
"""Pieces of ordinary work, some four times what was measured (`tests/clock.py`)."""


@pytest.fixture(scope="module")
def table() -> Project:
    return long_table(1000)


@pytest.mark.quiet
def test_a_file_of_a_thousand_steps_is_opened_and_ready_to_run_in_about_a_second(table):
    text = spoke.dumps(table)
    project = spoke.loads(text)
    assert project == table
    within(OPENED, lambda: Session(spoke.loads(text)))


def test_a_thousand_steps_run_on_and_on(table):
    session = Session(table)
    session.run_for(600_000)
    every = Session(table, every_scan=True)
    every.run_for(600_000)
    assert list(session.trace.scans) == list(every.trace.scans) and list(session.trace.values) == list(
        every.trace.values
    )
    assert session.executed * 5 < every.executed
    assert session.stopped is None and len(session.trace.windows("Main.S100.X")) >= 1


@pytest.mark.quiet
def test_a_thousand_steps_are_checked_drawn_and_written(table):
    within(CHECKED, lambda: findings(replace(table)))  # a file that has not been seen
    q = table.sequences[0]
    within(LAID_OUT, lambda: layout(q))
    assert len(layout(q).boxes) == 1000
    assert len(flow(long_table(200).sequences[0]).rows) == 204
    small = long_table(60)
    assert parse_iec(write_iec(small)) == small


def test_ten_thousand_edits_share_what_they_do_not_change():
    history = History.of(long_table(100))
    for n in range(10_000):
        after = edits.change_step(history.project, "Main", "S500", comment=f"edit {n}")
        history = history.do(f"edit {n}", after)
    one, two = history.project, history.undo().project
    assert one is not two
    assert one.signals is two.signals and one.devices is two.devices
    assert sum(a is not b for a, b in zip(one.sequences[0].steps, two.sequences[0].steps)) == 1
    for _ in range(10_000):
        history = history.undo()
    assert history.project.sequences[0].step("S500").comment == "" and not history.undo_name


def test_ten_thousand_undo_steps_of_sixty_steps_stay_small_in_memory():
    history = History.of(long_table(60))
    tracemalloc.start()
    for n in range(10_000):
        history = history.do(f"edit {n}", edits.change_step(history.project, "Main", "S300", comment=f"edit {n}"))
    used = tracemalloc.get_traced_memory()[0]
    tracemalloc.stop()
    assert used < 25e6, f"{used / 1e6:.1f} MB"


@settings(max_examples=60, deadline=None)
@given(projects(), runs(), st.lists(st.integers(1, 7), min_size=1, max_size=12))
def test_single_scans_jumps_and_steps_back_mixed_give_the_same_run(project, inputs, pieces):
    """However one gets through a run, by single scans, stretches, or back and on, the trace is the same."""
    stimuli = [Stimulus(k * PERIOD, "set", n, v) for k, row in enumerate(inputs) for n, v in zip(INPUTS, row)]
    plain, mixed = Session(project, stimuli, every_scan=True), Session(project, stimuli)
    plain.run_scans(300)
    for i, piece in enumerate(pieces):
        if i % 3 == 0:
            for _ in range(piece):
                mixed.scan()
        elif i % 3 == 1:
            mixed.run_scans(piece * 10)
        else:
            mixed.back(piece)
    mixed.run_scans(300 - mixed.k)
    told = [list(zip(s.trace.scans, s.trace.columns, s.trace.values)) for s in (plain, mixed)]
    assert told[0] == told[1]
    assert [(e.k, e.kind) for e in plain.trace.events] == [(e.k, e.kind) for e in mixed.trace.events]


def test_linking_is_a_function_of_the_file(roastery):
    a, b = link(roastery), link(replace(roastery))
    assert a is not b and a is link(roastery), "but the same file needs no second look"
    assert a.start == b.start and a.slots == b.slots and [r.name for r in a.recorded] == [r.name for r in b.recorded]
