"""The table of device kinds. A new kind is a module with a class and one line here."""

from __future__ import annotations

from spokeshave.machine.actuator import Actuator
from spokeshave.machine.device import Device, ParameterError
from spokeshave.machine.motor import Motor
from spokeshave.machine.operator import EmergencyStop, Lamp, Pushbutton, Selector
from spokeshave.machine.thermal import ThermalMass
from spokeshave.machine.vessel import Vessel
from spokeshave.model.diagnostics import Diagnostic, Place, Severity, did_you_mean
from spokeshave.model.project import Device as Described
from spokeshave.model.project import Project, SignalClass

KINDS: dict[str, type[Device]] = {
    k.kind: k for k in (Actuator, Motor, ThermalMass, Vessel, Pushbutton, EmergencyStop, Selector, Lamp)
}


def build(device: Described, period_ms: int) -> Device:
    """The device worked out for a period. Raises `KeyError` for an unknown kind, `ParameterError`, `ValueError`."""
    return KINDS[device.kind](dict(device.parameters), period_ms)


def device_problems(project: Project) -> list[Diagnostic]:
    """What is wrong with the devices' kinds, parameters and wiring."""
    found: list[Diagnostic] = []
    for device in project.devices:
        place = Place("device", item=device.name)

        def note(code: str, message: str, advice: str = "", place: Place = place) -> None:
            found.append(Diagnostic(code, Severity.ERROR, place, message, advice))

        kind = KINDS.get(device.kind)
        if kind is None:
            note("device-kind", f"there is no kind {device.kind}", did_you_mean(device.kind, KINDS) or ", ".join(KINDS))
            continue
        known = {p.name for p in kind.parameters}
        for name, _ in device.parameters:
            if name not in known:
                note("device-parameter", f"a {kind.title.lower()} has no parameter {name}", did_you_mean(name, known))
        try:
            build(device, max(1, project.period_ms))
        except ParameterError as error:
            note("device-parameter", str(error))
        except ValueError as error:
            note("device-parameter", f"a parameter is not a number ({error})", "write numbers, in the unit shown")
        terminals = {t.name: t for t in kind.terminals}
        for terminal, name in device.wires:
            signal = project.signal(name)
            if terminal not in terminals:
                note(
                    "device-wire",
                    f"a {kind.title.lower()} has no terminal {terminal}",
                    did_you_mean(terminal, terminals),
                )
            elif signal is None:
                offer = did_you_mean(name, (s.name for s in project.signals))
                note("device-wire", f"terminal {terminal} is wired to {name}, which is no signal", offer)
            elif signal.type is not terminals[terminal].type:
                note("device-wire", f"terminal {terminal} is {terminals[terminal].type}, {name} is {signal.type}")
            elif not terminals[terminal].drive and signal.cls is not SignalClass.INPUT:
                note("device-wire", f"terminal {terminal} gives a value, {name} is no input", "wire it to an input")
    return found
