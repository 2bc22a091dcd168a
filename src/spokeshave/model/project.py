"""The values a machine file is made of. All are frozen: an edit builds a new `Project` that shares the rest."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeVar

from spokeshave.model.alarms import AlarmRule as AlarmRule
from spokeshave.model.panel import Tile as Tile
from spokeshave.model.qualifiers import Qualifier as Qualifier
from spokeshave.model.recipes import Recipe as Recipe
from spokeshave.model.remembered import of_declared, remembered
from spokeshave.model.scene import Shape as Shape
from spokeshave.model.signals import Column as Column
from spokeshave.model.signals import (
    Declarations,
    standard_instances,
    variables_of,
)
from spokeshave.model.signals import Instance as Instance
from spokeshave.model.signals import Member as Member
from spokeshave.model.signals import Routine as Routine
from spokeshave.model.signals import Signal as Signal
from spokeshave.model.signals import SignalClass as SignalClass
from spokeshave.model.signals import Table as Table
from spokeshave.model.signals import Type as Type
from spokeshave.model.signals import Value as Value
from spokeshave.model.signals import zero_of as zero_of
from spokeshave.model.study import StudyPlan
from spokeshave.model.sweep import SweepPlan


@dataclass(frozen=True, slots=True)
class Requirement:
    """One sentence of the brief."""

    ident: str
    text: str
    kind: str = "order"  # order, time, interlock, fault, recovery, manual
    shown_by: tuple[str, ...] = ()
    """What shows it besides scenarios: rules (`interlock Burner`), findings that must not be (`check step-no-exit`)."""


REQUIREMENT_KINDS = ("order", "time", "interlock", "fault", "recovery", "manual")


@dataclass(frozen=True, slots=True)
class Action:
    """An action block: `target` is a BOOL variable or the name of a body; `time` a TIME literal or a setting."""

    qualifier: Qualifier
    target: str
    time: str = ""


@dataclass(frozen=True, slots=True)
class Step:
    """A step. `longest` and `shortest` are its time window: TIME literals, settings, or empty."""

    name: str
    number: int
    actions: tuple[Action, ...] = ()
    longest: str = ""
    shortest: str = ""
    response: str = "alarm"  # when late: alarm, hold, or the name of a trip
    permissive: str = ""
    comment: str = ""

    def action_on(self, target: str) -> Action | None:
        """The first block of this step that acts on `target`."""
        return next((a for a in self.actions if a.target.lower() == target.lower()), None)


@dataclass(frozen=True, slots=True)
class Transition:
    """From all `sources` to all `targets` (step names) when `condition` is TRUE."""

    sources: tuple[str, ...]
    targets: tuple[str, ...]
    condition: str = "TRUE"
    priority: int | None = None
    name: str = ""


@dataclass(frozen=True, slots=True)
class Body:
    """A named action body in structured text."""

    name: str
    text: str


class Named(Protocol):
    """What has a name."""

    @property
    def name(self) -> str: ...


_N = TypeVar("_N", bound=Named)
_Ways = dict[str, list[tuple[int, Transition]]]


@remembered
def _by_name(items: tuple[Any, ...]) -> dict[str, Any]:
    return {s.name.lower(): s for s in reversed(items)}


def _named(items: tuple[_N, ...]) -> dict[str, _N]:
    """Items by lower-case name, the first of each."""
    return _by_name(items)


@remembered
def _ways(transitions: tuple[Transition, ...]) -> tuple[_Ways, _Ways]:
    """Transitions with their index by predecessor, and by successor."""
    out: _Ways = {}
    into: _Ways = {}
    for i, t in enumerate(transitions):
        for name in dict.fromkeys(t.sources):
            out.setdefault(name, []).append((i, t))
        for name in dict.fromkeys(t.targets):
            into.setdefault(name, []).append((i, t))
    return out, into


@dataclass(frozen=True, slots=True)
class Sequence:
    """Steps and transitions with exactly one initial step."""

    name: str
    initial: str
    steps: tuple[Step, ...]
    transitions: tuple[Transition, ...] = ()
    bodies: tuple[Body, ...] = ()
    hold_when: str = ""
    hold_outputs: str = "keep"  # keep, drop
    restart_when: str = ""
    retain: bool = False
    comment: str = ""

    def step(self, name: str) -> Step | None:
        return _named(self.steps).get(name.lower())

    def leaving(self, step: str) -> Iterator[tuple[int, Transition]]:
        """Transitions that have `step` as a predecessor, with their index."""
        return iter(_ways(self.transitions)[0].get(step, ()))

    def entering(self, step: str) -> Iterator[tuple[int, Transition]]:
        """Transitions that have `step` as a successor, with their index."""
        return iter(_ways(self.transitions)[1].get(step, ()))


@dataclass(frozen=True, slots=True)
class Interlock:
    """`condition` must be TRUE for `output` to be on (semantics section 8)."""

    output: str
    condition: str
    comment: str = ""


@dataclass(frozen=True, slots=True)
class OpposedPair:
    """Two outputs that may never be on together, with a dead time in ms (semantics section 8)."""

    first: str
    second: str
    dead_ms: int = 0


@dataclass(frozen=True, slots=True)
class Trip:
    """A ranked trip and its effects (semantics 9.3). Rank 1 is the highest.

    Without a `scope` it acts on all sequences, those that come later too; with none in it, on nothing: it only tells.
    """

    name: str
    rank: int
    condition: str
    scope: tuple[str, ...] | None = None
    latching: bool = True
    steps: str = "freeze"  # freeze, restart, go to
    go_to: tuple[str, ...] = ()  # `Sequence.Step` for each sequence in scope
    stored: str = "clear"  # keep, clear
    times: str = "freeze"  # freeze, zero
    zeroed: tuple[str, ...] = ()  # variables set to their zero
    stays: tuple[str, ...] = ()  # outputs that may stay on while it stands: somebody has said so

    def acts_on(self, sequence: str) -> bool:
        """Whether a sequence of this name is in its scope."""
        return self.scope is None or sequence.lower() in (n.lower() for n in self.scope)


@dataclass(frozen=True, slots=True)
class Declared:
    """What an own device declares: an `input` it is driven by, an `output` it gives, a `variable` or number it keeps,
    or a `failure`, which is TRUE while it is injected.
    """

    name: str
    role: str = "variable"  # input, output, variable, failure
    type: Type = Type.BOOL
    initial: Value | None = None


@dataclass(frozen=True, slots=True)
class Device:
    """A device of the machine stand-in: its kind, what its terminals are wired to, its parameters, its place.

    `declared` and `text` belong to own devices: what they declare, and the structured text that runs once a scan.
    """

    name: str
    kind: str
    wires: tuple[tuple[str, str], ...] = ()  # (terminal, signal)
    parameters: tuple[tuple[str, float], ...] = ()
    at: tuple[int, int] = (0, 0)  # board grid, columns and rows
    comment: str = ""
    declared: tuple[Declared, ...] = ()
    text: str = ""

    def wired(self, terminal: str) -> str:
        """The signal at a terminal, or an empty string."""
        return next((s for t, s in self.wires if t == terminal), "")


@dataclass(frozen=True, slots=True)
class Connection:
    """A line on the board from one device to another. With `gives` and `takes` a value goes along it: the sensor
    terminal `gives` of `source` drives the terminal `takes` of `target`.
    """

    source: str
    target: str
    kind: str = "pipe"
    gives: str = ""
    takes: str = ""


CONNECTION_KINDS = ("pipe", "shaft", "belt end")


@dataclass(frozen=True, slots=True)
class Label:
    """A text on the board, in the same grid as the devices."""

    text: str
    at: tuple[int, int] = (0, 0)


@dataclass(frozen=True, slots=True)
class Group:
    """Devices that stand in one frame on the board."""

    name: str
    devices: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Scenario:
    """A test sheet in the scenario language. Scenarios of one `group` are run together."""

    name: str
    text: str
    group: str = ""

    @property
    def shows(self) -> tuple[str, ...]:
        """The requirements it shows, from its `shows` rows."""
        return shown_in(self.text)


_SHOWS = re.compile(r"^[ \t]*shows[ \t]+(.*?)[ \t]*$", re.IGNORECASE | re.MULTILINE)


def shown_in(text: str) -> tuple[str, ...]:
    """The requirements named in the `shows` rows of a scenario."""
    parts = (p.strip() for row in _SHOWS.findall(text) for p in row.split(","))
    return tuple(dict.fromkeys(p for p in parts if p))


def with_shows(text: str, idents: Iterable[str]) -> str:
    """A scenario's text with one `shows` row for these requirements, where the first stood or at the top; none for none.

    >>> with_shows("shows R2\\nrun for 1 s", ["R1", "R2"])
    'shows R1, R2\\nrun for 1 s'
    """
    lines, row = text.split("\n"), f"shows {', '.join(idents)}"
    old = [i for i, line in enumerate(lines) if _SHOWS.fullmatch(line)]
    at = old[0] if old else next((i for i, line in enumerate(lines) if not line.lstrip().startswith("//")), len(lines))
    rest = [line for i, line in enumerate(lines) if i not in old]
    return "\n".join([*rest[:at], *([row] if row != "shows " else []), *rest[at:]])


@dataclass(frozen=True, slots=True)
class Accepted:
    """A run of a scenario that was accepted: what later runs are compared with.

    `lanes` are a signal or step flag each, with its changes as `ms:value` in the order of time. Edges may differ by
    `within_ms`, numbers by `within`. `label` is the choice of the scenario's lists. `stored` is the digest of lanes that are
    not here (see `model.stored`).
    """

    scenario: str
    label: str = ""
    within_ms: int = 50
    within: float = 1.0
    length_ms: int = 0
    lanes: tuple[tuple[str, str], ...] = ()
    note: str = ""
    stored: str = ""


@dataclass(frozen=True, slots=True)
class Unit:
    """A part of the machine that comes several times: what belongs to its template, and the prefixes of its copies.

    A copy's items are named like those of the template with its own prefix in the place of `prefix`.
    """

    name: str
    prefix: str = ""
    signals: tuple[str, ...] = ()
    sequences: tuple[str, ...] = ()
    devices: tuple[str, ...] = ()
    copies: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Waiver:
    """A finding of the check that may stand: its code, where it is, and why."""

    code: str
    place: str
    reason: str


@dataclass(frozen=True, slots=True)
class BusPoint:
    """Where something stands for Modbus clients: a variable, a step as `Sequence.Step`, or the state number of a sequence by
    its name. Which of the tables it is in follows from what it is and from the role of this side.
    """

    name: str
    address: int
    role: str = "controller"
    written: bool = False
    """Of a setting of a controller: whether clients may write it."""


@dataclass(frozen=True, slots=True)
class Conflict:
    """What two versions that were merged say differently: where, both sides in words, and theirs as JSON, to be taken over. The
    file has mine; the finding goes with the choice.
    """

    path: str
    mine: str
    theirs: str
    value: str


@dataclass(frozen=True, slots=True)
class Project:
    """A whole machine file."""

    name: str = "Untitled"
    period_ms: int = 10
    comment: str = ""
    requirements: tuple[Requirement, ...] = ()
    signals: tuple[Signal, ...] = ()
    tables: tuple[Table, ...] = ()
    routines: tuple[Routine, ...] = ()
    instances: tuple[Instance, ...] = ()
    recipes: tuple[Recipe, ...] = ()
    opening: str = ""
    closing: str = ""
    sequences: tuple[Sequence, ...] = ()
    interlocks: tuple[Interlock, ...] = ()
    opposed: tuple[OpposedPair, ...] = ()
    trips: tuple[Trip, ...] = ()
    alarms: tuple[AlarmRule, ...] = ()
    reset: str = ""
    home: str = ""
    devices: tuple[Device, ...] = field(default=())
    connections: tuple[Connection, ...] = ()
    labels: tuple[Label, ...] = ()
    groups: tuple[Group, ...] = ()
    scene: tuple[Shape, ...] = ()
    """The machine as it is drawn, from behind to before."""
    svg: str = ""
    """A drawing whose parts the scene names."""
    panel: tuple[Tile, ...] = ()
    """The operator's page as it is laid out; none for one that lays itself out."""
    scenarios: tuple[Scenario, ...] = ()
    units: tuple[Unit, ...] = ()
    modbus: tuple[BusPoint, ...] = ()
    low_word_first: bool = False
    """Whether numbers of two Modbus registers have the less significant one first."""
    waivers: tuple[Waiver, ...] = ()
    accepted: tuple[Accepted, ...] = ()
    conflicts: tuple[Conflict, ...] = ()
    foreign: tuple[tuple[str, str], ...] = ()
    """Additional data of other programs in PLCopen XML: of which part of the file, and what."""
    sweep: SweepPlan = field(default_factory=SweepPlan)
    study: StudyPlan = field(default_factory=StudyPlan)
    tolerances: tuple[tuple[str, float], ...] = ()
    """How far devices and settings may be off, in percent, where the room that is left is measured."""

    def runs_like(self, other: Project) -> bool:
        """Whether nothing that a run depends on differs: requirements, scenarios, comments on the file and places
        on the board may.
        """
        if self is other:
            return True
        fields = (
            "period_ms",
            "signals",
            "tables",
            "routines",
            "instances",
            "opening",
            "closing",
            "sequences",
            "interlocks",
            "opposed",
            "trips",
            "alarms",
            "reset",
            "home",
        )
        if any(getattr(self, f) is not getattr(other, f) and getattr(self, f) != getattr(other, f) for f in fields):
            return False
        return _moves(self) == _moves(other)

    @property
    def declared(self) -> Declarations:
        """What is declared by name and has values."""
        return self.signals, self.tables, self.instances, self.routines

    @property
    def variables(self) -> tuple[Signal, ...]:
        """Signals, cells of tables and variables of instances of own blocks, in this order."""
        if not self.tables and not self.routines:
            return self.signals
        return of_declared(variables_of, self.declared)

    @property
    def settings(self) -> tuple[Signal, ...]:
        """Settings and the cells of tables of settings: the numbers and times that people tune."""
        return of_declared(_settings_of, self.declared)

    @property
    def all_instances(self) -> tuple[Instance, ...]:
        """Instances of standard blocks, those inside own blocks too."""
        return of_declared(standard_instances, self.declared) if self.routines else self.instances

    def signal(self, name: str) -> Signal | None:
        """A variable by its name: a signal, `Pattern[3].Time` or `Motor2.RunTime`."""
        return _named(self.variables).get(name.lower())

    def table(self, name: str) -> Table | None:
        return _named(self.tables).get(name.lower())

    def routine(self, name: str) -> Routine | None:
        return _named(self.routines).get(name.lower())

    def sequence(self, name: str) -> Sequence | None:
        return _named(self.sequences).get(name.lower())

    def device(self, name: str) -> Device | None:
        return _named(self.devices).get(name.lower())

    def scenario(self, name: str) -> Scenario | None:
        return _named(self.scenarios).get(name.lower())


def _settings_of(declared: Declarations) -> tuple[Signal, ...]:
    return tuple(s for s in variables_of(declared) if s.cls is SignalClass.SETTING)


def _moves(project: Project) -> list[object]:
    """What the machine stand-in does depends on."""
    coupled = [(c.source, c.gives, c.target, c.takes) for c in project.connections if c.gives]
    return [(d.name, d.kind, d.wires, d.parameters, d.declared, d.text) for d in project.devices] + [coupled]
