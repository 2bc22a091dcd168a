"""Each device against times worked out by hand; a scan is 10 ms."""

from __future__ import annotations

import pytest

from spokeshave.machine.device import NEVER
from spokeshave.machine.kinds import KINDS, build
from spokeshave.model.project import Device, Type


class Rig:
    """One device with the terminals in `used` wired; drives and sensors are called by their names."""

    def __init__(self, kind: str, used: str = "", **parameters: float) -> None:
        names = used.split() or [t.name for t in KINDS[kind].terminals]
        self.device = build(Device("D", kind, tuple((n, n) for n in names), tuple(parameters.items())), 10)
        self.terminals = KINDS[kind].drive_terminals()
        self.sensors = [t.name for t in KINDS[kind].sensor_terminals()]
        self.state = self.device.start()

    def turn(self, k: int, *failed: str, hand: float = 0, **drives: float) -> Rig:
        assert drives.keys() <= {t.name for t in self.terminals}
        assert set(failed) <= set(self.device.failures)
        values = tuple(drives.get(t.name, False if t.type is Type.BOOL else 0) for t in self.terminals)
        self.state = self.device.turn(self.state, k, values, frozenset(failed), hand)
        return self

    def see(self, k: int, *names: str):
        shown = dict(zip(self.sensors, self.device.sense(self.state, k)))
        return shown[names[0]] if len(names) == 1 else tuple(shown[n] for n in names)

    def comes(self, name: str, value: object, within: int = 5000) -> int:
        """The first scan from the last turn on in which a sensor shows a value."""
        k0 = int(self.state[0])
        return next(k for k in range(k0 + 1, k0 + within) if self.see(k, name) == value)

    def harm(self, k: int) -> tuple[str, ...]:
        return self.device.hazards(self.state, k)


def test_a_vessel_fills_shows_its_level_in_steps_and_its_switches_with_hysteresis():
    tank = Rig("vessel", "inlet outlet level low high", volume_l=10, inlet_l_s=2, outlet_l_s=1, low_l=1, high_l=8,
               hysteresis_l=0.5, resolution_l=0.5)  # fmt: skip
    tank.turn(0, inlet=True)
    assert [tank.see(k, "level", "low", "high") for k in (49, 50, 399, 400)] == [
        (0.5, False, False), (1.0, True, False), (7.5, True, False), (8.0, True, True)
    ]  # fmt: skip
    assert (tank.harm(500), tank.harm(501)) == ((), ("overfilled",))
    assert tank.see(900, "level", "low", "high") == (10.0, True, True)
    filling = tank.state
    tank.turn(900, outlet=True)
    assert [tank.see(k, "high") for k in (1150, 1151)] == [True, False]
    assert [tank.see(k, "low") for k in (1850, 1851)] == [True, False]
    assert tank.see(9000, "level", "low", "high") == (0.0, False, False)
    tank.state = filling
    assert tank.turn(100, "leak", "low stuck off").see(1100, "level", "low") == (1.0, False)
    tank.state = filling
    assert tank.turn(100, "no supply", "outlet blocked", inlet=True, outlet=True).see(5000, "level") == 2.0


def test_a_vessel_takes_items_counts_litres_and_flows_only_while_it_is_supplied():
    bin_ = Rig("vessel", "inlet supply items level pulse_in", item_l=2, inlet_l_s=1)
    assert bin_.turn(0, items=3).see(1, "level") == 6.0
    assert bin_.turn(10, items=3).see(11, "level") == 6.0
    assert bin_.turn(20, items=4, inlet=True).see(500, "level") == 8.0, "nothing is supplied"
    bin_.turn(500, items=4, inlet=True, supply=True)
    assert [bin_.see(k, "pulse_in") for k in (599, 600, 649, 650, 700)] == [False, True, True, False, True]
    bin_.turn(700, "lost pulses", items=4, inlet=True, supply=True)
    assert [bin_.see(k, "pulse_in") for k in (710, 810)] == [False, True]


def test_an_empty_vessel_lets_out_what_comes_in():
    tank = Rig("vessel", "inlet outlet pulse_out", start_l=1, inlet_l_s=1, outlet_l_s=3)
    tank.turn(0, inlet=True, outlet=True)
    # 1 l at a net 2 l/s is gone after 0.5 s, when 1.5 l have left; then 1 l/s.
    assert tank.device._passed(tank.state, 50) == (500_000, 1_500_000)
    assert tank.device._passed(tank.state, 150) == (1_500_000, 2_500_000)


