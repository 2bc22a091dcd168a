"""Every text of a machine file with its place, in the order of the stages: to find things in, and where something is used."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from spokeshave.engine.link_sequence import step_numbers, transition_place
from spokeshave.language.literals import value_text
from spokeshave.language.references import HERE, Where
from spokeshave.model.alarms import Hole, pieces
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Device, Project, Sequence

SCENARIO = Where(kind="scenario")


@dataclass(frozen=True, slots=True)
class Text:
    """A text of a machine file: where it is, what it is there, how names in it are read; None where it names nothing. `names` says
    that it is the name of the thing at `place` itself.
    """

    place: Place
    what: str
    text: str
    where: Where | None = None
    names: bool = False


def every_text(project: Project) -> Iterator[Text]:
    """All texts that are not empty. Those of several lines come whole; lines are counted from their first."""
    yield from (t for t in _texts(project) if t.text.strip())


def _texts(p: Project) -> Iterator[Text]:
    whole = Place(item=p.name)
    yield Text(whole, "file", p.name, names=True)
    yield Text(whole, "comment", p.comment)
    for r in p.requirements:
        here = Place("requirement", item=r.ident)
        yield Text(here, "requirement", r.ident, names=True)
        yield Text(here, "text", r.text)
    for s in p.signals:
        here = Place("signal", item=s.name)
        yield Text(here, str(s.cls), s.name, names=True)
        yield from _parts(here, (("comment", s.comment), ("address", s.address), ("unit", s.unit)))
        for what, value in (("initial", s.initial), ("home", s.home)):
            if value is not None:
                yield Text(here, what, value_text(value, s.type))
    for t in p.tables:
        yield Text(Place("table", item=t.name), "table", t.name, names=True)
        yield from (Text(Place("table", item=t.name), "column", c.name) for c in t.columns)
    for block in p.routines:
        yield Text(Place("routine", item=block.name), "block", block.name, names=True)
        yield Text(Place("routine", item=block.name), "text", block.text, Where(block.name, "routine"))
    for i in p.instances:
        yield Text(Place("instance", item=i.name), i.kind, i.name, names=True)
    for recipe in p.recipes:
        here = Place("recipe", item=recipe.name)
        yield Text(here, "recipe", recipe.name, names=True)
        for name, value in recipe.values:
            yield Text(here, "setting", name, HERE)
            if (setting := p.signal(name)) is not None:
                yield Text(here, name, value_text(value, setting.type))
    yield Text(Place("opening"), "opening logic", p.opening, HERE)
    yield Text(Place("closing"), "closing logic", p.closing, HERE)
    yield Text(Place(item="home"), "home", p.home, HERE)
    yield Text(Place(item="reset"), "reset", p.reset, HERE)
    for q in p.sequences:
        yield from _of_sequence(q)
    for lock in p.interlocks:
        here = Place("interlock", item=lock.output)
        yield Text(here, "interlock of", lock.output, HERE)
        yield Text(here, "condition", lock.condition, HERE)
        yield Text(here, "comment", lock.comment)
    for o in p.opposed:
        here = Place("opposed", item=f"{o.first}, {o.second}")
        yield from (Text(here, "opposed pair", name, HERE) for name in (o.first, o.second))
    for trip in p.trips:
        here = Place("trip", item=trip.name)
        yield Text(here, "trip", trip.name, names=True)
        yield Text(here, "condition", trip.condition, HERE)
        for what, names in (
            ("acts on", trip.scope or ()),
            ("goes to", trip.go_to),
            ("zero", trip.zeroed),
            ("may stay", trip.stays),
        ):
            yield from (Text(here, what, n, HERE) for n in names)
    for a in p.alarms:
        here = Place("alarm", item=a.on or a.name)
        yield Text(here, "alarm", a.name, names=True)
        yield from _parts(
            here,
            (
                ("raised by", a.on.partition(" ")[2]),
                ("condition", a.condition),
                ("delay", a.delay),
                ("points at", a.device),
            ),
            HERE,
        )
        yield Text(here, "text", a.text)
        yield from (Text(here, "value in the text", x.expression, HERE) for x in pieces(a.text) if isinstance(x, Hole))
    for d in p.devices:
        yield from _of_device(d)
    for c in p.connections:
        yield Text(Place("device", item=c.source), c.kind, f"{c.source} {c.target}", HERE)
    yield from (Text(Place(item="board"), "label", x.text) for x in p.labels)
    yield from (Text(Place(item="board"), "group", g.name) for g in p.groups)
    for shape in p.scene:
        told = (("shape", shape.name), ("written on it", shape.text), ("it follows", shape.follows))
        yield from _parts(Place(item="scene"), told, HERE)
    for tile in p.panel:
        yield from _parts(Place(item="operator's page"), (("tile", tile.text), ("it is of", tile.of)), HERE)
    for scenario in p.scenarios:
        here = Place("scenario", item=scenario.name)
        yield Text(here, "scenario", scenario.name, names=True)
        yield Text(here, "row", scenario.text, SCENARIO)
    yield from (Text(Place(item="units"), "unit", u.name) for u in p.units)
    yield from (Text(Place(item="Modbus map"), f"address {b.address}", b.name, HERE) for b in p.modbus)
    yield from (Text(Place(item=w.place), "waived", f"{w.code}: {w.reason}") for w in p.waivers)


def _parts(place: Place, parts: Iterable[tuple[str, str]], where: Where | None = None) -> Iterator[Text]:
    yield from (Text(place, what, text, where) for what, text in parts)


def _of_sequence(q: Sequence) -> Iterator[Text]:
    whole, own = Place("sequence", item=q.name), Where(q.name)
    yield Text(whole, "sequence", q.name, names=True)
    yield Text(whole, "comment", q.comment)
    yield from _parts(whole, (("hold when", q.hold_when), ("restart when", q.restart_when)), own)
    for s in q.steps:
        here = Place("step", q.name, s.name)
        yield Text(here, f"step {s.number}", s.name, names=True)
        yield from _parts(here, (("longest", s.longest), ("shortest", s.shortest), ("permissive", s.permissive)), own)
        yield Text(here, "comment", s.comment)
        for a in s.actions:
            spot = Place("action", q.name, f"{s.name} {a.target}")
            yield Text(spot, str(a.qualifier), a.target, Where(q.name, "action"))
            yield Text(spot, "time", a.time, own)
    numbers = step_numbers(q)
    yield from (
        Text(transition_place(q, i, numbers), "condition", t.condition, own) for i, t in enumerate(q.transitions)
    )
    for b in q.bodies:
        here = Place("body", q.name, b.name)
        yield Text(here, "body", b.name, names=True)
        yield Text(here, "text", b.text, own)


def _of_device(d: Device) -> Iterator[Text]:
    here = Place("device", item=d.name)
    yield Text(here, d.kind, d.name, names=True)
    yield Text(here, "comment", d.comment)
    yield from (Text(here, f"wire {terminal}", signal, HERE) for terminal, signal in d.wires)
    yield from (Text(here, name, f"{value:g}") for name, value in d.parameters)
    yield from (Text(here, "declares", x.name) for x in d.declared)
    yield Text(here, "text", d.text)
