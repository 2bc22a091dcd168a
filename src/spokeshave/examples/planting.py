"""Planted mistakes: what engineers get wrong, put into a machine file on purpose, and who is to find it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from spokeshave.model import edits
from spokeshave.model.project import Action, Project, Sequence, Step, Transition


@dataclass(frozen=True, slots=True)
class Mistake:
    """`plant` puts it in; it is found by the check as `code`, by the scenario `scenario`, by the fault sweep under the fault
    `fault`, or by the reachability study with a bad answer of the kind `study`.
    """

    name: str
    what: str
    plant: Callable[[Project], Project]
    code: str = ""
    scenario: str = ""
    fault: str = ""
    study: str = ""

    @property
    def found_by(self) -> str:
        if self.fault:
            return f"the fault sweep ({self.fault})"
        if self.study:
            return f"the reachability study ({self.study})"
        return f"the check ({self.code})" if self.code else f"the scenario {self.scenario!r}"


def planted(project: Project, mistake: Mistake) -> Project:
    """The machine file with the mistake, named after it."""
    return replace(
        mistake.plant(project), name=f"{project.name}: {mistake.name}", comment=f"A planted mistake: {mistake.what}"
    )


def ways(project: Project, sequence: str, change: Callable[[Transition], Transition | None]) -> Project:
    """Other transitions; None takes one out."""

    def edit(q: Sequence) -> Sequence:
        kept = (change(t) for t in q.transitions)
        return replace(q, transitions=tuple(t for t in kept if t is not None))

    return edits.edit_sequence(project, sequence, edit)


def condition(project: Project, sequence: str, source: str, target: str, text: str) -> Project:
    """Another condition on the way from one step to another."""
    return ways(
        project,
        sequence,
        lambda t: replace(t, condition=text) if source in t.sources and target in t.targets else t,
    )


def step(project: Project, sequence: str, name: str, change: Callable[[Step], Step]) -> Project:
    """Other actions of a step."""
    found = project.sequence(sequence)
    step = found.step(name) if found is not None else None
    assert step is not None
    return edits.change_step(project, sequence, name, actions=change(step).actions)


def without_action(project: Project, sequence: str, name: str, target: str) -> Project:
    """A step that no longer acts on a target."""
    return step(
        project, sequence, name, lambda s: replace(s, actions=tuple(a for a in s.actions if a.target != target))
    )


def with_action(project: Project, sequence: str, name: str, action: Action) -> Project:
    """A step with one more action."""
    return step(project, sequence, name, lambda s: replace(s, actions=(*s.actions, action)))
