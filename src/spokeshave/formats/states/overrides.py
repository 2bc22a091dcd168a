"""An override that leads from every state to one of them is a trip: one line instead of a way out of each step."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

from spokeshave.formats.states.choices import Note
from spokeshave.model.edits import free_name, taken_names
from spokeshave.model.project import Project, Sequence, Transition, Trip

MANY = 5
"""Steps from which an override leads before it becomes a trip; fewer ways are easier to read as ways."""


def as_trips(project: Project, notes: list[Note]) -> Project:
    """The machine file with trips that go to a step in the place of ways that lead there from all others, under one condition and
    before all else. What `notes` say of them is put right.
    """
    for q in project.sequences:
        while (found := _override(q)) is not None:
            condition, target = found
            name = free_name(f"To{target}", taken_names(project) | {t.name.lower() for t in project.trips})
            trip = Trip(
                name, len(project.trips) + 1, condition, (q.name,), False, "go to", (f"{q.name}.{target}",), "keep"
            )
            q = _without(q, condition, target)
            sequences = tuple(q if x.name == q.name else x for x in project.sequences)
            project = replace(project, trips=(*project.trips, trip), sequences=sequences)
            said = f"leads to {target}, from every state that it concerns"
            notes[:] = [
                Note(n.line, f"is the trip {name}, which goes to {target} from every state") if n.text == said else n
                for n in notes
            ]
    return project


def _first_ways(q: Sequence) -> list[Transition]:
    """The way out of each step that is chosen before all others."""
    first: dict[str, Transition] = {}
    for t in sorted(q.transitions, key=lambda t: (t.priority is None, t.priority or 0)):
        for source in t.sources:
            first.setdefault(source, t)
    return list(first.values())


def _override(q: Sequence) -> tuple[str, str] | None:
    """The condition and the step of ways that lead there from every other step."""
    plain = [t for t in _first_ways(q) if len(t.sources) == len(t.targets) == 1 and t.sources != t.targets]
    led: dict[tuple[str, str], set[str]] = {}
    for t in plain:
        led.setdefault((t.condition, t.targets[0]), set()).add(t.sources[0])
    for (condition, target), sources in led.items():
        if len(sources) < MANY or sources != {s.name for s in q.steps} - {target}:
            continue
        own = [q.name, *(s.name for s in q.steps)]
        if not any(f"{name}.".lower() in condition.lower() for name in own):
            return condition, target
    return None


def _without(q: Sequence, condition: str, target: str) -> Sequence:
    """Without these ways; what is left of a step is numbered from one on, or not at all if it is one."""
    left = [t for t in q.transitions if (t.condition, t.targets) != (condition, (target,))]
    of: dict[str, list[int]] = {}
    for t in left:
        if t.priority is not None:
            of.setdefault(t.sources[0], []).append(t.priority)
    count = Counter(s for t in left for s in t.sources)
    ways = [
        t if t.priority is None
        else replace(t, priority=None if count[t.sources[0]] == 1 else 1 + sorted(of[t.sources[0]]).index(t.priority))
        for t in left
    ]  # fmt: skip
    return replace(q, transitions=tuple(ways))
