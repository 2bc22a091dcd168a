"""What can go wrong from outside: failures of devices, power, and hands at the wrong moment."""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.machine.kinds import KINDS, failures_of
from spokeshave.model.project import Device, Project

PRESS_MS = 300
"""How long a button is pressed at the wrong moment."""

HANDS = ("button", "emergency")
"""Kinds that an operator presses."""

POWER = "Power lost"


@dataclass(frozen=True, slots=True)
class Fault:
    """`kind` is failure, press (let go of at once), hold (until the fault is cleared) or power."""

    kind: str
    device: str = ""
    failure: str = ""

    @property
    def name(self) -> str:
        if self.kind == "power":
            return POWER
        return f"{self.device} {self.failure or 'pressed'}"


def faults_of(project: Project) -> tuple[Fault, ...]:
    """Every failure of every device that something could notice, each button, and the power, in the order of the file."""
    found = [Fault("failure", d.name, f) for d in project.devices for f in failures_of(d) if _is_there(d, f)]
    for d in project.devices:
        if d.kind in HANDS:
            found.append(Fault("hold" if d.kind == "emergency" else "press", d.name))
    return (*found, Fault("power"))


def _is_there(device: Device, failure: str) -> bool:
    """Not the failure of a contact or drive that is not wired."""
    wired = {terminal for terminal, _ in device.wires}
    terminals = {t.name for t in KINDS[device.kind].terminals} if device.kind in KINDS else set()
    words = failure.split()
    if words[0] in terminals:
        return words[0] in wired
    if words[0] == "contact" and len(words) > 1 and words[1].isdigit():
        return f"at_{words[1]}" in wired
    if words[0] in ("heater", "cooler"):
        return any(t.startswith(words[0]) for t in wired)
    return True
