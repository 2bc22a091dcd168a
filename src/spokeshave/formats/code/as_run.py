"""Generated code as a machine file without charts, to be run beside the charts."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.formats.code.pieces import Variable
from spokeshave.formats.code.units import Unit, program_text, units_of
from spokeshave.formats.code.write import Generated
from spokeshave.language.literals import read_value
from spokeshave.model.project import Instance, Member, Project, Routine, Signal, SignalClass, Type


def as_project(made: Generated) -> Project:
    """The machine file without charts: the code runs as its opening logic, as it is written with its blocks; flags say which
    steps are active.
    """
    flags = {column: f"Is{n}_{column.replace('.', '_')}" for n, column in enumerate(made.active)}
    p, listed = made.project, list(made.variables)
    routines, instances = list(p.routines), list(p.instances)
    if made.units:
        units = units_of(made)
        known = {s.name: str(s.type) for s in p.signals} | {v.name: v.kind for v in units.shared}
        known |= {t.name: t.name for t in p.tables}
        routines += [_routine(u, known) for u in units.blocks]
        instances += [Instance(name, block) for block, name in made.units.values()]
        inside = {v for u in units.blocks for v in u.own}
        listed = [v for v in listed if v not in inside]
        instances = [i for i in instances if i.name not in {v.name for v in inside}]
    kinds = {t.value for t in Type}
    signals = [
        Signal(v.name, SignalClass.INTERNAL, Type(v.kind), initial=_initial(v), retain=v.retain)
        for v in listed
        if v.kind in kinds
    ]
    signals += [Signal(name, SignalClass.INTERNAL) for name in flags.values()]
    tell = "".join(f"{flags[c]} := {on};\n" for c, on in made.active.items())
    return replace(
        p,
        signals=(*p.signals, *signals), routines=tuple(routines),
        instances=(*instances, *(Instance(v.name, v.kind) for v in listed if v.kind not in kinds)),
        opening=program_text(made), closing=tell, sequences=(), trips=(), reset="", home="", scenarios=(),
        interlocks=(), opposed=(), alarms=(),
    )  # fmt: skip


def _routine(unit: Unit, known: dict[str, str]) -> Routine:
    """A block of the code as one of the machine file; `known` are the types of what it can name from outside."""
    outer = [Member(name, "external", kind) for name, kind in known.items() if name.lower() in unit.words]
    own = [Member(v.name, "variable", v.kind, _initial(v), v.retain) for v in unit.own]
    return Routine(unit.name, (*outer, *own), unit.text)


def _initial(v: Variable) -> bool | int | float | None:
    return read_value(v.initial, Type(v.kind)) if v.initial else None
