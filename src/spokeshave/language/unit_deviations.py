"""Where copies of a unit are not as their template would have them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from spokeshave.language.unit_texts import WORD, one_line, texts_of
from spokeshave.language.units import among, copied_name, copy_of, image, own_signal
from spokeshave.model.answers import Answers
from spokeshave.model.diagnostics import Place
from spokeshave.model.positions import positions
from spokeshave.model.project import Project, Sequence, Unit
from spokeshave.model.remembered import remembered


@dataclass(frozen=True, slots=True)
class Deviation:
    """Where a copy is not as its template would have it."""

    place: Place
    text: str


MOST = 1000
"""Copies that are kept in mind."""
_known: dict[tuple[str, str], tuple[tuple[object, ...], tuple[Deviation, ...]]] = {}

_every: Callable[[tuple[object, ...]], frozenset[object]] = remembered(frozenset)
"""The items of a file as a set, for the questions of many copies."""


def deviations(project: Project, unit: Unit, prefix: str) -> tuple[Deviation, ...]:
    """Every item of a copy that is not as the template would have it. Kept until something changes that a copy rests on, since
    each edit asks for all copies again.
    """
    basis = _basis(project, unit, prefix)
    known = _known.get((unit.name, prefix))
    if known is not None and known[0] == basis:
        return known[1]
    if len(_known) >= MOST:
        _known.clear()
    found = tuple(compare_copy(project, unit, prefix))
    _known[unit.name, prefix] = (basis, found)
    return found


def _basis(project: Project, unit: Unit, prefix: str) -> tuple[object, ...]:
    """What a comparison looks at: parts of a file, which are the same objects until they are changed."""
    p = project

    def of(names: tuple[str, ...]) -> set[str]:
        return {n.lower() for n in names} | {copied_name(unit, prefix, n).lower() for n in names}

    sequences, devices, signals = of(unit.sequences), of(unit.devices), of(unit.signals)
    logic = (p.opening, p.closing, p.interlocks, p.opposed, p.trips, p.alarms, p.scenarios, p.instances, p.connections)
    own = [x for items, names in ((p.sequences, sequences), (p.devices, devices), (p.signals, signals))
           for x in items if x.name.lower() in names]  # fmt: skip
    # A scenario or an alarm is the unit's if it speaks of nothing else that is worked out: of any signal, then.
    return (unit, *logic, *own, _mentioned(p), *(p.signals if p.scenarios or p.alarms else ()))


def _words_of(q: Sequence) -> frozenset[str]:
    """The words in the texts of a sequence, in lower case."""
    return frozenset(w for text in texts_of(q) for w in WORD.findall(text.lower()))


def _mentions(project: Project) -> frozenset[tuple[str, str]]:
    """Which sequence has a word that is a block instance in it: an instance is the unit's if nobody else calls it."""
    instances = {i.name.lower() for i in project.instances}
    return frozenset((q.name.lower(), w) for q in project.sequences if instances for w in instances & _words_of(q))


_mentioned = Answers(_mentions, most=2)


def compare_copy(project: Project, unit: Unit, prefix: str) -> list[Deviation]:
    """The same, worked out anew."""
    want, found = image(project, unit, prefix), []
    for s in want.signals:
        there = project.signal(s.name)
        if there is None:
            found.append(Deviation(Place("signal", item=s.name), f"signal {s.name} is missing"))
        elif own_signal(s, there) != there:
            found.append(Deviation(Place("signal", item=s.name), f"signal {s.name} is another"))
    for q in want.sequences:
        here = project.sequence(q.name)
        if here is None:
            found.append(Deviation(Place("sequence", item=q.name), f"sequence {q.name} is missing"))
        elif here != q:
            found += _sequence_deviations(q, here)
    for d in want.devices:
        device = project.device(d.name)
        if device is None:
            found.append(Deviation(Place("device", item=d.name), f"device {d.name} is missing"))
        elif replace(d, at=device.at, comment=device.comment) != device:
            found.append(Deviation(Place("device", item=d.name), f"device {d.name} is wired or set in another way"))
    if set(among(project, (d.name for d in want.devices))) != set(want.connections):
        name = want.devices[0].name
        found.append(Deviation(Place("device", item=name), f"the devices with {name} are connected in another way"))
    found += [
        Deviation(Place("interlock", item=i.output), f"the interlock of {i.output} is another")
        for i in want.interlocks
        if not any(o.output.lower() == i.output.lower() and o.condition == i.condition for o in project.interlocks)
    ]
    found += [
        Deviation(Place("opposed", item=f"{o.first}, {o.second}"), f"the opposed pair of {o.first} is another")
        for o in want.opposed
        if o not in _every(project.opposed)
    ]
    have = positions(project)
    found += [
        Deviation(Place("opening"), f"position {p.name} has another rule") for p in want.positions if p not in have
    ]
    copy = copy_of(project, want)
    for logic, wanted in (("opening", want.opening), ("closing", want.closing)):
        said = [one_line(text) for text in copy.logic(logic)]
        lacks = [text for text in map(one_line, wanted) if text not in said]
        found += [Deviation(Place(logic), f"the {logic} logic lacks: {text}") for text in lacks]
    lacking = [("instance", i.name) for i in want.instances if i not in _every(project.instances)]
    lacking += [("trip", t.name) for t in (*want.trips, *want.shared) if t not in _every(project.trips)]
    lacking += [("alarm", a.on or a.name) for a in want.alarms if a not in _every(project.alarms)]
    lacking += [("scenario", s.name) for s in want.scenarios if s not in _every(project.scenarios)]
    found += [Deviation(Place(kind, item=n), f"{kind} {n} is missing or another") for kind, n in lacking]
    return found


def _sequence_deviations(want: Sequence, here: Sequence) -> list[Deviation]:
    found = []
    steps = {s.name: s for s in here.steps}
    for s in want.steps:
        if s.name not in steps:
            found.append(Deviation(Place("sequence", item=here.name), f"step {s.name} of {here.name} is missing"))
        elif steps[s.name] != s:
            found.append(Deviation(Place("step", here.name, s.name), f"step {s.name} of {here.name} is another"))
    known = {s.name for s in want.steps}
    found += [
        Deviation(Place("step", here.name, n), f"step {n} of {here.name} is not in the template")
        for n in steps
        if n not in known
    ]
    if not found:
        found.append(Deviation(Place("sequence", item=here.name), f"ways or settings of {here.name} are others"))
    return found
