"""Devices: closed forms against adding up steps, thresholds against looking at every scan, hand-worked times."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from spokeshave.machine.device import NEVER, ParameterError, first_scan_near
from spokeshave.machine.kinds import KINDS, build, device_problems
from spokeshave.model.project import Device, Project, Signal, SignalClass, Type

PERIOD = 10


def made(kind: str, **parameters: float):
    return build(Device("D", kind, parameters=tuple(parameters.items())), PERIOD)


drives = st.lists(
    st.tuples(st.integers(1, 60), st.lists(st.booleans(), min_size=4, max_size=4)), min_size=1, max_size=8
)


@pytest.mark.parametrize("kind", sorted(KINDS))
@given(turns=drives, failing=st.data())
def test_what_a_device_shows_does_not_depend_on_how_one_gets_there(kind, turns, failing):
    """Turning it again with the same drives at any scan changes nothing (semantics section 10)."""
    device = made(kind)
    n = len(device.drive_terminals())
    plain = device.start()
    again = device.start()
    k = 0
    for scans, values in turns:
        failed = frozenset(failing.draw(st.lists(st.sampled_from(device.failures), max_size=1)))
        hand = int(values[0]) if device.positions else 0
        plain = device.turn(plain, k, tuple(values[:n]), failed, hand)
        again = device.turn(again, k, tuple(values[:n]), failed, hand)
        for j in range(k + 1, k + scans + 1):
            assert device.sense(plain, j) == device.sense(again, j)
            if kind != "thermal":  # a turn of a thermal mass rounds its temperature to a millionth
                again = device.turn(again, j, tuple(values[:n]), failed, hand)
        k += scans


@pytest.mark.parametrize("kind", sorted(KINDS))
@given(turns=drives)
def test_the_next_change_is_the_first_scan_that_shows_something_else(kind, turns):
    device = made(kind)
    n = len(device.drive_terminals())
    state, k = device.start(), 0
    for scans, values in turns:
        state = device.turn(state, k, tuple(values[:n]), frozenset(), 0)
        end, seen = k + scans, device.sense(state, k)
        while k < end:
            told = device.next_change(state, k)
            for j in range(k + 1, min(told, end + 1)):
                assert device.sense(state, j) == seen, f"changed unannounced at {j}"
            k = min(told, end)
            seen = device.sense(state, k)


@pytest.mark.parametrize("kind", sorted(KINDS))
@given(turns=drives, failing=st.data())
def test_what_is_planned_ahead_is_what_is_sensed(kind, turns, failing):
    device = made(kind)
    n = len(device.drive_terminals())
    state, k = device.start(), 0
    for scans, values in turns:
        failed = frozenset(failing.draw(st.lists(st.sampled_from(device.failures), max_size=1)))
        state = device.turn(state, k, tuple(values[:n]), failed, 0)
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
        state = device.turn(state, k, tuple(values), frozenset(), 0)
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


def test_a_vessel_fills_shows_its_level_in_steps_and_its_switches_with_hysteresis():
    tank = made("vessel", volume_l=10, inlet_l_s=2, outlet_l_s=1, low_l=1, high_l=8, hysteresis_l=0.5, resolution_l=0.5)
    filling = tank.turn(tank.start(), 0, (True, False, False, False), frozenset(), 0)
    assert [tank.sense(filling, k) for k in (49, 50, 399, 400)] == [
        (0.5, False, False), (1.0, True, False), (7.5, True, False), (8.0, True, True)
    ]  # fmt: skip
    assert tank.sense(filling, 900) == (10.0, True, True)
    emptying = tank.turn(filling, 900, (False, False, True, False), frozenset(), 0)
    assert [tank.sense(emptying, k)[2] for k in (1150, 1151)] == [True, False]
    assert [tank.sense(emptying, k)[1] for k in (1850, 1851)] == [True, False]
    assert tank.sense(emptying, 9000) == (0.0, False, False)
    leaking = tank.turn(filling, 100, (False,) * 4, frozenset({"leak", "low stuck off"}), 0)
    assert tank.sense(leaking, 1100) == (1.0, False, False)
    dry = tank.turn(filling, 100, (True, False, True, False), frozenset({"no supply", "outlet blocked"}), 0)
    assert tank.sense(dry, 5000)[0] == 2.0


def test_an_actuator_takes_its_travel_times_and_opens_its_switches_at_once():
    gate = made("actuator", extend_s=0.8, retract_s=0.4)
    state = gate.turn(gate.start(), 100, (True, False), frozenset(), 0)
    assert gate.sense(state, 100) == (False, True)
    assert gate.sense(state, 101) == (False, False)
    assert [gate.sense(state, k)[0] for k in (179, 180)] == [False, True]
    back = gate.turn(state, 500, (False, False), frozenset(), 0)
    assert [gate.sense(back, k)[1] for k in (539, 540)] == [False, True]
    turned = gate.turn(state, 140, (False, False), frozenset(), 0)
    assert [gate.sense(turned, k)[1] for k in (159, 160)] == [False, True]


def test_an_actuator_with_two_drives_stays_and_reports_being_driven_both_ways():
    gate = made("actuator", two_drives=1, start=0.5)
    state = gate.turn(gate.start(), 5, (True, True), frozenset(), 0)
    assert gate.position(state, 500) == gate.stroke // 2
    assert gate.hazards(state) == ("driven both ways at once",)


def test_failures_of_an_actuator():
    gate = made("actuator")
    state = gate.turn(gate.start(), 0, (True, False), frozenset({"jammed"}), 0)
    assert gate.sense(state, 10_000) == (False, True)
    state = gate.turn(state, 0, (True, False), frozenset({"slow"}), 0)
    assert [gate.sense(state, k)[0] for k in (399, 400)] == [False, True]
    state = gate.turn(state, 500, (True, False), frozenset({"extended stuck off", "retracted stuck on"}), 0)
    assert gate.sense(state, 501) == (False, True)


def test_a_motor_feeds_back_at_four_fifths_of_its_speed():
    motor = made("motor", run_up_s=1.0, run_down_s=0.5)
    state = motor.turn(motor.start(), 0, (True,), frozenset(), 0)
    assert [motor.sense(state, k)[0] for k in (79, 80, 500)] == [False, True, True]
    off = motor.turn(state, 500, (False,), frozenset(), 0)
    assert [motor.sense(off, k)[0] for k in (510, 511)] == [True, False]
    tripped = motor.turn(state, 500, (True,), frozenset({"overload tripped"}), 0)
    assert motor.sense(tripped, 600) == (False, False)


def test_a_thermal_mass_runs_to_its_target_and_shows_its_resolution():
    mass = made("thermal", ambient_c=20, start_c=20, heater_k=100, time_constant_s=10, resolution_k=0.5, high_c=100)
    state = mass.turn(mass.start(), 0, (True, False, False, False), frozenset(), 0)
    assert mass.sense(state, 1000)[0] == pytest.approx(20 + 100 * (1 - 2.718281828**-1), abs=0.25)
    assert mass.sense(state, 1000)[0] % 0.5 == 0
    assert [mass.sense(state, k)[1] for k in (1000, 3000)] == [True, False]
    assert mass.sense(state, 60_000)[0] == 120.0
    assert mass.next_change(state, 60_000) == NEVER
    frozen = mass.turn(state, 100, (False,) * 4, frozenset({"sensor frozen"}), 0)
    assert mass.sense(frozen, 5000)[0] == mass.sense(state, 100)[0]


def test_buttons_selectors_and_lamps():
    stop, knob, lamp = made("emergency"), made("selector", positions=3), made("lamp")
    assert stop.sense(stop.start(), 0) == (True,)
    assert stop.sense(stop.turn(stop.start(), 1, (), frozenset(), 1), 1) == (False,)
    assert stop.sense(stop.turn(stop.start(), 1, (), frozenset({"wire broken"}), 0), 1) == (False,)
    assert knob.sense(knob.turn(knob.start(), 1, (), frozenset(), 2), 1) == (False, False, True, False)
    assert lamp.picture(lamp.turn(lamp.start(), 1, (True,), frozenset({"failed"}), 0), 1) == {"lit": 0.0}


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
