"""Hands that move the inputs of a machine file to see whether another does the same: at random, and aimed at each transition."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

from spokeshave.engine.evolve import may_clear
from spokeshave.engine.program import Program, Way
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.project import Project, Signal, SignalClass, Type

_NUMBERS = (0, 1, 2, 3, 5, 9, 10, 11, 50, 99, 100, 101, 1000)
_TIMES = (0, 10, 100, 1_000, 3_000, 5_010, 20_000, 60_010, 600_000)
LONGEST = 6_000
"""Scans that are waited for a transition."""
SHORTER = 200
"""The same in a run that rests in each state anyway."""
TRIES = 60
"""Values of the inputs that are tried for one transition."""


def inputs_of(project: Project) -> list[Signal]:
    """What hands can move."""
    return [s for s in project.signals if s.cls is SignalClass.INPUT]


def at_random(project: Project, seed: int, scans: int) -> Iterator[Stimulus]:
    """Inputs that change at random moments, all of them or one; numbers take usual ones."""
    chance, inputs = random.Random(seed), inputs_of(project)
    t = project.period_ms
    while inputs and t < scans * project.period_ms:
        for s in inputs if chance.random() < 0.5 else [chance.choice(inputs)]:
            yield Stimulus(t, "set", s.name, _value(s, chance))
        t += project.period_ms * chance.choice((1, 1, 2, 3, 7, 20, 60, 150))


def _value(s: Signal, chance: random.Random) -> Any:
    if s.type is Type.BOOL:
        return chance.random() < 0.5
    number = chance.choice(_TIMES if s.type is Type.TIME else _NUMBERS)
    return float(number) if s.type is Type.REAL else number


def aimed(project: Project, program: Program, seed: int, scans: int, rest: int = 0, patience: int = 0) -> Session:
    """A run that is led through every transition as often as it can be done in about so many scans: at each step the one that
    was taken least is wanted, and inputs are looked for under which it clears. Its log has the stimuli. Inputs with which nothing
    leads on are kept for `rest` scans in each state once, and for `patience` scans where none were found for what is wanted: what
    comes by time alone shows there.
    """
    chance, inputs = random.Random(seed), inputs_of(project)
    rested: set[tuple[tuple[int, ...], ...]] = set()
    vain: set[tuple[tuple[tuple[int, ...], ...], int]] = set()
    """Where waiting for a transition was in vain."""
    longest = SHORTER if rest or patience else LONGEST
    session, taken = Session(program), Counter[tuple[int, int]]()
    session.scan()
    for _ in range(200 + 10 * sum(len(w.sources) for q in program.sequences for x in q.steps for w in x.ways)):
        if session.k >= scans or session.stopped is not None:
            break
        before = [list(a) for a in session.situation.active]
        here = tuple(map(tuple, before))
        if rest and here not in rested:
            rested.add(here)
            if _still(session, inputs, chance):
                session.run_to(min(scans, session.k + rest), partial(_elsewhere, before))
            continue
        wanted = _wanted(session, taken, chance)
        if wanted is None:
            _move(session, inputs, chance)
        else:
            taken[wanted[0], wanted[1].index] += 1
            found = _prepare(session, inputs, wanted[1], chance)
            waited = (here, wanted[1].index)
            if patience and not found and waited not in vain and _still(session, inputs, chance):
                session.run_to(min(scans, session.k + patience), partial(_elsewhere, before))
                if session.situation.active == before:
                    vain.add(waited)
                continue
            if patience and not found:
                _with_an_edge(session, inputs, wanted[1], chance)
        wait = chance.choice((1, 2, 5, 30, longest)) if wanted is not None else chance.choice((1, 3, 40))
        end = min(session.k + wait, scans)
        while session.k < end and session.situation.active == before and session.stopped is None:
            had = session.k
            session.run_to(min(end, session.k + 400), partial(_elsewhere, before))
            if session.k == had:
                break
    return session


def coincident(project: Project, stimuli: list[Stimulus], changes: list[int], seed: int) -> list[Stimulus]:
    """The same, with other inputs turned over for a scan just where a state changes, or next to it."""
    chance, period = random.Random(seed), project.period_ms
    inputs = [s for s in inputs_of(project) if s.type is Type.BOOL]
    known = {s.name: bool(s.start) for s in inputs}
    more: list[Stimulus] = []
    at = 0
    for k in changes if inputs else []:
        t = (k + chance.choice((-1, 0, 0, 1))) * period
        while at < len(stimuli) and stimuli[at].time_ms <= t:
            known[stimuli[at].target] = stimuli[at].value
            at += 1
        s = chance.choice(inputs)
        more += [Stimulus(t, "set", s.name, not known[s.name]), Stimulus(t + period, "set", s.name, known[s.name])]
    return sorted([*stimuli, *more], key=lambda st: st.time_ms)


def _elsewhere(before: list[list[int]], s: Situation) -> bool:
    return s.active != before


def _wanted(session: Session, taken: Counter[tuple[int, int]], chance: random.Random) -> tuple[int, Way] | None:
    """The transition out of an active step that was wanted least."""
    ways = [
        (q.index, w)
        for q in session.program.sequences
        for a in session.situation.active[q.index]
        for w in q.steps[a].ways
    ]
    if not ways:
        return None
    least = min(taken[i, w.index] for i, w in ways)
    return chance.choice([x for x in ways if taken[x[0], x[1].index] == least])


def _prepare(session: Session, inputs: list[Signal], way: Way, chance: random.Random) -> bool:
    """Puts values of the inputs under which a transition clears, if some are found; else any. Where it waits for an edge, the
    inputs are turned over for a scan before. Returns whether some were found.
    """
    if chance.random() < 0.3:
        _move(session, inputs, chance)
        session.scan()
    values, found = _tried(session, inputs, chance, lambda v: _holds(partial(may_clear, way), v))
    for name, value in values.items():
        _put(session, name, value)
    return found


def _tried(
    session: Session, inputs: list[Signal], chance: random.Random, wanted: Callable[[list[Any]], bool]
) -> tuple[dict[str, Any], bool]:
    """Values of the inputs under which what is wanted holds, and whether they were found; else the last that were tried."""
    v, slots = list(session.situation.v), session.program.slots
    values: dict[str, Any] = {}
    for _ in range(TRIES if inputs else 1):
        values = {s.name: _value(s, chance) for s in inputs}
        for name, value in values.items():
            v[slots[name.lower()]] = value
        v[0] = []
        if wanted(v):
            return values, True
    return values, False


def _holds(condition: Callable[[list[Any]], object], v: list[Any]) -> bool:
    """Whether a condition holds; one that stops is tried."""
    try:
        return bool(condition(v))
    except Exception:
        return True


def _with_an_edge(session: Session, inputs: list[Signal], way: Way, chance: random.Random) -> None:
    """Tries it again behind a scan with all switches off, and one with all of them on: what waits for an edge has one then."""
    before = [list(a) for a in session.situation.active]
    for on in (False, True):
        for s in inputs:
            if s.type is Type.BOOL:
                _put(session, s.name, on)
        session.scan()
        if session.situation.active != before or _prepare(session, inputs, way, chance):
            return


def _still(session: Session, inputs: list[Signal], chance: random.Random) -> bool:
    """Puts inputs under which no transition out of the active steps clears and no trip acts; False where none are found."""
    ways = [w for q in session.program.sequences for a in session.situation.active[q.index] for w in q.steps[a].ways]
    conditions: list[Callable[[list[Any]], object]] = [partial(may_clear, w) for w in ways]
    conditions += [t.condition for t in session.program.trips]
    values, found = _tried(session, inputs, chance, lambda v: not any(_holds(c, v) for c in conditions))
    for name, value in values.items() if found else ():
        _put(session, name, value)
    return found


def _put(session: Session, name: str, value: Any) -> None:
    if session.situation.v[session.program.slots[name.lower()]] != value:
        session.do("set", name, value)


def _move(session: Session, inputs: list[Signal], chance: random.Random) -> None:
    for s in inputs if chance.random() < 0.4 else inputs[:0] or ([chance.choice(inputs)] if inputs else []):
        _put(session, s.name, _value(s, chance))
