"""What may be otherwise on the real machine than in its stand-in: how fast devices are, what settings say, when hands come."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace

from spokeshave.language.scenario import parse_scenario
from spokeshave.language.scenario_lists import cases_of
from spokeshave.language.scenario_print import join_row, split_row
from spokeshave.machine.kinds import KINDS
from spokeshave.model.project import Project, Scenario, Type
from spokeshave.model.recipes import by_the_file

LONGER, QUICKER = ("s",), ("l/s", "m/s", "mm/s")
"""Units of parameters that are times, and of those that are speeds."""
NOT_ITS_OWN = ("period_s", "first_s", "drift_s")
"""Times of a device that are not how fast it is."""
HANDS = ("press", "hold", "release", "take", "turn")


@dataclass(frozen=True, slots=True)
class Knob:
    """`kind` is device (turned to a factor of its times), setting (a value in ms) or hand (later by so many ms)."""

    kind: str
    name: str
    usual: float

    @property
    def words(self) -> str:
        return {"device": f"{self.name} slower", "setting": self.name, "hand": f"{self.name} later"}[self.kind]


def knobs_of(project: Project, scenarios: Iterable[Scenario]) -> list[Knob]:
    """Devices that take time, settings that are times, and hands that scenarios use."""
    found = [Knob("device", d.name, 1.0) for d in project.devices if _times(project, d.name)]
    found += [Knob("setting", s.name, float(s.start)) for s in project.settings if s.type is Type.TIME and s.start]
    hands: dict[str, None] = {}
    for s in scenarios:
        for case in cases_of(s.text).cases[:1]:
            hands |= dict.fromkeys(r.target for r in parse_scenario(case.text).deeds if r.do in HANDS)
    return found + [Knob("hand", n, 0.0) for n in hands if project.device(n) is not None]


def _times(project: Project, name: str) -> list[tuple[str, float, bool]]:
    """Parameters of a device that say how fast it is: name, value, whether it is a time."""
    device = project.device(name)
    if device is None or device.kind not in KINDS:
        return []
    given = dict(device.parameters)
    return [
        (p.name, given.get(p.name, p.default), p.unit in LONGER)
        for p in KINDS[device.kind].parameters
        if p.unit in (*LONGER, *QUICKER) and p.name not in NOT_ITS_OWN and given.get(p.name, p.default) > 0
    ]


def turned(project: Project, knob: Knob, value: float) -> Project:
    """The machine file with a device slower by the factor `value`, or a setting of `value` ms. Hands: see `later`."""
    if knob.kind == "setting":
        setting = project.signal(knob.name)
        assert setting is not None
        return by_the_file(project, [(setting, round(value))])
    if knob.kind == "hand":
        return project
    changed = {n: v * value if longer else v / value for n, v, longer in _times(project, knob.name)}
    devices = tuple(
        replace(d, parameters=(*(p for p in d.parameters if p[0] not in changed), *changed.items()))
        if d.name == knob.name else d
        for d in project.devices
    )  # fmt: skip
    return replace(project, devices=devices)


_LATER = re.compile(r",\s*(?P<ms>[\d.]+\s*(?:ms|s|min|h))\s+later$", re.IGNORECASE)


def later(scenario: Scenario, hand: str, ms: int) -> Scenario:
    """A scenario in which every deed of a hand comes `ms` later; what comes `after` it waits for it as before.

    >>> later(Scenario("s", "at 1 s: press Go\\non A.B: press Go"), "Go", 500).text
    'at 1500 ms: press Go\\non A.B, 500 ms later: press Go'
    """
    rows = {
        r.line: r for r in parse_scenario(scenario.text).deeds if r.do in HANDS and r.target.lower() == hand.lower()
    }
    lines = scenario.text.split("\n")
    for line, row in rows.items():
        head, rest = split_row(lines[line - 1])
        m = row.moment
        if m.kind in ("at", "after"):
            head = f"{m.kind} {m.ms + ms} ms"
        else:
            head = f"{_LATER.sub('', head)}, {m.ms + ms} ms later"
        lines[line - 1] = join_row(head, rest)
    return replace(scenario, text="\n".join(lines))
