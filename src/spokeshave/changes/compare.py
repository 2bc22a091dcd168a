"""What differs between two machine files, as values: where, what was, what is."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from spokeshave.changes.renames import Rename, aligned, renames
from spokeshave.model.project import Project
from spokeshave.model.stored import apart, digests
from spokeshave.model.tree import Listed, Tree, project_of, tree_of

Path = tuple[str, ...]
"""Down the tree: `("sequences", "roast", "steps", "charge", "longest")`."""


class Missing:
    """In the place of an item that one of two versions does not have."""

    def __repr__(self) -> str:
        return "nothing"


MISSING = Missing()


@dataclass(frozen=True, slots=True)
class Difference:
    """A field that has another value, or an item that is new or gone: then `before` or `after` is `MISSING`. `place` is its place
    in the list it belongs to, for one that is new.
    """

    path: Path
    before: Any
    after: Any
    place: int = -1

    @property
    def kind(self) -> str:
        return "new" if self.before is MISSING else "gone" if self.after is MISSING else "changed"


def differences(before: Project, after: Project) -> list[Difference]:
    """All that differs, in the order of the stages; what was renamed comes first, and counts as one thing."""
    if digests(before) or digests(after):  # then by digests on both sides
        before, after = apart(before)[0], apart(after)[0]
    found = renames(before, after)
    told = [Difference(("renamed", r.kind, r.owner, r.old), r.old, r.new) for r in found]
    return told + list(_of(tree_of(aligned(before, found)), tree_of(after), ()))


def _of(a: Tree, b: Tree, path: Path) -> Iterator[Difference]:
    for name in b:
        x, y = a.get(name), b[name]
        if isinstance(x, Listed) and isinstance(y, Listed):
            yield from _of_list(x, y, (*path, name))
        elif x != y and name:
            yield Difference((*path, name), x, y)


def _of_list(a: Listed, b: Listed, path: Path) -> Iterator[Difference]:
    for n, (key, y) in enumerate(b.items.items()):
        if key not in a.items:
            yield Difference((*path, key), MISSING, y, n)
        else:
            yield from _of(a.items[key], y, (*path, key))
    for key, x in a.items.items():
        if key not in b.items:
            yield Difference((*path, key), x, MISSING)
    kept_a, kept_b = ([k for k in x.items if k in y.items] for x, y in ((a, b), (b, a)))
    if kept_a != kept_b:
        yield Difference((*path, "order"), tuple(kept_a), tuple(kept_b))


def taken_over(project: Project, wanted: list[Difference]) -> Project:
    """`project` with some of what differs in another version, as `differences(project, other)` tells it."""
    for d in wanted:
        if d.path[0] == "renamed":
            project = Rename(d.path[1], d.path[3], str(d.after), d.path[2]).done(project)
    tree = tree_of(project)
    for d in sorted((d for d in wanted if d.path[0] != "renamed"), key=_rank):
        _put(tree, d.path, d)
    return project_of(tree)


def _rank(d: Difference) -> tuple[int, int]:
    """Changes first, then what is gone, then what is new, each at its place."""
    return {"changed": 0, "gone": 1, "new": 2}[d.kind], d.place


def _put(tree: Tree, path: Path, d: Difference) -> None:
    name, *rest = path
    value = tree[name]
    if not isinstance(value, Listed):
        tree[name] = d.after
        return
    items = dict(value.items)
    key = rest[0]
    if len(rest) == 1 and key == "order" and isinstance(d.before, tuple):
        order = [k for k in d.after if k in items]
        items = {k: items[k] for k in order} | {k: v for k, v in items.items() if k not in order}
    elif len(rest) == 1:
        if d.after is MISSING:
            items.pop(key, None)
        else:
            keys = [k for k in items if k != key]
            keys.insert(min(max(d.place, 0), len(keys)), key)
            items = {k: d.after if k == key else items[k] for k in keys}
    else:
        inner = dict(items[key])
        _put(inner, tuple(rest[1:]), d)
        items[key] = inner
    tree[name] = Listed(items)
