"""The machine that is measured: a candle carousel of 40 steps with 20 slides, two wax vessels and a heated plate.

    Ready -> 10 moves -> small or large candle -> wick | wax | plate -> 8 moves -> Ready

A cycle takes 60 to 120 s. Nobody has to do anything: it starts again by itself.
"""

from __future__ import annotations

from spokeshave.model.project import (
    Action,
    Device,
    Interlock,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Type,
)

N, S, R, D = Qualifier.N, Qualifier.S, Qualifier.R, Qualifier.D
SLIDES = 20
LAMPS = ("Running", "Warm", "Pouring", "Done", "Call")
FEED = ("FillWax", "DrawWax", "FillDye", "DrawDye")
HEATER = "Heater"


def travel_s(slide: int) -> tuple[float, float]:
    """Travel of a slide away and back, 0.8 to 2 s."""
    return 0.8 + 0.06 * slide, 0.8 + 0.05 * (slide * 7 % SLIDES)


class Chart:
    """Puts steps and transitions one behind the other."""

    def __init__(self) -> None:
        self.steps: list[Step] = []
        self.ways: list[Transition] = []

    def step(self, name: str, *actions: Action, longest: str = "T#30s") -> str:
        self.steps.append(Step(name, 10 * len(self.steps) + 10, actions, longest, shortest="T#100ms"))
        return name

    def way(self, sources: tuple[str, ...] | str, targets: tuple[str, ...] | str, condition: str) -> None:
        a, b = ((x,) if isinstance(x, str) else x for x in (sources, targets))
        self.ways.append(Transition(a, b, condition))

    def move(self, before: str, slide: int, condition: str, *more: Action) -> str:
        """A step that moves a slide out and waits for its far switch."""
        name = self.step(f"Move{slide}", Action(N, f"Slide{slide}"), *more)
        self.way(before, name, condition)
        return name


def chart() -> Sequence:
    c = Chart()
    at = c.step("Ready", Action(R, "Running"), Action(N, "Done"), longest="T#10s")
    condition = "Ready.T >= T#1s AND Home1 AND Home2 AND NOT Extended3"
    for slide in range(1, 11):
        more = (Action(S, "Running"),) if slide == 1 else ()
        at = c.move(at, slide, condition, *more)
        condition = f"Extended{slide}"
    small = c.step("Small", Action(N, "Slide11"), Action(S, "Call"))
    large1 = c.step("Large1", Action(N, "Slide12"), Action(D, "Pouring", "T#500ms"), Action(R, "Call"))
    large2 = c.step("Large2", Action(N, "Slide13"))
    c.way(at, small, "Extended10 AND NOT Call AND WaxLevel < 60.0")
    c.way(at, large1, "Extended10 AND (Call OR WaxLevel >= 60.0)")
    c.way(large1, large2, "Extended12")
    wick = c.step("Wick1", Action(N, "Slide14"))
    wax = c.step("Wax1", Action(N, "FillWax"), Action(N, "Pouring"), longest="T#60s")
    plate = c.step("Plate1", Action(S, "Heater"), longest="T#90s")
    for before, condition in ((small, "Extended11 AND Small.T >= T#1500ms"), (large2, "Extended13")):
        c.way(before, (wick, wax, plate), condition)
    for n in range(2, 6):
        name = c.step(f"Wick{n}", Action(N, f"Slide{13 + n}"))
        c.way(wick, name, f"Extended{12 + n}")
        wick = name
    for name, actions, condition in (
        ("Wax2", (Action(N, "DrawWax"), Action(N, "FillDye")), "WaxLevel >= 80.0"),
        ("Wax3", (Action(N, "DrawDye"),), "WaxLevel < 45.0 AND DyeHigh"),
        ("Wax4", (), "NOT DyeLow"),
    ):
        c.way(wax, c.step(name, *actions, longest="T#60s"), condition)
        wax = name
    for name, actions, condition in (
        ("Plate2", (Action(N, "Warm"),), "PlateTemp >= 85.0"),
        ("Plate3", (Action(R, "Heater"),), "Plate2.T >= T#4s"),
        ("Plate4", (), "PlateTemp < 75.0"),
    ):
        c.way(plate, c.step(name, *actions, longest="T#60s"), condition)
        plate = name
    joined = c.step("Joined")
    c.way((wick, wax, plate), joined, f"Extended{SLIDES - 2} AND Plate4.T >= T#500ms")
    at, condition = joined, "Joined.T >= T#300ms"
    for slide in (19, 20, 1, 3, 5, 7):
        name = c.step(f"Last{slide}", Action(N, f"Slide{slide}"))
        c.way(at, name, condition)
        at, condition = name, f"Extended{slide}"
    for n in range(40 - len(c.steps)):
        name = c.step(f"Turn{n}", Action(N, f"Slide{n + 8}"))
        c.way(at, name, condition)
        at, condition = name, f"Extended{n + 8} AND Turn{n}.T >= T#{1500 + 100 * n}ms"
    c.way(at, "Ready", condition)
    return Sequence("Carousel", "Ready", tuple(c.steps), tuple(c.ways))


