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
    main = "temperature"
    rarely = frozenset(("above_low", "low_c", "cooling_constant_s", "resolution_k", "limit_c", "offset_k"))
    harmed_by_time = True
    terminals = (
        Terminal("heater", True, also="burner heat heating"),
        Terminal("heater2", True, also="burner2 heat2"),
        Terminal("cooler", True, also="cool cooling fan"),
        Terminal("cooler2", True, also="cool2"),
        Terminal("temperature", False, Type.REAL, "°C", also="temp"),
        Terminal("below_high", False, note="thermostat, opens at and above high_c", also="ok tempok"),
        Terminal("above_low", False, note="thermostat, closes at and above low_c", also="warm ready hot"),
    )
    parameters = (
        Parameter("ambient_c", "°C", 20, -100),
        Parameter("start_c", "°C", 20, -100),
        Parameter("heater_k", "K", 200, 0, "gain of the heater at steady state"),
        Parameter("heater2_k", "K", 0, 0),
        Parameter("cooler_k", "K", 0, 0, "what the cooler takes away at steady state"),
        Parameter("cooler2_k", "K", 0, 0),
        Parameter("time_constant_s", "s", 60, 0.01),
        Parameter("cooling_constant_s", "s", 0, 0, "time constant while no heater is on; 0: the same"),
        Parameter("resolution_k", "K", 0.1, 0.001, "smallest step the sensor shows"),
        Parameter("high_c", "°C", 1000, -100, "where the thermostat opens"),
        Parameter("low_c", "°C", 60, -100, "where the other thermostat closes"),
        Parameter("limit_c", "°C", 2000, -100, "what it does not stand"),
        Parameter("offset_k", "K", -20, -1000, "what the failure `sensor reads off` adds"),
    )
    failures = ("heater open", "cooler open", "sensor frozen", "sensor reads off")

    def __init__(self, parameters: Parameters, period_ms: int, used: frozenset[str] | None = None) -> None:
        super().__init__(parameters, period_ms, used)
        self.steps_per_k = max(1, round(1 / self.value["resolution_k"]))
        heating = self.value["time_constant_s"]
        cooling = self.value["cooling_constant_s"] or heating
        self.decays = (self.period_ms / 1000 / cooling, self.period_ms / 1000 / heating)
        """Part of the way to the target that goes in a scan, while no heater is on and while one is."""
        self.stills: tuple[int, ...] = tuple(math.ceil(40 / d) + 1 for d in self.decays)
        v = self.value
        self.borders = tuple(v[n] * MICRO for n in ("high_c", "low_c", "limit_c"))
        hottest = max(v["start_c"], v["ambient_c"] + v["heater_k"] + v["heater2_k"])
        looked_at = ("below_high" in self.used, "above_low" in self.used, v["limit_c"] <= hottest)
        self.met = tuple(b for b, is_met in zip(self.borders, looked_at) if is_met)
        """Borders at which something shows that somebody looks at."""

    def decay(self, state: State) -> float:
        return self.decays[state[3][0] or state[3][1]]

    def start(self) -> State:
        begin = round(self.value["start_c"] * MICRO)
        return (0, begin, round(self.value["ambient_c"] * MICRO), (False,) * 4, frozenset(), begin)

    def micro(self, state: State, k: int) -> int:
        """Temperature at scan `k` in millionths of a degree."""
        k0, t0, target, drives, _, _ = state
        return int(target + math.floor((t0 - target) * math.exp(-(k - k0) * self.decays[drives[0] or drives[1]]) + 0.5))

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
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

    def _from_on(self, state: State, k: int) -> tuple[bool, bool, bool]:
        """Whether it is at or above where the thermostats turn, and what it stands."""
        micro = self.micro(state, k)
        high, low, limit = self.borders
        return micro >= high, micro >= low, micro >= limit

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        high, low, over = self._from_on(state, k)
        return (self._shown(state, k) / self.steps_per_k, not high, low, over)

    def settled(self, state: State) -> int:
        """After 40 time constants nothing of a millionth of a degree is left to move."""
        return int(state[0]) + int(self.stills[state[3][0] or state[3][1]])

    def next_change(self, state: State, k: int) -> int:
        return min(self._next_step(state, k), self.next_switch(state, k))

    def next_switch(self, state: State, k: int) -> int:
        if not self.met:
            return NEVER
        found, end = NEVER, self.settled(state)
        now, target = self.micro(state, k), state[2]
        for border in self.met:
            if (now >= border) is not (target >= border):
                guess = self._when(state, border)
                found = min(found, first_scan_near(guess, k + 1, end, lambda j, b=border, up=target >= border:
                                                   (self.micro(state, j) >= b) is up))  # fmt: skip
        return found

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
        return int(k0 + max(0, math.ceil(-math.log(part) / self.decay(state))))

    def number(self, state: State, k: int) -> float:
        if state[4]:
            return self._shown(state, k) / self.steps_per_k
        k0, t0, target, drives, _, _ = state
        micro = target + math.floor((t0 - target) * math.exp(-(k - k0) * self.decays[drives[0] or drives[1]]) + 0.5)
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
        return round(-self.value["offset_k"] * MICRO) if "sensor reads off" in state[4] else 0

    def readings(self, motions: Sequence[Motion]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Each border between two steps by the inverse of the formula; where its rounding could matter, by the formula."""
        import numpy as np

        moving = [m for m in motions if "sensor frozen" not in m[0][4]]
        rows = [
            (st[0], st[1], st[2], self._shown(st, low - 1), self._shown(st, high - 1), self._offset(st), self.decay(st))
            for st, low, high in moving
        ]
        k0, t0, target, first, last, offset = np.array([r[:6] for r in rows], np.int64).reshape(len(rows), 6).T
        decays = np.array([r[6] for r in rows])
        whose, n = counted(np.abs(last - first))
        way = np.sign(last - first)[whose]
        shown = first[whose] + way * n
        decay = decays[whose]
        left = (2 * shown + way) * MICRO / (2 * self.steps_per_k) + (offset - target)[whose]
        with np.errstate(divide="ignore", invalid="ignore"):
            exact = np.log(left / (t0 - target)[whose]) / -decay
            # Half a millionth of a degree, and room for the last bits of the logarithm, in scans.
            slack = 0.6 / np.abs(left * decay) + 1e-6
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
        shown, below, _, over = self.sense(state, k)
        return {
            "temperature": self.micro(state, k) / MICRO,
            "shown": float(shown),
            "below_high": float(below),
            "over": float(over),
            "heating": float(state[3][0] or state[3][1]),
            "cooling": float(state[3][2] or state[3][3]),
        }

    def hazards(self, state: State, k: int) -> tuple[str, ...]:
        return ("overheated",) if self._from_on(state, k)[2] else ()
