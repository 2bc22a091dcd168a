"""Motor in one direction, with running feedback and an overload contact."""

from __future__ import annotations

from spokeshave.machine.device import NEVER, Device, Parameter, Parameters, State, Terminal, stuck
from spokeshave.model.project import Value


class Motor(Device):
    """State: (k0, speed, change a scan, run, failures). Full speed is `run-up scans * run-down scans * 10` units.

    `running` closes at 80 % of full speed; `overload_ok` is closed (TRUE) until the overload trips.
    """

    kind = "motor"
    title = "Motor"
    terminals = (
        Terminal("run", True),
        Terminal("running", False, note="feedback, at 80 % of full speed"),
        Terminal("overload_ok", False, note="opens when the overload trips"),
    )
    parameters = (
        Parameter("run_up_s", "s", 0.5, 0.001, "from rest to full speed"),
        Parameter("run_down_s", "s", 1.0, 0.001, "from full speed to rest"),
    )
    failures = ("does not start", "overload tripped", "running stuck on", "running stuck off")

    def __init__(self, parameters: Parameters, period_ms: int) -> None:
        super().__init__(parameters, period_ms)
        up, down = self.scans(self.value["run_up_s"]), self.scans(self.value["run_down_s"])
        self.full = up * down * 10
        self.up, self.down = down * 10, up * 10
        self.pickup = up * down * 8

    def start(self) -> State:
        return (0, 0, 0, False, frozenset())

    def speed(self, state: State, k: int) -> int:
        s = int(state[1]) + (k - int(state[0])) * int(state[2])
        return 0 if s < 0 else self.full if s > self.full else s

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: int) -> State:
        run = bool(drives[0])
        turns = run and not failed & {"does not start", "overload tripped"}
        return (k, self.speed(state, k), self.up if turns else -self.down, run, failed)

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        failed = state[4]
        running = stuck("running", self.speed(state, k) >= self.pickup, failed)
        return (running, "overload tripped" not in failed)

    def next_change(self, state: State, k: int) -> int:
        k0, s0, change = int(state[0]), int(state[1]), int(state[2])
        if change > 0 and s0 < self.pickup:
            crossing = k0 + -(-(self.pickup - s0) // change)
        elif change < 0 and s0 >= self.pickup:
            crossing = k0 + (s0 - self.pickup) // -change + 1
        else:
            return NEVER
        return crossing if crossing > k else NEVER

    def picture(self, state: State, k: int) -> dict[str, float]:
        running, ok = self.sense(state, k)
        return {
            "speed": self.speed(state, k) / self.full,
            "turns": self._turns(state, k),
            "running": float(running),
            "overload_ok": float(ok),
            "driven": float(state[3]),
        }

    def _turns(self, state: State, k: int) -> float:
        """How far the rotor has turned since the state began, for the drawing only (1 a second at full speed)."""
        n = k - int(state[0])
        s0, s1 = int(state[1]), self.speed(state, k)
        return n * self.period_ms / 1000 * (s0 + s1) / (2 * self.full)
