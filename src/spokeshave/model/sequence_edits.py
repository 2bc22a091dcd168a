"""Edits of whole sequences: another place in the order of the scan, none at all."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.model.edits import EditError
from spokeshave.model.project import Project


def move_sequence(project: Project, name: str, by: int) -> Project:
    """A sequence so many places later in the order; at the ends it stays."""
    at = _index(project, name)
    to = max(0, min(len(project.sequences) - 1, at + by))
    rest = [q for i, q in enumerate(project.sequences) if i != at]
    rest.insert(to, project.sequences[at])
    return project if to == at else replace(project, sequences=tuple(rest))


def delete_sequence(project: Project, name: str) -> Project:
    """The file without a sequence; trips, alarms and units do not name it any more. Texts that do are told by the check."""
    gone = project.sequences[_index(project, name)].name.lower()

    def kept(names: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(n for n in names if n.partition(".")[0].lower() != gone)

    trips = tuple(
        replace(t, scope=None if t.scope is None else kept(t.scope), go_to=kept(t.go_to)) for t in project.trips
    )
    alarms = tuple(
        a
        for a in project.alarms
        if a.on.partition(" ")[2].partition(".")[0].lower() != gone or a.on.startswith("trip ")
    )
    units = tuple(replace(u, sequences=kept(u.sequences)) for u in project.units)
    sequences = tuple(q for q in project.sequences if q.name.lower() != gone)
    return replace(project, sequences=sequences, trips=trips, alarms=alarms, units=units)


def _index(project: Project, name: str) -> int:
    found = next((i for i, q in enumerate(project.sequences) if q.name.lower() == name.lower()), -1)
    if found < 0:
        raise EditError(f"there is no sequence {name}")
    return found
