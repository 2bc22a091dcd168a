"""Belt: items that come, travel past photo-eyes, wait at a gate or at the end, and go.

          gate_m          eye1_m               length_m
    [##]    |  [##]   [##]   o                     |
    p-len p ^

An item is where its front is. Between two events - one comes, goes, or the belt turns round - every item is where the
belt has carried it, or at the place where it is stopped: `min(p0 + S(n) - S(n0), stop)`.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from spokeshave.machine import travel
from spokeshave.machine.device import NEVER, Device, Parameter, Parameters, State, Terminal
from spokeshave.model.project import Type, Value

MICRO = 1_000_000
"""Micrometres in a metre."""
EYES = ("eye1", "eye2", "eye3", "eye4")
_FREE = 1 << 60
_RUN, _REVERSE, _SPEED, _GATE, _TAKE, _FEED = range(6)


class _Chapter(NamedTuple):
    """From scan `n` until the next event: the items' fronts in micrometres, foremost first, and how many went off."""

    n: int
    items: tuple[int, ...]
    off: int
    collided: bool


class _At(NamedTuple):
    """State: from scan `k0` on. The belt's course counts its scans from `origin`."""

    k0: int
    course: travel.Crossings
    origin: int
    chapter: _Chapter
    drives: tuple[bool, bool, float, bool, bool, int]
    hand: float
    failed: frozenset[str]


TAKING = 2
"""The place of a hand that takes the foremost item away; at 1 it puts one on."""


