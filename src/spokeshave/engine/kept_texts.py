"""What a link has read and compiled, kept for the next one: an edit leaves nearly all texts of a machine file as they were.

A text means the same where it stands at the same place and everything that can be named is declared as before; its code is
the same where its place has the same number too.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from spokeshave.language.compile import Choice, Compiled, Unit, compile_units
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project

Key = tuple[str, Place, str]
"""What a text is for, where it stands, the text."""


def declared_in(project: Project, acted: frozenset[str]) -> tuple[Any, ...]:
    """All that decides what the names in texts mean, to be compared with that of another machine file."""
    steps = tuple((q.name, *(s.name for s in q.steps)) for q in project.sequences)
    declared = (project.signals, project.tables, project.routines, project.instances)
    return declared, steps, acted, project.period_ms, bool(project.home.strip())


@dataclass(slots=True)
class KeptTexts:
    """The checked trees of texts, and the code of units."""

    declared: tuple[Any, ...]
    trees: dict[Key, Any] = field(default_factory=dict)
    code: dict[tuple[int, ...], tuple[Unit, Compiled]] = field(default_factory=dict)

    def compiled(self, units: list[Unit], later: set[int], before: KeptTexts | None) -> list[Compiled]:
        """The code of all units. What was compiled `before` of the same trees is taken from there."""
        known = {} if before is None else before.code
        keys = [_key(unit) for unit in units]
        out: list[Compiled | None] = [None] * len(units)
        new = []
        for i, key in enumerate(keys):
            if (found := known.get(key)) is not None:
                out[i] = found[1]
            else:
                new.append(i)
        made = compile_units([units[i] for i in new], {n for n, i in enumerate(new) if i in later})
        for i, code in zip(new, made):
            out[i] = code
        self.code = {key: (unit, code) for key, unit, code in zip(keys, units, out) if code is not None}
        return [code for code in out if code is not None]


def _key(unit: Unit) -> tuple[int, ...]:
    """Units of one key have one code: their places have the same numbers, and their trees are the same objects, which are
    kept with the code.
    """
    place, tree = unit
    if not isinstance(tree, Choice):
        return place, id(tree)
    return tuple(n for arm in tree.arms for n in (len(arm), *(m for at, one in arm for m in (at, id(one)))))
