"""What an own device declares, as lines of text: `input On`, `output Mass REAL`, `variable Count INT := 0`, `failure Stuck`."""

from __future__ import annotations

import re

from spokeshave.language.literals import read_value, value_text
from spokeshave.model.project import Declared, Type

_LINE = re.compile(r"(?P<role>\w+)\s+(?P<name>\w+)(?:\s+(?P<type>\w+))?(?:\s*:=\s*(?P<value>.+))?")
ROLES = ("input", "output", "variable", "failure")


def declared_text(items: tuple[Declared, ...]) -> str:
    """One line each.

    >>> declared_text((Declared("On", "input"), Declared("Count", "variable", Type.INT, 3)))
    'input On\\nvariable Count INT := 3'
    """
    lines = []
    for d in items:
        kind = "" if d.type is Type.BOOL else f" {d.type}"
        value = "" if d.initial is None else f" := {value_text(d.initial, d.type)}"
        lines.append(f"{d.role} {d.name}{kind}{value}")
    return "\n".join(lines)


def read_declared(text: str) -> tuple[Declared, ...]:
    """The declarations of a text. Raises `ValueError` that names the line."""
    out = []
    for n, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        found = _LINE.fullmatch(line.strip())
        if found is None or found["role"].lower() not in ROLES:
            raise ValueError(
                f"line {n}: {line.strip()!r} declares nothing; write input On, output Mass REAL, variable Count INT := 0"
            )
        name, kind = found["name"], (found["type"] or "BOOL").upper()
        if kind not in Type.__members__:
            raise ValueError(f"line {n}: {kind} is no type; there are {', '.join(Type)}")
        try:
            value = None if found["value"] is None else read_value(found["value"], Type(kind))
        except ValueError as error:
            raise ValueError(f"line {n}: {error}") from None
        out.append(Declared(name, found["role"].lower(), Type(kind), value))
    return tuple(out)
