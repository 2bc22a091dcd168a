"""What nothing shows yet: ways that no run has gone, and rules that came into play in none."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np

from spokeshave.engine.link_sequence import transition_place
from spokeshave.engine.program import Program
from spokeshave.engine.situation import Mode, Situation
from spokeshave.engine.trace import Trace
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project
from spokeshave.verify.protection import LATCHED, Key, rules

Way = tuple[str, int]
"""A sequence and the index of a transition."""
WAY = "way"
"""The kind of the goals that are transitions; the others are keys of rules, with the kind of the rule."""


@dataclass(frozen=True, slots=True)
class Goal:
    """Something that a run can come to. `key` is that of a rule, or a sequence with the index of a transition."""

    kind: str
    key: Key | Way
    words: str
    place: Place


def goals_of(project: Project) -> list[Goal]:
    """All there is to show: every transition, then every rule that protects, interlocks term by term. Transitions are known by the
    steps they lead from and to: several between the same ones are one goal, and one from a step to itself is none.
    """
    found = []
    for q in project.sequences:
        ends = [(frozenset(t.sources), frozenset(t.targets)) for t in q.transitions]
        for i, t in enumerate(q.transitions):
            if set(t.sources) != set(t.targets) and ends.index(ends[i]) == i:
                ways = f"{', '.join(t.sources)} to {', '.join(t.targets)}"
                found.append(Goal(WAY, (q.name, i), f"{q.name}, {ways}", transition_place(q, i)))
    for rule in rules(project):
        for name, term in rule.keys:
            words = f"{name}: {term}" if term and term != LATCHED else f"{name}, latched" if term else name
            found.append(Goal(rule.kind, (name, term), words, rule.place))
    return found


def ways_gone(trace: Trace, program: Program) -> set[Way]:
    """The transitions that cleared in a run, by the steps that came and went in one scan without a trip, a restart or a loss of
    power.
    """
    found = set()
    for q in program.project.sequences:
        own = {e.k for e in trace.events if e.kind in ("tripped", "restart") and e.text == q.name}
        put = own | {e.k for e in trace.events if e.kind == "power cycle"}
        fell = {s.name: _edges(trace, f"{q.name}.{s.name}.X", False) for s in q.steps}
        rose = {s.name: _edges(trace, f"{q.name}.{s.name}.X", True) for s in q.steps}
        for i, t in enumerate(q.transitions):
            scans = set.intersection(*(fell[n] for n in t.sources), *(rose[n] for n in t.targets if n not in t.sources))
            if scans - put and set(t.sources) != set(t.targets):
                found.add((q.name, i))
    return found


def ways_now(program: Program, s: Situation) -> set[Way]:
    """The transitions that cleared in the scan before `s.k`, of a session that `tells_moves`."""
    found = set()
    for q in program.sequences:
        left, came = s.left[q.index], s.came[q.index]
        if left and s.mode[q.index] is Mode.RUN and not s.jumped[q.index]:
            for w in (w for a in left for w in q.steps[a].ways):
                if all(a in left for a in w.sources) and all(a in came for a in w.targets):
                    found.add((q.name, w.index))
    return found


def _edges(trace: Trace, name: str, up: bool) -> set[int]:
    scans, values = trace.changes(trace.column(name))
    return {int(k) for k in scans[1:][np.asarray(values[1:], bool) == up]}


def open_goals(project: Project, shown: Iterable[Goal]) -> list[Goal]:
    """The goals that are not among `shown`."""
    done = {(g.kind, g.key) for g in shown}
    return [g for g in goals_of(project) if (g.kind, g.key) not in done]


def shown_by(project: Project, ways: set[Way], keys: Iterable[Key]) -> Iterator[Goal]:
    """The goals that a run has come to, by the transitions that cleared and the rules that acted in it."""
    acted = set(keys)
    for g in goals_of(project):
        if g.key in (ways if g.kind == WAY else acted):
            yield g