def test_an_actuator_takes_its_travel_times_and_opens_its_switches_at_once():
    gate = Rig("actuator", "extend extended retracted", extend_s=0.8, retract_s=0.4).turn(100, extend=True)
    assert gate.see(100, "extended", "retracted") == (False, True)
    assert gate.see(101, "extended", "retracted") == (False, False)
    assert gate.comes("extended", True) == 180
    there = gate.state
    assert gate.turn(500).comes("retracted", True) == 540
    gate.state = there
    assert gate.turn(140).comes("retracted", True) == 160


def test_an_actuator_with_two_drives_stays_and_reports_being_driven_both_ways():
    gate = Rig("actuator", two_drives=1, start=0.5).turn(5, extend=True, retract=True)
    assert gate.device.position(gate.state, 500) == gate.device.stroke // 2
    assert gate.harm(5) == ("driven both ways at once",)


def test_an_actuator_closes_a_middle_switch_lets_pass_from_half_way_and_bounces():
    gate = Rig("actuator", extend_s=1, middle_at=0.3, middle_width=0.1, bounce_ms=40).turn(0, extend=True)
    assert [gate.see(k, "middle") for k in (24, 25, 35, 36)] == [False, True, True, False]
    assert [gate.see(k, "passable") for k in (50, 51)] == [False, True]
    assert [gate.see(k, "extended") for k in range(99, 105)] == [False, True, False, True, False, True]


def test_failures_of_an_actuator():
    gate = Rig("actuator", "extend extended retracted", drift_s=10).turn(0, "jammed", extend=True)
    assert gate.see(10_000, "extended", "retracted") == (False, True)
    assert gate.turn(0, "slow", extend=True).comes("extended", True) == 400
    gate.turn(500, "extended stuck off", "retracted stuck on", extend=True)
    assert gate.see(501, "extended", "retracted") == (False, True)
    gate.turn(600, "drifts off its end", extend=True)
    assert [gate.see(k, "extended") for k in (600, 601)] == [True, False]
    assert gate.device.position(gate.state, 5000) == gate.device.stroke * 9 // 10


def test_a_motor_feeds_back_at_four_fifths_of_its_speed():
    motor = Rig("motor", run_up_s=1.0, run_down_s=0.5).turn(0, run=True)
    assert [motor.see(k, "running") for k in (79, 80, 500)] == [False, True, True]
    runs = motor.state
    assert motor.turn(500).comes("running", False) == 511
    motor.state = runs
    assert motor.turn(500, "overload tripped", run=True).see(600, "running", "overload_ok") == (False, False)


def test_a_motor_slows_down_stands_and_runs_the_other_way():
    motor = Rig("motor", run_up_s=1.0, run_down_s=0.5, reversal_s=0.3).turn(0, run=True)
    motor.turn(200, reverse=True)
    # 0.5 s down, 0.3 s at rest, 0.8 s up to four fifths.
    assert [motor.device.speed(motor.state, k) for k in (200, 250, 280)] == [motor.device.full, 0, 0]
    assert motor.comes("running", False) == 211
    assert [motor.see(k, "running") for k in (359, 360)] == [False, True]
    assert motor.device.speed(motor.state, 1000) == -motor.device.full
    assert motor.turn(1000, run=True, reverse=True).harm(1000) == ("driven both ways at once",)


def test_a_thermal_mass_runs_to_its_target_and_shows_its_resolution():
    mass = Rig("thermal", ambient_c=20, start_c=20, heater_k=100, time_constant_s=10, resolution_k=0.5, high_c=100,
               low_c=60, limit_c=110, cooling_constant_s=20).turn(0, heater=True)  # fmt: skip
    assert mass.see(1000, "temperature") == pytest.approx(20 + 100 * (1 - 2.718281828**-1), abs=0.25)
    assert mass.see(1000, "temperature") % 0.5 == 0
    assert [mass.see(k, "below_high") for k in (1000, 3000)] == [True, False]
    # 40 K of 100 K: -ln 0.6 time constants; 90 K: -ln 0.1.
    assert mass.comes("above_low", True) == 511
    assert (mass.harm(2302), mass.harm(2303)) == ((), ("overheated",))
    assert mass.see(60_000, "temperature") == 120.0
    assert mass.device.next_change(mass.state, 60_000) == NEVER
    heating = mass.state
    assert mass.turn(60_000).see(62_000, "temperature") == pytest.approx(20 + 100 * 2.718281828**-1, abs=0.25)
    mass.state = heating
    before = mass.see(100, "temperature")
    assert mass.turn(100, "sensor frozen").see(5000, "temperature") == before
    assert mass.turn(5000, "sensor reads off", heater=True).see(99_000, "temperature") == 100.0


