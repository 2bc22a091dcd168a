"""The machine file without what a proposal shows: under it the proposal has to fail, or it shows nothing."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.model.edits import change_sequence
from spokeshave.model.project import Project
from spokeshave.verify.cause_effect import Cause
from spokeshave.verify.cause_effect_edits import change_trip, remove
from spokeshave.verify.proposed.goals import WAY, Goal
from spokeshave.verify.protection import LATCHED


def without(project: Project, goal: Goal) -> Project:
    """The file in which a transition never clears, or a rule, or one term of it, is not there."""
    name, term = str(goal.key[0]), str(goal.key[1])
    if goal.kind == WAY:
        q = project.sequence(name)
        assert q is not None
        this = q.transitions[int(term)]
        ends = (set(this.sources), set(this.targets))
        never = (
            replace(t, condition="FALSE") if (set(t.sources), set(t.targets)) == ends else t for t in q.transitions
        )
        return change_sequence(project, q.name, transitions=tuple(never))
    if term == LATCHED:
        return change_trip(project, name.partition(" ")[2], latching=False)
    return remove(project, Cause(goal.kind, term, "", ((name, term),), goal.place))
