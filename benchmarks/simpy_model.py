"""The measured machine written by hand as SimPy processes: one a slide, a vessel, the plate, and one a thread of the chart.

Time is counted in scans. It keeps a trace of the same signals and steps; a step is left in the instant in which its
condition comes true, so its trace is like the others but not the same scan by scan.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Generator
from typing import Any

import simpy

from benchmarks.workload import LAMPS, SLIDES, travel_s

Work = Generator[Any, Any, None]


class Board:
    """All values by name, who waits for them, and what changed when."""

    def __init__(self, env: simpy.Environment) -> None:
        self.env = env
        self.value: dict[str, Any] = {}
        self.waiting: dict[str, list[simpy.Event]] = {}
        self.trace: list[tuple[float, str, Any]] = []

    def set(self, name: str, value: Any) -> None:
        if self.value.get(name) == value:
            return
        self.value[name] = value
        self.trace.append((self.env.now, name, value))
        for event in self.waiting.pop(name, ()):
            if not event.triggered:
                event.succeed()

    def change(self, *names: str) -> simpy.Event:
        event = self.env.event()
        for name in names:
            self.waiting.setdefault(name, []).append(event)
        return event

    def until(self, condition: Callable[[], bool], *names: str) -> Work:
        while not condition():
            yield self.change(*names)


def slide(b: Board, n: int) -> Work:
    out, back = (round(100 * s) for s in travel_s(n))
    place, speed, since = 0.0, 0.0, 0.0
    b.set(f"Home{n}", True)
    while True:
        yield b.change(f"Slide{n}")
        while True:
            place = min(1.0, max(0.0, place + speed * (b.env.now - since)))
            since = b.env.now
            speed = 1 / out if b.value[f"Slide{n}"] else -1 / back
            left = (1 - place) * out if speed > 0 else place * back
            command = b.change(f"Slide{n}")
            if left > 0:
                yield b.env.timeout(1)
                b.set(f"Home{n}" if speed > 0 else f"Extended{n}", False)
                yield command | b.env.timeout(max(0, round(left) - 1))
            if not command.triggered:
                b.set(f"Extended{n}" if speed > 0 else f"Home{n}", True)
                place, speed = (1.0, 0.0) if speed > 0 else (0.0, 0.0)
                yield command


def vessel(
    b: Board, name: str, level: float, most: float, rates: tuple[float, float], switches: dict[str, float]
) -> Work:
    grain, shown = 0.5, None
    while True:
        flow = rates[0] * bool(b.value.get(f"Fill{name}")) - rates[1] * bool(b.value.get(f"Draw{name}"))
        command = b.change(f"Fill{name}", f"Draw{name}")
        since, begin = b.env.now, level
        while not command.triggered:
            level = min(most, max(0.0, begin + flow * (b.env.now - since) / 100))
            shown = math.floor(level / grain + 1e-9) * grain
            b.set(f"{name}Level", shown)
            for switch, at in switches.items():
                b.set(f"{name}{switch}", level >= at)
            wait = grain / abs(flow) * 100 if flow and 0 < level + flow / 100 < most else math.inf
            yield command | b.env.timeout(wait) if wait < math.inf else command
        level = min(most, max(0.0, begin + flow * (b.env.now - since) / 100))


def plate(b: Board) -> Work:
    temp, grain, constant = 60.0, 0.5, 4000.0
    while True:
        target = 140.0 if b.value.get("Heater") else 20.0
        command = b.change("Heater")
        since, begin = b.env.now, temp
        while not command.triggered:
            temp = target + (begin - target) * math.exp(-(b.env.now - since) / constant)
            shown = round(temp / grain) * grain
            b.set("PlateTemp", shown)
            b.set("PlateBelow", temp < 110)
            border = shown + (grain / 2 if target > begin else -grain / 2)
            part = (border - target) / (begin - target)
            when = since - constant * math.log(part) + 1e-6 if part > 0 else math.inf
            yield command | b.env.timeout(max(1e-3, when - b.env.now)) if when < math.inf else command
        temp = target + (begin - target) * math.exp(-(b.env.now - since) / constant)


class Carousel:
    def __init__(self, env: simpy.Environment) -> None:
        self.env, self.b = env, Board(env)
        for name in [f"Slide{n}" for n in range(1, SLIDES + 1)] + list(LAMPS):
            self.b.set(name, False)
        for n in range(1, SLIDES + 1):
            env.process(slide(self.b, n))
        env.process(vessel(self.b, "Wax", 50.0, 100.0, (3.0, 4.0), {"High": 90.0}))
        env.process(vessel(self.b, "Dye", 0.0, 20.0, (2.0, 2.5), {"High": 15.0, "Low": 2.0}))
        env.process(plate(self.b))
        env.process(self.main())

    def step(self, name: str, on: tuple[str, ...], condition: Callable[[], bool], *names: str, least: int = 1) -> Work:
        """One step: its outputs while it is active, then its condition, but not before `least` scans."""
        b = self.b
        b.set(f"{name}.X", True)
        for output in on:
            b.set(output, True)
        yield self.env.timeout(least)
        yield from b.until(condition, *names)
        b.set(f"{name}.X", False)
        for output in on:
            b.set(output, False)

    def move(self, name: str, n: int, least: int = 1) -> Work:
        yield from self.step(
            name, (f"Slide{n}",), lambda: bool(self.b.value.get(f"Extended{n}")), f"Extended{n}", least=least
        )

    def main(self) -> Work:
        b, v = self.b, self.b.value
        while True:
            b.set("Running", False)
            homes = ("Home1", "Home2", "Extended3")
            yield from self.step(
                "Ready",
                ("Done",),
                lambda: bool(v["Home1"] and v["Home2"] and not v.get("Extended3")),
                *homes,
                least=100,
            )
            for n in range(1, 11):
                b.set("Running", True)
                yield from self.move(f"Move{n}", n)
            if not v["Call"] and v["WaxLevel"] < 60.0:
                b.set("Call", True)
                yield from self.move("Small", 11, least=150)
            else:
                b.set("Call", False)
                yield from self.move("Large1", 12)
                yield from self.move("Large2", 13)
            branches = [self.env.process(branch) for branch in (self.wick(), self.wax(), self.plate())]
            yield self.env.all_of(branches)
            yield from self.step("Joined", (), lambda: True, least=30)
            for n in (19, 20, 1, 3, 5, 7):
                yield from self.move(f"Last{n}", n)
            for n in range(5):
                yield from self.move(f"Turn{n}", n + 8, least=150 + 10 * n)

    def wick(self) -> Work:
        for n in range(1, 6):
            yield from self.move(f"Wick{n}", 13 + n)

    def wax(self) -> Work:
        v = self.b.value
        yield from self.step("Wax1", ("FillWax", "Pouring"), lambda: v["WaxLevel"] >= 80.0, "WaxLevel")
        yield from self.step(
            "Wax2", ("DrawWax", "FillDye"), lambda: v["WaxLevel"] < 45.0 and v["DyeHigh"], "WaxLevel", "DyeHigh"
        )
        yield from self.step("Wax3", ("DrawDye",), lambda: not v["DyeLow"], "DyeLow")

    def plate(self) -> Work:
        b, v = self.b, self.b.value
        b.set("Heater", True)
        yield from self.step("Plate1", (), lambda: v["PlateTemp"] >= 85.0, "PlateTemp")
        yield from self.step("Plate2", ("Warm",), lambda: True, least=400)
        b.set("Heater", False)
        yield from self.step("Plate3", (), lambda: v["PlateTemp"] < 75.0, "PlateTemp")
        yield from self.step("Plate4", (), lambda: True, least=50)


def run(scans: int) -> Board:
    env = simpy.Environment()
    carousel = Carousel(env)
    env.run(until=scans)
    return carousel.b
