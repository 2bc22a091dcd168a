"""A run as a scenario: what was done, said by the steps in which it was done, and what came of it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from spokeshave.engine.session import Session
from spokeshave.language.literals import value_text
from spokeshave.model.alarms import phrase_of
from spokeshave.model.project import Value
from spokeshave.verify.keep import shown_time
from spokeshave.verify.proposed.goals import Goal
from spokeshave.verify.proposed.search import Done

TAIL_MS = 500
"""So long a scenario runs on behind what it shows."""


def scenario_rows(
    session: Session, done: tuple[Done, ...], given: tuple[tuple[str, Value], ...], goals: list[Goal]
) -> list[str]:
    """The rows of a run from the start: deeds in the order of time, its length, and what is to be expected of it."""
    project = session.program.project
    kinds = {s.name: s.type for s in project.signals}
    out = [f"given {name} is {value_text(value, kinds[name])}" for name, value in given]
    out += _deeds(session, done)
    length = -(-(session.time_ms + TAIL_MS) // 100) * 100
    out.append(f"run for {shown_time(length)}")
    session.run_for(length - session.time_ms)
    for q in project.sequences:
        entered = sorted(
            (a, s.number, s.name) for s in q.steps for a, _ in session.trace.windows(f"{q.name}.{s.name}.X")
        )
        names = [name for _, _, name in entered]
        if len(names) > 1:
            out.append(f"expect order {q.name}: {', '.join(names)}")
    out += list(dict.fromkeys(row for g in goals for row in _of_rule(g)))
    alarms = dict.fromkeys(phrase_of(e.ident) for e in session.trace.events if e.kind == "alarm")
    out += [f'expect alarm "{name}"' for name in alarms] or ["expect no alarms"]
    if not any(e.kind == "hazard" for e in session.trace.events):
        out.append("expect no hazards")
    active = [r.name for r in session.trace.recorded if r.kind == "step" and session.trace.at(r.name, session.k - 1)]
    if active:
        out.append(f"expect finally {' AND '.join(active)}")
    return out


def _of_rule(goal: Goal) -> Iterator[str]:
    """What the rule of a goal promises."""
    if goal.kind == "interlock":
        yield f"expect never {goal.place.item} AND NOT ({goal.key[1]})"
    elif goal.kind == "opposed":
        a, _, b = goal.place.item.partition(",")
        yield f"expect never {a.strip()} AND {b.strip()}"


def _deeds(session: Session, done: tuple[Done, ...]) -> Iterator[str]:
    """A row for each deed. The first behind the only entry of a step is said by that, so that it moves with the steps when times
    change; one behind another by the time between them.
    """
    rows = sorted(done, key=lambda d: d[0])
    entries, before = _entries(session), -1
    used: set[int] = set()
    for i, (ms, do, target, value) in enumerate(rows):
        if i in used:
            continue
        text = ""
        if do == "hand" and value and _kind(session, target) == "button":
            off = next((j for j in range(i + 1, len(rows)) if rows[j][1:3] == ("hand", target) and not rows[j][3]), -1)
            used |= {off} if off >= 0 else set()
            text = f"press {target} for {shown_time(rows[off][0] - ms)}" if off >= 0 else f"hold {target}"
        text = text or _deed(session, do, target, value)
        at, step = next(((at, name) for at, name in reversed(entries) if at < ms), (0, ""))
        if step and at >= max(before, 1):
            yield f"on {step}, {shown_time(ms - at - session.program.period_ms)} later: {text}"
        elif before >= 0:
            yield f"after {shown_time(ms - before)}: {text}"
        else:
            yield f"at {shown_time(ms)}: {text}"
        before = ms


def _entries(session: Session) -> list[tuple[int, str]]:
    """When each step that was entered once was entered, in ms, in the order of time; behind one that was entered more often nothing is
    said by steps.
    """
    found: list[tuple[int, str]] = []
    period = session.program.period_ms
    for r in session.trace.recorded:
        if r.kind == "step":
            windows = session.trace.windows(r.name)
            found += [(a * period, r.name.removesuffix(".X") if len(windows) == 1 else "") for a, _ in windows]
    return sorted(found)


def _kind(session: Session, device: str) -> str:
    found = session.program.project.device(device)
    return found.kind if found is not None else ""


def _deed(session: Session, do: str, target: str, value: Any) -> str:
    if do == "hand":
        return (
            f"turn {target} to {value:g}"
            if _kind(session, target) == "selector"
            else f"{'hold' if value else 'release'} {target}"
        )
    signal = session.program.project.signal(target)
    said = value_text(value, signal.type) if signal is not None and value is not None else ""
    return {"set": f"set {target} to {said}", "fail": f'break {target} "{value}"', "heal": f'mend {target} "{value}"',
            "drive": "hand drive on", "ask": f"ask {target} to TRUE"}[do]  # fmt: skip
