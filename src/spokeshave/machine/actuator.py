"""Linear actuator: cylinder, gate, door, clamp. One drive with spring return, or two drives."""

from __future__ import annotations

from typing import NamedTuple

from spokeshave.machine.device import END_OF_PLAN, NEVER, Device, Parameter, Parameters, Plan, State, Terminal, stuck
from spokeshave.model.project import Value

_LEFT_REST, _LEFT_END, _AT_END, _AT_REST = ((1, False),), ((0, False),), ((0, True),), ((1, True),)
GRAIN = 4
"""Units of the stroke are so much finer than scans ask for, so that a slowed actuator moves in whole units too."""
DRIFT = 10
"""An actuator that drifts off its end stops at one tenth of the stroke."""


class _At(NamedTuple):
    """State: from scan `k0` on; position `p0` and `speed` (units a scan) hold from scan `origin` on, which is earlier
    where a turn changed nothing. `reached` is the scan in which it got to the end it stands at, -1 if it is at none.
    """

    k0: int
    p0: int
    speed: int
    extend: bool
    retract: bool
    failed: frozenset[str]
    origin: int
    reached: int


class Actuator(Device):
    """The stroke is `extend scans * retract scans * GRAIN` units, so that every full speed is a whole number of units.
    The states are `_At` tuples.
    """

    kind = "actuator"
    title = "Linear actuator"
    main = "position"
    rarely = frozenset(("middle", "passable", "middle_at", "middle_width", "slow_factor", "drift_s", "bounce_ms"))
    terminals = (
        Terminal("extend", True, note="drive away from the rest position", also="out open lower forward close"),
        Terminal("retract", True, note="drive back; leave open for spring return", also="in close raise back up"),
        Terminal("extended", False, note="end switch", also="out opened open down forward"),
        Terminal("retracted", False, note="rest switch", also="in closed close up back home"),
        Terminal("middle", False, note="on around middle_at", also="mid between"),
        Terminal("middle2", False, note="on around middle2_at", also="mid2 between2"),
        Terminal("passable", False, note="more than half way out; for gates that let something pass"),
    )
    parameters = (
        Parameter("extend_s", "s", 1.0, 0.001, "travel time away from rest"),
        Parameter("retract_s", "s", 1.0, 0.001, "travel time back to rest"),
        Parameter("two_drives", "", 0, 0, "stays where it is when neither drive is on", flag=True),
        Parameter("start", "", 0, 0, "start position, 0 at rest to 1 extended"),
        Parameter("middle_at", "", 0.5, 0, "place of the middle switch, 0 to 1"),
        Parameter("middle2_at", "", 0.75, 0, "place of the second middle switch, 0 to 1"),
        Parameter("middle_width", "", 0.05, 0, "part of the stroke in which a middle switch is on"),
        Parameter("slow_factor", "", 4, 1, "what the failure `slow` divides the speed by"),
        Parameter("drift_s", "s", 60, 0.01, "time of a whole stroke for the failure `drifts off its end`"),
        Parameter("bounce_ms", "ms", 0, 0, "how long a switch opens and closes again when it is reached"),
    )
    failures = (
        "jammed", "slow", "drifts off its end",
        "extended stuck on", "extended stuck off", "retracted stuck on", "retracted stuck off",
        "middle stuck on", "middle stuck off", "middle2 stuck on", "middle2 stuck off",
    )  # fmt: skip

    def __init__(self, parameters: Parameters, period_ms: int, used: frozenset[str] | None = None) -> None:
        super().__init__(parameters, period_ms, used)
        self.jumps = bool(self.value["bounce_ms"])  # type: ignore[misc]  # a switch that is left bounces at once
        value = self.value
        away, back = self.scans(value["extend_s"]), self.scans(value["retract_s"])
        self.stroke = away * back * GRAIN
        self.away, self.back = back * GRAIN, away * GRAIN
        self.two = bool(value["two_drives"])
        self.creep = max(1, self.stroke // self.scans(value["drift_s"]))
        self.bounce = round(value["bounce_ms"] / period_ms)
        half = round(value["middle_width"] * self.stroke / 2)
        middles = (round(value[f"{name}_at"] * self.stroke) for name in ("middle", "middle2"))
        self.middles = tuple((m - half, m + half + 1) for m in middles)
        """Where a middle switch comes on, and from where it is off again."""
        self.open_from = self.stroke // 2 + 1
        inner = [(self.middles[0], "middle"), (self.middles[1], "middle2"), ((self.open_from,), "passable")]
        self.borders = tuple(b for places, name in inner if name in self.used for b in places)
        self.plain = not self.borders and not self.bounce

    def start(self) -> State:
        begin = round(min(1.0, self.value["start"]) * self.stroke)
        return _At(0, begin, 0 if self.two else -self.back, False, False, frozenset(), 0, -1)

    def position(self, state: State, k: int) -> int:
        """Position in units at scan `k`: `clamp(p0 + n * v)`, less what it drifts off its end."""
        p: int = state[1] + (k - state[6]) * state[2]
        p = 0 if p < 0 else self.stroke if p > self.stroke else p
        if state[5] and "drifts off its end" in state[5]:
            since = self._reaches(state)
            if k > since:
                off = min(self.stroke // DRIFT, (k - since) * self.creep)
                return off if p == 0 else self.stroke - off
        return p

    def _reaches(self, state: State) -> int:
        """The scan in which it gets to the end it moves to, or stands at; NEVER if there is none."""
        _, p0, v, _, _, _, origin, _ = state
        if v == 0:
            return int(origin) if p0 in (0, self.stroke) else NEVER
        return int(origin - (-(self.stroke - p0 if v > 0 else p0) // abs(v)))

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        extend, retract = bool(drives[0]), bool(drives[1])
        if extend == retract:
            speed = 0 if self.two or extend else -self.back
        else:
            speed = self.away if extend else -self.back
        _, p, v, _, _, before, origin, reached = state
        if failed:
            if "slow" in failed:
                slowed = max(1, int(abs(speed) / self.value["slow_factor"]))
                speed = slowed if speed > 0 else -slowed if speed else 0
            if "jammed" in failed:
                speed = 0
        elif not before and self.plain and speed != v:
            p += (k - origin) * v
            return (k, 0 if p < 0 else self.stroke if p > self.stroke else p, speed, extend, retract, failed, k, -1)
        if speed == v and failed == before:
            return (k, p, speed, extend, retract, failed, origin, reached)
        reached = -1
        if self.bounce:
            reached = self._closed_at(state) if self._closed_at(state) <= k else -1
        return (k, self.position(state, k), speed, extend, retract, failed, k, reached)

    def _closed_at(self, state: State) -> int:
        """The scan in which the switch of the end it goes to closes."""
        at_end = state[1] >= self.stroke if state[2] > 0 else state[1] <= 0 if state[2] < 0 else True
        if at_end:
            return int(state[7]) if state[7] >= 0 else -(1 << 40)
        return self._reaches(state)

    def _bounces(self, state: State, k: int) -> bool:
        """Whether the switch it stands at is open in scan `k` because it bounces."""
        return (
            self.bounce > 0 and 0 < k - self._closed_at(state) < self.bounce and (k - self._closed_at(state)) % 2 == 1
        )

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        p, failed = self.position(state, k), state[5]
        if self.plain and not failed:
            return p >= self.stroke, p <= 0, False, False, False
        bounces = self._bounces(state, k)
        (low, high), (low2, high2) = self.middles
        return (
            stuck("extended", p >= self.stroke and not bounces, failed),
            stuck("retracted", p <= 0 and not bounces, failed),
            stuck("middle", "middle" in self.used and low <= p < high, failed),
            stuck("middle2", "middle2" in self.used and low2 <= p < high2, failed),
            "passable" in self.used and p >= self.open_from,
        )

    def next_change(self, state: State, k: int) -> int:
        p0, v, origin = state[1], state[2], state[6]
        failed, reach = state[5], self._reaches(state)
        if self.bounce and 0 <= k - self._closed_at(state) < self.bounce:
            return k + 1
        found = [NEVER]
        if v:
            found += [origin + 1, reach]
            found += [self._passes(p0, v, b) + origin for b in self.borders]
        if "drifts off its end" in failed and reach < NEVER:
            to_end = v > 0 or (v == 0 and p0 == self.stroke)
            p, creep = (self.stroke, -self.creep) if to_end else (0, self.creep)
            found += [max(k, reach) + 1] if k <= reach else []
            found += [self._passes(p, creep, b) + reach for b in self.borders if abs(b - p) <= self.stroke // DRIFT + 1]
        return min(n for n in found if n > k)

    def _passes(self, p: int, v: int, border: int) -> int:
        """Scans until a movement from `p` is at or above (rising) or below (falling) a border; NEVER if not ahead."""
        if v > 0 and p < border:
            return -(-(border - p) // v)
        return (p - border) // -v + 1 if v < 0 and p >= border else NEVER

    def ahead(self, state: State, k: int) -> Plan:
        """The scans in which the position has left one end, and in which it reaches the other."""
        p0, v, failed, origin = state[1], state[2], state[5], state[6]
        if failed or not self.plain:
            return super().ahead(state, k)
        if v == 0:
            return END_OF_PLAN
        room = self.stroke - p0 if v > 0 else p0
        reach = origin - (-room // abs(v))
        if reach <= k:
            return END_OF_PLAN
        if k > origin or room < self.stroke:
            return ((reach, _AT_END if v > 0 else _AT_REST), *END_OF_PLAN)
        leaves = _LEFT_REST if v > 0 else _LEFT_END
        if reach == origin + 1:
            return ((reach, leaves + (_AT_END if v > 0 else _AT_REST)), *END_OF_PLAN)
        return ((origin + 1, leaves), (reach, _AT_END if v > 0 else _AT_REST), *END_OF_PLAN)

    def picture(self, state: State, k: int) -> dict[str, float]:
        shown = self.sense(state, k)
        return {
            "position": self.position(state, k) / self.stroke,
            "extended": float(shown[0]),
            "retracted": float(shown[1]),
            "middle": float(shown[2]),
            "middle2": float(shown[3]),
            "driven": float(state[3]) - float(state[4]),
        }

    def hazards(self, state: State, k: int) -> tuple[str, ...]:
        return ("driven both ways at once",) if state[3] and state[4] else ()
