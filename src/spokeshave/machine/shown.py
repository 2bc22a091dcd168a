"""What an operator sees and hears: lamp, horn, display; and a follower, which answers any output after a delay."""

from __future__ import annotations

from typing import ClassVar

from spokeshave.machine.device import NEVER, Device, Parameter, Parameters, State, Terminal
from spokeshave.model.project import Type, Value

COLOURS = ("white", "green", "yellow", "red", "blue")
"""Colours of lamps and horns, by the number of their parameter."""


class Lamp(Device):
    """State: (k0, on, failures)."""

    kind = "lamp"
    title = "Lamp"
    main = "lit"
    terminals = (Terminal("lit", True, also="lamp light on"),)
    parameters: ClassVar[tuple[Parameter, ...]] = (
        Parameter("colour", "", 2, 0, ", ".join(f"{i} {c}" for i, c in enumerate(COLOURS))),
    )
    failures = ("failed",)

    def start(self) -> State:
        return (0, False, frozenset())

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        return (k, bool(drives[0]), failed)

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        return ()

    def picture(self, state: State, k: int) -> dict[str, float]:
        return {"lit": float(state[1] and "failed" not in state[2])}


class Horn(Lamp):
    """Sounds while it is driven; the board shows it."""

    kind = "horn"
    title = "Horn"
    main = "lit"
    terminals = (Terminal("sounds", True, also="horn buzzer siren alarm"),)
    parameters = ()


class Display(Device):
    """Shows a number. State: (k0, number, failures)."""

    kind = "display"
    title = "Display"
    main = "value"
    terminals = (Terminal("value", True, Type.REAL, "any number", also="count shown"),)
    parameters = (Parameter("decimals", "", 1, 0, "places behind the point"),)
    failures = ("failed",)

    def start(self) -> State:
        return (0, 0.0, frozenset())

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        return (k, float(drives[0]), failed)

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        return ()

    def picture(self, state: State, k: int) -> dict[str, float]:
        return {"value": float(state[1]), "dark": float("failed" in state[2])}


class Follower(Device):
    """State: (k0, what it shows before scan `at`, what it shows from then on, at, failures)."""

    kind = "follower"
    title = "Follower"
    main = "shows"
    terminals = (Terminal("follows", True), Terminal("shows", False, also="fb feedback confirmed"))
    parameters = (
        Parameter("on_s", "s", 0.2, 0, "delay from off to on"),
        Parameter("off_s", "s", 0.2, 0, "delay from on to off"),
        Parameter("late_factor", "", 4, 1, "what the failure `late` makes the delays longer by"),
    )
    failures = ("stuck", "late")

    def __init__(self, parameters: Parameters, period_ms: int, used: frozenset[str] | None = None) -> None:
        super().__init__(parameters, period_ms, used)
        self.delays = self.scans(self.value["off_s"]), self.scans(self.value["on_s"])

    def start(self) -> State:
        return (0, False, False, 0, frozenset())

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        wanted, now = bool(drives[0]), bool(self.sense(state, k)[0])
        if "stuck" in failed:
            return (k, now, now, k, failed)
        if wanted == state[2] and failed == state[4]:
            return (k, *state[1:])
        factor = self.value["late_factor"] if "late" in failed else 1
        return (k, now, wanted, k + (round(self.delays[wanted] * factor) if wanted != now else 0), failed)

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        return (state[2] if k >= state[3] else state[1],)

    def next_change(self, state: State, k: int) -> int:
        return int(state[3]) if state[1] != state[2] and state[3] > k else NEVER

    def picture(self, state: State, k: int) -> dict[str, float]:
        return {"wanted": float(state[2]), "shows": float(bool(self.sense(state, k)[0]))}
