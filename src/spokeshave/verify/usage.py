"""Which text reads and writes which name: the basis of *used where* and of many findings."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from spokeshave.engine.link_sequence import step_numbers, transition_place
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project


@dataclass(frozen=True, slots=True)
class Use:
    """One place that uses a name. `how` is read, write, act, sense, drive; `edge` if inside RISING or FALLING."""

    name: str  # lower case, dotted for step members
    how: str
    place: Place
    edge: bool = False


def names_in(tree: sx.Expression, edge: bool = False) -> Iterator[tuple[str, bool]]:
    """Names an expression reads, in lower case, and whether inside RISING or FALLING."""
    match tree:
        case sx.Name():
            yield str(tree).lower(), edge
        case sx.Unary():
            yield from names_in(tree.operand, edge)
        case sx.Binary():
            yield from names_in(tree.left, edge)
            yield from names_in(tree.right, edge)
        case sx.Call():
            inner = edge or tree.function in ("RISING", "FALLING")
            for a in tree.arguments:
                yield from names_in(a.value, inner)
        case _:
            return


def uses_in_expression(text: str, place: Place) -> Iterator[Use]:
    """Reads in a condition; a text that does not parse uses nothing (the check says so elsewhere)."""
    if not text.strip():
        return
    try:
        tree = parse_expression(text)
    except TextError:
        return
    for name, edge in names_in(tree):
        yield Use(name, "read", place, edge)


def uses_in_statements(text: str, place: Place) -> Iterator[Use]:
    try:
        tree = parse_statements(text)
    except TextError:
        return
    yield from uses_of(tree, place)


def uses_of(block: tuple[sx.Statement, ...], place: Place) -> Iterator[Use]:
    """The uses in statements and in those inside them."""
    for s in block:
        read, inner, written = sx.children(s)
        for target in written:
            yield Use(str(target).lower(), "write", place.spot(s.span.line, s.span.column))
        if isinstance(s, sx.BlockCall):
            yield Use(str(s.instance).lower(), "read", place)
        for expression in read:
            for name, edge in names_in(expression):
                yield Use(name, "read", place, edge)
        for statements in inner:
            yield from uses_of(statements, place)


def uses(project: Project) -> list[Use]:
    """Every use of every name in the machine file, scenarios left out."""
    return list(_uses(project))


def _uses(project: Project) -> Iterator[Use]:
    yield from uses_in_statements(project.opening, Place("opening"))
    yield from uses_in_statements(project.closing, Place("closing"))
    yield from uses_in_expression(project.home, Place(item="home"))
    yield from uses_in_expression(project.reset, Place(item="reset"))
    for q in project.sequences:
        place = Place("sequence", item=q.name)
        yield from uses_in_expression(q.hold_when, place)
        yield from uses_in_expression(q.restart_when, place)
        for s in q.steps:
            here = Place("step", q.name, s.name)
            for text in (s.permissive, s.longest, s.shortest):
                yield from uses_in_expression(text, here)
            for a in s.actions:
                spot = Place("action", q.name, f"{s.name} {a.target}")
                yield Use(a.target.lower(), "act", spot)
                yield from uses_in_expression(a.time, spot)
        numbers = step_numbers(q)
        for i, t in enumerate(q.transitions):
            yield from uses_in_expression(t.condition, transition_place(q, i, numbers))
        for b in q.bodies:
            yield from uses_in_statements(b.text, Place("body", q.name, b.name))
    for lock in project.interlocks:
        yield from uses_in_expression(lock.condition, Place("interlock", item=lock.output))
    for trip in project.trips:
        yield from uses_in_expression(trip.condition, Place("trip", item=trip.name))
        for name in trip.zeroed:
            yield Use(name.lower(), "write", Place("trip", item=trip.name))
    for d in project.devices:
        for _, signal in d.wires:
            target = project.signal(signal)
            how = "sense" if target is not None and target.cls.value == "input" else "drive"
            yield Use(signal.lower(), how, Place("device", item=d.name))
