"""Thermal mass: heaters and coolers that act on one temperature, with a sensor and a thermostat."""

from __future__ import annotations

import math
from collections.abc import Callable

from spokeshave.machine.device import NEVER, Device, Parameter, Parameters, State, Terminal, first_scan
from spokeshave.model.project import Type, Value

MICRO = 1_000_000


class ThermalMass(Device):
    """State: (k0, temperature, target, drives, failures), temperatures in whole micro-kelvin steps above 0 degC.

    Between turns the temperature runs to its target in an exponential, rounded once to a millionth of a degree:
    one shared formula, monotone in the scan, from which thresholds are found by binary search (semantics 10).
    """

    kind = "thermal"
    title = "Thermal mass"
    terminals = (
        Terminal("heater", True),
        Terminal("heater2", True),
        Terminal("cooler", True),
        Terminal("cooler2", True),
        Terminal("temperature", False, Type.REAL),
        Terminal("below_high", False, note="thermostat, opens at and above high_c"),
    )
    parameters = (
        Parameter("ambient_c", "°C", 20, -100),
        Parameter("start_c", "°C", 20, -100),
        Parameter("heater_k", "K", 200, 0, "gain of the heater at steady state"),
        Parameter("heater2_k", "K", 0, 0),
        Parameter("cooler_k", "K", 0, 0, "what the cooler takes away at steady state"),
        Parameter("cooler2_k", "K", 0, 0),
        Parameter("time_constant_s", "s", 60, 0.01),
        Parameter("resolution_k", "K", 0.1, 0.001, "smallest step the sensor shows"),
        Parameter("high_c", "°C", 1000, -100, "where the thermostat opens"),
    )
    failures = ("heater open", "cooler open", "sensor frozen", "sensor reads 20 K low")

    def __init__(self, parameters: Parameters, period_ms: int) -> None:
        super().__init__(parameters, period_ms)
        self.steps_per_k = max(1, round(1 / self.value["resolution_k"]))
        self.decay = self.period_ms / 1000 / self.value["time_constant_s"]

    def start(self) -> State:
        begin = round(self.value["start_c"] * MICRO)
        return (0, begin, round(self.value["ambient_c"] * MICRO), (False,) * 4, frozenset(), begin)

    def micro(self, state: State, k: int) -> int:
        """Temperature at scan `k` in millionths of a degree."""
        t0, target = int(state[1]), int(state[2])
        return target + math.floor((t0 - target) * math.exp(-(k - int(state[0])) * self.decay) + 0.5)

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: int) -> State:
        v = self.value
        heat = 0.0 if "heater open" in failed else v["heater_k"] * bool(drives[0]) + v["heater2_k"] * bool(drives[1])
        cool = 0.0 if "cooler open" in failed else v["cooler_k"] * bool(drives[2]) + v["cooler2_k"] * bool(drives[3])
        target = round((v["ambient_c"] + heat - cool) * MICRO)
        now = self.micro(state, k)
        frozen = state[5] if "sensor frozen" in failed and "sensor frozen" in state[4] else now
        return (k, now, target, tuple(map(bool, drives)), failed, frozen)

    def _shown(self, state: State, k: int) -> int:
        """What the sensor shows, in steps of its resolution."""
        failed = state[4]
        value = int(state[5]) if "sensor frozen" in failed else self.micro(state, k)
        if "sensor reads 20 K low" in failed:
            value -= 20 * MICRO
        return (2 * value * self.steps_per_k + MICRO) // (2 * MICRO)

    def _below(self, state: State, k: int) -> bool:
        return self.micro(state, k) < self.value["high_c"] * MICRO

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        return (self._shown(state, k) / self.steps_per_k, self._below(state, k))

    def next_change(self, state: State, k: int) -> int:
        shown, below = self._shown(state, k), self._below(state, k)
        # After 40 time constants nothing of a millionth of a degree is left to move.
        end = int(state[0]) + math.ceil(40 / self.decay) + 1
        if k >= end:
            return NEVER
        falls = int(state[2]) < int(state[1])
        offset = 20 * MICRO if "sensor reads 20 K low" in state[4] else 0
        border = (2 * shown + (-1 if falls else 1)) * MICRO // (2 * self.steps_per_k) + offset
        moves = "sensor frozen" not in state[4]
        step = self._crossing(state, k, end, border, lambda j: self._shown(state, j) != shown) if moves else NEVER
        high = round(self.value["high_c"] * MICRO)
        edge = self._crossing(state, k, end, high, lambda j: self._below(state, j) != below)
        return min(step, edge)

    def _crossing(self, state: State, k: int, end: int, border: int, test: Callable[[int], bool]) -> int:
        """The first scan after `k` with `test`, which turns TRUE where the temperature passes `border`.

        The inverse of the formula gives the scan but for rounding; the predicate that scanning uses decides.
        """
        t0, target = int(state[1]), int(state[2])
        if min(t0, target) - 2 > border or border > max(t0, target) + 2:
            return NEVER
        if abs(border - target) < 10 or t0 == target:
            return first_scan(k + 1, end, test)
        part = (border - target) / (t0 - target)
        guess = int(state[0]) + (math.ceil(-math.log(part) / self.decay) if part > 0 else 0)
        j = max(k + 1, min(end, guess))
        if test(j):
            while j > k + 1 and test(j - 1):
                j -= 1
            return j
        return next((n for n in range(j + 1, min(j + 4, end + 1)) if test(n)), NEVER) if j < end else NEVER

    def picture(self, state: State, k: int) -> dict[str, float]:
        shown, below = self.sense(state, k)
        return {
            "temperature": self.micro(state, k) / MICRO,
            "shown": float(shown),
            "below_high": float(below),
            "heating": float(state[3][0] or state[3][1]),
            "cooling": float(state[3][2] or state[3][3]),
        }

    def hazards(self, state: State) -> tuple[str, ...]:
        return ()
