"""The values of the variables in lines of code while the machine runs."""

from __future__ import annotations

import re
from typing import Any

from spokeshave.desktop.runner import Runner
from spokeshave.engine.explain import Waiting
from spokeshave.engine.program import Program
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.literals import value_text

_NAME = re.compile(r"\(\*.*?(?:\*\)|$)|//.*|[A-Za-z_]\w*(?:\[-?\d+\])?(?:\.[A-Za-z_]\w*)*")
MOST = 5
"""Values behind one line."""


def values_in(runner: Runner, lines: dict[int, str]) -> dict[int, str]:
    """For each of some lines what its variables are at the moment that is shown; nothing before the first scan."""
    session, shown = runner.session, runner.shown()
    if session is None or shown is None or not session.trace.scan_count:
        return {}
    program, situation = shown
    found = {}
    for line, text in lines.items():
        names = dict.fromkeys(m[0] for m in _NAME.finditer(text) if not m[0].startswith(("(*", "//")))
        if "CASE" not in text.upper():  # the state stands behind its CASE, and not behind every line that speaks of it
            names = {n: None for n in names if runner.document.project.sequence(n) is None}
        told = [f"{name} {value}" for name in names if (value := _value(program, situation.v, name))]
        if told:
            found[line] = "   ".join(told[:MOST]) + (" ..." if len(told) > MOST else "")
    return found


def waits_on(w: Waiting) -> str:
    """What an active step waits on, way by way; empty where nothing is missing."""
    ways = [" and ".join(map(str, a.missing)) for a in w.ways if a.missing]
    return f"waits on {' | '.join(ways)}" if ways else ""


def _value(program: Program, v: list[Any], name: str) -> str:
    """The value of a variable, of a member of a block, or of the state of a sequence; empty for another name."""
    low = name.lower()
    slot = program.slots.get(low)
    if slot is not None:
        return value_text(v[program.asked[slot]], program.types[low]).removeprefix("T#")
    for q in program.sequences:
        if low in (q.name.lower(), f"{q.name.lower()}.state"):
            return str(v[q.state])
    block, _, member = low.rpartition(".")
    kind, base = program.instances.get(block, ("", 0))
    if kind:
        members = [n.lower() for n, _ in BLOCKS[kind].members()]
        if member in members:
            of = BLOCKS[kind].members()[members.index(member)][1]
            return value_text(v[base + members.index(member)], of).removeprefix("T#")
    return ""
