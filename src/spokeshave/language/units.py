"""Units: a part of the machine as a template, and copies of it under other prefixes that stay tied to it.

What a copy has of its own: addresses, comments, initial values of settings, places on the board. All else follows the
template: where it differs, that is shown and can be taken over.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import TypeVar

from spokeshave.language.references import HERE, Target, Where, put_at
from spokeshave.language.rename import SCENARIO, in_sequence, in_trip, name_problem
from spokeshave.language.unit_texts import Belongings, belongings_of, marks_in, one_line, with_own_marks
from spokeshave.model.alarms import AlarmRule, in_alarm
from spokeshave.model.edits import EditError, taken_names
from spokeshave.model.positions import Position, positions, put_position
from spokeshave.model.project import (
    Connection,
    Device,
    Instance,
    Interlock,
    OpposedPair,
    Project,
    Scenario,
    Sequence,
    Signal,
    SignalClass,
    Trip,
    Unit,
)  # fmt: skip

T = TypeVar("T")
COPIED = frozenset(("signal", "sequence", "device", "instance"))
"""Kinds of names that a copy has under its own prefix."""


@dataclass(frozen=True, slots=True)
class Image:
    """What a copy has to be, from the template."""

    signals: tuple[Signal, ...]
    sequences: tuple[Sequence, ...]
    devices: tuple[Device, ...]
    interlocks: tuple[Interlock, ...]
    opposed: tuple[OpposedPair, ...]
    positions: tuple[Position, ...]
    connections: tuple[Connection, ...]
    """Between devices of the unit."""
    instances: tuple[Instance, ...]
    opening: tuple[str, ...]
    closing: tuple[str, ...]
    """Statements of opening and closing logic."""
    trips: tuple[Trip, ...]
    shared: tuple[Trip, ...]
    """Trips that act on other sequences too, grown by what the copy adds to them."""
    scenarios: tuple[Scenario, ...]
    alarms: tuple[AlarmRule, ...]


def unit_named(project: Project, name: str) -> Unit:
    """The unit of this name. Raises `EditError` if there is none."""
    found = next((u for u in project.units if u.name.lower() == name.lower()), None)
    if found is None:
        raise EditError(f"there is no unit {name}")
    return found


def copied_name(unit: Unit, prefix: str, name: str) -> str:
    """The name of a template's item in a copy.

    >>> copied_name(Unit("Gate", "A_"), "B_", "A_Open"), copied_name(Unit("Gate"), "B", "Open")
    ('B_Open', 'BOpen')
    """
    own = name[len(unit.prefix) :] if name.lower().startswith(unit.prefix.lower()) else name
    return prefix + own


def _names(unit: Unit, prefix: str, belongs: Belongings) -> dict[str, str]:
    own = (*unit.signals, *unit.sequences, *unit.devices, *sorted(belongs.instances))
    return {n: copied_name(unit, prefix, n) for n in own}


def left_behind(project: Project, name: str) -> list[str]:
    """What speaks of a unit and does not come along with its copies, a sentence each; to be read before one is made."""
    return belongings_of(project, unit_named(project, name)).left_behind()


def image(project: Project, unit: Unit, prefix: str) -> Image:
    """The copy with `prefix` as the template has it now."""
    belongs = belongings_of(project, unit)
    names = {old.lower(): new for old, new in _names(unit, prefix, belongs).items()}
    trips = {t.name.lower(): copied_name(unit, prefix, t.name) for t in belongs.trips}
    known = belongs.named

    def new_word(t: Target) -> str | None:
        return names.get(t.name) if t.kind in COPIED else None

    def put_in(text: str, where: Where) -> str:
        return put_at(text, known.references(text, where), new_word)

    def put(text: str) -> str:
        return put_in(text, HERE)

    mine = {n.lower() for n in unit.signals}

    def new(name: str) -> str:
        return names.get(name.lower(), name)

    def answer(q: Sequence) -> Sequence:
        steps = tuple(replace(s, response=trips.get(s.response.lower(), s.response)) for s in q.steps)
        return q if steps == q.steps else replace(q, steps=steps)

    def grown(t: Trip) -> Trip:
        def more(these: tuple[str, ...]) -> tuple[str, ...]:
            return tuple(dict.fromkeys((*these, *map(put, these))))

        scope = None if t.scope is None else more(t.scope)
        return replace(t, scope=scope, go_to=more(t.go_to), zeroed=more(t.zeroed), stays=more(t.stays))

    def told(a: AlarmRule) -> AlarmRule:
        kind, _, trip = a.on.partition(" ")
        on = f"trip {trips[trip.lower()]}" if kind == "trip" else in_alarm(a, put).on
        name = copied_name(unit, prefix, a.name) if a.name else ""
        return replace(in_alarm(a, put), name=name, on=on, device=new(a.device))

    scenarios = belongs.scenarios
    marks, label = marks_in(scenarios), prefix.strip("_")
    sequences, devices = ({n.lower() for n in names} for names in (unit.sequences, unit.devices))
    return Image(
        tuple(replace(s, name=new(s.name)) for s in project.signals if s.name.lower() in mine),
        tuple(
            answer(replace(in_sequence(q, put_in), name=new(q.name)))
            for q in project.sequences
            if q.name.lower() in sequences
        ),
        tuple(
            replace(d, name=new(d.name), wires=tuple((t, new(s)) for t, s in d.wires))
            for d in project.devices
            if d.name.lower() in devices
        ),
        tuple(replace(i, output=new(i.output), condition=put(i.condition)) for i in belongs.interlocks),
        tuple(replace(o, first=new(o.first), second=new(o.second)) for o in belongs.opposed),
        tuple(
            replace(
                p,
                name=new(p.name),
                switch=new(p.switch),
                opposite=new(p.opposite),
                command=new(p.command),
                settle=put(p.settle),
            )
            for p in positions(project)
            if p.name.lower() in mine
        ),
        tuple(replace(c, source=new(c.source), target=new(c.target)) for c in among(project, unit.devices)),
        tuple(replace(i, name=new(i.name)) for i in project.instances if i.name in belongs.instances),
        tuple(map(put, belongs.logic("opening"))),
        tuple(map(put, belongs.logic("closing"))),
        tuple(replace(in_trip(t, put), name=trips[t.name.lower()]) for t in belongs.trips),
        tuple(map(grown, belongs.shared_trips)),
        tuple(
            replace(s, name=f"{s.name} ({label})", text=with_own_marks(put_in(s.text, SCENARIO), marks, f"{label} "))
            for s in scenarios
        ),
        tuple(map(told, belongs.alarms)),
    )


def among(project: Project, devices: Iterable[str]) -> list[Connection]:
    """Connections from one of these devices to another of them."""
    mine = {d.lower() for d in devices}
    return [c for c in project.connections if {c.source.lower(), c.target.lower()} <= mine]


def own_signal(new: Signal, there: Signal | None) -> Signal:
    """A signal of the template with what the copy has of its own."""
    if there is None:
        return replace(new, address="")
    initial = there.initial if new.cls is SignalClass.SETTING and there.type is new.type else new.initial
    return replace(new, address=there.address, comment=there.comment, initial=initial)


def copy_of(project: Project, want: Image) -> Belongings:
    """What belongs to a copy as it stands."""
    unit = Unit("", "", *(tuple(x.name for x in items) for items in (want.signals, want.sequences, want.devices)))
    return Belongings(project, unit)


def add_copy(project: Project, name: str, prefix: str) -> Project:
    """One more copy of a unit. Raises EditError if a name of it is taken or none."""
    unit = unit_named(project, name)
    names = _names(unit, prefix, belongings_of(project, unit))
    taken = taken_names(project)
    for new in names.values():
        if problem := name_problem(new):
            raise EditError(f"with the prefix {prefix!r}: {problem}")
        if new.lower() in taken:
            raise EditError(f"with the prefix {prefix!r} there would be a second {new}; choose another prefix")
    if len({n.lower() for n in names.values()}) < len(names):
        raise EditError(f"with the prefix {prefix!r} two items would have one name")
    grown = replace(unit, copies=(*unit.copies, prefix))
    project = replace(project, units=tuple(grown if u is unit else u for u in project.units))
    return take_over(project, name, prefix)


def take_over(project: Project, name: str, prefix: str) -> Project:
    """A copy as its template has it now, with what the copy has of its own."""
    unit = unit_named(project, name)
    want = image(project, unit, prefix)
    signals = _put(project.signals, [own_signal(s, project.signal(s.name)) for s in want.signals], lambda s: s.name)
    shift = 1 + max((d.at[1] for d in project.devices), default=0) - min((d.at[1] for d in want.devices), default=0)
    devices = []
    for d in want.devices:
        there = project.device(d.name)
        devices.append(
            replace(d, at=(d.at[0], d.at[1] + shift))
            if there is None
            else replace(d, at=there.at, comment=there.comment)
        )
    outputs = {i.output.lower() for i in want.interlocks}
    project = replace(
        project,
        signals=signals,
        sequences=_put(project.sequences, list(want.sequences), lambda q: q.name),
        devices=_put(project.devices, devices, lambda d: d.name),
        interlocks=(*(i for i in project.interlocks if i.output.lower() not in outputs), *want.interlocks),
        opposed=_put(project.opposed, list(want.opposed), lambda o: f"{o.first} {o.second}"),
    )
    project = _take_texts(project, want)
    old = among(project, (d.name for d in want.devices))
    kept = tuple(c for c in project.connections if c not in old)
    project = replace(project, connections=(*kept, *want.connections))
    for p in want.positions:
        have = {x.name.lower(): x for x in positions(project)}
        if have.get(p.name.lower()) != p:
            project = put_position(project, p, p.name if p.name.lower() in have else "")
    return project


def _take_texts(project: Project, want: Image) -> Project:
    """Blocks, trips, scenarios, and the statements of opening and closing logic in the place of the copy's own ones."""
    project = replace(
        project,
        instances=_put(project.instances, list(want.instances), lambda i: i.name),
        trips=_put(project.trips, [*want.shared, *want.trips], lambda t: t.name),
        alarms=_put(project.alarms, list(want.alarms), lambda a: a.key),
        scenarios=_put(project.scenarios, list(want.scenarios), lambda s: s.name),
    )
    copy = copy_of(project, want)
    for logic, wanted in (("opening", want.opening), ("closing", want.closing)):
        here, text = copy.logic(logic), getattr(project, logic)
        if [one_line(t) for t in here] == [one_line(t) for t in wanted]:
            continue
        for old in here:
            text = text.replace(old, "", 1)
        text = f"{text.rstrip()}\n{chr(10).join(wanted)}\n".lstrip("\n")
        project = replace(project, opening=text) if logic == "opening" else replace(project, closing=text)
    return project


