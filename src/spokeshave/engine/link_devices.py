"""Links the devices: drives and sensors to slots, what goes from device to device, and the texts of own devices.

A value that goes from one device to another has a slot of its own, or that of the own device's output. It is given with
the sensors in phase 1 and drives in phase 10, as if it went through a signal.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

from spokeshave.engine import program as pg
from spokeshave.engine.checked_texts import Texts
from spokeshave.engine.thresholds import Times
from spokeshave.language import checked as ck
from spokeshave.language.check import Called, Symbol
from spokeshave.language.compile import Compiled
from spokeshave.language.syntax import Problem, TextError
from spokeshave.machine.device import Device
from spokeshave.machine.kinds import build, drives_of, sensors_of
from spokeshave.machine.own import OwnDevice
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Connection, SignalClass, Type, zero_of
from spokeshave.model.project import Device as Described


@dataclass
class OwnScope:
    """An own device sees what it declares, and `Period`, the time from one scan to the next."""

    device: Described
    slots: dict[str, int]
    period: int

    def lookup(self, parts: tuple[str, ...]) -> Symbol | str:
        if len(parts) > 1:
            return f"{self.device.name} sees only what it declares"
        if parts[0] == "period":
            return Symbol("Period", Type.TIME, self.period, "Period is the time from one scan to the next")
        d = next((d for d in self.device.declared if d.name.lower() == parts[0]), None)
        if d is None:
            return ""
        locked = {"input": f"{d.name} is an input of the device", "failure": f"{d.name} is set by injecting it"}
        return Symbol(d.name, d.type, self.slots[parts[0]], locked.get(d.role, ""))

    def known(self) -> Iterable[str]:
        return ["Period", *(d.name for d in self.device.declared)]

    def instance(self, name: str) -> Called | None:
        return None

    def function(self, name: str) -> ck.Function | str | None:
        return None

    def functions(self) -> Iterable[str]:
        return ()

    def rows(self, table: tuple[str, ...]) -> tuple[int, int] | str:
        return f"{self.device.name} sees only what it declares"

    def edge(self, kind: str, operand: ck.Checked, time: ck.Checked | None) -> int:
        advice = "keep the value of the scan before in a variable and compare"
        raise TextError([Problem(1, 1, f"{kind} is not for own devices", advice)])


@dataclass
class _Own:
    index: int
    slots: dict[str, int]
    unit: int


class DeviceLinker:
    """Reads the texts of own devices first, then links all devices when everything else has its slots."""

    def __init__(self, texts: Texts) -> None:
        self.texts, self.project = texts, texts.project
        self.own: list[_Own] = []
        self.kept: dict[str, int] = {}
        """Slots of the machine itself, by lower-case `device.name`: a power cycle of the controls leaves them."""
        self._compared: set[int] = set()
        """Devices, by index, whose number is nothing but compared with."""

    def read(self) -> None:
        new = self.texts.table.new
        for i, d in enumerate(self.project.devices):
            if d.kind != OwnDevice.kind:
                continue
            slots = {x.name.lower(): new(zero_of(x.type) if x.initial is None else x.initial) for x in d.declared}
            self.kept |= {f"{d.name}.{name}".lower(): slot for name, slot in slots.items()}
            place = Place("device", item=d.name)
            scope = OwnScope(d, slots, new(self.project.period_ms))
            tree = self.texts.check(d.text, place, scope, "statements") if d.text.strip() else ()
            if tree is not None:
                self.own.append(_Own(i, slots, self.texts.unit(tree, place)))

    def finish(self, times: Times, code: list[Compiled]) -> dict[str, Any]:
        """The fields of the program that are about devices."""
        project, final = self.project, self.texts.table.final
        carried = [c for c in project.connections if c.gives]
        of = {o.index: o for o in self.own}
        index = {d.name.lower(): i for i, d in enumerate(project.devices)}
        between: dict[tuple[str, str], int] = {}
        for c in carried:
            key = (c.source.lower(), c.gives)
            if key not in between:
                between[key] = self._slot_between(c, of.get(index[c.source.lower()]))
        by_target = {(c.target.lower(), c.takes): between[(c.source.lower(), c.gives)] for c in carried}
        inputs = {final[s.name.lower()] for s in project.signals if s.cls is SignalClass.INPUT}
        drives = [
            tuple(
                by_target.get((d.name.lower(), t.name), final.get(d.wired(t.name).lower(), pg.NOTHING))
                for t in drives_of(d)
            )
            for d in project.devices
        ]
        inward = frozenset(between.values()) | (inputs & {slot for slots in drives for slot in slots})
        devices: list[pg.LinkedDevice] = []
        for i, d in enumerate(project.devices):
            coupled = [c.takes for c in carried if c.target.lower() == d.name.lower()]
            coupled += [c.gives for c in carried if c.source.lower() == d.name.lower()]
            first = devices[-1].first_drive + len(devices[-1].drives) if devices else 0
            device = build(d, project.period_ms, coupled)
            given = {name: slot for (source, name), slot in between.items() if source == d.name.lower() and i not in of}
            devices.append(self._device(i, device, drives[i], first, given, inward))
        return {
            "devices": self.timed(tuple(devices), times),
            "own": tuple(self._linked_own(o, drives[o.index], code) for o in self.own),
            "inward": inward,
            "machine": dict(self.kept),
        }

    def timed(self, devices: tuple[pg.LinkedDevice, ...], times: Times) -> tuple[pg.LinkedDevice, ...]:
        """The same devices with what their numbers are compared with."""
        return tuple(
            replace(d, thresholds=times.thresholds(d.number)) if i in self._compared else d
            for i, d in enumerate(devices)
        )

    def _slot_between(self, c: Connection, own: _Own | None) -> int:
        """Where the value that goes along a connection stands."""
        if own is not None:
            return own.slots[c.gives.lower()]
        source = self.project.device(c.source)
        assert source is not None
        kind = next(t.type for t in sensors_of(source) if t.name == c.gives)
        slot = self.texts.table.new(zero_of(kind))
        self.kept[f"{c.source}.{c.gives}".lower()] = slot
        return slot

    def _device(
        self, index: int, device: Device, drives: tuple[int, ...], first: int, given: dict[str, int],
        inward: frozenset[int],
    ) -> pg.LinkedDevice:  # fmt: skip
        d, final = self.project.devices[index], self.texts.table.final
        own = isinstance(device, OwnDevice)
        terminals = () if own else sensors_of(d)
        sensors = tuple((i, final[d.wired(t.name).lower()]) for i, t in enumerate(terminals) if d.wired(t.name))
        wired = dict(sensors)
        slots, inner = [], {}
        for i, t in enumerate(terminals):
            slot = wired.get(i, -1)
            if t.name in given:
                inner[i] = tuple(x for x in (slot, given[t.name]) if x >= 0)
            slots.append(pg.INNER if t.name in given else slot)
        if device.harmed_by_time:
            slots.append(pg.INNER)
        number = next((slot for i, slot in sensors if terminals[i].type is Type.REAL), -1)
        matters = number in inward or not device.one_way or any(terminals[i].type is Type.REAL for i in inner)
        can_harm = type(device).hazards is not Device.hazards and (
            device.harmed_by_time or sum(slot != pg.NOTHING for slot in drives) > 1
        )
        if not matters:
            self._compared.add(index)
        return pg.LinkedDevice(d.name, device, drives, first, can_harm, sensors, tuple(slots), number, None, inner)

    def _linked_own(self, own: _Own, drives: tuple[int, ...], code: list[Compiled]) -> pg.LinkedOwn:
        d = self.project.devices[own.index]
        names = [t.name.lower() for t in drives_of(d)]
        final = self.texts.table.final
        outputs = [
            (own.slots[t.name.lower()], final[d.wired(t.name).lower()]) for t in sensors_of(d) if d.wired(t.name)
        ]
        failures = [(x.name, own.slots[x.name.lower()]) for x in d.declared if x.role == "failure"]
        inputs = [(own.slots[n], slot) for n, slot in zip(names, drives)]
        return pg.LinkedOwn(own.index, code[own.unit], tuple(inputs), tuple(outputs), tuple(failures))
