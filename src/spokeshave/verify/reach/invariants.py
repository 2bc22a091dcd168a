"""What must never be, as a question of a study: `never Knife AND NOT Clamped`, `while NOT EmergencyOk: NOT Motor`.

Each is watched by an output of its own that the closing logic sets, once as the logic asks for outputs and once as they go out behind interlocks
and opposed pairs: whether that can ever be on is what a study answers anyway. Dead times are left out: an output is off for longer than is taken
here.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace

from spokeshave.language.parse import parse_expression
from spokeshave.language.scenario import parse_scenario
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import free_name, taken_names
from spokeshave.model.project import Project, Signal, SignalClass, Type
from spokeshave.verify.reach.asked import Answer, Says
from spokeshave.verify.reach.studied import StudyError
from spokeshave.verify.usage import names_in, uses_in_expression

_WHILE = re.compile(r"while\s+(?P<while>.+?)\s*:\s*(?P<then>.+)", re.IGNORECASE | re.DOTALL)
_WORDS = re.compile(r"\(\*.*?\*\)|//[^\n]*|[A-Za-z_][\w.]*|.", re.DOTALL)


@dataclass(frozen=True, slots=True)
class Watched:
    """An invariant with the outputs that watch it: as asked for, and as they go out."""

    text: str
    asked: str
    out: str
    sequences: frozenset[str]
    """Names of the sequences that it speaks of, in lower case."""


def broken(text: str) -> str:
    """The condition that must never be. Raises `StudyError` for what is no condition, or looks at edges.

    >>> broken("while NOT Ok: NOT Motor")
    '(NOT Ok) AND NOT (NOT Motor)'
    """
    found = _WHILE.fullmatch(text.strip())
    condition = f"({found['while']}) AND NOT ({found['then']})" if found else text.strip()
    try:
        tree = parse_expression(condition)
    except TextError as error:
        raise StudyError(f"{text}: {error.problems[0].message}") from None
    if any(edge for _, edge in names_in(tree)) or "held(" in condition.lower().replace(" ", ""):
        raise StudyError(f"{text}: an edge is no situation; ask for a condition")
    return condition


def said(text: str) -> str:
    """The line as it is written: `never ...`, or `while ...: ...` as it stands."""
    return text if _WHILE.fullmatch(text.strip()) else f"never {text}"


def watching(project: Project, never: Iterable[str]) -> list[Watched]:
    """The invariants of a machine file, each once. Raises `StudyError` for one that is no condition."""
    taken = taken_names(project)
    found: list[Watched] = []
    for text in dict.fromkeys(t.strip() for t in never if t.strip()):
        names = {n for n, _ in names_in(parse_expression(broken(text)))}
        asked, out = (free_name(f"Never{stage}{len(found) + 1}", taken) for stage in ("Asked", "Out"))
        found.append(Watched(text, asked, out, frozenset(_spoken(project, names))))
    return found


def _spoken(project: Project, names: set[str]) -> Iterable[str]:
    for q in project.sequences:
        targets = {a.target.lower() for s in q.steps for a in s.actions}
        texts = " ".join(b.text.lower() for b in q.bodies)
        if names & targets or any(
            n.startswith(f"{q.name.lower()}.") or re.search(rf"\b{re.escape(n)}\b", texts) for n in names
        ):
            yield q.name.lower()


def watched(project: Project, invariants: Iterable[Watched]) -> Project:
    """The machine file with these outputs. Raises `StudyError` where the closing logic may end before they are set."""
    invariants = list(invariants)
    if not invariants:
        return project
    if any(w.upper() == "RETURN" for w in _WORDS.findall(project.closing)):
        raise StudyError("the closing logic has a RETURN: what must never be cannot be watched behind it")
    lines = [f"{w.asked} := {broken(w.text)};\n{w.out} := {_going_out(project, broken(w.text))};" for w in invariants]
    signals = [Signal(n, SignalClass.OUTPUT) for w in invariants for n in (w.asked, w.out)]
    closing = f"{project.closing.rstrip()}\n" if project.closing.strip() else ""
    return replace(project, signals=(*project.signals, *signals), closing=closing + "\n".join(lines) + "\n")


def _going_out(project: Project, condition: str) -> str:
    """The condition with each output as it goes out behind interlocks and opposed pairs."""
    held: dict[str, list[str]] = {}
    for lock in project.interlocks:
        held.setdefault(lock.output.lower(), []).append(f"({lock.condition})")
    for pair in project.opposed:
        held.setdefault(pair.first.lower(), []).append(f"NOT {pair.second}")
        held.setdefault(pair.second.lower(), []).append(f"NOT {pair.first}")
    return "".join(
        f"({w} AND {' AND '.join(held[w.lower()])})" if w.lower() in held else w for w in _WORDS.findall(condition)
    )


def answers_for(watched_by: Iterable[Watched], together: Iterable[Answer]) -> list[Answer]:
    """The answers to the outputs that watch, in the words of what they watch."""
    by_about = {a.about: a for a in together}
    out = []
    for w in watched_by:
        for name, stage in ((w.asked, "before"), (w.out, "after")):
            a = by_about.get(f"{name} and {name}, before interlocks")
            if a is not None:
                text = (
                    "it never is" if a.says is Says.GOOD else "not decided" if a.says is Says.UNKNOWN else "it can be"
                )
                out.append(replace(a, kind="never", about=f"{said(w.text)}, {stage} interlocks", text=text))
    return out


def of_scenarios(project: Project) -> tuple[str, ...]:
    """What the `never`, `always` and `while` rows of all scenarios say must never be, as lines of a study; rows with edges are left out."""
    found: list[str] = []
    for s in project.scenarios:
        for row in parse_scenario(s.text).expectations:
            c = row.conditions
            if row.kind == "never":
                line = c[0]
            elif row.kind == "always":
                line = f"NOT ({c[0]})"
            elif row.kind == "while_true":
                line = f"while {c[0]}: {c[1]}"
            else:
                continue
            try:
                unknown = [
                    u.name
                    for u in uses_in_expression(broken(line), Place())
                    if "." not in u.name and project.signal(u.name) is None
                ]
            except (StudyError, TextError):
                continue
            if not unknown:
                found.append(line)
    return tuple(dict.fromkeys(found))


def of_stored(project: Project) -> tuple[str, ...]:
    """Whether what steps store is still there when their sequence has come to its initial step, as lines of a study; outputs and BOOL
    internals alone, and none on which the initial step acts itself.
    """
    found: list[str] = []
    for q in project.sequences:
        first = q.step(q.initial)
        kept = {a.target.lower() for a in first.actions} if first is not None else set()
        for a in (a for s in q.steps for a in s.actions if a.qualifier.stored and a.target.lower() not in kept):
            signal = project.signal(a.target)
            if signal is not None and signal.type is Type.BOOL:
                found.append(f"{q.name}.{q.initial}.X AND {signal.name}")
    return tuple(dict.fromkeys(found))
