"""A run as a scenario: what was done, said by the steps in which it was done, and what came of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.language.literals import value_text
from spokeshave.verify.keep import alarm_rows, deed_row, hand_row, order_rows, orders_of, shown_time, situation_at
from spokeshave.verify.proposed.goals import Goal
from spokeshave.verify.proposed.search import Node

ROUNDS = 2
"""A sequence that has entered a step more often goes round."""
TAIL_MS = 500
"""So long a scenario runs on behind what it shows."""


def scenario_rows(session: Session, node: Node, goals: list[Goal]) -> list[str]:
    """The rows of a run from the start to a node: deeds in the order of time, its length, and what is to be expected of it."""
    kinds = {s.name: s.type for s in session.program.project.signals}
    out = [f"given {name} is {value_text(value, kinds[name])}" for name, value in node.given]
    out += deed_rows(session, node.done)
    length = -(-(session.time_ms + TAIL_MS) // 100) * 100
    out.append(f"run for {shown_time(length)}")
    session.run_for(length - session.time_ms)
    rules = dict.fromkeys(row for g in goals for row in rows_of_rule(g))
    beside = going_round(session, goals)
    out += [*order_rows(session, beside), *rules, *alarm_rows(session)]
    active = situation_at(session, session.k - 1, beside)
    return [*out, f"expect finally {active}"] if active else out


def going_round(session: Session, goals: list[Goal]) -> set[str]:
    """The sequences that go round by themselves beside what is shown: how often they had been round, and where they stood at its end, is
    by chance. None where no other has gone on.
    """
    shown = {g.place.sequence for g in goals}
    orders = {name: steps for name, steps in orders_of(session) if len(steps) > 1}
    beside = {name for name, steps in orders.items() if name not in shown and max(Counter(steps).values()) > ROUNDS}
    return beside if beside != orders.keys() else set()


def rows_of_rule(goal: Goal) -> Iterator[str]:
    """What the rule of a goal promises."""
    if goal.kind == "interlock":
        yield f"expect never {goal.place.item} AND NOT ({goal.key[1]})"
    elif goal.kind == "opposed":
        a, _, b = goal.place.item.partition(",")
        yield f"expect never {a.strip()} AND {b.strip()}"


def deed_rows(session: Session, done: Sequence[Stimulus]) -> Iterator[str]:
    """A row for each deed. The first behind the only entry of a step is said by that, so that it moves with the steps when times
    change; one behind another by the time between them.
    """
    project, entries, before = session.program.project, _entries(session), -1
    used: set[int] = set()
    for i, st in enumerate(done):
        if i in used:
            continue
        device = project.device(st.target)
        if st.do == "hand" and device is not None:
            let_go = (j for j in range(i + 1, len(done)) if done[j].target == st.target and not done[j].value)
            off = next(let_go, -1) if device.kind == "button" else -1
            text, takes = hand_row(project, st, done[off] if off >= 0 else None)
            used |= {off} if takes else set()
        else:
            text = deed_row(project, st)
        at, step = next(((at, name) for at, name in reversed(entries) if at < st.time_ms), (0, ""))
        if step and at >= max(before, 1):
            yield f"on {step}, {shown_time(st.time_ms - at - session.program.period_ms)} later: {text}"
        elif before >= 0:
            yield f"after {shown_time(st.time_ms - before)}: {text}"
        else:
            yield f"at {shown_time(st.time_ms)}: {text}"
        before = st.time_ms


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
