"""Statements in the form in which the states are looked at: inputs that are set one by one stand in the call of their block."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.formats.states.find import Block
from spokeshave.formats.states.fold import names_in, written_by
from spokeshave.language import syntax as sx


def calls_gathered(statements: Block) -> Block:
    """`Wait.IN := Warm; Wait.PT := T#2s; Wait();` as `Wait(IN := Warm, PT := T#2s);`, where nothing they read changes between."""
    out: list[sx.Statement | None] = []
    given: dict[tuple[str, str], tuple[int, sx.Assign]] = {}
    for s in statements:
        if isinstance(s, sx.BlockCall):
            low = str(s.instance).lower()
            mine = {key: found for key, found in given.items() if key[0] == low}
            had = {a.name.lower() for a in s.inputs}
            more = []
            for key, (at, a) in mine.items():
                del given[key]
                if key[1] not in had:
                    out[at] = None
                    more.append(sx.Argument(key[1].upper(), a.value))
            if more:
                s = replace(s, inputs=(*s.inputs, *more))
        changed = written_by((s,))
        given = {key: found for key, found in given.items() if not changed & set(names_in(found[1].value))}
        out.append(s)
        if isinstance(s, sx.Assign) and isinstance(s.target, sx.Name) and len(s.target.parts) == 2:
            instance, name = (p.lower() for p in s.target.parts)
            given[instance, name] = (len(out) - 1, s)
    return tuple(s for s in out if s is not None)