def test_an_axis_goes_to_its_target_in_a_trapezoid_and_shows_where_it_is():
    axis = Rig("axis", travel_mm=1000, speed_mm_s=200, accel_mm_s2=400, home_mm=500, switch_mm=5, resolution_mm=0.001)
    axis.turn(0, start=True, target=300, speed=0)
    # 0.5 s to 200 mm/s over 50 mm, 200 mm in 1 s, 0.5 s down.
    assert [axis.see(k, "position") for k in (50, 150, 200)] == [50.0, 250.0, 300.0]
    assert [axis.see(k, "moving", "at_target") for k in (199, 200)] == [(True, False), (False, True)]
    axis.turn(300, start=False, target=900)
    assert axis.see(400, "position", "moving") == (300.0, False), "a target alone moves nothing"
    axis.turn(400, forward=True, speed=100)
    # 0.25 s to 100 mm/s over 12.5 mm, then 100 mm/s: the home switch is on from 495 to 505 mm.
    assert (axis.comes("home", True), axis.comes("home", False)) == (608, 401)
    assert [axis.see(k, "home") for k in (607, 608, 617, 618)] == [False, True, True, False]
    assert (axis.harm(1112), axis.harm(1114)) == ((), ("driven into its end",))
    assert axis.see(2000, "position", "end_high", "moving") == (1000.0, True, False)


def test_an_axis_turns_round_without_a_jump_and_its_failures_show():
    axis = Rig("axis", travel_mm=1000, speed_mm_s=200, accel_mm_s2=400, resolution_mm=0.001, home_mm=0)
    axis.turn(0, forward=True).turn(100, reverse=True)
    # 150 mm at 200 mm/s: 0.5 s and 50 mm to rest, and back.
    assert [axis.see(k, "position") for k in (100, 150, 200)] == [150.0, 200.0, 150.0]
    axis.turn(200, "stalls", reverse=True)
    assert axis.see(900, "position", "moving") == (150.0, False)
    axis.turn(1000, "position reads off")
    assert axis.see(1001, "position") == 160.0
    axis.turn(1100, "slips", reverse=True)
    assert (axis.see(2000, "position"), axis.device.place(axis.state, 2000)) == (0.0, 75_000)


def test_items_on_a_belt_pass_the_eyes_and_go_off_at_the_end():
    belt = Rig("belt", "run eye1 off", length_m=2, speed_m_s=0.5, accel_m_s2=1e6, item_m=0.2, period_s=1, first_s=0,
               eye1_m=1.0).turn(0, run=True)  # fmt: skip
    # An item's front starts at 0.2 m: the eye sees it from 1.6 s on, for 0.4 s; its middle is over the end at 3.8 s.
    assert belt.comes("eye1", True) == 160
    assert [belt.see(k, "eye1") for k in (200, 201, 260)] == [True, False, True]
    assert (belt.comes("off", 1), belt.comes("off", 2)) == (380, 480)
    assert belt.turn(1000, "jam", run=True).see(1500, "off") == belt.see(1000, "off")
    assert belt.device.items(belt.state, 1000) == belt.device.items(belt.state, 1090)
    assert belt.turn(1500, "eye1 blocked").see(1501, "eye1")


