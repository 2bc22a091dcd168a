"""Everything that changes from scan to scan, and how it is before the first one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum, IntEnum, auto
from typing import Any

from spokeshave.engine.crossings import Crossings
from spokeshave.engine.program import Program
from spokeshave.machine.device import NEVER, Motion, Plan, State
from spokeshave.model.diagnostics import Place


class Mode(IntEnum):
    """What a sequence does in this scan, decided in phase 5."""

    RUN = 0
    HELD = 1
    TRIPPED = 2


@dataclass(frozen=True, slots=True)
class Alarm:
    """A standing alarm with its times in scans (semantics 9.6); -1 means not yet."""

    ident: str
    text: str
    place: Place
    raised: int
    acknowledged: int = -1
    cleared: int = -1


@dataclass(frozen=True, slots=True)
class Event:
    """Something worth telling that happened in scan `k`: late, early, trip, blocked, overflow, hazard, ... `ident` is that of the
    alarm it is about.
    """

    k: int
    kind: str
    text: str
    place: Place
    ident: str = ""


class Of(Enum):
    """What a part of the situation has a value for each of."""

    RUN = auto()
    """One value; or a set or table by slots."""
    SEQUENCE = auto()
    DEVICE = auto()
    TRIP = auto()
    EDGE = auto()
    PAIR = auto()


@dataclass(frozen=True, slots=True)
class Part:
    """How a part of the situation is kept. Copies, power cycles and hot edits follow from it.

    `stays`: at a power cycle, since it belongs to the machine or to hands, not to the controls (semantics 9.4). `by_name`: at an
    edit of the file it goes to what has the same name (9.3); what is neither begins anew, unless it says how in `carry`.
    `deep`: its values change in place too.
    """

    of: Of = Of.RUN
    stays: bool = False
    by_name: bool = False
    deep: bool = False


_SEQUENCE = Part(Of.SEQUENCE)
_NESTED = Part(Of.SEQUENCE, deep=True)
PARTS: dict[str, Part] = {
    "k": Part(stays=True), "v": Part(), "cold": Part(), "calm": Part(), "changed": Part(), "moved": Part(),
    # sequences
    "active": _NESTED, "entered": _NESTED, "came": _NESTED, "left": _NESTED, "jumped": _SEQUENCE,
    "lost": Part(Of.SEQUENCE, by_name=True), "mode": Part(Of.SEQUENCE, by_name=True), "late_hold": Part(Of.SEQUENCE, by_name=True),
    # action control
    "kept": _NESTED, "stored": Part(), "spent": Part(), "touched": Part(), "act_at": Part(), "written": Part(), "bodies": Part(),
    # edges, trips, protection
    "edge_was": Part(Of.EDGE), "held_from": Part(Of.EDGE),
    "trip_on": Part(Of.TRIP, by_name=True), "effected": Part(Of.TRIP, by_name=True, deep=True), "raised": Part(),
    "blocked": Part(), "pair_on": Part(Of.PAIR, deep=True), "alarms": Part(), "shelved": Part(stays=True),
    "events": Part(stays=True),
    # hands
    "forces": Part(stays=True), "wished": Part(), "taken": Part(stays=True), "hand": Part(), "by_hand": Part(),
    # the machine
    "dev_state": Part(Of.DEVICE, stays=True), "dev_hand": Part(Of.DEVICE, stays=True), "dev_failed": Part(Of.DEVICE, stays=True),
    "drives": Part(stays=True), "hazards": Part(stays=True),
    # what is worked out ahead of the machine
    "dev_next": Part(Of.DEVICE), "dev_ahead": Part(Of.DEVICE), "dev_course": Part(Of.DEVICE), "dev_wake": Part(Of.DEVICE),
    "next_reading": Part(), "told_from": Part(Of.DEVICE), "untold": Part(), "turned": Part(),
}  # fmt: skip
"""Every part of the situation."""


class Situation:
    """The situation before scan `k`, of the `PARTS`. Lists are indexed by sequence, device, trip, edge or pair of the program."""

    __slots__ = tuple(PARTS)

    def __init__(self, program: Program) -> None:
        n = len(program.sequences)
        self.k = 0
        self.v: list[Any] = list(program.start)
        self.v[0] = []
        self.active: list[list[int]] = [[] for _ in range(n)]
        self.entered: list[dict[int, int]] = [{} for _ in range(n)]
        """Clock of its sequence at which a step was entered. The clock of sequence `i` is `k - lost[i]`."""
        self.lost = [0] * n
        """Scans a sequence was held, and those before it began."""
        self.came: list[list[int]] = [[] for _ in range(n)]
        self.left: list[list[int]] = [[] for _ in range(n)]
        self.changed: list[int] = []
        """Slots that the engine itself may have changed in this scan: inputs, step flags, targets, outputs."""
        self.calm = -1
        """The scan before which it is known that it does nothing unless something comes; another number says nothing."""
        self.moved = True
        """Whether any step came or left, or any target of action blocks changed, in the last scan."""
        self.mode = [Mode.RUN] * n
        self.jumped = [False] * n
        self.late_hold = [False] * n
        self.kept: list[list[int]] = [[] for _ in range(n)]
        self.stored: dict[int, int] = {}
        """Order of a stored block to the clock at which it was stored."""
        self.spent: set[int] = set()
        self.touched = True
        """Whether action control has to look again at once; by itself it does at scan `act_at`."""
        self.act_at = 0
        self.written: frozenset[int] | None = None
        """Targets that are on; None if all have to be assigned."""
        self.bodies: list[Callable[[list[Any]], Any]] = []
        """Bodies that run in each scan until action control looks again."""
        self.edge_was = [False] * len(program.edges)
        self.held_from = [-1] * len(program.edges)
        self.trip_on = [False] * len(program.trips)
        self.effected: list[set[int]] = [set() for _ in program.trips]
        self.raised: set[int] = set()
        self.forces: dict[int, Any] = {}
        self.wished: dict[int, Any] = {}
        """What forced outputs would be without their forces."""
        self.hand: dict[int, Any] | None = None
        """In hand drive, what outputs are asked for, by the slot they are asked in (semantics 9.5)."""
        self.by_hand = False
        """Whether the last scan was one of hand drive."""
        self.taken: set[int] = set()
        """Inputs whose value was set by a stimulus, so that their device no longer gives it."""
        self.blocked: set[int] = set()
        self.pair_on: list[list[int]] = [[-1, -1] for _ in program.pairs]
        """Last scan in which each output of a pair was on, -1 for never."""
        self.alarms: dict[str, Alarm] = {}
        self.shelved: set[str] = set()
        """Alarms that somebody does not want to be told of for now."""
        self.events: list[Event] = []
        self.cold = True
        """TRUE for the scan after a start or a power cycle: no evolution, no edges."""
        self.dev_state: list[State] = [d.device.start() for d in program.devices]
        self.dev_hand = [d.device.first_hand() for d in program.devices]
        self.dev_failed: list[frozenset[str]] = [frozenset() for _ in program.devices]
        self.dev_next = [0] * len(program.devices)
        """Scan in which a device's sensors give something else."""
        self.dev_ahead: list[Plan] = [()] * len(program.devices)
        """Which sensors give what then, where it is known; empty where all have to be asked."""
        self.dev_course: list[Crossings | None] = [None] * len(program.devices)
        self.dev_wake = [0] * len(program.devices)
        """Scan that has to be run because of it."""
        self.next_reading = 0 if program.devices else NEVER
        """The least of `dev_next`."""
        self.told_from = [-1] * len(program.devices)
        """Scan from which a device's numbers are not in the trace yet (see `readings`); -1 if they are."""
        self.untold: dict[int, list[Motion]] = {}
        """How devices have moved since then."""
        self.turned: list[int] = list(range(len(program.devices)))
        """Devices that got other drives, failures or hands in this scan."""
        self.drives: tuple[Any, ...] = tuple(False for d in program.devices for _ in d.drives)
        self.hazards: set[tuple[int, str]] = set()
        for i in range(n):
            enter_initial(program, self, i)

    def copy(self) -> Situation:
        """An independent copy; frozen values are shared."""
        other = object.__new__(Situation)
        for name, part in PARTS.items():
            value = getattr(self, name)
            if part.deep:
                value = [x.copy() for x in value]
            elif isinstance(value, (list, dict, set)):
                value = value.copy()
            setattr(other, name, value)
        other.v[0] = self.v[0].copy()
        return other


