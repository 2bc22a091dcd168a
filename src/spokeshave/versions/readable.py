"""A machine file as text for people and for tools that compare lines: the same file gives the same text, a thing a line."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from spokeshave.formats.iec_routines import routine_text
from spokeshave.formats.iec_tables import table_declaration
from spokeshave.formats.signal_table import table_rows
from spokeshave.formats.tables.write import page_of, texts_of
from spokeshave.language.literals import value_text
from spokeshave.model.project import Project


def readable(project: Project) -> str:
    """The text, in the order of the stages."""
    return "\n".join(_lines(project)).rstrip() + "\n"


def _lines(p: Project) -> Iterator[str]:
    yield f"machine file {p.name}, scan every {p.period_ms} ms"
    yield from _text("comment", p.comment)
    yield from _part(
        "requirements",
        (
            f"{r.ident} [{r.kind}] {r.text}{' (' + ', '.join(r.shown_by) + ')' if r.shown_by else ''}"
            for r in p.requirements
        ),
    )
    if p.signals:
        yield from ("", "signals")
        yield from _aligned(table_rows(p.signals))
    yield from _part("tables", (line for t in p.tables for line in table_declaration(t).split("\n")))
    for r in p.routines:
        yield from _part("function or block", routine_text(r).rstrip().split("\n"))
    yield from _part("instances", (f"{i.name} : {i.kind}" for i in p.instances))
    for recipe in p.recipes:
        told = ((n, v, p.signal(n)) for n, v in recipe.values)
        rows = (f"{n} = {value_text(v, s.type) if s is not None else v}" for n, v, s in told)
        yield from _part(f"recipe {recipe.name}", rows)
    yield from _text("opening logic", p.opening)
    yield from _text("closing logic", p.closing)
    yield from _text("home", p.home)
    yield from _text("reset", p.reset)
    for q in p.sequences:
        page = page_of(p, q)
        flow = page.heads.index("Flow")
        yield from ("", f"sequence {q.name}")
        yield from _aligned([[c for n, c in enumerate(row) if n != flow] for row in (page.heads, *page.rows)])
        for _, what, text in texts_of(q):
            yield from _text(what, text, "  ")
    yield from _part("interlocks", (f"{i.output}: {_one(i.condition)}" for i in p.interlocks))
    yield from _part("opposed", (f"{o.first}, {o.second}: {o.dead_ms} ms" for o in p.opposed))
    for t in p.trips:
        yield from ("", f"trip {t.name}, rank {t.rank}: {_one(t.condition)}")
        acts = "all sequences" if t.scope is None else ", ".join(t.scope) or "nothing"
        yield f"  acts on {acts}; {'latching' if t.latching else 'not latching'}; steps {t.steps}; stored {t.stored}; times {t.times}"
        yield from (
            f"  {what}: {', '.join(found)}"
            for what, found in (("goes to", t.go_to), ("zero", t.zeroed), ("may stay", t.stays))
            if found
        )
    for a in p.alarms:
        when = f"{_one(a.condition)}{f' for {a.delay}' if a.delay.strip() else ''}"
        yield from ("", f"alarm {a.on or f'{a.name}: {when}'}")
        yield f"  {a.cls}{f', points at {a.device}' if a.device else ''}: {_one(a.text)}".rstrip(": ")
    for d in p.devices:
        yield from ("", f"device {d.name}, {d.kind}, at {d.at[0]} {d.at[1]}")
        yield from (f"  {terminal} = {signal}" for terminal, signal in d.wires)
        yield from (f"  {name} = {value:g}" for name, value in d.parameters)
        yield from _text("text", d.text, "  ")
    yield from _part(
        "connections", (f"{c.source} to {c.target}, {c.kind} {c.gives} {c.takes}".rstrip() for c in p.connections)
    )
    for s in p.scenarios:
        yield from _text(f"scenario {s.name}{f' [{s.group}]' if s.group else ''}", s.text)


def _one(text: str) -> str:
    return " ".join(text.split())


def _text(title: str, text: str, indent: str = "") -> Iterator[str]:
    if text.strip():
        if not indent:
            yield ""
        yield f"{indent}{title}"
        yield from (f"{indent}  {line}".rstrip() for line in text.strip("\n").split("\n"))


def _part(title: str, lines: Iterable[str]) -> Iterator[str]:
    found = list(lines)
    if found:
        yield from ("", title)
        yield from (f"  {line}" for line in found)


def _aligned(rows: Sequence[Sequence[str]]) -> Iterator[str]:
    """Cells with bars between them; widths are not made equal, so that one long cell does not change every line."""
    for row in rows:
        yield "  " + " | ".join(_one(c) for c in row).rstrip()
