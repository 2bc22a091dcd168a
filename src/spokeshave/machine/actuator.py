"""Linear actuator: cylinder, gate, door, clamp. One drive with spring return, or two drives."""

from __future__ import annotations

from spokeshave.machine.device import END_OF_PLAN, NEVER, Device, Parameter, Parameters, Plan, State, Terminal, stuck
from spokeshave.model.project import Value

_LEFT_REST, _LEFT_END, _AT_END, _AT_REST = ((1, False),), ((0, False),), ((0, True),), ((1, True),)
SLOW = 4
"""The failure `slow` divides the speed by this."""


class Actuator(Device):
    """State: (k0, position, speed, extend, retract, failures). Position and speed in integer units a scan.

    The stroke is `extend scans * retract scans * SLOW` units, so that every speed is a whole number of units.
    """

    kind = "actuator"
    title = "Linear actuator"
    terminals = (
        Terminal("extend", True, note="drive away from the rest position"),
        Terminal("retract", True, note="drive back; leave open for spring return"),
        Terminal("extended", False, note="end switch"),
        Terminal("retracted", False, note="rest switch"),
    )
    parameters = (
        Parameter("extend_s", "s", 1.0, 0.001, "travel time away from rest"),
        Parameter("retract_s", "s", 1.0, 0.001, "travel time back to rest"),
        Parameter("two_drives", "", 0, 0, "1: stays where it is when neither drive is on"),
        Parameter("start", "", 0, 0, "start position, 0 at rest to 1 extended"),
    )
    failures = (
        "jammed", "slow", "extended stuck on", "extended stuck off", "retracted stuck on", "retracted stuck off"
    )  # fmt: skip

    def __init__(self, parameters: Parameters, period_ms: int) -> None:
        super().__init__(parameters, period_ms)
        away, back = self.scans(self.value["extend_s"]), self.scans(self.value["retract_s"])
        self.stroke = away * back * SLOW
        self.away, self.back = back * SLOW, away * SLOW
        self.two = bool(self.value["two_drives"])

    def start(self) -> State:
        begin = round(min(1.0, self.value["start"]) * self.stroke)
        return (0, begin, 0 if self.two else -self.back, False, False, frozenset())

    def position(self, state: State, k: int) -> int:
        """Position in units at scan `k`: `clamp(p0 + n * v)`."""
        p: int = state[1] + (k - state[0]) * state[2]
        return 0 if p < 0 else self.stroke if p > self.stroke else p

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: int) -> State:
        extend, retract = bool(drives[0]), bool(drives[1])
        if extend == retract:
            speed = 0 if self.two or extend else -self.back
        else:
            speed = self.away if extend else -self.back
        if failed and "slow" in failed:
            speed = speed // SLOW if speed > 0 else -(-speed // SLOW)
        if failed and "jammed" in failed:
            speed = 0
        return (k, self.position(state, k), speed, extend, retract, failed)

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        p, failed = self.position(state, k), state[5]
        if not failed:
            return p >= self.stroke, p <= 0
        return (
            stuck("extended", p >= self.stroke, failed),
            stuck("retracted", p <= 0, failed),
        )

    def next_change(self, state: State, k: int) -> int:
        k0, p0, v = state[:3]
        if v == 0:
            return NEVER
        room = self.stroke - p0 if v > 0 else p0
        following = k0 + 1 if k <= k0 and room == self.stroke else k0 - (-room // abs(v))
        return following if following > k else NEVER

    def ahead(self, state: State, k: int) -> Plan:
        """The scans in which the position has left one end, and in which it reaches the other."""
        k0, p0, v, _, _, failed = state
        if v == 0:
            return END_OF_PLAN
        if failed:
            return super().ahead(state, k)
        room = self.stroke - p0 if v > 0 else p0
        reach = k0 - (-room // abs(v))
        if reach <= k:
            return END_OF_PLAN
        if k > k0 or room < self.stroke:
            return ((reach, _AT_END if v > 0 else _AT_REST), *END_OF_PLAN)
        leaves = _LEFT_REST if v > 0 else _LEFT_END
        if reach == k0 + 1:
            return ((reach, leaves + (_AT_END if v > 0 else _AT_REST)), *END_OF_PLAN)
        return ((k0 + 1, leaves), (reach, _AT_END if v > 0 else _AT_REST), *END_OF_PLAN)

    def picture(self, state: State, k: int) -> dict[str, float]:
        at_end, at_rest = self.sense(state, k)
        return {
            "position": self.position(state, k) / self.stroke,
            "extended": float(at_end),
            "retracted": float(at_rest),
            "driven": float(state[3]) - float(state[4]),
        }

    def hazards(self, state: State) -> tuple[str, ...]:
        return ("driven both ways at once",) if state[3] and state[4] else ()
