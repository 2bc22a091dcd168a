"""A machine file made ready to run: every name a slot in the list of values, every text a compiled function.

Slots of the list of values `v`:

    0          places of numeric overflows in this scan (a list)
    1          always FALSE: drives of a device that are not wired
    2          time of the scan in ms
    3          loop turns in this scan
    4 ...      recorded: signals in listed order (outputs as they go out), then step flags
    ...        not recorded: outputs as asked for, step times, late flags, states, edges, Home, block instances
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from spokeshave.language.checked import Checked
from spokeshave.language.compile import Compiled
from spokeshave.language.literals import value_text
from spokeshave.machine.device import Device
from spokeshave.model.alarm_sources import sources
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Type, Value
from spokeshave.model.qualifiers import Rule

if TYPE_CHECKING:
    from spokeshave.engine.thresholds import Times

OVERFLOWS = 0
NOTHING = 1
INNER = -2
"""In the place of a slot: what the device gives goes to another device, or tells that it comes to harm."""
FIRST_RECORDED = 4


@dataclass(frozen=True, slots=True, eq=False)
class Recorded:
    """A column of the trace: a signal or a step flag."""

    name: str
    type: Type
    slot: int
    kind: str  # input, output, internal, setting, step


@dataclass(frozen=True, slots=True, eq=False)
class Time:
    """A time in ms: fixed, or the value of a setting read in every scan (`slot` >= 0)."""

    fixed: int
    slot: int = -1

    def ms(self, v: list[Any]) -> int:
        return self.fixed if self.slot < 0 else int(v[self.slot])


@dataclass(frozen=True, slots=True, eq=False)
class Target:
    """What action blocks act on: a BOOL variable (`slot`) or a body (`run`).

    An output that nothing stands in the way of goes out as it is asked for: `final` is its other slot, else -1.
    """

    name: str
    slot: int
    run: Compiled | None
    final: int = -1


@dataclass(frozen=True, slots=True, eq=False)
class Block:
    """An action block. Its `order` is the order in which bodies run (semantics section 5): sequences as listed, then the
    number of the step, then the position of the block in it.
    """

    order: int
    rule: Rule
    target: int
    time: Time
    sequence: int
    step: int = 0
    position: int = 0


@dataclass(frozen=True, slots=True, eq=False)
class Way:
    """A transition: steps by index in their sequence. `order` is its place in the order of priority."""

    index: int
    order: int
    sources: tuple[int, ...]
    targets: tuple[int, ...]
    condition: Compiled
    checked: Checked
    text: str
    permissives: tuple[tuple[Compiled, Checked, str], ...]
    place: Place


@dataclass(frozen=True, slots=True, eq=False)
class LinkedStep:
    """A step. `choose` gives the place in `ways` of the first that may clear, -1 for none; None where a way has
    more predecessors. `constant` are the blocks that are on as long as it is active, `always` their targets, `parting` those
    that count when it is left, `varying` the others.
    """

    name: str
    number: int
    index: int
    x: int
    t: int
    late: int
    blocks: tuple[Block, ...]
    constant: tuple[Block, ...]
    always: frozenset[int]
    varying: tuple[Block, ...]
    parting: tuple[Block, ...]
    ways: tuple[Way, ...]
    reads: frozenset[int]
    choose: Compiled | None
    longest: Time | None
    shortest: Time | None
    response: str
    trip: int
    place: Place


@dataclass(frozen=True, slots=True, eq=False)
class LinkedSequence:
    """A sequence; `initial` is the index of a step, `state` the slot of its number, `hold` when it is held (semantics
    9.1).
    """

    name: str
    index: int
    steps: tuple[LinkedStep, ...]
    initial: int
    state: int
    hold: Compiled | None
    drop: bool
    restart: int  # slot of the edge of `restart when`, -1 without
    retain: bool

    @property
    def can_hold(self) -> bool:
        return self.hold is not None or any(s.response == "hold" for s in self.steps)

    def by_number(self, steps: list[int]) -> list[int]:
        """Step indices sorted by their number."""
        return sorted(steps, key=lambda i: self.steps[i].number)


@dataclass(frozen=True, slots=True, eq=False)
class LinkedEdge:
    """A RISING, FALLING or HELD: the slot of its result, what it looks at, and how long for HELD (semantics 7)."""

    kind: str
    slot: int
    operand: Compiled
    time: Compiled | None
    form: str
    """What it looks at, by names: two edges of one form are the same edge in two versions of a file."""


@dataclass(frozen=True, slots=True, eq=False)
class LinkedTrip:
    """A trip; `scope` are indices of sequences (semantics 9.2)."""

    name: str
    index: int
    rank: int
    condition: Compiled
    scope: tuple[int, ...]
    latching: bool
    steps: str
    go_to: dict[int, int]
    clear_stored: bool
    zero_times: bool
    zeroed: tuple[tuple[int, Value], ...]


@dataclass(frozen=True, slots=True, eq=False)
class LinkedWords:
    """The text of an alarm: pieces as they are, and values with their type and the digits behind the point, -1 for all."""

    pieces: tuple[str | tuple[Compiled, Type, int], ...]

    def of(self, v: list[Any]) -> str:
        """The text with the values as they are. Raises `RunStop` for one that has no value."""
        return "".join(x if isinstance(x, str) else shown(x[0](v), x[1], x[2]) for x in self.pieces)


def shown(value: Value, kind: Type, digits: int) -> str:
    """A value as people read it in a text: 4 significant digits of a REAL unless it is said how many behind the point.

    >>> shown(81.26, Type.REAL, 1), shown(81.26, Type.REAL, -1), shown(1500, Type.TIME, -1), shown(True, Type.BOOL, -1)
    ('81.3', '81.26', 'T#1s500ms', 'TRUE')
    """
    if kind is Type.REAL:
        return f"{value:.{digits}f}" if digits >= 0 else f"{value:.4g}"
    return value_text(value, kind)


@dataclass(frozen=True, slots=True, eq=False)
class LinkedAlarm:
    """An alarm with a condition of its own (semantics 9.6)."""

    ident: str
    text: str
    condition: Compiled
    place: Place


@dataclass(frozen=True, slots=True, eq=False)
class LinkedInterlock:
    """An interlock between the slot an output is asked in and the one it goes out in (semantics 8)."""

    output: str
    asked: int
    final: int
    condition: Compiled
    checked: Checked
    text: str
    place: Place
    pure: bool
    """Whether reading the condition does nothing: it need not be read while the output is not asked for."""


@dataclass(frozen=True, slots=True, eq=False)
class LinkedPair:
    """An opposed pair; its dead time in scans (semantics 8)."""

    names: tuple[str, str]
    asked: tuple[int, int]
    final: tuple[int, int]
    dead_scans: int


@dataclass(frozen=True, slots=True, eq=False)
class LinkedDevice:
    """A device and its wires. `first_drive` is where its drives begin in `drives(v)`.

    A device whose numbers are only compared with fixed values needs a scan where a comparison turns, not at each of its
    readings: `thresholds` are what it is compared with, and whether by `>` or `<=`; None for other devices; `number` is the slot.
    """

    name: str
    device: Device
    drives: tuple[int, ...]
    first_drive: int
    can_harm: bool
    """Whether its kind knows hazards at all, with the drives that are wired."""
    sensors: tuple[tuple[int, int], ...]  # (index in `sense`, slot)
    slots: tuple[int, ...]
    """Slot of each value of `sense`, -1 for those that are not wired."""
    number: int
    thresholds: tuple[tuple[bool, Compiled], ...] | None
    inner: dict[int, tuple[int, ...]]
    """Where values of `sense` go that another device takes, by their index: their signal's slot too, if they have one."""


