"""A machine file as a tree of what can be told apart: items by what names them, their fields as plain values.

A step is known by its name, a transition by its ends, a signal by its name: so the same thing has the same key in two versions,
wherever it stands in its list. What was renamed is given one name in both before (`renames`).
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass, fields, replace
from typing import Any

from spokeshave.model.project import Conflict, Project, Sequence, Transition

Tree = dict[str, Any]
"""Fields by name; a list of items is a `Listed`."""


@dataclass(frozen=True, slots=True)
class Listed:
    """Items in their order, by their keys."""

    items: dict[str, Any]


Key = Callable[[Any], str]
KEYS: dict[str, Key] = {
    "requirements": lambda r: r.ident,
    "signals": lambda s: s.name.lower(),
    "tables": lambda t: t.name.lower(),
    "routines": lambda r: r.name.lower(),
    "instances": lambda i: i.name.lower(),
    "recipes": lambda r: r.name.lower(),
    "sequences": lambda q: q.name.lower(),
    "interlocks": lambda i: i.output.lower(),
    "opposed": lambda o: " and ".join(sorted((o.first.lower(), o.second.lower()))),
    "trips": lambda t: t.name.lower(),
    "alarms": lambda a: a.key,
    "devices": lambda d: d.name.lower(),
    "connections": lambda c: f"{c.source} to {c.target}, {c.kind} {c.gives} {c.takes}".lower(),
    "labels": lambda x: x.text,
    "groups": lambda g: g.name.lower(),
    "scene": lambda s: s.name.lower(),
    "panel": lambda t: t.name.lower(),
    "scenarios": lambda s: s.name.lower(),
    "units": lambda u: u.name.lower(),
    "modbus": lambda p: f"{p.name}, {p.role}".lower(),
    "waivers": lambda w: f"{w.code} {w.place}",
    "accepted": lambda a: f"{a.scenario} {a.label}".strip().lower(),
    "conflicts": lambda c: c.path,
}
"""What tells items of each list apart."""
STAGES = (
    "name", "period_ms", "comment", "requirements", "signals", "tables", "routines", "instances", "recipes", "opening", "closing", "home", "reset",
    "sequences", "interlocks", "opposed", "trips", "alarms", "devices", "connections", "labels", "groups", "scene", "svg", "panel", "units", "modbus",
    "scenarios", "accepted",
    "sweep", "study", "tolerances", "waivers", "foreign", "conflicts",
)  # fmt: skip
"""Fields in the order of the stages of the work."""


def listed(items: Iterable[Any], key: Key) -> dict[str, Any]:
    """Items by their keys; a second one with the same key gets a number."""
    out: dict[str, Any] = {}
    for item in items:
        own = key(item)
        n, unique = 2, own
        while unique in out:
            unique, n = f"{own} #{n}", n + 1
        out[unique] = item
    return out


def way_key(t: Transition) -> str:
    """What names a transition: its ends."""
    return " to ".join(" + ".join(sorted(n.lower() for n in side)) for side in (t.sources, t.targets))


PARTS: dict[str, Key] = {"steps": lambda s: s.name.lower(), "transitions": way_key, "bodies": lambda b: b.name.lower()}
"""What tells the parts of a sequence apart."""


def tree_of(project: Project) -> Tree:
    """The tree of a machine file."""
    out: Tree = {}
    for name in STAGES:
        value = getattr(project, name)
        out[name] = Listed({k: _tree(x) for k, x in listed(value, KEYS[name]).items()}) if name in KEYS else value
    return out


def _tree(item: Any) -> Tree:
    out: Tree = {"": type(item), **{f.name: getattr(item, f.name) for f in fields(item)}}
    if isinstance(item, Sequence):
        out |= {part: Listed({k: _tree(x) for k, x in listed(out[part], key).items()}) for part, key in PARTS.items()}
    return out


def project_of(tree: Tree) -> Project:
    """The machine file of a tree."""
    return Project(**{name: _value(tree[name]) for name in STAGES})


def _value(value: Any) -> Any:
    if isinstance(value, Listed):
        return tuple(x[""](**{name: _value(inner) for name, inner in x.items() if name}) for x in value.items.values())
    return value


def settled(project: Project, conflict: Conflict, take_theirs: bool) -> Project:
    """The file without a conflict: mine stays, or theirs is put in its place if it is a plain value."""
    kept = replace(project, conflicts=tuple(c for c in project.conflicts if c != conflict))
    if not take_theirs or not conflict.value:
        return kept
    tree = tree_of(kept)
    _put(tree, conflict.path.split("/"), json.loads(conflict.value))
    return project_of(tree)


def _put(tree: Tree, path: list[str], value: Any) -> None:
    name, *rest = path
    if not rest:
        tree[name] = value
    elif isinstance(tree.get(name), Listed) and rest[0] in tree[name].items:
        items = dict(tree[name].items)
        inner = dict(items[rest[0]])
        _put(inner, rest[1:], value)
        items[rest[0]] = inner
        tree[name] = Listed(items)
