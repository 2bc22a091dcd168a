"""Vessel: a level between empty and full, moved by inlets and outlets of fixed rates, and by items that fall in."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

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
_INLETS, _OUTLETS = ("inlet", "inlet2", "inlet3"), ("outlet", "outlet2", "outlet3")
_SWITCHES = ("low", "middle", "high")


class _At(NamedTuple):
    """State: from scan `k0` on. Level in whole microlitres, flow in microlitres a scan.

    `closed` are the level switches as they were at `k0`: with the hysteresis they depend on where the level came from.
    `rates` are what flows in and out, `passed` what has flowed in and out before `k0`.
    """

    k0: int
    level: int
    flow: int
    closed: tuple[bool, bool, bool]
    drives: tuple[bool, ...]
    failed: frozenset[str]
    rates: tuple[int, int]
    passed: tuple[int, int]
    items: int
    before: int
    """The level that is sensed in scan `k0` itself, before items fell in."""


class Vessel(Device):
    """Between turns the level is `clamp(level + n * flow)` in whole numbers (semantics 10). States are `_At` tuples."""

    kind = "vessel"
    title = "Vessel"
    main = "level"
    rarely = frozenset(
        (
            "supply",
            "items",
            "middle",
            "stocked",
            "pulse_in",
            "pulse_out",
            "leak_l_s",
            "item_l",
            "middle_l",
            "hysteresis_l",
            "resolution_l",
        )
    )
    jumps = True
    harmed_by_time = True
    terminals = (
        *(Terminal(n, True, also="fill in feed supply") for n in _INLETS),
        *(Terminal(n, True, also="empty drain out discharge") for n in _OUTLETS),
        Terminal("supply", True, note="the inlets flow only while it is TRUE, as while another vessel holds something"),
        Terminal("items", True, Type.DINT, "each count adds item_l, as from a belt's `off`"),
        Terminal("level", False, Type.REAL, "litres", also="lvl litres content"),
        Terminal("low", False, note="TRUE from low_l up", also="empty min"),
        Terminal("middle", False, note="TRUE from middle_l up", also="mid half"),
        Terminal("high", False, note="TRUE from high_l up", also="full max"),
        Terminal("stocked", False, note="holds something; as the supply of another vessel"),
        Terminal(
            "pulse_in",
            False,
            note="flow meter of the inlets: a pulse each litre",
            also="flow meter count",
            say="pulses of the inlets",
        ),
        Terminal(
            "pulse_out",
            False,
            note="flow meter of the outlets: a pulse each litre",
            also="flow meter count",
            say="pulses of the outlets",
        ),
    )
    parameters = (
        Parameter("volume_l", "l", 100, 0.001),
        Parameter("start_l", "l", 0),
        *(Parameter(f"{n}_l_s", "l/s", float(n in ("inlet", "outlet"))) for n in (*_INLETS, *_OUTLETS)),
        Parameter("leak_l_s", "l/s", 0.1, 0, "what the failure `leak` takes away"),
        Parameter("item_l", "l", 1, 0, "what an item that falls in adds"),
        Parameter("low_l", "l", 10, 0, "where the low switch closes"),
        Parameter("middle_l", "l", 50, 0, "where the middle switch closes"),
        Parameter("high_l", "l", 90, 0, "where the high switch closes"),
        Parameter("hysteresis_l", "l", 0.5, 0, "how far below a switch opens again"),
        Parameter("resolution_l", "l", 0.1, 0.001, "smallest step the level shows"),
    )
    failures = (
        "no supply", "outlet blocked", "leak", "lost pulses",
        "low stuck on", "low stuck off", "middle stuck on", "middle stuck off", "high stuck on", "high stuck off",
    )  # fmt: skip

    def __init__(self, parameters: Parameters, period_ms: int, used: frozenset[str] | None = None) -> None:
        super().__init__(parameters, period_ms, used)
        v = self.value
        self.full, self.begin, self.slack, self.grain, self.each = (
            round(v[f"{n}_l"] * MICRO) for n in ("volume", "start", "hysteresis", "resolution", "item")
        )
        self.borders = tuple(round(v[f"{n}_l"] * MICRO) for n in _SWITCHES)
        self.rates = tuple(round(v[f"{n}_l_s"] * 1000 * period_ms) for n in (*_INLETS, *_OUTLETS))
        self.leak = round(v["leak_l_s"] * 1000 * period_ms)
        self.begin = min(self.begin, self.full)
        self.looked_at = tuple(n in self.used for n in _SWITCHES)
        self.is_supply = "stocked" in self.used
        self.counts = bool({"pulse_in", "pulse_out"} & self.used)

    def start(self) -> State:
        level = self.begin
        low, middle, high = (level >= b for b in self.borders)
        return _At(0, level, 0, (low, middle, high), (False,) * 7, frozenset(), (0, 0), (0, 0), 0, level)

    def level(self, state: State, k: int) -> int:
        """Microlitres at scan `k`."""
        if k == state[0]:
            return int(state[9])
        level: int = state[1] + (k - state[0]) * state[2]
        return 0 if level < 0 else self.full if level > self.full else level

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        on = tuple(map(bool, drives[:7]))
        flows = [rate * is_on for rate, is_on in zip(self.rates, on)]
        fed = "no supply" not in failed and (on[6] or "supply" not in self.used)
        inward = sum(flows[:3]) if fed else 0
        outward = 0 if "outlet blocked" in failed else sum(flows[3:])
        flow = inward - outward - (self.leak if "leak" in failed else 0)
        items = int(drives[7])
        fallen = max(0, items - state[8]) * self.each
        before = self.level(state, k)
        level = min(self.full, (state[1] if k == state[0] else before) + fallen)
        closed = self._closed(state[3], before)
        if fallen:
            closed = self._closed(closed, level)
        passed = self._passed(state, k) if self.counts else (0, 0)
        return (k, level, flow, closed, on, failed, (inward, outward), passed, items, before)

    def _passed(self, state: State, k: int) -> tuple[int, int]:
        """What has flowed in and out; an empty vessel lets out what comes in."""
        n, (inward, outward), (came, went) = k - state[0], state[6], state[7]
        leak = inward - outward - state[2]
        out = outward * n
        if state[2] < 0 and leak:
            empty = min(n, -(-state[1] // -state[2]))
            out = outward * empty + min(outward, max(0, inward - leak)) * (n - empty)
        elif state[2] < 0:
            out = min(out, state[1] + inward * n)
        return came + inward * n, went + out

    def _closed(self, before: tuple[bool, bool, bool], level: int) -> tuple[bool, bool, bool]:
        """The switches at a level that was come to from where they were like `before`."""
        low, middle, high = self.borders
        was_low, was_middle, was_high = before
        slack = self.slack
        return (
            level >= low - slack * was_low, level >= middle - slack * was_middle, level >= high - slack * was_high
        )  # fmt: skip

    def _pulses(self, state: State, k: int) -> tuple[bool, bool]:
        """On for the first half of each litre behind a whole one; every second pulse is missing if they are lost."""
        came, went = self._passed(state, k)
        loses = "lost pulses" in state[5]
        return tuple(  # type: ignore[return-value]
            v >= MICRO and v % MICRO < MICRO // 2 and not (loses and v // MICRO % 2 == 0) for v in (came, went)
        )

    def spills(self, state: State, k: int) -> bool:
        """Whether more comes than there is room for."""
        return bool(state[2] > 0 and state[1] + (k - state[0]) * state[2] > self.full)

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        level, failed = self.level(state, k), state[5]
        low, middle, high = self._closed(state[3], level)
        if failed:
            low, middle, high = (stuck(n, x, failed) for n, x in zip(_SWITCHES, (low, middle, high)))
        shown = level // self.grain * self.grain / MICRO
        pulses = self._pulses(state, k) if self.counts else (False, False)
        return (shown, low, middle, high, level > 0, *pulses, state[2] > 0 and self.spills(state, k))

    def settled(self, state: State) -> int:
        level, flow = int(state[1]), int(state[2])
        if flow == 0:
            return int(state[0])
        return int(state[0]) + -(-(self.full - level if flow > 0 else level) // abs(flow))

    def next_switch(self, state: State, k: int) -> int:
        if k == state[0] and state[9] != state[1]:
            return k + 1
        flow, level = state[2], self.level(state, k)
        found = self._next_pulse(state, k) if self.counts else NEVER
        if flow == 0:
            return found
        for border, was, looked_at in zip(self.borders, state[3], self.looked_at):
            at = border - self.slack * was
            if looked_at and (level >= at) is (flow < 0):
                found = min(found, self._passes(state, k, at))
        if self.is_supply:
            found = min(found, self._passes(state, k, 1))
        spills = int(state[0]) + (self.full - int(state[1])) // flow + 1 if flow > 0 else NEVER
        return min(found, spills) if spills > k else found

    def _next_pulse(self, state: State, k: int) -> int:
        """The first scan after `k` in which a flow meter has counted on by half a litre."""
        half, (inward, outward) = MICRO // 2, state[6]
        scans = (
            -(-(half - passed % half) // rate)
            for rate, passed in zip((inward, outward), self._passed(state, k))
            if rate
        )
        return min((k + n for n in scans), default=NEVER)

    def next_change(self, state: State, k: int) -> int:
        flow = int(state[2])
        following = self.next_switch(state, k)
        if flow == 0 or k >= self.settled(state):
            return following
        grain = self.level(state, k) // self.grain
        step = self._passes(state, k, (grain + 1 if flow > 0 else grain) * self.grain)
        return min(step, following, self.settled(state))

    def number(self, state: State, k: int) -> float:
        return self.level(state, k) // self.grain * self.grain / MICRO

    def readings(self, motions: Sequence[Motion]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """By division: the scan in which each step of the level is passed; where items fell in, the level jumps."""
        import numpy as np

        rows, jumps = [], []
        was: int | None = None
        for st, low, high in motions:
            if was is None:
                was = self.level(st, low - 1) // self.grain
            begins, ends = self.level(st, low) // self.grain, self.level(st, high - 1) // self.grain
            if begins != was:
                jumps.append((low, begins))
            rows.append((st[0], st[1], st[2], begins, ends))
            was = ends
        k0, level, flow, first, last = np.array(rows, np.int64).T
        whose, n = counted(np.abs(last - first))
        k0, level, flow, first = k0[whose], level[whose], flow[whose], first[whose]
        # Rising, the next step is reached; falling, the present one is left.
        border = np.where(flow > 0, first + 1 + n, first - n) * self.grain
        still = np.where(flow == 0, 1, flow)
        scans = np.where(flow > 0, k0 - (level - border) // still, k0 + (level - border) // -still + 1)
        shown = np.where(flow > 0, border // self.grain, border // self.grain - 1)
        if jumps:
            scans = np.concatenate([scans, [k for k, _ in jumps]])
            shown = np.concatenate([shown, [x for _, x in jumps]])
            order = np.argsort(scans, kind="stable")
            scans, shown = scans[order], shown[order]
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
        shown = self.sense(state, k)
        return {
            "level": self.level(state, k) / self.full,
            "litres": self.level(state, k) / MICRO,
            "low": float(shown[1]),
            "middle": float(shown[2]),
            "high": float(shown[3]),
            "filling": float(state[6][0] > 0),
            "emptying": float(state[6][1] > 0),
            "spills": float(shown[7]),
        }

    def hazards(self, state: State, k: int) -> tuple[str, ...]:
        return ("overfilled",) if self.spills(state, k) else ()
