"""The history of waiting: how long each step was active, and what kept it to the last."""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.engine.explain import blockers
from spokeshave.engine.program import LinkedSequence, LinkedStep
from spokeshave.engine.session import Session


@dataclass(frozen=True, slots=True)
class Waited:
    """A stay in a step from scan `begin` to before scan `end`, and what was missing in the scan before it was left.

    `on` is empty where a step was left by a trip or a restart, or where only time was missing.
    """

    sequence: str
    step: str
    begin: int
    end: int
    on: tuple[str, ...]
    period_ms: int

    def __str__(self) -> str:
        seconds = (self.end - self.begin) * self.period_ms / 1000
        tail = f" for {' and '.join(self.on)}" if self.on else ""
        return f"{self.sequence}.{self.step} waited {seconds:.2f} s{tail}"


def waited(session: Session, most: int = 200) -> list[Waited]:
    """The last stays that are over, newest first.

    What was missing is worked out from the situation of the scan before the step was left, see `Session.moment`.
    """
    stays: list[tuple[int, int, LinkedSequence, LinkedStep]] = []
    end = session.trace.scan_count
    for q in session.program.sequences:
        for s in q.steps:
            windows = session.trace.windows(f"{q.name}.{s.name}.X")
            stays += [(b, a, q, s) for a, b in windows[-most:] if b < end]
    stays.sort(key=lambda x: x[:2], reverse=True)
    period = session.program.period_ms
    # From old to new, so that each moment goes on from the one before.
    return [Waited(q.name, s.name, a, b, _missing(session, q, s, b), period) for b, a, q, s in reversed(stays[:most])][
        ::-1
    ]


def _missing(session: Session, q: LinkedSequence, s: LinkedStep, left: int) -> tuple[str, ...]:
    """What the way that was taken in scan `left` still lacked before: steps to join, terms of its condition."""
    program = session.program
    entered = {
        t.name for t in q.steps if bool(session.trace.at(f"{q.name}.{t.name}.X", left))
        and not bool(session.trace.at(f"{q.name}.{t.name}.X", left - 1))
    }  # fmt: skip
    way = next((w for w in s.ways if {q.steps[t].name for t in w.targets} <= entered | {s.name}), None)
    if way is None:
        return ()
    # A step that is joined with, or a switch, may have come one scan before: then it was that.
    found: tuple[str, ...] = ()
    for k in (left - 2, left - 1):
        then, situation = session.moment(k)
        if then is program and k >= 0:
            absent = [f"{q.steps[a].name}.X" for a in way.sources if a not in situation.active[q.index]]
            terms = blockers(way.checked, way.text, situation.v)
            names = (f"NOT {t.text}" if t.negated else t.text for t in terms)
            found = tuple(dict.fromkeys([*absent, *names])) or found
    return found