def workload(period_ms: int = 10) -> Project:
    slides = range(1, SLIDES + 1)
    signals = [Signal(f"Extended{n}", SignalClass.INPUT) for n in slides]
    signals += [Signal(f"Home{n}", SignalClass.INPUT) for n in slides]
    signals += [Signal(n, SignalClass.INPUT, Type.REAL, unit="l") for n in ("WaxLevel", "DyeLevel")]
    signals += [Signal("PlateTemp", SignalClass.INPUT, Type.REAL, unit="°C")]
    signals += [Signal(n, SignalClass.INPUT) for n in ("WaxHigh", "DyeHigh", "DyeLow", "PlateBelow")]
    signals += [Signal(f"Slide{n}", SignalClass.OUTPUT) for n in slides]
    signals += [Signal(n, SignalClass.OUTPUT) for n in (*FEED, HEATER, *LAMPS)]
    devices = []
    for n in slides:
        out, back = travel_s(n)
        wires = (("extend", f"Slide{n}"), ("extended", f"Extended{n}"), ("retracted", f"Home{n}"))
        devices.append(Device(f"Carriage{n}", "actuator", wires, (("extend_s", out), ("retract_s", back))))
    devices += [
        Device("Wax", "vessel",
               (("inlet", "FillWax"), ("outlet", "DrawWax"), ("level", "WaxLevel"), ("high", "WaxHigh")),
               (("volume_l", 100), ("start_l", 50), ("inlet_l_s", 3), ("outlet_l_s", 4), ("resolution_l", 0.5))),
        Device("Dye", "vessel",
               (("inlet", "FillDye"), ("outlet", "DrawDye"), ("level", "DyeLevel"), ("high", "DyeHigh"), ("low", "DyeLow")),
               (("volume_l", 20), ("inlet_l_s", 2), ("outlet_l_s", 2.5), ("low_l", 2), ("high_l", 15), ("resolution_l", 0.5))),
        Device("Plate", "thermal",
               (("heater", "Heater"), ("temperature", "PlateTemp"), ("below_high", "PlateBelow")),
               (("start_c", 60), ("heater_k", 120), ("time_constant_s", 40), ("resolution_k", 0.5), ("high_c", 110))),
    ]  # fmt: skip
    interlocks = (
        Interlock("Slide2", "NOT Slide3"),
        Interlock("Slide4", "Home5"),
        Interlock("Slide14", "NOT Extended2"),
        Interlock("FillWax", "NOT WaxHigh"),
        Interlock("FillDye", "DyeLevel < 18.0"),
        Interlock("Heater", "PlateTemp < 105.0 AND PlateBelow"),
    )
    return Project(
        "Candle carousel", period_ms, signals=tuple(signals), sequences=(chart(),), devices=tuple(devices),
        interlocks=interlocks,
    )  # fmt: skip
