"""Declarations of generated code that were edited: initial values, addresses, comments and new variables come back, all else is told."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_reader import Reader
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project
from spokeshave.model.signals import Signal, Table

SIGNALS = "change it in the signals of the machine file"


def with_declarations(project: Project, written: Reader, now: Reader, helpers: bool = False) -> Project:
    """The machine file with what the declarations of a text say otherwise than they were written: `written` has read them as the
    code has them, `now` as they stand. Variables of the code alone may be missing if they are `helpers`, which follow from the
    statements. Raises `FormatError` with line and column for what does not come back.
    """
    mine = {x.name.lower() for listed in (project.signals, project.instances) for x in listed}
    gone = [s.name for low, s in written.signals.items() if low not in now.signals and (low in mine or not helpers)]
    gone += [
        i.name for low, i in written.instances.items() if low not in now.instances and (low in mine or not helpers)
    ]
    gone += [t.name for low, t in written.tables.items() if low not in now.tables]
    if gone:
        raise now.fail(
            now.parser.at, f"{gone[0]} is declared no more", f"declare it, or {SIGNALS.replace('change', 'delete')}"
        )
    signals = {s.name.lower(): s for s in project.signals}
    instances = {i.name.lower(): i for i in project.instances}
    tables = {t.name.lower(): t for t in project.tables}
    for low, s in now.signals.items():
        was = written.signals.get(low)
        if was is None:
            signals[low] = s
        elif was != s:
            if low not in signals:
                advice = "it is a variable of the code alone: what it is follows from the charts"
                raise _fault(now, "signal", s.name, f"{s.name} is declared otherwise", advice)
            signals[low] = _changed(now, signals[low], was, s)
    for low, i in now.instances.items():
        was_kind = written.instances[low].kind if low in written.instances else ""
        if not was_kind:
            instances[low] = i
        elif was_kind != i.kind:
            raise _fault(now, "instance", i.name, f"{i.name} is no {was_kind} any more", SIGNALS)
    for low, t in now.tables.items():
        before = written.tables.get(low)
        if before is None:
            raise _fault(now, "table", t.name, f"{t.name} is new", "a table is made in the signals of the machine file")
        if before != t:
            tables[low] = _rows(now, tables[low], before, t)
    same = (tuple(signals.values()), tuple(instances.values()), tuple(tables.values()))
    if same == (project.signals, project.instances, project.tables):
        return project
    return replace(project, signals=same[0], instances=same[1], tables=same[2])


def _changed(now: Reader, mine: Signal, was: Signal, s: Signal) -> Signal:
    if (was.type, was.cls) != (s.type, s.cls):
        what = "type" if was.type is not s.type else "class"
        raise _fault(now, "signal", s.name, f"the {what} of {s.name} is another", SIGNALS)
    for name in ("initial", "address", "comment", "retain"):
        if getattr(was, name) != getattr(s, name):
            mine = replace(mine, **{name: getattr(s, name)})
    return mine


def _rows(now: Reader, mine: Table, was: Table, t: Table) -> Table:
    if replace(was, rows=()) != replace(t, rows=()) or len(was.rows) != len(t.rows):
        raise _fault(now, "table", t.name, f"{t.name} has another form", SIGNALS)
    return replace(mine, rows=t.rows)


def _fault(now: Reader, kind: str, name: str, message: str, advice: str) -> FormatError:
    line, column = now.origins.spot(Place(kind, item=name)) or (1, 1)
    return FormatError(message, line=line, column=column, advice=advice)