def test_items_queue_at_a_gate_that_a_closing_gate_can_crush_and_wait_at_the_end_to_be_taken():
    belt = Rig("belt", "run gate take off", length_m=1, speed_m_s=0.5, accel_m_s2=1e6, item_m=0.1, gate_m=0.5,
               waits_at_end=1)  # fmt: skip
    belt.turn(0, run=True, hand=1).turn(60, run=True).turn(100, run=True, hand=1).turn(101, run=True)
    assert belt.device.items(belt.state, 1000) == (500_000, 400_000)
    belt.turn(1000, run=True, gate=True)
    assert belt.device.items(belt.state, 1010) == (550_000, 450_000)
    assert belt.harm(1010) == ()
    belt.turn(1010, run=True)
    assert belt.harm(1010) == ("crushing an item",)
    assert belt.harm(1021) == ()
    assert belt.device.items(belt.state, 2000) == (1_000_000, 500_000)
    assert belt.see(2000, "off") == 0
    belt.turn(2000, run=True, take=True)
    assert (belt.see(2001, "off"), belt.device.items(belt.state, 2001)) == (1, (500_000,))


def test_what_another_belt_feeds_finds_room_or_collides():
    belt = Rig("belt", "run feed", item_m=0.1, speed_m_s=0.5, accel_m_s2=1e6).turn(0, feed=1)
    assert (belt.device.items(belt.state, 1), belt.harm(1)) == ((100_000,), ())
    belt.turn(10, feed=2)
    assert (len(belt.device.items(belt.state, 11)), belt.harm(11)) == (1, ("pushing items into each other",))
    belt.turn(20, feed=2, run=True).turn(60, feed=3, run=True)
    assert (len(belt.device.items(belt.state, 61)), belt.harm(61)) == (2, ())
    belt.turn(70, "item lost", feed=3, run=True)
    assert len(belt.device.items(belt.state, 71)) == 1


def test_a_turntable_goes_on_by_one_station_and_can_miss_it():
    table = Rig("turntable", stations=3, index_s=0.5).turn(10, index=True)
    assert [table.see(k, "in_position", "station") for k in (10, 11, 59, 60)] == [
        (True, 1), (False, 1), (False, 1), (True, 2)
    ]  # fmt: skip
    assert table.turn(100, index=True).see(500, "station") == 2, "held on it stands"
    table.turn(200).turn(210, "misses the position", index=True)
    assert table.see(900, "in_position", "station") == (False, 3)
    assert table.turn(900).turn(910, index=True).see(960, "in_position", "station") == (True, 1)


def test_a_follower_answers_late_and_forgets_what_was_too_short():
    follower = Rig("follower", on_s=0.2, off_s=0.1).turn(0, follows=True)
    assert follower.comes("shows", True) == 20
    assert follower.turn(50).comes("shows", False) == 60
    follower.turn(100, follows=True).turn(110)
    assert not any(follower.see(k, "shows") for k in range(100, 200))
    assert follower.turn(200, "late", follows=True).comes("shows", True) == 280
    assert follower.turn(300, "stuck").see(999, "shows")


def test_buttons_selectors_setpoints_and_what_operators_see():
    stop, knob = Rig("emergency"), Rig("selector", positions=3)
    assert stop.see(0, "contact")
    assert not stop.turn(1, hand=1).see(1, "contact")
    assert not stop.turn(2, "wire broken").see(2, "contact")
    assert knob.turn(1, hand=2).see(1, "at_0", "at_1", "at_2", "at_3") == (False, False, True, False)
    assert knob.turn(2, "contact 0 stuck on", hand=2).see(2, "at_0", "at_2") == (True, True)
    button = Rig("button", bounce_ms=30).turn(5, hand=1)
    assert [button.see(k, "contact") for k in range(5, 9)] == [True, False, True, True]
    assert not button.turn(20, "contact stuck open", hand=1).see(20, "contact")
    dial = Rig("setpoint", least=10, most=50, start=20)
    assert dial.see(0, "value") == 20.0
    assert [dial.turn(1, hand=h).see(1, "value") for h in (33.5, 99, -5)] == [33.5, 50.0, 10.0]
    assert dial.turn(2, "stuck", hand=40).see(2, "value") == 10.0
    for kind, drive, picture in (("lamp", "lit", "lit"), ("horn", "sounds", "lit")):
        lamp = Rig(kind).turn(1, **{drive: True})
        assert lamp.device.picture(lamp.state, 1) == {picture: 1.0}
        assert lamp.turn(2, "failed", **{drive: True}).device.picture(lamp.state, 2) == {picture: 0.0}
    display = Rig("display").turn(1, value=12)
    assert display.device.picture(display.state, 1) == {"value": 12.0, "dark": 0.0}
