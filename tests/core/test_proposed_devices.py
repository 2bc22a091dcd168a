"""Devices from the names of signals: those of the examples come back, a name that says nothing stays without one."""

from __future__ import annotations

import json
from dataclasses import replace

import pytest

from spokeshave.engine.session import Session
from spokeshave.formats import spoke
from spokeshave.machine.proposed_devices import make_proposed, proposed_devices
from spokeshave.machine.shown import COLOURS
from spokeshave.machine.wiring import exchanged
from spokeshave.model.project import Project, Signal, SignalClass, Type
from spokeshave.verify.check.run import findings
from tests.conftest import EXAMPLES
from tests.core.test_cli import call

KINDS = {"i": SignalClass.INPUT, "o": SignalClass.OUTPUT}


def signals(text: str) -> Project:
    rows = (line.split() for line in text.strip().splitlines())
    return Project(signals=tuple(Signal(r[0], KINDS[r[1]], Type((r[2:] or ["BOOL"])[0])) for r in rows))


@pytest.mark.parametrize(("name", "missing"), [("roastery", {"Degree"}), ("carousel", set()),
                                               ("lock", {"MadeFast", "HasLeft", "LampBelow", "LampAbove"})])  # fmt: skip
def test_the_devices_of_an_example_come_back_from_its_signals(name, missing):
    project = spoke.read(EXAMPLES / f"{name}.spoke")
    found = {(d.kind, frozenset(d.signals)) for d in proposed_devices(replace(project, devices=()))}
    for d in project.devices:
        wired = frozenset(s for _, s in d.wires)
        near = [signals for kind, signals in found if kind == d.kind and signals <= wired and len(wired - signals) < 3]
        assert len(near) == (d.name not in missing), d
    assert proposed_devices(project) == (), "what is wired is not proposed again"


def test_names_say_what_belongs_together_and_what_does_not():
    project = signals("""
        Go i
        StopOk i
        GateDrive o
        GateOpen i
        GateShut i
        Door1Open o
        Door1Opened i
        Door2Open o
        Door2Opened i
        Pump o
        PumpRuns i
        Fan o
        Horn o
        WaterLevel i REAL
        FillWater o
        Something o
        Other i
        FaultLamp o
    """)
    found = {d.name: (d.kind, d.signals) for d in proposed_devices(project)}
    assert found == {
        "Water": ("vessel", ("FillWater", "WaterLevel")),
        "Door1": ("actuator", ("Door1Open", "Door1Opened")),
        "Door2": ("actuator", ("Door2Open", "Door2Opened")),
        "Gate": ("actuator", ("GateDrive", "GateOpen", "GateShut")),
        "PumpMotor": ("motor", ("Pump", "PumpRuns")),
        "FanMotor": ("motor", ("Fan",)),
        "EmergencyStop": ("emergency", ("StopOk",)),
        "GoButton": ("button", ("Go",)),
        "Horn2": ("horn", ("Horn",)),
        "FaultLight": ("lamp", ("FaultLamp",)),
    }
    made = make_proposed(project, proposed_devices(project))
    assert {d.name for d in made.devices} == set(found) and len({d.at for d in made.devices}) == len(found)
    assert not exchanged(made) and proposed_devices(made) == ()
    assert made.device("Gate").wired("extended") == "GateOpen" and made.device("Gate").wired("retracted") == "GateShut"
    assert dict(made.device("FaultLight").parameters)["colour"] == COLOURS.index("red")
    session = Session(made)
    session.run_for(100)
    assert session.stopped is None


def test_a_vessel_is_told_by_its_switches_where_no_number_tells_its_level():
    project = signals("""
        TankFull i
        TankEmpty i
        FillTank o
        DrainTank o
        LevelHigh i
        FeedValve o
        GateLow i
        GateHigh i
        PressureHigh i
    """)
    found = {d.name: d.signals for d in proposed_devices(project) if d.kind == "vessel"}
    assert found == {"Tank": ("FillTank", "DrainTank", "TankFull", "TankEmpty"), "Vessel": ("FeedValve", "LevelHigh")}
    tank = make_proposed(project, proposed_devices(project)).device("Tank")
    assert (tank.wired("inlet"), tank.wired("outlet"), tank.wired("high"), tank.wired("low")) == (
        "FillTank", "DrainTank", "TankFull", "TankEmpty",
    )  # fmt: skip


def test_a_stop_that_the_logic_asks_for_is_closed_at_rest():
    stop = signals("Start i\nStop i\nStopOk i\nMotor o")
    for opening, closed in (
        ("Motor := (Start OR Motor) AND Stop;", True),
        ("Motor := (Start OR Motor) AND NOT Stop;", False),
    ):
        made = make_proposed(replace(stop, opening=opening), proposed_devices(replace(stop, opening=opening)))
        button, listed = made.device("StopButton"), made.signal("Stop")
        assert ("normally_closed", 1.0) in button.parameters if closed else not button.parameters
        assert (listed.contact, listed.initial) == (("nc", True) if closed else ("no", None))
        assert made.signal("StopOk").contact == "nc" and not [
            d for d in findings(made) if d.code == "contact-otherwise"
        ]


def test_ends_that_name_no_thing_belong_to_the_only_drives_that_go_there():
    project = signals("RollOut o\nRollIn o\nAtOut i\nAtIn i\nMotor o\nEStopOk i\nSunny i")
    assert {d.name: (d.kind, d.signals) for d in proposed_devices(project)} == {
        "Roll": ("actuator", ("RollOut", "RollIn", "AtOut", "AtIn")),
        "Motor2": ("motor", ("Motor",)),
        "EmergencyStop": ("emergency", ("EStopOk",)),
    }
    places = signals("AtStart i\nInward i\nGoal i")
    places = replace(places, signals=tuple(replace(s, comment="switch at the start") for s in places.signals[:2]) + tuple(
        replace(s, comment="green button") for s in places.signals[2:]))  # fmt: skip
    assert [(d.kind, d.signals) for d in proposed_devices(places)] == [("button", ("Goal",))]
    both = signals("RollOut o\nSlideOut o\nAtOut i")
    assert proposed_devices(both) == (), "which of them is at its end is not said"


def test_the_command_lists_devices_and_writes_them_into_a_file(tmp_path):
    file, more = tmp_path / "gate.spoke", tmp_path / "more.spoke"
    spoke.write(signals("GateDrive o\nGateOpen i\nGateShut i\nOther i"), file)
    code, out = call("propose", str(file), "--devices", "--out", str(more))[:2]
    assert code == 0 and "actuator Gate: GateDrive, GateOpen, GateShut" in out and "no device for Other" in out
    assert [d.name for d in spoke.read(more).devices] == ["Gate"] and not spoke.read(file).devices
    found = json.loads(call("propose", str(file), "--devices", "--json")[1])
    assert found["devices"] == [{"kind": "actuator", "name": "Gate", "signals": ["GateDrive", "GateOpen", "GateShut"]}]
    assert found["left"] == ["Other"]
    assert call("propose", str(file), "--devices", "--take")[0] == 0 and spoke.read(file).device("Gate") is not None
