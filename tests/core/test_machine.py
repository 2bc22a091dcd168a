"""Devices: closed forms against adding up steps, thresholds against looking at every scan, hand-worked times."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.machine.device import NEVER, ParameterError, first_scan_near
from spokeshave.machine.kinds import KINDS, build, device_problems
from spokeshave.machine.rest import sleeps
from spokeshave.model.project import Device, Project, Signal, SignalClass, Type

PERIOD = 10


def made(kind: str, **parameters: float):
    return build(
        Device("D", kind, tuple((t.name, t.name) for t in KINDS[kind].terminals), tuple(parameters.items())), PERIOD
    )


LIVELY = {
    "axis": {"travel_mm": 30, "speed_mm_s": 100, "accel_mm_s2": 2000, "start_mm": 10, "home_mm": 15, "switch_mm": 3},
    "belt": {"length_m": 0.4, "item_m": 0.06, "period_s": 0.18, "gate_m": 0.2, "speed_m_s": 0.6, "eye1_m": 0.1,
             "eye2_m": 0.19, "eye3_m": 0.3, "eye4_m": 0.39, "accel_m_s2": 5},
    "vessel": {"volume_l": 3, "inlet_l_s": 9, "outlet_l_s": 7, "low_l": 0.3, "high_l": 2.9, "start_l": 1},
    "actuator": {"extend_s": 0.2, "retract_s": 0.13, "middle_at": 0.3, "bounce_ms": 50, "drift_s": 1},
    "motor": {"run_up_s": 0.1, "run_down_s": 0.17, "reversal_s": 0.08},
    "turntable": {"stations": 3, "index_s": 0.11},
    "button": {"bounce_ms": 40},
    "thermal": {"time_constant_s": 0.3, "high_c": 90, "limit_c": 150, "cooling_constant_s": 0.8},
}  # fmt: skip
"""Parameters with which something happens within some scans."""


drives = st.lists(
    st.tuples(st.integers(1, 60), st.lists(st.booleans(), min_size=8, max_size=8)), min_size=1, max_size=8
)


def lively(kind: str):
    return made(kind, **LIVELY.get(kind, {}))


def driven(device, values):
    """Drives of a device from as many BOOLs: numbers where it takes numbers."""
    numbers = {"target": 22.0, "speed": 0.7 if device.kind == "belt" else 60.0, "items": 2, "feed": 1, "value": 3.5}
    return tuple(
        numbers[t.name] * v if t.type is not Type.BOOL else v for t, v in zip(device.drive_terminals(), values)
    )


kinds = pytest.mark.parametrize("kind", sorted(KINDS.keys() - {"own"}))


@kinds
@given(turns=drives, failing=st.data())
def test_what_a_device_shows_does_not_depend_on_how_one_gets_there(kind, turns, failing):
    """Turning it again with the same drives at any scan changes nothing (semantics section 10)."""
    device = lively(kind)
    plain = device.start()
    again = device.start()
    k = 0
    for scans, values in turns:
        failed = frozenset(failing.draw(st.lists(st.sampled_from(device.failures), max_size=1)))
        hand = int(values[0]) if device.positions else 0
        plain = device.turn(plain, k, driven(device, values), failed, hand)
        again = device.turn(again, k, driven(device, values), failed, hand)
        for j in range(k + 1, k + scans + 1):
            assert device.sense(plain, j) == device.sense(again, j)
            if kind != "thermal":  # a turn of a thermal mass rounds its temperature to a millionth
                again = device.turn(again, j, driven(device, values), failed, hand)
        k += scans


@kinds
@given(turns=drives)
def test_a_turn_changes_nothing_that_is_shown_in_its_scan_but_for_kinds_that_say_so(kind, turns):
    """What is planned begins with what was shown: else a change at the turn itself is never read."""
    device = lively(kind)
    if device.jumps:
        return
    state, k = device.start(), 0
    for scans, values in turns:
        after = device.turn(state, k, driven(device, values), frozenset(), device.first_hand())
        if k:
            assert device.sense(after, k) == device.sense(state, k)
        state, k = after, k + scans


@kinds
@given(turns=drives)
def test_the_next_change_is_the_first_scan_that_shows_something_else(kind, turns):
    device = lively(kind)
    state, k = device.start(), 0
    for scans, values in turns:
        state = device.turn(state, k, driven(device, values), frozenset(), 0)
        end, seen = k + scans, device.sense(state, k)
        while k < end:
            told = device.next_change(state, k)
            for j in range(k + 1, min(told, end + 1)):
                assert device.sense(state, j) == seen, f"changed unannounced at {j}"
            k = min(told, end)
            seen = device.sense(state, k)


@kinds
@given(turns=drives, failing=st.data())
def test_what_is_planned_ahead_is_what_is_sensed(kind, turns, failing):
    device = lively(kind)
    state, k = device.start(), 0
    for scans, values in turns:
        failed = frozenset(failing.draw(st.lists(st.sampled_from(device.failures), max_size=1)))
        state = device.turn(state, k, driven(device, values), failed, 0)
        seen, low = list(device.sense(state, k)), k + 1
        for at, changes in device.ahead(state, k):
            for j in range(low, min(at, k + scans)):
                assert list(device.sense(state, j)) == seen
            if at >= k + scans:
                break
            for index, value in changes:
                seen[index] = value
            assert list(device.sense(state, at)) == seen
            low = at
        k += scans


MASSES = st.fixed_dictionaries({
    "time_constant_s": st.sampled_from((0.5, 3.0, 20.0)), "heater_k": st.sampled_from((3.0, 60.0, 200.0)),
    "cooler_k": st.sampled_from((5.0, 50.0)), "resolution_k": st.sampled_from((7.0, 0.5, 0.1, 0.03)),
})  # fmt: skip
TANKS = st.fixed_dictionaries({
    "volume_l": st.sampled_from((1.0, 3.3, 20.0)), "start_l": st.sampled_from((0.0, 1.0, 2.7)),
    "inlet_l_s": st.sampled_from((0.5, 2.0, 40.0)), "outlet_l_s": st.sampled_from((0.3, 2.0, 50.0)),
    "resolution_l": st.sampled_from((0.5, 0.1, 0.033)), "high_l": st.sampled_from((0.8, 15.0)),
})  # fmt: skip


@given(st.tuples(st.just("thermal"), MASSES) | st.tuples(st.just("vessel"), TANKS), drives, st.data())
def test_readings_told_in_one_go_are_those_of_every_scan(which, turns, failing):
    kind, parameters = which
    device = made(kind, **parameters)
    state, k, motions, looked = device.start(), 0, [], []
    before = device.number(state, 0)
    for scans, values in turns:
        state = device.turn(state, k, driven(device, values), frozenset(), 0)
        motions.append((state, k + 1, k + 10 * scans + 1))
        for j in range(k + 1, k + 10 * scans + 1):
            if device.number(state, j) != before:
                before = device.number(state, j)
                looked.append((j, before))
        k += 10 * scans
    found, numbers = device.readings(motions)
    assert list(zip(found.tolist(), numbers.tolist())) == looked


@given(st.integers(-5, 60), st.integers(0, 40), st.integers(0, 40), st.integers(0, 50))
def test_the_first_scan_is_found_wherever_one_looks_first(guess, low, length, turns_at):
    high = low + length
    expected = next((j for j in range(low, high + 1) if j >= turns_at), NEVER)
    assert first_scan_near(guess, low, high, lambda j: j >= turns_at) == expected


def test_parameters_and_wires_that_make_no_sense_are_told():
    with pytest.raises(ParameterError, match="extend_s: -1 s is too small"):
        made("actuator", extend_s=-1)
    project = Project(
        signals=(Signal("Y", SignalClass.OUTPUT), Signal("T", SignalClass.INPUT, Type.REAL)),
        devices=(
            Device("A", "actuatr"),
            Device("B", "actuator", (("extended", "Y"), ("extend", "Yy"), ("extnd", "Y")), (("extend", 2.0),)),
            Device("C", "thermal", (("below_high", "T"),)),
        ),
    )
    said = [str(d) for d in device_problems(project)]
    assert said[0] == "device A: there is no kind actuatr; did you mean actuator?"
    assert any("no parameter extend" in s for s in said)
    assert any("is wired to Yy, which is no signal; did you mean Y?" in s for s in said)
    assert any("no terminal extnd; did you mean extend" in s for s in said)
    assert any("gives a value, Y is no input" in s for s in said)
    assert any("terminal below_high is BOOL, T is REAL" in s for s in said)


@kinds
@given(before=drives, after=drives, waits=st.integers(1, 90), failing=st.data())
def test_a_failure_that_sleeps_might_as_well_have_come_later(kind, before, after, waits, failing):
    """What follows is the same for ever, also once it is mended."""
    device = lively(kind)
    state, k = device.start(), 0
    values = before[0][1]
    for scans, values in before:
        state = device.turn(state, k, driven(device, values), frozenset(), 0)
        k += scans
    since, until = k + 200, k + 200 + waits
    failure = failing.draw(st.sampled_from(device.failures))
    if not sleeps(device, state, driven(device, values), 0, failure, since, until):
        return
    early = device.turn(state, since, driven(device, values), frozenset([failure]), 0)
    late = device.turn(state, until, driven(device, values), frozenset([failure]), 0)
    k = until
    for n, (scans, values) in enumerate(after):
        failed = frozenset([failure]) if n < len(after) // 2 + 1 else frozenset()
        early = device.turn(early, k, driven(device, values), failed, 0)
        late = device.turn(late, k, driven(device, values), failed, 0)
        for j in range(k, k + scans):
            assert device.sense(early, j) == device.sense(late, j), (failure, j)
            assert device.hazards(early, j) == device.hazards(late, j)
        k += scans


def test_most_failures_of_a_slide_at_rest_sleep_and_none_of_one_that_moves():
    slide = lively("actuator")
    at_rest = [f for f in slide.failures if sleeps(slide, slide.start(), (False, False), 0, f, 5, 60)]
    assert {"jammed", "slow", "extended stuck off"} <= set(at_rest)
    assert not {"extended stuck on", "retracted stuck off", "drifts off its end"} & set(at_rest)
    moving = slide.turn(slide.start(), 1, (True, False), frozenset(), 0)
    assert not any(sleeps(slide, moving, (True, False), 0, f, 2, 4) for f in slide.failures)
