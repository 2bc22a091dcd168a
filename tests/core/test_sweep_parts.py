"""The parts of the fault sweep by themselves: hands with skip-ahead, forks, what a fault touches, the matrix and its accounts."""

from __future__ import annotations

from dataclasses import replace

import pytest
from benchmarks.workload import workload
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.language.scenario_lists import cases_of
from spokeshave.machine.device import true_values
from spokeshave.machine.kinds import KINDS, build
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import (
    Connection,
    Device,
    Instance,
    Interlock,
    Project,
    Scenario,
    Signal,
    SignalClass,
    Trip,
)
from spokeshave.model.sweep import Explained, SweepPlan
from spokeshave.verify.scenario_language import check_sheet
from spokeshave.verify.scenarios import run_scenario
from spokeshave.verify.script import Script, with_parameters
from spokeshave.verify.sweep.concerns import Concerns
from spokeshave.verify.sweep.faults import faults_of
from spokeshave.verify.sweep.matrix import Matrix, accept_sweep, alike, explain
from spokeshave.verify.sweep.verdicts import Cell, Verdict
from spokeshave.verify.sweep.watch import Watched, driven_devices, truth
from tests.core.test_sweep import slide

PLAIN = (
    "Light roast in order",
    "Two dark batches",
    "Held start button",
    "Emergency stop in the roast",
    "Jammed drop door",
    "Overtemperature",
    "Power loss in the roast",
    "By hand",
)
"""Scenarios of the roastery that are one run from the beginning."""


def watched(project: Project, scenario: Scenario) -> Watched:
    checked = check_sheet(project, cases_of(scenario.text).cases[0].text)
    project = with_parameters(project, checked.sheet.given)
    deeds = tuple(t for r in checked.sheet.deeds for t in checked.conditions[r.line])
    session = Session(project, also=deeds)
    run = Watched(session, Script(session, checked), ())
    run.script.begin()
    return run


@pytest.mark.parametrize("name", PLAIN)
def test_hands_that_wait_do_the_same_with_skip_ahead_as_in_every_scan(roastery, name):
    scenario = roastery.scenario(name)
    then = run_scenario(roastery, scenario).runs[0]
    run = watched(roastery, scenario)
    run.run_to(then.scans)
    done = tuple(s for s, _ in run.session.log[: run.session.next_stimulus])
    assert done == then.done
    slow = then.session()
    assert run.session.situation.v[4:] == slow.situation.v[4:]
    assert run.session.trace.events == slow.trace.events
    assert run.session.executed < then.scans / 10
    steps = [[q.steps[a].name for a in entries] for q, entries in zip(run.session.program.sequences, run.entries)]
    for q, names in zip(slow.program.sequences, steps):
        entered = sum(len(slow.trace.windows(f"{q.name}.{s.name}.X")) for s in q.steps)
        assert len(names) >= entered - 1, "all but the initial entry"


def test_entries_and_leavings_are_seen_in_scans_that_are_done_by_rote_too():
    project = workload()
    session = Session(project)
    assert session.plain
    scenario = Scenario("Round", "run for 150 s\nexpect no hazards\n")
    run = watched(replace(project, scenarios=(scenario,)), scenario)
    run.run_to(15_000)
    slow = Session(project, every_scan=True)
    slow.run_scans(15_000)
    q = session.program.sequences[0]
    for x in q.steps:
        spans = slow.trace.windows(f"{q.name}.{x.name}.X")
        begins = [k for k, _ in spans if k > 0]
        ends = [k for _, k in spans if k < 15_000]
        assert run.entries[0].count(x.index) == len(begins), x.name
        assert sum(step == (0, x.index) for step, *_ in run.leavings) == len(ends), x.name


@settings(max_examples=20, deadline=None)
@given(at=st.integers(1, 5000), ahead=st.integers(1, 3000), press=st.booleans())
def test_a_fork_goes_on_as_the_run_would_and_leaves_it_as_it_is(roastery, at, ahead, press):
    start = [Stimulus(500, "hand", "Start", 1), Stimulus(800, "hand", "Start", 0)]
    one = Session(roastery, start)
    one.run_scans(at)
    before = one.situation.copy()
    other = one.fork()
    if press:
        other.do("hand", "Emergency", 1)
    other.run_scans(ahead)
    assert one.situation.v == before.v and one.situation.active == before.active and one.k == at
    whole = Session(roastery, start)
    whole.run_scans(at)
    if press:
        whole.do("hand", "Emergency", 1)
    whole.run_scans(ahead)
    assert other.situation.v[4:] == whole.situation.v[4:] and other.situation.active == whole.situation.active
    assert [e for e in whole.trace.events if e.k >= at] == other.trace.events


