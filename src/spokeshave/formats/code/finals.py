"""Phase 9 as code: interlocks and opposed pairs decide what goes out of what is asked for (semantics section 8)."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.formats.code.pieces import Code, Hole, Variables
from spokeshave.formats.code.words import Words
from spokeshave.language.literals import time_text, value_text
from spokeshave.model.project import Project


def unprotected(project: Project) -> Project:
    """The machine file as code without interlocks and opposed pairs runs it: what is asked for goes out."""
    return replace(project, interlocks=(), opposed=())


def left_out(project: Project) -> str:
    """What such code leaves out, in words; empty for nothing."""
    locks = [f"the interlock of {i.output}" for i in project.interlocks]
    pairs = [
        f"the opposed pair {o.first}, {o.second}" + (f" with its dead time of {time_text(o.dead_ms)}" * (o.dead_ms > 0))
        for o in project.opposed
    ]
    return ", ".join(dict.fromkeys(locks + pairs))


def ask_apart(project: Project, variables: Variables) -> dict[str, str]:
    """For each protected output, by its name in lower case, the variable that holds what the logic asks of it.

    The output itself, with its address, holds what goes out.
    """
    protected = [i.output for i in project.interlocks] + [n for o in project.opposed for n in (o.first, o.second)]
    asked: dict[str, str] = {}
    for name in dict.fromkeys(n.lower() for n in protected):
        signal = project.signal(name)
        assert signal is not None
        initial = "" if signal.initial is None else value_text(signal.initial, signal.type)
        asked[name] = variables.new(f"{signal.name}_Asked", signal.type, initial, signal.retain)
    return asked


def write_finals(project: Project, words: Words, variables: Variables, code: Code, period: str) -> None:
    """Final outputs in the order of the engine: interlocks as listed, then opposed pairs as listed."""
    if not words.asked:
        return
    code.title("final outputs: interlocks, opposed pairs and their dead times")
    for asked in words.asked.values():
        code.line(f"{words.output(asked)} := {asked};")
    for i, lock in enumerate(project.interlocks):
        asked = words.asked[lock.output.lower()]
        hole = Hole(("interlock", i), words.expression(lock.condition, None))
        code.line(f"IF {asked} AND NOT (", hole, f") THEN {words.output(asked)} := FALSE; END_IF;")
    for pair in project.opposed:
        dead_scans = -(-pair.dead_ms // project.period_ms)
        both = [words.asked[n.lower()] for n in (pair.first, pair.second)]
        final = [words.output(a) for a in both]
        code.line(f"IF {both[0]} AND {both[1]} THEN {final[0]} := FALSE; {final[1]} := FALSE; END_IF;")
        if not dead_scans:
            continue
        rests = [variables.new(f"{a}_after_{b}", "TIME", retain=True) for a, b in (final, final[::-1])]
        for rest in rests:  # how long this one still stays off; dead times go on while power is off and on again
            code.line(f"IF {rest} > T#0s THEN {rest} := {rest} - {period}; END_IF;")
        for mine, rest in zip(final, rests):
            code.line(f"IF {rest} > T#0s THEN {mine} := FALSE; END_IF;")
        for other, rest in zip(final[::-1], rests):
            code.line(f"IF {other} THEN {rest} := {time_text((dead_scans + 1) * project.period_ms)}; END_IF;")
