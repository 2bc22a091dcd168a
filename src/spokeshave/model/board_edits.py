"""Edits of what stands on the board beside the devices themselves: connections and groups."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from spokeshave.model.edits import EditError, add_item, free_name
from spokeshave.model.project import CONNECTION_KINDS, Connection, Group, Project


def free_cell(project: Project) -> tuple[int, int]:
    """The first empty cell of the board, row by row, five columns wide."""
    taken = {d.at for d in project.devices} | {x.at for x in project.labels}
    return next((c, r) for r in range(10_000) for c in range(5) if (c, r) not in taken)


def connect(project: Project, source: str, target: str, kind: str, gives: str = "", takes: str = "") -> Project:
    """A line between two devices, which carries a value if `gives` and `takes` name terminals. Raises `EditError`."""
    if kind not in CONNECTION_KINDS:
        raise EditError(f"{kind!r} is no connection; there are {', '.join(CONNECTION_KINDS)}")
    if project.device(source) is None or project.device(target) is None or source.lower() == target.lower():
        raise EditError("a connection is from one device to another")
    new = Connection(source, target, kind, gives, takes)
    if new in project.connections:
        raise EditError(f"{source} and {target} are connected like that already")
    return add_item(project, "connections", new)


def couple(project: Project, target: str, takes: str, source: str = "", gives: str = "") -> Project:
    """What drives a terminal of a device: the sensor terminal of another one, or nothing without `source`.

    A line of the same devices that was only drawn is taken for it; a wire at the terminal goes.
    """
    old = next((c for c in project.connections if c.target.lower() == target.lower() and c.takes == takes), None)
    kept = tuple(c for c in project.connections if c is not old)
    if source:
        drawn = next((c for c in kept if (c.source, c.target, c.gives) == (source, target, "")), None)
        kind = drawn.kind if drawn is not None else old.kind if old is not None else "pipe"
        kept = (*(c for c in kept if c is not drawn), Connection(source, target, kind, gives, takes))
        devices = tuple(
            replace(d, wires=tuple(w for w in d.wires if w[0] != takes)) if d.name.lower() == target.lower() else d
            for d in project.devices
        )
        project = replace(project, devices=devices)
    return project if kept == project.connections else replace(project, connections=kept)


def remove_devices(project: Project, names: Sequence[str]) -> Project:
    """Without these devices, their connections and their places in groups."""
    gone = {n.lower() for n in names}
    groups = tuple(replace(g, devices=tuple(d for d in g.devices if d.lower() not in gone)) for g in project.groups)
    return replace(
        project,
        devices=tuple(d for d in project.devices if d.name.lower() not in gone),
        connections=tuple(c for c in project.connections if not {c.source.lower(), c.target.lower()} & gone),
        groups=tuple(g for g in groups if g.devices),
    )


def group(project: Project, names: Sequence[str], title: str = "") -> Project:
    """Devices in one frame; they leave the groups they were in."""
    rest = tuple(replace(g, devices=tuple(d for d in g.devices if d not in names)) for g in project.groups)
    rest = tuple(g for g in rest if g.devices)
    name = title or free_name("Group", {g.name.lower() for g in rest})
    return replace(project, groups=(*rest, Group(name, tuple(names))))
