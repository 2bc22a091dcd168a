"""A device of the user's own: what it declares. Its structured text runs in the engine, once a scan."""

from __future__ import annotations

import re
from collections import Counter

from spokeshave.machine.device import Device, State, Terminal
from spokeshave.model.project import Device as Described
from spokeshave.model.project import Value

ROLES = ("input", "output", "variable", "failure")
_NAME = re.compile(r"[A-Za-z]\w*")


class OwnDevice(Device):
    """State: (k0, failures). What it shows comes from its text, which keeps its values in variables."""

    kind = "own"
    title = "Own device"
    terminals = ()

    def __init__(self, described: Described, period_ms: int) -> None:
        self.described = described
        super().__init__({}, period_ms, frozenset())
        self.failures = tuple(d.name for d in described.declared if d.role == "failure")  # type: ignore[misc]

    @staticmethod
    def declared_terminals(device: Described) -> tuple[Terminal, ...]:
        return tuple(
            Terminal(d.name, d.role == "input", d.type) for d in device.declared if d.role in ("input", "output")
        )

    def start(self) -> State:
        return (0, frozenset())

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        return (k, failed)

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        return ()

    def picture(self, state: State, k: int) -> dict[str, float]:
        return {}


def own_problems(device: Described) -> list[str]:
    """What is wrong with what a device declares; its text is checked where it is compiled."""
    if device.kind != OwnDevice.kind:
        return [f"a {device.kind} declares nothing of its own"] if device.declared or device.text else []
    found = [f"{d.name!r} is no name" for d in device.declared if not _NAME.fullmatch(d.name)]
    found += [f"{d.name} is a {d.role!r}; it can be {', '.join(ROLES)}" for d in device.declared if d.role not in ROLES]
    twice = [n for n, count in Counter(d.name.lower() for d in device.declared).items() if count > 1]
    found += [f"{n} is declared twice" for n in twice]
    found += [f"failure {d.name} is {d.type}, a failure is BOOL" for d in device.declared
              if d.role == "failure" and d.type != "BOOL"]  # fmt: skip
    return found
