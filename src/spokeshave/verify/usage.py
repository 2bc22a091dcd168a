"""Which text reads and writes which name: the basis of *used where* and of many findings."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from spokeshave.engine.link_sequence import step_numbers, transition_place
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.references import Names
from spokeshave.language.syntax import TextError
from spokeshave.model.alarms import Hole, pieces
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project


@dataclass(frozen=True, slots=True)
class Use:
    """One place that uses a name. `how` is read, write, act, sense, drive; `edge` if inside RISING or FALLING.

    `name` is in lower case; step members and bodies have their sequence before them.
    """

    name: str
    how: str
    place: Place
    edge: bool = False


def names_in(tree: sx.Expression, edge: bool = False) -> Iterator[tuple[str, bool]]:
    """Names an expression reads, in lower case, and whether inside RISING or FALLING."""
    match tree:
        case sx.Name():
            yield str(tree).lower(), edge
        case sx.Call():
            edge = edge or tree.function in ("RISING", "FALLING")
        case sx.Element():
            yield str(tree).lower(), edge
        case _:
            pass
    for part in sx.parts(tree):
        yield from names_in(part, edge)


Whole = Callable[[str], str]
"""Makes one spelling of the names that mean one thing, see `Names.whole`."""


def uses_in_expression(text: str, place: Place, whole: Whole = str) -> Iterator[Use]:
    """Reads in a condition; a text that does not parse uses nothing (the check says so elsewhere)."""
    if not text.strip():
        return
    try:
        tree = parse_expression(text)
    except TextError:
        return
    for name, edge in names_in(tree):
        yield Use(whole(name), "read", place, edge)


def uses_in_statements(text: str, place: Place, whole: Whole = str) -> Iterator[Use]:
    """What a text reads and writes; nothing of one that cannot be read."""
    try:
        tree = parse_statements(text)
    except TextError:
        return
    yield from uses_of(tree, place, whole)


def uses_of(block: tuple[sx.Statement, ...], place: Place, whole: Whole = str) -> Iterator[Use]:
    """The uses in statements and in those inside them."""
    for s in block:
        read, inner, written = sx.children(s)
        for target in written:
            yield Use(whole(str(target).lower()), "write", place.spot(s.span.line, s.span.column))
        if isinstance(s, sx.BlockCall):
            yield Use(str(s.instance).lower(), "read", place)
        for expression in read:
            for name, edge in names_in(expression):
                yield Use(whole(name), "read", place, edge)
        for statements in inner:
            yield from uses_of(statements, place, whole)


def uses(project: Project) -> list[Use]:
    """Every use of every name in the machine file, scenarios left out."""
    return list(_uses(project))


def speaks_of_signals(project: Project) -> bool:
    """Whether any sequence or text speaks of a signal."""
    return next(_spoken(project), None) is not None


def sequences_speak(project: Project) -> bool:
    """Whether any sequence speaks of a signal, or there is none and a text does: else the chart is still to be written."""
    return any(u.place.sequence or u.place.kind == "sequence" or not project.sequences for u in _spoken(project))


def _spoken(project: Project) -> Iterator[Use]:
    """Where texts and marks speak of signals."""
    return (u for u in _uses(project) if u.how in ("read", "write", "act") and project.signal(u.name) is not None)


def _uses(project: Project) -> Iterator[Use]:
    names = Names(project)
    yield from uses_in_statements(project.opening, Place("opening"))
    yield from uses_in_statements(project.closing, Place("closing"))
    yield from uses_in_expression(project.home, Place(item="home"))
    yield from uses_in_expression(project.reset, Place(item="reset"))
    for q in project.sequences:
        place, own = Place("sequence", item=q.name), q.name.lower()

        def whole(name: str, own: str = own) -> str:
            return names.whole(name, own)

        yield from uses_in_expression(q.hold_when, place, whole)
        yield from uses_in_expression(q.restart_when, place, whole)
        for s in q.steps:
            here = Place("step", q.name, s.name)
            for text in (s.permissive, s.longest, s.shortest):
                yield from uses_in_expression(text, here, whole)
            for a in s.actions:
                spot = Place("action", q.name, f"{s.name} {a.target}")
                is_body = project.signal(a.target) is None and not a.qualifier.runs
                yield Use(f"{own}.{a.target.lower()}" if is_body else a.target.lower(), "act", spot)
                yield from uses_in_expression(a.time, spot)
        numbers = step_numbers(q)
        for i, t in enumerate(q.transitions):
            yield from uses_in_expression(t.condition, transition_place(q, i, numbers), whole)
        for b in q.bodies:
            yield from uses_in_statements(b.text, Place("body", q.name, b.name), whole)
    for r in project.routines:
        outer = {m.name.lower() for m in r.members if m.role == "external"}
        for use in uses_in_statements(r.text, Place("routine", item=r.name)):
            if use.name.split(".")[0].split("[")[0] in outer:
                yield use
    for lock in project.interlocks:
        yield from uses_in_expression(lock.condition, Place("interlock", item=lock.output))
    for trip in project.trips:
        yield from uses_in_expression(trip.condition, Place("trip", item=trip.name))
        for name in trip.zeroed:
            yield Use(name.lower(), "write", Place("trip", item=trip.name))
    for alarm in project.alarms:
        spot = Place("alarm", item=alarm.on or alarm.name)
        values = (p.expression for p in pieces(alarm.text) if isinstance(p, Hole))
        for text in (alarm.condition, alarm.delay, *values):
            yield from uses_in_expression(text, spot)
    for d in project.devices:
        for _, signal in d.wires:
            target = project.signal(signal)
            how = "sense" if target is not None and target.cls.value == "input" else "drive"
            yield Use(signal.lower(), how, Place("device", item=d.name))
