"""What an edited code text would change in the machine file, for a person to read before it is taken over."""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.engine.link_sequence import transition_place
from spokeshave.formats.code.read import Change, read_code
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project


@dataclass(frozen=True, slots=True)
class Difference:
    """One text of the machine file as it is and as the code has it."""

    place: Place
    old: str
    new: str


def differences(text: str, project: Project, style: str) -> tuple[Project, list[Difference]]:
    """The machine file as the statements of generated code have it, and what differs. Raises `FormatError`."""
    after, changes = read_code(text, 0, len(text), project, style)
    return after, [Difference(_place(project, c), c.old, c.new) for c in changes]


def _place(project: Project, change: Change) -> Place:
    kind, *rest = change.of
    if kind == "condition":
        q = project.sequence(str(rest[0]))
        assert q is not None
        return transition_place(q, int(rest[1]))
    if kind == "body":
        return Place("body", str(rest[0]), str(rest[1]))
    if kind == "hold":
        return Place("sequence", item=str(rest[0]))
    return Place(str(kind), item=str(rest[0]) if rest else "")
