"""The machine file without what a proposal shows: under it the proposal has to fail, or it shows nothing."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.language.terms import terms_of, with_terms
from spokeshave.model.edits import change_sequence, change_step
from spokeshave.model.project import Project
from spokeshave.verify.proposed.goals import WAY, Goal
from spokeshave.verify.protection import LATCHED


def without(project: Project, goal: Goal) -> Project:
    """The file in which a transition never clears, or a rule, or one term of it, is not there."""
    if goal.kind == WAY:
        q = project.sequence(str(goal.key[0]))
        assert q is not None
        this = q.transitions[int(goal.key[1])]
        ends = (set(this.sources), set(this.targets))
        ways = tuple(
            replace(t, condition="FALSE") if (set(t.sources), set(t.targets)) == ends else t for t in q.transitions
        )
        return change_sequence(project, q.name, transitions=ways)
    name, term = (str(part) for part in goal.key)
    guards = name.partition(" ")[2]
    if goal.kind == "trip":
        return _without_trip(project, guards, term == LATCHED)
    if goal.kind == "interlock":
        rest = tuple(
            replace(i, condition=_without_term(i.condition, term)) if i.output == guards else i
            for i in project.interlocks
        )
        return replace(project, interlocks=tuple(i for i in rest if i.condition))
    if goal.kind == "opposed":
        return replace(project, opposed=tuple(o for o in project.opposed if f"{o.first}/{o.second}" != guards))
    if goal.kind in ("hold", "restart"):
        return change_sequence(project, guards, **{f"{goal.kind}_when": ""})
    sequence, _, step = guards.partition(".")
    changes: dict[str, str] = {"permissive": ""} if goal.kind == "permissive" else {"longest": "", "shortest": ""}
    return change_step(project, sequence, step, **changes)


def _without_term(condition: str, term: str) -> str:
    left = [t for t in terms_of(condition) if t != term]
    return with_terms(tuple(left)) if left else ""


def _without_trip(project: Project, name: str, latched: bool) -> Project:
    if latched:
        return replace(project, trips=tuple(replace(t, latching=False) if t.name == name else t for t in project.trips))
    for q in project.sequences:
        if any(s.response == name for s in q.steps):
            steps = tuple(replace(s, response="alarm") if s.response == name else s for s in q.steps)
            project = change_sequence(project, q.name, steps=steps)
    alarms = tuple(a for a in project.alarms if a.key != f"trip {name}".lower())
    return replace(project, trips=tuple(t for t in project.trips if t.name != name), alarms=alarms)