def _put(items: tuple[T, ...], new: list[T], name: Callable[[T], str]) -> tuple[T, ...]:
    """`items` with those of the same name exchanged, others added at the end."""
    by = {name(n).lower(): n for n in new}
    kept = tuple(by.pop(name(i).lower(), i) for i in items)
    return (*kept, *by.values())


def new_unit(project: Project, unit: Unit) -> Project:
    """Marks a part of the machine as a unit. Raises EditError for a name that is taken or an empty choice."""
    if any(u.name.lower() == unit.name.lower() for u in project.units) or not unit.name.strip():
        raise EditError(f"{unit.name or 'a unit without a name'}: give the unit a name of its own")
    if not (unit.signals or unit.sequences or unit.devices):
        raise EditError("choose the signals, sequences and devices that belong to the unit")
    return replace(project, units=(*project.units, unit))


def common_prefix(names: list[str]) -> str:
    """What all names begin with, up to an underscore or a change from small to capital letters.

    >>> common_prefix(["A_Open", "A_Shut"]), common_prefix(["GateUp", "GateDown"]), common_prefix(["Up", "Down"])
    ('A_', 'Gate', '')
    """
    if not names:
        return ""
    low, high = min(names), max(names)
    n = 0
    while n < min(len(low), len(high)) and low[n] == high[n]:
        n += 1
    while n and not (low[n - 1] == "_" or (n < len(low) and low[n].isupper()) or low[n - 1].isdigit()):
        n -= 1
    return low[:n]


def belongings(project: Project, sequences: tuple[str, ...]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Signals and devices that only these sequences speak of: what most likely belongs to their unit."""

    def words(qs: list[Sequence]) -> set[str]:
        found: set[str] = set()

        def put(text: str, _: Where) -> str:
            found.update(w.lower() for w in re.findall(r"[A-Za-z_]\w*", text))
            return text

        for q in qs:
            in_sequence(q, put)
        return found

    wanted = {n.lower() for n in sequences}
    own = words([q for q in project.sequences if q.name.lower() in wanted])
    others = words([q for q in project.sequences if q.name.lower() not in wanted])
    signals = tuple(s.name for s in project.signals if s.name.lower() in own - others)
    mine = {s.lower() for s in signals}
    devices = tuple(d.name for d in project.devices if any(s.lower() in mine for _, s in d.wires))
    wired = {s.lower() for d in project.devices if d.name in devices for _, s in d.wires} - others
    return tuple(s.name for s in project.signals if s.name.lower() in mine | wired), devices