@dataclass(frozen=True, slots=True, eq=False)
class LinkedOwn:
    """An own device: what its text reads from and gives to, as pairs of slots with its own one first."""

    index: int
    run: Compiled
    inputs: tuple[tuple[int, int], ...]
    outputs: tuple[tuple[int, int], ...]
    failures: tuple[tuple[str, int], ...]


@dataclass(frozen=True, slots=True, eq=False)
class Program:
    """See the module's text. `drives(v)` gives all drive values of all devices, in order, in one call."""

    project: Project
    period_ms: int
    places: tuple[Place, ...]
    start: tuple[Any, ...]
    recorded: tuple[Recorded, ...]
    slots: dict[str, int]
    """Slot of each signal as the trace shows it, by lower-case name."""
    asked: dict[int, int]
    """Slot an output is asked for in, by the slot it goes out in."""
    types: dict[str, Type]
    sequences: tuple[LinkedSequence, ...]
    targets: tuple[Target, ...]
    blocks: tuple[Block, ...]
    opening: Compiled | None
    closing: Compiled | None
    edges: tuple[LinkedEdge, ...]
    trips: tuple[LinkedTrip, ...]
    alarms: tuple[LinkedAlarm, ...]
    words: dict[str, LinkedWords]
    """What alarms say in words of their own, by their identifiers."""
    reset: int
    home: Compiled | None
    home_slot: int
    home_tree: Checked | None
    interlocks: tuple[LinkedInterlock, ...]
    pairs: tuple[LinkedPair, ...]
    outputs: tuple[tuple[int, int], ...]
    """(asked, final) of the outputs that are copied in every scan: all but those of a `Target.final`."""
    devices: tuple[LinkedDevice, ...]
    own: tuple[LinkedOwn, ...]
    """Own devices: their texts run in every scan."""
    inward: frozenset[int]
    """Slots that devices give and devices are driven by: when one changes the scan has to be run."""
    machine: dict[str, int]
    """Slots that belong to the machine, not to the controls."""
    driven: tuple[int, ...]
    """Which device each of the values of `drives(v)` drives."""
    drives: Callable[[list[Any]], tuple[Any, ...]]
    retained: tuple[int, ...]
    times: Times
    instances: dict[str, tuple[str, int]]
    """Kind and first slot of each block instance, by lower-case name."""
    watched: frozenset[int]
    """Slots that are looked at in any situation; `LinkedStep.reads` tells those that matter while a step is active."""
    by_order: dict[int, Block]
    has_bodies: bool
    transparent: bool
    """Whether nothing but the engine itself changes what is recorded: no text assigns, no trip zeroes."""
    restless: bool
    """Whether a text runs in every scan, or a condition can do more than give its value."""
    runs_texts: bool
    """Whether there is anything of which `always_read` tells."""
    always_read: frozenset[int]
    """What texts read that run in every scan, and conditions that are asked in every scan and can do more than give their value."""
    looked_at: bool
    """Whether somebody looks at conditions from outside."""
    guarded: bool
    """Whether phase 5 has anything to decide: trips, holds, restarts."""

    def alarm_idents(self) -> frozenset[str]:
        """What the log of a run calls all that can raise an alarm."""
        return frozenset(source.ident for source in sources(self.project))

    @property
    def end_recorded(self) -> int:
        return FIRST_RECORDED + len(self.recorded)
