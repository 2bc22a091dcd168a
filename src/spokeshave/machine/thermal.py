"""Thermal mass: heaters and coolers that act on one temperature, with a sensor and a thermostat."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from spokeshave.machine.device import (
    NEVER,
    Device,
    Motion,
    Parameter,
    Parameters,
    State,
    Terminal,
    counted,
    first_scan_near,
    keep_last,
)
from spokeshave.model.project import Type, Value

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

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
        k0, t0, target, _, _, _ = state
        return int(target + math.floor((t0 - target) * math.exp(-(k - k0) * self.decay) + 0.5))

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
        value = int(state[5]) if "sensor frozen" in state[4] else self.micro(state, k)
        value -= self._offset(state)
        return (2 * value * self.steps_per_k + MICRO) // (2 * MICRO)

    def _below(self, state: State, k: int) -> bool:
        return self.micro(state, k) < self.value["high_c"] * MICRO

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        return (self._shown(state, k) / self.steps_per_k, self._below(state, k))

    def settled(self, state: State) -> int:
        """After 40 time constants nothing of a millionth of a degree is left to move."""
        return int(state[0]) + math.ceil(40 / self.decay) + 1

    def next_change(self, state: State, k: int) -> int:
        return min(self._next_step(state, k), self.next_switch(state, k))

    def next_switch(self, state: State, k: int) -> int:
        below = self._below(state, k)
        guess = self._when(state, self.value["high_c"] * MICRO)
        if guess <= k and below is (state[2] < self.value["high_c"] * MICRO):
            return NEVER
        return first_scan_near(guess, k + 1, self.settled(state), lambda j: self._below(state, j) is not below)

    def reaches(self, state: State, value: float) -> int:
        """The sensor shows a step from half a step before it on."""
        half = MICRO / (2 * self.steps_per_k)
        return self._when(state, value * MICRO + self._offset(state) + (half if state[2] < state[1] else -half))

    def _when(self, state: State, micro: float) -> int:
        """The scan in which the temperature gets to so many millionths of a degree, but for rounding."""
        k0, t0, target = state[0], state[1], state[2]
        part = (micro - target) / (t0 - target) if t0 != target else 0.0
        if part <= 0:
            return self.settled(state)
        return int(k0 + max(0, math.ceil(-math.log(part) / self.decay)))

    def number(self, state: State, k: int) -> float:
        if state[4]:
            return self._shown(state, k) / self.steps_per_k
        k0, t0, target, _, _, _ = state
        micro = target + math.floor((t0 - target) * math.exp(-(k - k0) * self.decay) + 0.5)
        return int((2 * micro * self.steps_per_k + MICRO) // (2 * MICRO)) / self.steps_per_k

    def _next_step(self, state: State, k: int) -> int:
        """The first scan after `k` in which the sensor shows another step."""
        shown, end = self._shown(state, k), self.settled(state)
        if "sensor frozen" in state[4] or k >= end:
            return NEVER
        guess = self._when(state, self._border(state, shown))
        return first_scan_near(guess, k + 1, end, lambda j: self._shown(state, j) != shown)

    def _border(self, state: State, shown: Any) -> Any:
        """Millionths of a degree between the step that is shown and the next one on the way to the target."""
        way = -1 if state[2] < state[1] else 1
        return (2 * shown + way) * MICRO / (2 * self.steps_per_k) + self._offset(state)

    def _offset(self, state: State) -> int:
        return 20 * MICRO if "sensor reads 20 K low" in state[4] else 0

    def readings(self, motions: Sequence[Motion]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Each border between two steps by the inverse of the formula; where its rounding could matter, by the formula."""
        import numpy as np

        moving = [m for m in motions if "sensor frozen" not in m[0][4]]
        rows = [
            (st[0], st[1], st[2], self._shown(st, low - 1), self._shown(st, high - 1), self._offset(st))
            for st, low, high in moving
        ]
        k0, t0, target, first, last, offset = np.array(rows, np.int64).reshape(len(rows), 6).T
        whose, n = counted(np.abs(last - first))
        way = np.sign(last - first)[whose]
        shown = first[whose] + way * n
        left = (2 * shown + way) * MICRO / (2 * self.steps_per_k) + (offset - target)[whose]
        with np.errstate(divide="ignore", invalid="ignore"):
            exact = np.log(left / (t0 - target)[whose]) / -self.decay
            # Half a millionth of a degree, and room for the last bits of the logarithm, in scans.
            slack = 0.6 / np.abs(left * self.decay) + 1e-6
            whole = np.ceil(exact)
            sure = (slack < whole - exact) & (whole - exact < 1 - slack)
        scans = k0[whose] + np.where(np.isfinite(whole), whole, 0).astype(np.int64)
        for i in np.flatnonzero(~sure):
            scans[i] = self._leaves(moving[whose[i]], int(scans[i]), int(shown[i]), int(way[i]))
        return keep_last(scans, (shown + way) / self.steps_per_k)

    def _leaves(self, motion: Motion, guess: int, shown: int, way: int) -> int:
        """The first scan of a motion in which the sensor is beyond the step `shown`."""
        state, low, high = motion
        return first_scan_near(guess, low, high - 1, lambda k: (self._shown(state, k) - shown) * way > 0)

    def picture(self, state: State, k: int) -> dict[str, float]:
        shown, below = self.sense(state, k)
        return {
            "temperature": self.micro(state, k) / MICRO,
            "shown": float(shown),
            "below_high": float(below),
            "heating": float(state[3][0] or state[3][1]),
            "cooling": float(state[3][2] or state[3][3]),
        }