def set_state(program: Program, s: Situation, i: int) -> None:
    """`Sequence.State`: the number of the active step with the lowest number, -1 with none (semantics 4)."""
    seq = program.sequences[i]
    active = s.active[i]
    s.v[seq.state] = seq.steps[active[0]].number if len(active) == 1 else min(
        (seq.steps[a].number for a in active), default=-1
    )  # fmt: skip


def set_times(program: Program, s: Situation, i: int, k: int) -> None:
    """`Step.T = (k - k_entered - scans held) * period` of every active step, in scan `k`."""
    steps, clock, entered, v, period = program.sequences[i].steps, k - s.lost[i], s.entered[i], s.v, program.period_ms
    for a in s.active[i]:
        v[steps[a].t] = (clock - entered[a]) * period


def show_times(program: Program, s: Situation) -> None:
    """Step times as they are at the end of scan `s.k - 1`, which may have been jumped over; those of a sequence that does
    not run stand still.
    """
    for q in program.sequences:
        if s.mode[q.index] is Mode.RUN:
            set_times(program, s, q.index, s.k - 1)


def leave(program: Program, s: Situation, i: int, step: int) -> None:
    """X FALSE, T keeps its last value, the alarm of a late step is cleared."""
    linked = program.sequences[i].steps[step]
    s.v[linked.x] = False
    s.changed.append(linked.x)
    s.active[i].remove(step)
    s.left[i].append(step)
    s.moved = s.touched = True
    if s.v[linked.late]:
        s.v[linked.late] = False
        clear_alarm(s, f"late:{program.sequences[i].name}.{linked.name}")