def test_a_copied_situation_shares_nothing_that_can_change(roastery):
    session = Session(roastery, [Stimulus(500, "hand", "Start", 1), Stimulus(800, "hand", "Start", 0)])
    session.run_for(20_000)
    one = session.situation
    other = one.copy()
    for name in one.__slots__:
        a, b = getattr(one, name), getattr(other, name)
        inner = list(zip(a, b)) if isinstance(a, list) else []
        for x, y in [(a, b), *inner]:
            assert x == y, name
            assert not (isinstance(x, (list, dict, set)) and x is y), name


# -- the truth


@pytest.mark.parametrize("kind", sorted(KINDS.keys() - {"own"}))
def test_what_a_sensor_says_wrongly_is_told_from_where_the_device_is(kind):
    """A contact that sticks changes what is shown, and not where the device is."""
    device = build(Device("D", kind, tuple((t.name, t.name) for t in KINDS[kind].terminals)), 10)
    drives = tuple(False if t.type.value == "BOOL" else 0 for t in device.drive_terminals())
    fine = device.turn(device.start(), 5, drives, frozenset(), device.first_hand())
    for failure in device.failures:
        if "stuck" not in failure and failure not in ("wire broken", "sensor reads off"):
            continue
        state = device.turn(device.start(), 5, drives, frozenset([failure]), device.first_hand())
        if failure != "stuck":
            assert true_values(device, state, 60) == true_values(device, fine, 60), failure
    assert true_values(device, fine, 60) == device.sense(fine, 60)


def test_truth_and_drives_are_by_device(roastery):
    session = Session(roastery, [Stimulus(500, "hand", "Start", 1)])
    session.run_scans(300)
    names = [d.name for d in session.program.devices]
    driven = driven_devices(session.program, session.situation.drives)
    assert {n for n, on in zip(names, driven) if on} >= {"RoastDrum", "ExhaustFan"}
    places = truth(session.program, session.situation)
    assert len(places) == len(names) and places[names.index("ChargeGate")][:2] == (False, True)
    chosen = [names.index("RoastDrum"), names.index("ChargeGate")]
    assert truth(session.program, session.situation, chosen) == tuple(places[i] for i in chosen)


# -- what points at a fault


def test_what_a_fault_touches_goes_through_logic_blocks_interlocks_and_devices():
    more = slide(
        signals=(
            *slide().signals,
            *(Signal(n, SignalClass.INTERNAL) for n in ("Near", "Long")),
            Signal("Turns", SignalClass.INPUT),
        ),
        instances=(Instance("Pause", "TON"),),
        opening="Pause(IN := SlideOut, PT := T#1s);\nLong := Pause.Q;\nNear := Halt;",
        interlocks=(Interlock("Fan", "NOT Long"),),
    )
    wired = tuple(replace(d, wires=(*d.wires, ("running", "Turns"))) if d.name == "Blower" else d for d in more.devices)
    concerns = Concerns(replace(more, devices=wired))
    assert {"slideout", "long", "fan", "turns"} <= concerns.of("Carriage")
    assert "near" not in concerns.of("Carriage") and "near" in concerns.of("HaltButton")
    assert concerns.of("AgainButton") == {"again"}
    coupled = replace(more, connections=(Connection("Carriage", "Blower", gives="extended", takes="run"),))
    assert "fan" in Concerns(replace(coupled, interlocks=())).of("Carriage")


