"""What steps that nothing leads to would say: plain code has no lines for it."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.model.project import Project, Sequence
from spokeshave.model.threads import threads


def entries_of(project: Project, q: Sequence) -> tuple[str, ...]:
    """The steps of a sequence that trips go to."""
    own = f"{q.name.lower()}."
    going = [t for t in project.trips if t.steps == "go to" and t.acts_on(q.name)]
    steps = (q.step(g.split(".")[1]) for t in going for g in t.go_to if g.lower().startswith(own))
    return tuple(s.name for s in steps if s is not None)


def reached(project: Project) -> Project:
    """The machine file without conditions, windows and permissives of steps that can never be active; each step and transition keeps
    its place.
    """
    return replace(project, sequences=tuple(_reached(project, q) for q in project.sequences))


def _reached(project: Project, q: Sequence) -> Sequence:
    found = threads(q, entries_of(project, q))
    if found.problem or all(s.name in found.of for s in q.steps):
        return q
    steps = (s if s.name in found.of else replace(s, longest="", shortest="", permissive="") for s in q.steps)
    ways = (t if all(n in found.of for n in t.sources) else replace(t, condition="FALSE") for t in q.transitions)
    return replace(q, steps=tuple(steps), transitions=tuple(ways))
