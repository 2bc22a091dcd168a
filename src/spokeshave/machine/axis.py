"""Axis: a positioning drive that is jogged, or sent to a target with a speed."""

from __future__ import annotations

from typing import NamedTuple

from spokeshave.machine import travel
from spokeshave.machine.device import NEVER, Device, Parameter, Parameters, State, Terminal, stuck
from spokeshave.model.project import Type, Value

MICRO = travel.MICRO
_SWITCHES = ("end_low", "end_high", "home")


class _At(NamedTuple):
    """State: from scan `k0` on. `course` counts its scans from `origin`. `lost` is by how much the axis is behind its
    drive because it slipped before `origin`; `target` -1 means none.
    """

    k0: int
    course: travel.Crossings
    rest: int
    target: int
    lost: int
    drives: tuple[bool, bool, bool, float, float]
    failed: frozenset[str]
    origin: int


class Axis(Device):
    """Jogging goes on while `forward` or `reverse` is on and comes first; `start` coming on sends it to `target`.

    `position` is measured at the drive, the switches at the axis itself: after it slipped they differ.
    States are `_At` tuples, places are whole micrometres.
    """

    kind = "axis"
    title = "Axis"
    main = "place"
    rarely = frozenset(
        ("end_low", "end_high", "switch_mm", "window_mm", "resolution_mm", "offset_mm", "slip_part", "start_mm")
    )
    jumps = True
    one_way = False
    harmed_by_time = True
    terminals = (
        Terminal("forward", True, also="fwd plus out jog"),
        Terminal("reverse", True, also="rev minus back"),
        Terminal("start", True, note="coming on, sends it to the target", also="go move"),
        Terminal("target", True, Type.REAL, "mm", also="setpoint goal"),
        Terminal("speed", True, Type.REAL, "mm/s; the greatest speed without a wire", also="velocity"),
        Terminal("position", False, Type.REAL, "mm", also="pos place actual"),
        Terminal("moving", False, also="moves busy"),
        Terminal("at_target", False, also="reached there done inposition"),
        Terminal("end_low", False, note="on near 0", also="low min"),
        Terminal("end_high", False, note="on near the end of the travel", also="high max"),
        Terminal("home", False, note="on around home_mm", also="reference zero"),
    )
    parameters = (
        Parameter("travel_mm", "mm", 1000, 0.1),
        Parameter("speed_mm_s", "mm/s", 200, 0.001, "greatest speed"),
        Parameter("accel_mm_s2", "mm/s²", 400, 0.001, "acceleration, and braking"),
        Parameter("start_mm", "mm", 0, 0),
        Parameter("home_mm", "mm", 0, 0, "middle of the home switch"),
        Parameter("switch_mm", "mm", 5, 0.001, "how far a switch reaches"),
        Parameter("window_mm", "mm", 0.5, 0, "how near the target counts as there"),
        Parameter("resolution_mm", "mm", 1, 0.001, "smallest step the position shows"),
        Parameter("offset_mm", "mm", 10, -1e6, "what the failure `position reads off` adds"),
        Parameter("slip_part", "", 0.5, 0, "part of a movement that is lost while it slips"),
    )
    failures = (
        "stalls", "slips", "position reads off",
        *(f"{s} stuck {way}" for s in ("home", "end_low", "end_high") for way in ("on", "off")),
    )  # fmt: skip

    def __init__(self, parameters: Parameters, period_ms: int, used: frozenset[str] | None = None) -> None:
        super().__init__(parameters, period_ms, used)
        v = self.value
        self.end, self.begin, self.home, self.reach, self.window, self.grain, self.offset = (
            round(v[f"{n}_mm"] * MICRO) for n in ("travel", "start", "home", "switch", "window", "resolution", "offset")
        )
        self.begin = min(self.begin, self.end)
        self.accel = v["accel_mm_s2"] * MICRO * (period_ms / 1000) ** 2
        self.switches = ((0, self.reach + 1), (self.end - self.reach, self.end + 1),
                         (self.home - self.reach, self.home + self.reach + 1))  # fmt: skip
        """Where each switch comes on, and from where it is off again."""

    def _scan_speed(self, mm_s: float) -> float:
        return mm_s * MICRO * self.period_ms / 1000

    def start(self) -> State:
        return _At(0, ((0.0, float(self.begin), 0.0, 0.0),), 0, -1, 0, (False, False, False, 0.0, 0.0), frozenset(), 0)

    # -- places

    def _free(self, state: State, k: int) -> int:
        """Where the drive would be if the travel had no ends."""
        return travel.place(state[1], k - state[7])

    def drive_place(self, state: State, k: int) -> int:
        return min(self.end, max(0, self._free(state, k)))

    def place(self, state: State, k: int) -> int:
        """Where the axis is: behind its drive by what it has lost."""
        at = self.drive_place(state, k)
        return min(self.end, max(0, at - self._lost(state, at)))

    def _lost(self, state: State, at: int) -> int:
        lost = int(state[4])
        if "slips" in state[6]:
            lost += int((at - self.drive_place(state, state[7])) * self.value["slip_part"])
        return lost

    def _rests(self, state: State, k: int) -> bool:
        return k >= state[2] or not 0 <= self._free(state, k) <= self.end

    # -- the device

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        forward, reverse, start = (bool(d) for d in drives[:3])
        wanted = (forward, reverse, start, float(drives[3]), float(drives[4]))
        before = state[5]
        begins = start and not before[2]
        jogs = forward or reverse
        # While it is sent to a target, another target or start held on do nothing.
        same = (forward, reverse) == before[:2] and not begins and failed == state[6]
        if same and not (jogs and wanted[4] != before[4]):
            return _At(k, state[1], state[2], state[3], state[4], wanted, failed, state[7])
        x = self.drive_place(state, k)
        v = 0.0 if self._rests(state, k) else travel.speed(state[1], k - state[7])
        fastest = self._scan_speed(self.value["speed_mm_s"])
        if "speed" in self.used and wanted[4] > 0:
            fastest = min(fastest, self._scan_speed(wanted[4]))
        target = int(state[3])
        if "stalls" in failed:
            course: travel.Crossings = ((0.0, float(x), 0.0, 0.0),)
        elif jogs:
            target = -1
            course = travel.ramp(x, v, fastest * (forward - reverse), self.accel)
        elif begins:
            target = min(self.end, max(0, round(wanted[3] * MICRO)))
            course = travel.move_to(x, v, target, fastest, self.accel)
        elif target >= 0 and (failed != state[6] or before[:2] == (False, False)):
            course = travel.move_to(x, v, target, fastest, self.accel)
        else:
            course = travel.stop(x, v, self.accel)
        last = course[-1]
        rest = k + int(-(-last[0] // 1)) if last[2] == 0 else NEVER
        return _At(k, course, rest, target, self._lost(state, x), wanted, failed, k)

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        failed = state[6]
        shown = self.drive_place(state, k) + (self.offset if "position reads off" in failed else 0)
        rests, x = self._rests(state, k), self.place(state, k)
        at_target = rests and state[3] >= 0 and abs(self.drive_place(state, k) - state[3]) <= self.window
        switches = (stuck(n, low <= x < high, failed) for n, (low, high) in zip(_SWITCHES, self.switches))
        return (
            shown // self.grain * self.grain / MICRO, not rests, at_target, *switches, not 0 <= self._free(state, k) <= self.end
        )  # fmt: skip

    def next_change(self, state: State, k: int) -> int:
        if k >= state[2]:
            return NEVER
        x, n = self._free(state, k), k - state[7]
        # Of the switches and steps, in places of the axis; what is lost on the way only brings them later.
        borders = {0, self.end + 1}
        up, down = travel.nearest(borders, x)
        found = min(int(state[2]), travel.first_crossing(state[1], n, up, down) + state[7])
        now = self.sense(state, k)
        steps = (self.grain * ((x + o) // self.grain) - o for o in (0, self.offset))
        near = {b for s in steps for b in (s, s + self.grain)} if "position" in self.used else set()
        if "slips" not in state[6] and not state[4]:
            near |= {b for pair in self.switches for b in pair}
            up, down = travel.nearest(near, x)
            found = min(found, travel.first_crossing(state[1], n, up, down) + state[7])
        else:
            # Its drive passes no fixed places where the axis passes a switch: the axis moves one way in each stretch.
            found = min(found, self._changes(state, k, now, min(found, int(state[2]))))
        return max(k + 1, int(found))

    def _changes(self, state: State, k: int, now: tuple[Value, ...], end: int) -> int:
        """The first scan after `k` in which anything shows, looked for scan by scan up to the next known one."""
        last = min(end, k + 1000)
        return next((j for j in range(k + 1, last) if self.sense(state, j) != now), last)

    def number(self, state: State, k: int) -> float:
        return float(self.sense(state, k)[0])

    def picture(self, state: State, k: int) -> dict[str, float]:
        shown = self.sense(state, k)
        target = state[3] / self.end if state[3] >= 0 else -1.0
        return {
            "place": self.place(state, k) / self.end, "shown": float(shown[0]), "moving": float(shown[1]),
            "at_target": float(shown[2]), "end_low": float(shown[3]), "end_high": float(shown[4]), "home": float(shown[5]),
            "home_at": self.home / self.end, "target": target, "driven": float(state[5][0]) - float(state[5][1]),
        }  # fmt: skip

    def hazards(self, state: State, k: int) -> tuple[str, ...]:
        found = ("driven both ways at once",) if state[5][0] and state[5][1] else ()
        return found + (("driven into its end",) if not 0 <= self._free(state, k) <= self.end else ())