def enter(program: Program, s: Situation, i: int, step: int) -> None:
    """X TRUE, T 0. Entering a step that is still active counts as an entry without a leaving."""
    linked = program.sequences[i].steps[step]
    if step not in s.active[i]:
        s.active[i].append(step)
    s.entered[i][step] = s.k - s.lost[i]
    s.moved = s.touched = True
    s.v[linked.x] = True
    s.changed.append(linked.x)
    s.v[linked.t] = 0
    if step not in s.came[i]:
        s.came[i].append(step)
    if s.spent:
        for b in linked.blocks:
            s.spent.discard(b.order)


def enter_initial(program: Program, s: Situation, i: int) -> None:
    """Enters the initial step of a sequence."""
    enter(program, s, i, program.sequences[i].initial)
    set_state(program, s, i)


def go_to(program: Program, s: Situation, i: int, step: int) -> None:
    """Leaves every active step and enters one, all in this scan. What a hold would have kept of the old steps is given up."""
    s.kept[i] = []
    for a in list(s.active[i]):
        leave(program, s, i, a)
    enter(program, s, i, step)
    set_state(program, s, i)


def clear_stored(program: Program, s: Situation, i: int) -> None:
    """Takes back everything a sequence has stored."""
    s.touched = True
    for b in program.blocks:
        if b.sequence == i:
            s.stored.pop(b.order, None)


def event(s: Situation, kind: str, text: str, place: Place, ident: str = "") -> None:
    """Notes something worth telling, in the present scan; `ident` for what is about an alarm."""
    s.events.append(Event(s.k, kind, text, place, ident))


def clear_alarm(s: Situation, ident: str) -> None:
    """Marks an alarm as cleared; it goes from the list when it is acknowledged too."""
    a = s.alarms.get(ident)
    if a is not None and a.cleared < 0:
        s.alarms[ident] = Alarm(a.ident, a.text, a.place, a.raised, a.acknowledged, s.k)
        event(s, "alarm cleared", a.text, a.place, ident)


def power_cycle(program: Program, s: Situation) -> None:
    """Semantics 9.4: all but retained variables and retained sequences starts anew; the machine stays as it is."""
    fresh = Situation(program)
    for slot in program.retained:
        fresh.v[slot] = s.v[slot]
    for q in program.sequences:
        if q.retain:
            _keep_sequence(program, s, fresh, q.index)
    for i in range(len(program.sequences)):
        if not program.sequences[i].retain:
            fresh.lost[i] = s.k
    for name in (name for name, part in PARTS.items() if part.stays):
        setattr(fresh, name, getattr(s, name))
    for slot in s.taken:
        fresh.v[slot] = s.v[slot]
    for slot in program.machine.values():
        fresh.v[slot] = s.v[slot]
    wired = {slot for d in program.devices for _, slot in d.sensors}
    for own in program.own:
        for kept, slot in own.outputs:
            fresh.v[slot] = s.v[kept]
    for r in program.recorded:
        if r.kind == "input" and r.slot not in wired:
            fresh.v[r.slot] = s.v[r.slot]
    for i in range(len(program.devices)):
        fresh.dev_next[i] = fresh.dev_wake[i] = fresh.next_reading = s.k
    for name in PARTS:
        setattr(s, name, getattr(fresh, name))
    event(s, "power cycle", "power was off and came back", Place())


def _keep_sequence(program: Program, s: Situation, fresh: Situation, i: int) -> None:
    q = program.sequences[i]
    fresh.active[i] = list(s.active[i])
    fresh.entered[i] = dict(s.entered[i])
    # The clock stands still in the scan of the power cycle, as in a first scan.
    fresh.lost[i] = s.lost[i] + 1
    fresh.came[i] = []
    for step in q.steps:
        for slot in (step.x, step.t, step.late):
            fresh.v[slot] = s.v[slot]
    for b in program.blocks:
        if b.sequence == i and b.order in s.stored:
            fresh.stored[b.order] = s.stored[b.order]
    set_state(program, fresh, i)


def situation_of(program: Program, s: Situation) -> dict[str, list[str]]:
    """Active steps by sequence name, sorted by number."""
    return {q.name: [q.steps[a].name for a in q.by_number(s.active[q.index])] for q in program.sequences}
