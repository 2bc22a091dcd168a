"""The roastery with every failure of every device at several moments: what must never happen does not."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.trace_csv import trace_rows
from spokeshave.machine.kinds import KINDS
from spokeshave.model.project import Project

START = [Stimulus(500, "hand", "Start", 1), Stimulus(800, "hand", "Start", 0)]


def cases(roastery: Project) -> list[tuple[str, str]]:
    return [(d.name, failure) for d in roastery.devices for failure in KINDS[d.kind].failures]


def always(session: Session, *names: str) -> list[tuple[int, int]]:
    """Scans in which all the named BOOLs were TRUE; a name after ! must be FALSE."""
    total = session.trace.scan_count
    spans = []
    for name in names:
        on = session.trace.windows(name.lstrip("!"))
        if name.startswith("!"):
            edges = [0, *(k for w in on for k in w), total]
            on = [(a, b) for a, b in zip(edges[::2], edges[1::2]) if a < b]
        spans.append(on)
    found = spans[0]
    for other in spans[1:]:
        found = [(max(a, c), min(b, d)) for a, b in found for c, d in other if max(a, c) < min(b, d)]
    return found


@pytest.mark.parametrize("at_ms", [0, 8000, 20_000, 28_000])
def test_no_failure_lights_the_burner_without_drum_and_air_or_opens_the_door_over_an_open_flap(roastery, at_ms):
    for device, failure in cases(roastery):
        session = Session(roastery, sorted([*START, Stimulus(at_ms, "fail", device, failure)], key=lambda s: s.time_ms))
        session.run_for(60_000)
        assert session.stopped is None, (device, failure)
        for guard in ("DrumRuns", "AirRuns", "TempOk"):
            assert not always(session, "Burner", f"!{guard}"), (device, failure, guard)
        assert not always(session, "DropDoor", "!FlapClosed"), (device, failure)
        assert not [e for e in session.trace.events if e.kind == "hazard"], (device, failure)


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(press_ms=st.integers(0, 45_000))
def test_emergency_stop_at_any_moment_turns_everything_off_in_its_scan_and_a_reset_allows_a_new_batch(
    roastery, press_ms
):
    hands = [(press_ms, "Emergency", 1), (press_ms + 3000, "Emergency", 0), (press_ms + 4000, "Reset", 1), (press_ms + 4200, "Reset", 0),
             (press_ms + 8000, "Start", 1), (press_ms + 8300, "Start", 0)]  # fmt: skip
    stimuli = sorted([*START, *(Stimulus(t, "hand", n, v) for t, n, v in hands)], key=lambda s: s.time_ms)
    session = Session(roastery, stimuli)
    session.run_for(press_ms + 70_000)
    stop = always(session, "!EmergencyOk")[0]
    for output in ("Gate", "Drum", "Air", "Burner", "DropDoor", "Stirrer", "TrayFan", "Flap"):
        assert not always(session, output, "!EmergencyOk"), output
    dropped = [a for a, _ in session.trace.windows("Roast.Drop.X") if a > stop[1]]
    assert dropped, "a new batch was dropped after the reset"


@pytest.mark.parametrize("at_ms", [1000, 5000, 14_000, 20_000, 28_000, 35_000])
def test_power_lost_at_any_stage_leaves_everything_off_and_a_start_brings_a_whole_batch(roastery, at_ms):
    session = Session(roastery, START)
    session.run_for(at_ms)
    session.do("power")
    session.scan()
    off = [r.name for r in session.program.recorded if r.kind == "output" and session.situation.v[r.slot] is True]
    assert off == []
    assert session.trace.at("Roast.Idle.X", session.k - 1) and session.trace.at("Cool.Ready.X", session.k - 1)
    session.run_for(6000)
    session.do("hand", "Start", 1)
    session.run_for(60_000)
    assert session.trace.at("Batches", session.k - 1) == 1


@settings(max_examples=20, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.integers(0, 4500), min_size=1, max_size=4, unique=True))
def test_taking_in_a_machine_file_that_runs_the_same_changes_nothing_but_a_mark(roastery, scans):
    plain, edited = Session(roastery, START), Session(roastery, START)
    plain.run_scans(5000)
    for n, k in enumerate(sorted(scans)):
        edited.run_scans(k - edited.k)
        edited.adopt(replace(roastery, comment=f"edit {n}"))
    edited.run_scans(5000 - edited.k)
    assert list(trace_rows(edited.trace)) == list(trace_rows(plain.trace))
    assert [e.k for e in edited.trace.events if e.kind == "edit"] == sorted(scans)
