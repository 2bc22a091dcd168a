"""Motor in one or two directions, with running feedback and an overload contact."""

from __future__ import annotations

from spokeshave.machine.device import NEVER, Device, Parameter, Parameters, State, Terminal, stuck
from spokeshave.model.project import Value

Piece = tuple[int, int, int]
"""From this many scans after the turn on: speed at first, and its change a scan, until the next piece."""


class Motor(Device):
    """State: (k0, pieces, wanted way, last way, run, reverse, failures, scan the pieces count from).

    Full speed is `run-up scans * run-down scans * 10` units, negative in reverse. `running` closes at 80 % of full speed
    either way; `overload_ok` is closed (TRUE) until the overload trips.
    """

    kind = "motor"
    title = "Motor"
    main = "turns"
    rarely = frozenset(("reverse", "reversal_s"))
    terminals = (
        Terminal("run", True, note="runs forward", also="forward on start drive"),
        Terminal("reverse", True, note="runs the other way", also="backward back"),
        Terminal("running", False, note="feedback, at 80 % of full speed", also="runs fb feedback moves turns"),
        Terminal("overload_ok", False, note="opens when the overload trips", also="ok thermal healthy"),
    )
    parameters = (
        Parameter("run_up_s", "s", 0.5, 0.001, "from rest to full speed"),
        Parameter("run_down_s", "s", 1.0, 0.001, "from full speed to rest"),
        Parameter("reversal_s", "s", 0, 0, "how long it stands still before it runs the other way"),
    )
    failures = ("does not start", "overload tripped", "running stuck on", "running stuck off")

    def __init__(self, parameters: Parameters, period_ms: int, used: frozenset[str] | None = None) -> None:
        super().__init__(parameters, period_ms, used)
        up, down = self.scans(self.value["run_up_s"]), self.scans(self.value["run_down_s"])
        self.full = up * down * 10
        self.up, self.down = down * 10, up * 10
        self.pickup = up * down * 8
        self.pause = round(self.value["reversal_s"] * 1000 / period_ms)

    def start(self) -> State:
        return (0, ((0, 0, 0),), 0, 0, False, False, frozenset(), 0)

    def speed(self, state: State, k: int) -> int:
        """Signed, in units: forward is positive."""
        n = k - int(state[7])
        at, first, change = next(p for p in reversed(state[1]) if p[0] <= n)
        return self._within(first + (n - at) * change, first, change)

    def _within(self, speed: int, first: int, change: int) -> int:
        """Speeding up ends at full speed, slowing down at rest."""
        if abs(change) == self.up and first * change >= 0:
            return max(-self.full, min(self.full, speed))
        return max(0, speed) if first > 0 else min(0, speed)

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        run, reverse = bool(drives[0]), bool(drives[1])
        way = 0 if failed & {"does not start", "overload tripped"} else run - reverse
        if way == state[2]:
            return (k, state[1], way, state[3], run, reverse, failed, state[7])
        speed, last = self.speed(state, k), int(state[3])
        pieces: list[Piece] = []
        n = 0
        if (speed and (speed > 0) != (way > 0)) or not way:
            pieces.append((0, speed, -self.down if speed > 0 else self.down if speed < 0 else 0))
            n = -(-abs(speed) // self.down)
        if way:
            if last and last != way and self.pause:
                pieces.append((n, 0, 0))
                n += self.pause
            pieces.append((n, speed if not n else 0, way * self.up))
        return (k, tuple(pieces), way, way or last, run, reverse, failed, k)

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        failed = state[6]
        running = stuck("running", abs(self.speed(state, k)) >= self.pickup, failed)
        return (running, "overload tripped" not in failed)

    def next_change(self, state: State, k: int) -> int:
        nearest = NEVER
        for i, (at, first, change) in enumerate(state[1]):
            begin, speeds_up = int(state[7]) + at, first * change >= 0
            end = int(state[7]) + state[1][i + 1][0] if i + 1 < len(state[1]) else NEVER
            if change and speeds_up and abs(first) < self.pickup:
                crossing = begin - (-(self.pickup - abs(first)) // abs(change))
            elif change and not speeds_up and abs(first) >= self.pickup:
                crossing = begin + (abs(first) - self.pickup) // abs(change) + 1
            else:
                continue
            if k < crossing <= end:
                nearest = min(nearest, crossing)
        return nearest

    def picture(self, state: State, k: int) -> dict[str, float]:
        running, ok = self.sense(state, k)
        return {
            "speed": self.speed(state, k) / self.full,
            "turns": self._turns(state, k),
            "running": float(running),
            "overload_ok": float(ok),
            "driven": float(state[4]) - float(state[5]),
        }

    def _turns(self, state: State, k: int) -> float:
        """How far the rotor has turned since the state began, for the drawing only (1 a second at full speed)."""
        n = k - int(state[7])
        total = 0.0
        for i, (at, first, change) in enumerate(state[1]):
            end = min(n, state[1][i + 1][0]) if i + 1 < len(state[1]) else n
            if end <= at:
                break
            limit = self.full if first * change >= 0 else 0
            ramp = min(end - at, -(-abs(limit - abs(first)) // abs(change)) if change else end - at)
            last = self._within(first + ramp * change, first, change)
            total += ramp * (first + last) / 2 + (end - at - ramp) * last
        return total * self.period_ms / 1000 / self.full

    def hazards(self, state: State, k: int) -> tuple[str, ...]:
        return ("driven both ways at once",) if state[4] and state[5] else ()
