"""The obvious way: an interpreter that walks the syntax trees and asks every device in every scan.

It is the interpreter that keeps the engine honest in the tests, with the machine stand-in around it.
"""

from __future__ import annotations

from typing import Any

from tests.core.reference import Reference

from spokeshave.machine.kinds import KINDS, build
from spokeshave.model.project import Project


class Walker:
    def __init__(self, project: Project) -> None:
        self.reference = Reference(project)
        self.devices: list[list[Any]] = []
        for d in project.devices:
            kind, made = KINDS[d.kind], build(d, project.period_ms)
            drives = [d.wired(t.name).lower() for t in kind.drive_terminals()]
            sensors = [d.wired(t.name) for t in kind.sensor_terminals()]
            self.devices.append([made, drives, sensors, made.start(), tuple(False for _ in drives)])

    def scan(self) -> None:
        r = self.reference
        k = r.k
        inputs: dict[str, Any] = {}
        for made, _, sensors, state, _ in self.devices:
            inputs |= {name: value for name, value in zip(sensors, made.sense(state, k)) if name}
        r.scan(inputs)
        for device in self.devices:
            made, drives, _, state, before = device
            now = tuple(bool(r.final.get(name)) for name in drives)
            if now != before:
                device[3], device[4] = made.turn(state, k, now, frozenset(), 0), now

    def run(self, scans: int) -> None:
        for _ in range(scans):
            self.scan()

    def changes(self) -> list[tuple[int, str, Any]]:
        """What its rows say that changed, as (scan, name, value)."""
        out, last = [], dict[str, Any]()
        for k, row in enumerate(self.reference.rows):
            out += [(k, name, value) for name, value in row.items() if name not in last or last[name] != value]
            last = row
        return out
