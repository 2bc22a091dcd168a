"""Turntable: goes on by one station each time it is told to."""

from __future__ import annotations

from spokeshave.machine.device import NEVER, Device, Parameter, Parameters, State, Terminal, stuck
from spokeshave.model.project import Type, Value


class Turntable(Device):
    """State: (k0, station it was in, scan it left it, index drive, failures, whether it missed its position).

    `index` coming on sends it to the next station; while it turns, or held on, it does nothing. Stations count from 1.
    A table that missed its position stands beside it until it is told to go on once more.
    """

    kind = "turntable"
    title = "Turntable"
    main = "angle"
    terminals = (
        Terminal("index", True, also="turn step advance next"),
        Terminal("in_position", False, also="inpos position there"),
        Terminal("station", False, Type.DINT, "number of the station, from 1"),
    )
    parameters = (
        Parameter("stations", "", 8, 2),
        Parameter("index_s", "s", 1, 0.001, "time from one station to the next"),
        Parameter("start", "", 1, 1, "station before scan 0"),
    )
    failures = ("misses the position", "in_position stuck on", "in_position stuck off")

    def __init__(self, parameters: Parameters, period_ms: int, used: frozenset[str] | None = None) -> None:
        super().__init__(parameters, period_ms, used)
        self.stations = int(self.value["stations"])
        self.takes = self.scans(self.value["index_s"])

    def start(self) -> State:
        return (0, (int(self.value["start"]) - 1) % self.stations, -self.takes - 1, False, frozenset(), False)

    def _turned(self, state: State, k: int) -> float:
        """How much of the way to the next station is done, 0 to 1."""
        return min(1.0, max(0, k - int(state[2])) / self.takes)

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        index = bool(drives[0])
        _, station, left, before, _, missed = state
        if index and not before and k - left >= self.takes:
            return (k, self._station(state, k), k, index, failed, "misses the position" in failed)
        return (k, station, left, index, failed, missed)

    def _station(self, state: State, k: int) -> int:
        """From 0. It belongs to the next one when it has arrived; before the first movement to the one it stands in."""
        arrived = state[2] >= 0 and k - state[2] >= self.takes
        return int(state[1] + arrived) % self.stations

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        there = (k - int(state[2]) >= self.takes and not state[5]) or k == state[2]
        return (stuck("in_position", there, state[4]), self._station(state, k) + 1)

    def next_change(self, state: State, k: int) -> int:
        left, arrives = int(state[2]), int(state[2]) + self.takes
        return k + 1 if k == left else arrives if left < k < arrives else NEVER

    def picture(self, state: State, k: int) -> dict[str, float]:
        part = self._turned(state, k) if state[2] >= 0 else 0.0
        if state[5]:
            part *= 0.8
        return {
            "angle": (state[1] + part) / self.stations, "stations": float(self.stations), "missed": float(state[5]),
            "station": float(self._station(state, k) + 1), "in_position": float(bool(self.sense(state, k)[0])),
            "driven": float(state[3]),
        }  # fmt: skip