def test_alarms_point_at_what_their_step_waits_for_drives_or_their_trip_reads(roastery):
    concerns = Concerns(roastery)

    def late(sequence: str, step: str) -> Place:
        return Place("step", sequence, step)

    assert concerns.points_at(late("Roast", "Charge"), "ChargeGate")
    assert concerns.points_at(late("Roast", "CloseGate"), "ChargeGate")
    assert not concerns.points_at(late("Cool", "Empty"), "ChargeGate")
    assert concerns.points_at(late("Roast", "RoastLight"), "RoastDrum"), "the interlock takes the flame away"
    assert concerns.points_at(Place("trip", item="Emergency"), "Emergency")
    assert not concerns.points_at(Place("trip", item="Emergency"), "ChargeGate")
    assert concerns.points_at(Place("trip", item="Overheat"), "BeanBed")
    assert not concerns.points_at(Place("trip", item="Gone"), "BeanBed")
    assert not concerns.points_at(late("Roast", "Gone"), "BeanBed")


def test_every_shipped_kind_has_faults_only_where_something_is_wired():
    for kind in sorted(KINDS.keys() - {"own"}):
        whole = Device("D", kind, tuple((t.name, t.name) for t in KINDS[kind].terminals))
        bare = Device("D", kind)
        of_whole = {f.failure for f in faults_of(Project(devices=(whole,))) if f.kind == "failure"}
        of_bare = {f.failure for f in faults_of(Project(devices=(bare,))) if f.kind == "failure"}
        assert of_whole == set(KINDS[kind].failures) and of_bare <= of_whole
        terminals = {t.name for t in KINDS[kind].terminals}
        assert not any(f.split()[0] in terminals for f in of_bare)


# -- the matrix


verdicts = st.lists(st.sampled_from(list(Verdict)), min_size=6, max_size=6)


def made(found: list[Verdict], plan: SweepPlan | None = None) -> Matrix:
    matrix = Matrix("Round", ("F", "G"), ("M.A", "M.B", "M.C"), plan or SweepPlan())
    names = [(f, s) for f in matrix.faults for s in matrix.steps]
    matrix.add(Cell(f, s, v, v.value, 0, 0, 0, 0, 0) for (f, s), v in zip(names, found))
    return matrix


@given(found=verdicts, later=verdicts)
def test_the_accounts_of_a_matrix_add_up_and_changes_are_those_that_differ(found, later):
    matrix = made(found)
    assert matrix.whole and sum(matrix.counts().values()) == 6
    bad = [c for c in matrix.in_order() if c.verdict.is_bad]
    assert matrix.open() == bad and sorted(map(id, bad)) == sorted(id(c) for group in alike(matrix) for c in group)
    noticed = sum(v in (Verdict.CAUGHT, Verdict.RECOVERED) for v in found)
    assert matrix.coverage == (noticed / (noticed + len(bad)) if noticed + len(bad) else 1.0)
    accepted = accept_sweep(Project(), matrix).sweep
    changed = made(later, accepted).changed()
    assert len(changed) == sum(a is not b for a, b in zip(found, later))
    order = list(Verdict)
    assert [c.is_worse for c in changed] == [
        order.index(b) > order.index(a) for a, b in zip(found, later) if a is not b
    ]
    assert not made(found, accepted).changed()


@given(found=verdicts, at=st.integers(0, 5), every=st.booleans())
def test_an_explanation_takes_just_its_cells_from_what_is_open(found, at, every):
    matrix = made(found)
    cell = matrix.in_order()[at]
    project = explain(Project(), cell, "as it should be", every)
    explained = made(found, project.sweep)
    gone = [c for c in matrix.open() if c not in explained.open()]
    same = [
        c
        for c in matrix.open()
        if c.fault == cell.fault and c.verdict is cell.verdict and (every or c.step == cell.step)
    ]
    assert gone == same
    other = explain(project, cell, "otherwise", every)
    assert [e.reason for e in other.sweep.explained] == ["otherwise"]
    assert explain(other, cell, " ").sweep.explained == ()


def test_a_trip_of_no_scope_and_rules_with_numbers_do_not_stop_a_sweep():
    plan = SweepPlan(explained=(Explained("Gone", "", "silent", "of an earlier time"),))
    project = slide(trips=(Trip("Idle", 3, "FALSE"),), sweep=plan)
    run = watched(project, project.scenarios[0])
    assert run.run_to(800, next_entry=True) and run.entries[0] == [1]
    run.goal = (3,)
    assert run.run_to(800) and run.session.k < 800
    run.goal = None
    assert not run.run_to(800) and run.session.k == 800