class Belt(Device):
    """A hand on it puts an item at its start, or takes the foremost away (`TAKING`). States are `_At` tuples."""

    kind = "belt"
    title = "Belt"
    main = "moved"
    rarely = frozenset(
        ("reverse", "speed", "gate", "take", "feed", "off", "gate_m", "pushed", "waits_at_end", "accel_m_s2")
    )
    positions = 3
    one_way = False
    harmed_by_time = True
    jumps = True
    terminals = (
        Terminal("run", True, note="runs forward", also="forward on drive motor"),
        Terminal("reverse", True, also="backward back"),
        Terminal("speed", True, Type.REAL, "m/s; fixed without a wire", also="velocity"),
        Terminal("gate", True, note="lets items pass at gate_m; always open without a wire", also="stopper release"),
        Terminal("take", True, note="coming on, takes the item that waits at the end", also="pick unload"),
        Terminal("feed", True, Type.DINT, "each count puts an item on, as from another belt's `off`"),
        *(Terminal(e, False, note=f"photo-eye at {e}_m, TRUE while it sees an item", also="eye photo") for e in EYES),
        Terminal("off", False, Type.DINT, "items that have left at the end", total=True),
    )
    parameters = (
        Parameter("length_m", "m", 2, 0.01),
        Parameter("speed_m_s", "m/s", 0.5, 0.0001),
        Parameter("accel_m_s2", "m/s²", 2, 0.001),
        Parameter("item_m", "m", 0.2, 0.001, "length of an item"),
        Parameter("period_s", "s", 0, 0, "time from one item to the next; 0 for none but those put on by hand"),
        Parameter("first_s", "s", 0, 0, "when the first one comes"),
        Parameter("pushed", "", 0, 0, "an item that finds no room collides, else it is held back", flag=True),
        Parameter("waits_at_end", "", 0, 0, "items wait at the end until they are taken, else they go off", flag=True),
        Parameter("gate_m", "m", 1, 0, "where the gate stops items"),
        *(Parameter(f"{e}_m", "m", at, 0) for e, at in zip(EYES, (0.3, 1.0, 1.5, 1.9))),
    )
    failures = ("jam", "slip", "item lost", *(f"{e} {way}" for e in EYES for way in ("blind", "blocked")))

    def __init__(self, parameters: Parameters, period_ms: int, used: frozenset[str] | None = None) -> None:
        super().__init__(parameters, period_ms, used)
        v = self.value
        self.length, self.item, self.gate = (round(v[f"{n}_m"] * MICRO) for n in ("length", "item", "gate"))
        self.eyes = tuple(round(v[f"{e}_m"] * MICRO) for e in EYES)
        self.gone = self.length + self.item // 2
        """An item tips over the end with its middle."""
        self.every = self.scans(v["period_s"]) if v["period_s"] else 0
        self.first = round(v["first_s"] * 1000 / period_ms)
        self.accel = v["accel_m_s2"] * MICRO * (period_ms / 1000) ** 2
        self._told: list[tuple[State, list[_Chapter], Iterator[_Chapter]]] = []
        """What followed from the states asked about last. Only a memory: the same would be worked out again."""

    def _scan_speed(self, m_s: float) -> float:
        return m_s * MICRO * self.period_ms / 1000

    def start(self) -> State:
        # Without drives yet the gate counts as open, so that the first turn is the one that closes it.
        drives = (False, False, 0.0, True, False, 0)
        return _At(0, travel.REST, 0, _Chapter(-1, (), 0, False), drives, 0, frozenset())

    # -- how items travel

    def _stops(self, state: State, items: tuple[int, ...]) -> list[int]:
        """How far each item can go."""
        closed = "gate" in self.used and not state[4][_GATE]
        out: list[int] = []
        ahead, at_gate = self.length if self.value["waits_at_end"] else _FREE, False
        for p in items:
            if closed and p <= self.gate and not at_gate:
                ahead, at_gate = min(ahead, self.gate), True
            out.append(max(p, ahead))
            if out[-1] < _FREE:
                ahead = out[-1] - self.item
        return out

    def _moved(self, state: State, chapter: _Chapter, k: int) -> tuple[int, ...]:
        """The items' places at scan `k` of a chapter."""
        by = self._way(state, k) - self._way(state, chapter.n)
        if by <= 0:
            return tuple([p + by for p in chapter.items])
        return tuple([min(p + by, stop) for p, stop in zip(chapter.items, self._stops(state, chapter.items))])

    def _way(self, state: State, k: int) -> int:
        """How far the belt has run since its course began, in micrometres; a course begins with scan `origin`."""
        return travel.place(state[1], max(0, k - state[2]))

    def _story(self, state: State) -> Iterator[_Chapter]:
        """What follows a state's chapter, event by event."""
        chapter: _Chapter = state[3]
        while True:
            n = self._next_event(state, chapter)
            if n >= NEVER:
                return
            items = [p for p in self._moved(state, chapter, n) if p >= 0]
            left = [p for p in items if p < self.gone or self.value["waits_at_end"]]
            off, collided = chapter.off + len(items) - len(left), False
            if self.every and n >= self.first and (n - self.first) % self.every == 0:
                left, collided = self._put(left, bool(self.value["pushed"]))
            chapter = _Chapter(n, tuple(left), off, collided)
            yield chapter

    def _put(self, items: list[int], pushed: bool) -> tuple[list[int], bool]:
        """Another item at the start, if there is room; else it is held back, or collides."""
        if items and items[-1] < 2 * self.item:
            return items, pushed
        return [*items, self.item], False

    def _next_event(self, state: State, chapter: _Chapter) -> int:
        n, found = chapter.n, NEVER
        if self.every:
            found = self.first if n < self.first else n + self.every - (n - self.first) % self.every
        local = max(0, n - state[2])
        _, turns_round = next(iter(travel.spans(state[1], local)))
        if turns_round != NEVER:
            found = min(found, turns_round + state[2])
        if chapter.items:
            here = self._way(state, n)
            up = None if self.value["waits_at_end"] else here + self.gone - chapter.items[0]
            free = up is not None and self._stops(state, chapter.items)[0] >= self.gone
            crossing = travel.first_crossing(state[1], local, up if free else None, here - chapter.items[-1])
            found = min(found, crossing + state[2])
        return found

    def _chapter(self, state: State, k: int) -> tuple[_Chapter, int]:
        """The chapter scan `k` is in, and the scan with which the next one begins."""
        known = next((t for t in self._told if t[0] is state), None)
        if known is None:
            known = (state, [state[3]], self._story(state))
            self._told = [known, *self._told[:3]]
        _, chapters, story = known
        while chapters[-1].n <= k:
            following = next(story, None)
            chapters.append(following or _Chapter(NEVER, (), 0, False))
        i = next(i for i in range(len(chapters) - 2, -1, -1) if chapters[i].n <= k or i == 0)
        return chapters[i], chapters[i + 1].n

    def items(self, state: State, k: int) -> tuple[int, ...]:
        """The items' fronts at scan `k`, in micrometres, foremost first."""
        return self._moved(state, self._chapter(state, k)[0], k)

    # -- the device

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        run, reverse, gate, take = bool(drives[0]), bool(drives[1]), bool(drives[3]), bool(drives[4])
        wanted = (run, reverse, float(drives[2]), gate, take, int(drives[5]))
        before = state[4]
        chapter = self._chapter(state, k)[0]
        items, off, collided = list(self._moved(state, chapter, k)), chapter.off, chapter.collided
        course, origin = state[1], state[2]
        speed = self._speed(wanted, failed)
        moves_on = speed == self._speed(before, state[6])
        if not moves_on:
            v = travel.speed(course, k - origin) if "jam" not in failed and "jam" not in state[6] else 0.0
            course, origin = travel.ramp(0.0, v, speed, self.accel) if "jam" not in failed else travel.REST, k
        if "item lost" in failed and "item lost" not in state[6] and items:
            items = items[1:]
        if take and not before[_TAKE] and self.value["waits_at_end"] and items and items[0] >= self.length:
            items, off = items[1:], off + 1
        for _ in range(max(0, min(50, wanted[_FEED] - before[_FEED]))):
            items, collided = self._put(items, True)
        if hand == TAKING and state[5] != TAKING:
            items = items[1:]
        elif hand and not state[5]:
            items, _ = self._put(items, False)
        if moves_on and tuple(items) == self._moved(state, chapter, k) and gate == before[_GATE]:
            kept = chapter._replace(collided=collided)
        else:
            kept = _Chapter(k, tuple(items), off, collided)
        return _At(k, course, origin, kept, wanted, hand, failed)

    def _speed(self, drives: tuple[bool, bool, float, bool, bool, int], failed: frozenset[str]) -> float:
        """Micrometres a scan that it is driven with."""
        m_s = drives[_SPEED] if "speed" in self.used else self.value["speed_m_s"]
        part = 0.0 if "jam" in failed else 0.5 if "slip" in failed else 1.0
        return self._scan_speed(max(0.0, m_s)) * part * (drives[_RUN] - drives[_REVERSE])

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        chapter, _ = self._chapter(state, k)
        items, failed = self._moved(state, chapter, k), state[6]
        seen = []
        for name, eye in zip(EYES, self.eyes):
            sees = any(p - self.item <= eye <= p for p in items)
            seen.append(f"{name} blocked" in failed or (sees and f"{name} blind" not in failed))
        return (*seen, chapter.off, chapter.collided or self._crushed(state, items))

    def _crushed(self, state: State, items: tuple[int, ...]) -> bool:
        """Whether an item is under the closed gate."""
        closed = "gate" in self.used and not state[4][_GATE]
        return closed and any(p - self.item < self.gate < p for p in items)

    def next_change(self, state: State, k: int) -> int:
        chapter, following = self._chapter(state, k)
        borders = [b for e, n in zip(self.eyes, EYES) if n in self.used for b in (e, e + self.item + 1)]
        borders += [self.gate + 1, self.gate + self.item] if "gate" in self.used else []
        stops = self._stops(state, chapter.items)
        here = self._way(state, k)
        up = down = None
        for p, stop in zip(self._moved(state, chapter, k), stops):
            above, below = travel.nearest(borders, p)
            if above is not None and above <= stop:
                up = here + above - p if up is None else min(up, here + above - p)
            if below is not None:
                down = here + below - p if down is None else max(down, here + below - p)
        crossing = travel.first_crossing(state[1], max(0, k - state[2]), up, down)
        return max(k + 1, min(following, crossing + int(state[2])))

    def picture(self, state: State, k: int) -> dict[str, float]:
        shown = self.sense(state, k)
        items = self.items(state, k)
        return {
            **{f"item{i}": p / self.length for i, p in enumerate(items)},
            **{e: float(bool(shown[i])) for i, e in enumerate(EYES)},
            "count": float(len(items)), "off": float(shown[4]), "item": self.item / self.length,
            "driven": float(state[4][0]) - float(state[4][1]), "moved": self._way(state, k) / self.length,
            "gate": float(bool(state[4][_GATE])) if "gate" in self.used else -1.0,
        }  # fmt: skip

    def hazards(self, state: State, k: int) -> tuple[str, ...]:
        chapter = self._chapter(state, k)[0]
        found = [("driven both ways at once", state[4][0] and state[4][1]), ("pushing items into each other", chapter.collided),
                 ("crushing an item", self._crushed(state, self._moved(state, chapter, k)))]  # fmt: skip
        return tuple(text for text, holds in found if holds)
