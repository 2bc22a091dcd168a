"""Vessel: a level between empty and full, moved by two inlets and two outlets of fixed rates."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from spokeshave.machine.device import (
    NEVER,
    Device,
    Motion,
    Parameter,
    Parameters,
    State,
    Terminal,
    counted,
    keep_last,
    stuck,
)  # fmt: skip
from spokeshave.model.project import Type, Value

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

MICRO = 1_000_000


class Vessel(Device):
    """State: (k0, level, flow, low, high, drives, failures). Level in whole microlitres, flow in microlitres a scan.

    Between turns the level is `clamp(level + n * flow)` in whole numbers (semantics 10). `low` and `high` are the
    level switches as they were at `k0`: with the hysteresis they depend on where the level came from.
    """

    kind = "vessel"
    title = "Vessel"
    terminals = (
        Terminal("inlet", True),
        Terminal("inlet2", True),
        Terminal("outlet", True),
        Terminal("outlet2", True),
        Terminal("level", False, Type.REAL, "litres"),
        Terminal("low", False, note="TRUE from low_l up"),
        Terminal("high", False, note="TRUE from high_l up"),
    )
    parameters = (
        Parameter("volume_l", "l", 100, 0.001),
        Parameter("start_l", "l", 0),
        Parameter("inlet_l_s", "l/s", 1),
        Parameter("inlet2_l_s", "l/s", 0),
        Parameter("outlet_l_s", "l/s", 1),
        Parameter("outlet2_l_s", "l/s", 0),
        Parameter("leak_l_s", "l/s", 0.1, 0, "what the failure `leak` takes away"),
        Parameter("low_l", "l", 10, 0, "where the low switch closes"),
        Parameter("high_l", "l", 90, 0, "where the high switch closes"),
        Parameter("hysteresis_l", "l", 0.5, 0, "how far below a switch opens again"),
        Parameter("resolution_l", "l", 0.1, 0.001, "smallest step the level shows"),
    )
    failures = (
        "no supply",
        "outlet blocked",
        "leak",
        "low stuck on",
        "low stuck off",
        "high stuck on",
        "high stuck off",
    )

    def __init__(self, parameters: Parameters, period_ms: int) -> None:
        super().__init__(parameters, period_ms)
        v = self.value
        self.full, self.begin, self.low, self.high, self.slack, self.grain = (
            round(v[f"{name}_l"] * MICRO) for name in ("volume", "start", "low", "high", "hysteresis", "resolution")
        )
        self.rates = tuple(
            round(v[f"{name}_l_s"] * 1000 * period_ms) for name in ("inlet", "inlet2", "outlet", "outlet2", "leak")
        )
        self.begin = min(self.begin, self.full)

    def start(self) -> State:
        level = self.begin
        return (0, level, 0, level >= self.low, level >= self.high, (False,) * 4, frozenset())

    def level(self, state: State, k: int) -> int:
        """Microlitres at scan `k`."""
        level: int = state[1] + (k - state[0]) * state[2]
        return 0 if level < 0 else self.full if level > self.full else level

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: int) -> State:
        inlet, inlet2, outlet, outlet2, leak = self.rates
        flow = 0 if "no supply" in failed else bool(drives[0]) * inlet + bool(drives[1]) * inlet2
        flow -= 0 if "outlet blocked" in failed else bool(drives[2]) * outlet + bool(drives[3]) * outlet2
        flow -= leak if "leak" in failed else 0
        level = self.level(state, k)
        low, high = self._switches(state, level)
        return (k, level, flow, low, high, tuple(map(bool, drives)), failed)

    def _switches(self, state: State, level: int) -> tuple[bool, bool]:
        """Low and high without failures; between turns the level goes one way only."""
        low, high = self.low - self.slack * bool(state[3]), self.high - self.slack * bool(state[4])
        return level >= low, level >= high

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        level, failed = self.level(state, k), state[6]
        low, high = self._switches(state, level)
        shown = level // self.grain * self.grain / MICRO
        if failed:
            return (shown, stuck("low", low, failed), stuck("high", high, failed))
        return (shown, low, high)

    def settled(self, state: State) -> int:
        level, flow = int(state[1]), int(state[2])
        if flow == 0:
            return int(state[0])
        return int(state[0]) + -(-(self.full - level if flow > 0 else level) // abs(flow))

    def next_switch(self, state: State, k: int) -> int:
        flow, level = state[2], self.level(state, k)
        if flow == 0:
            return NEVER
        nearest = NEVER
        for border in (self.low - self.slack * state[3], self.high - self.slack * state[4]):
            if (level >= border) is (flow < 0):
                nearest = min(nearest, self._passes(state, k, border))
        return nearest

    def next_change(self, state: State, k: int) -> int:
        flow = int(state[2])
        if flow == 0 or k >= self.settled(state):
            return NEVER
        grain = self.level(state, k) // self.grain
        step = self._passes(state, k, (grain + 1 if flow > 0 else grain) * self.grain)
        return min(step, self.next_switch(state, k), self.settled(state))

    def number(self, state: State, k: int) -> float:
        return self.level(state, k) // self.grain * self.grain / MICRO

    def readings(self, motions: Sequence[Motion]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """By division: the scan in which each step of the level is passed."""
        import numpy as np

        rows = [
            (st[0], st[1], st[2], self.level(st, low - 1) // self.grain, self.level(st, high - 1) // self.grain)
            for st, low, high in motions
        ]
        k0, level, flow, first, last = np.array(rows, np.int64).T
        whose, n = counted(np.abs(last - first))
        k0, level, flow, first = k0[whose], level[whose], flow[whose], first[whose]
        # Rising, the next step is reached; falling, the present one is left.
        border = np.where(flow > 0, first + 1 + n, first - n) * self.grain
        scans = np.where(flow > 0, k0 - (level - border) // flow, k0 + (level - border) // -flow + 1)
        shown = np.where(flow > 0, border // self.grain, border // self.grain - 1)
        return keep_last(scans, shown * self.grain / MICRO)

    def _passes(self, state: State, k: int, border: int) -> int:
        """The first scan after `k` at or above (rising) or below (falling) a border; NEVER if it is not reached."""
        k0, level, flow = int(state[0]), int(state[1]), int(state[2])
        if flow > 0 and level < border <= self.full:
            at = k0 + -(-(border - level) // flow)
        elif flow < 0 and 0 < border <= level:
            at = k0 + (level - border) // -flow + 1
        else:
            return NEVER
        return at if at > k else NEVER

    def reaches(self, state: State, value: float) -> int:
        k0, level, flow = state[:3]
        ahead = round(value * MICRO) - level
        return int(k0 + (-(-ahead // flow) if flow > 0 else ahead // flow + 1 if flow < 0 else 0))

    def picture(self, state: State, k: int) -> dict[str, float]:
        _, low, high = self.sense(state, k)
        return {
            "level": self.level(state, k) / self.full,
            "litres": self.level(state, k) / MICRO,
            "low": float(low),
            "high": float(high),
            "filling": float(state[5][0] or state[5][1]),
            "emptying": float(state[5][2] or state[5][3]),
        }
