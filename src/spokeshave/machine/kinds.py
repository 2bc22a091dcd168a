"""The table of device kinds. A new kind is a module with a class and one line here."""

from __future__ import annotations

from collections.abc import Collection

from spokeshave.machine.actuator import Actuator
from spokeshave.machine.axis import Axis
from spokeshave.machine.belt import Belt
from spokeshave.machine.device import Device, ParameterError, Terminal
from spokeshave.machine.motor import Motor
from spokeshave.machine.operator import EmergencyStop, Pushbutton, Selector, Setpoint
from spokeshave.machine.own import OwnDevice, own_problems
from spokeshave.machine.shown import Display, Follower, Horn, Lamp
from spokeshave.machine.thermal import ThermalMass
from spokeshave.machine.turntable import Turntable
from spokeshave.machine.vessel import Vessel
from spokeshave.model.diagnostics import Diagnostic, Place, Severity, did_you_mean
from spokeshave.model.project import Device as Described
from spokeshave.model.project import Project, SignalClass

KINDS: dict[str, type[Device]] = {
    k.kind: k
    for k in (
        Actuator, Motor, Axis, Vessel, ThermalMass, Belt, Turntable,
        Pushbutton, Selector, EmergencyStop, Setpoint, Lamp, Horn, Display, Follower, OwnDevice,
    )
}  # fmt: skip


def terminals_of(device: Described) -> tuple[Terminal, ...]:
    """The terminals of a device: those of its kind, or the ones an own device declares; none for an unknown kind."""
    if device.kind == OwnDevice.kind:
        return OwnDevice.declared_terminals(device)
    return KINDS[device.kind].terminals if device.kind in KINDS else ()


def drives_of(device: Described) -> tuple[Terminal, ...]:
    """The terminals that take a value in."""
    return tuple(t for t in terminals_of(device) if t.drive)


def sensors_of(device: Described) -> tuple[Terminal, ...]:
    """The terminals that give a value, in the order of `sense`."""
    return tuple(t for t in terminals_of(device) if not t.drive)


def failures_of(device: Described) -> tuple[str, ...]:
    """The failure modes that can be injected."""
    if device.kind == OwnDevice.kind:
        return tuple(d.name for d in device.declared if d.role == "failure")
    return KINDS[device.kind].failures if device.kind in KINDS else ()


def one_of(kind: str) -> str:
    """A device of a kind, in words.

    >>> one_of("axis"), one_of("lamp")
    ('an axis', 'a lamp')
    """
    title = KINDS[kind].title.lower()
    return f"{'an' if title[0] in 'aeiou' else 'a'} {title}"


def build(device: Described, period_ms: int, coupled: Collection[str] = ()) -> Device:
    """The device worked out for a period; `coupled` are terminals that others devices are coupled to.

    Raises `KeyError` for an unknown kind, `ParameterError`, `ValueError`.
    """
    used = frozenset(t for t, _ in device.wires) | frozenset(coupled)
    if device.kind == OwnDevice.kind:
        return OwnDevice(device, period_ms)
    return KINDS[device.kind](dict(device.parameters), period_ms, used)


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
        terminals = {t.name: t for t in terminals_of(device)}
        for fault in own_problems(device):
            note("device-declared", fault)
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
            elif not terminals[terminal].takes(signal.type):
                note("device-wire", f"terminal {terminal} is {terminals[terminal].type}, {name} is {signal.type}")
            elif not terminals[terminal].drive and signal.cls is not SignalClass.INPUT:
                note("device-wire", f"terminal {terminal} gives a value, {name} is no input", "wire it to an input")
    return found + _connection_problems(project)


def _connection_problems(project: Project) -> list[Diagnostic]:
    """What is wrong with connections that carry a value."""
    found: list[Diagnostic] = []
    taken: dict[tuple[str, str], str] = {}
    for c in project.connections:
        place = Place("connection", item=f"{c.source} to {c.target}")
        ends = []
        for name, terminal, drive in ((c.source, c.gives, False), (c.target, c.takes, True)):
            device = project.device(name)
            if device is None:
                offer = did_you_mean(name, (d.name for d in project.devices))
                found.append(Diagnostic("connection", Severity.ERROR, place, f"there is no device {name}", offer))
                continue
            if not c.gives and not c.takes:
                continue
            fits = [t for t in terminals_of(device) if t.drive is drive]
            end = next((t for t in fits if t.name == terminal), None)
            if end is None:
                what = "takes" if drive else "gives"
                message = (
                    f"{name} {what} no {terminal or 'value'}" if terminal else f"it does not say what {name} {what}"
                )
                offer = did_you_mean(terminal, (t.name for t in fits)) or ", ".join(t.name for t in fits)
                found.append(Diagnostic("connection", Severity.ERROR, place, message, offer))
                continue
            ends.append(end)
        if len(ends) < 2:
            continue
        target = project.device(c.target)
        assert target is not None
        if not ends[1].takes(ends[0].type):
            message = f"{c.gives} is {ends[0].type}, {c.takes} takes {ends[1].type}"
            found.append(Diagnostic("connection", Severity.ERROR, place, message))
        other = taken.get((c.target.lower(), c.takes)) or target.wired(c.takes)
        if other:
            message = f"{c.takes} of {c.target} is driven by {other} already"
            found.append(Diagnostic("connection", Severity.ERROR, place, message, "take one of the two away"))
        taken[(c.target.lower(), c.takes)] = c.source
    return found
