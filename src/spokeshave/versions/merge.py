"""Two versions of a machine file with a common ancestor, put together item by item.

What only one side changed is taken; texts are put together line by line, lists of marks and wires entry by entry. Where both
changed the same thing otherwise, mine stays, and a conflict says both.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field, replace
from difflib import SequenceMatcher
from typing import Any

from spokeshave.changes.compare import MISSING
from spokeshave.changes.renames import Rename, aligned, renames
from spokeshave.model.diagnostics import Diagnostic, Severity
from spokeshave.model.project import Conflict, Project
from spokeshave.model.stored import apart, together
from spokeshave.model.tree import Listed, Tree, project_of, tree_of
from spokeshave.verify.check.run import every_finding

_LINES = frozenset(("opening", "closing", "text"))
"""Fields that are put together line by line."""
_PAIRED = frozenset(("wires", "parameters"))
"""Fields whose entries are known by their first part."""


@dataclass(slots=True)
class Merged:
    """What came of it. `conflicts` are all that both changed; those nobody has decided stand in the file too."""

    project: Project
    conflicts: list[Conflict] = field(default_factory=list)


def merge(base: Project, mine: Project, theirs: Project, decided: Mapping[str, bool] | None = None) -> Merged:
    """The file with what `mine` and `theirs` have changed since `base`.

    `decided` says for the path of a conflict whether theirs is taken; what stands in it is no finding any more.
    """
    decided = decided or {}
    (base, first), (mine, second), (theirs, third) = map(apart, (base, mine, theirs))
    ours, others = renames(base, mine), renames(base, theirs)
    merger = _Merger(decided)
    for a in ours:
        for b in others:
            if (a.kind, a.old, a.owner) == (b.kind, b.old, b.owner) and a.new != b.new:
                conflict = Conflict(f"{a.kind} {a.old}/name", a.new, b.new, "")
                merger.conflicts.append(conflict)
                if decided.get(conflict.path):
                    mine = Rename(a.kind, a.new, b.new, a.owner).done(mine)
                else:
                    theirs = Rename(a.kind, b.new, a.new, b.owner).done(theirs)
    ours = renames(base, mine)
    base = aligned(aligned(base, ours), others)
    mine, theirs = aligned(mine, others), aligned(theirs, ours)
    tree = merger.tree(tree_of(base), tree_of(mine), tree_of(theirs), "")
    project = project_of(tree)
    left = [c for c in merger.conflicts if c.path not in decided]
    project = together(replace(project, conflicts=(*project.conflicts, *left)), first | second | third)
    return Merged(project, merger.conflicts)


_FLOW = frozenset(("section-unsound", "section-never-joins", "step-unreachable", "step-no-exit"))


def faults_of(*sides: Project) -> frozenset[tuple[str, str]]:
    """What is wrong with either side, for `made_worse`."""
    return frozenset((d.code, str(d)) for side in sides for d in every_finding(side))


def made_worse(made: Project, known: Collection[tuple[str, str]]) -> list[Diagnostic]:
    """What is an error in the result, or unsound in its flow, and is not `known` from either side (`faults_of`); conflicts are
    told elsewhere.
    """
    return [
        d
        for d in every_finding(made)
        if (d.severity is Severity.ERROR or d.code in _FLOW)
        and d.code != "merge-conflict"
        and (d.code, str(d)) not in known
    ]


class _Merger:
    """Goes down three trees at once and notes where both sides changed the same."""

    def __init__(self, decided: Mapping[str, bool]) -> None:
        self.decided = decided
        self.conflicts: list[Conflict] = []

    def tree(self, base: Tree | None, mine: Tree, theirs: Tree, path: str) -> Tree:
        """Two trees of one thing; `base` is None where both have made it anew."""
        out: Tree = {}
        for name, m in mine.items():
            b, t = (MISSING if base is None else base[name]), theirs[name]
            where = f"{path}/{name}".lstrip("/")
            if isinstance(m, Listed):
                out[name] = self._list(b if isinstance(b, Listed) else Listed({}), m, t, where)
            else:
                out[name] = self._leaf(b, m, t, where, name)
        return out

    def _leaf(self, b: Any, m: Any, t: Any, path: str, name: str) -> Any:
        if m == t or t == b:
            return m
        if m == b:
            return t
        joined = MISSING
        if name in _LINES and isinstance(m, str) and b is not MISSING:
            joined = _lines(b, m, t)
        elif isinstance(m, tuple) and b is not MISSING:
            joined = _entries(b, m, t, name in _PAIRED)
        if joined is MISSING:
            self._conflict(path, m, t)
            return t if self.decided.get(path) else m
        return joined

    def _conflict(self, path: str, mine: Any, theirs: Any) -> None:
        plain = isinstance(theirs, (str, bool, int, float)) and type(theirs) in (str, bool, int, float)
        self.conflicts.append(Conflict(path, _said(mine), _said(theirs), json.dumps(theirs) if plain else ""))

    def _list(self, b: Listed, m: Listed, t: Listed, path: str) -> Listed:
        found: dict[str, Any] = {}
        for key in _order(b, m, t):
            x, y, z = (side.items.get(key, MISSING) for side in (b, m, t))
            if y is not MISSING and z is not MISSING:
                found[key] = self.tree(None if x is MISSING else x, y, z, f"{path}/{key}")
            elif x is MISSING:  # new on one side
                found[key] = y if y is not MISSING else z
            else:  # gone on one side
                kept = y if y is not MISSING else z
                if kept is not MISSING and kept != x:
                    theirs = self.decided.get(f"{path}/{key}", y is MISSING)
                    if (z if theirs else y) is not MISSING:
                        found[key] = kept
                    sides = ("changed", "gone") if y is not MISSING else ("gone", "changed")
                    self.conflicts.append(Conflict(f"{path}/{key}", *sides, ""))
        return Listed(found)


def _order(b: Listed, m: Listed, t: Listed) -> Iterator[str]:
    """Keys in my order, or in theirs if mine is as it was; those of the other side behind what they stand behind there."""
    first, second = (m, t) if [k for k in m.items if k in b.items] != [k for k in b.items if k in m.items] else (t, m)
    if [k for k in t.items if k in b.items] == [k for k in b.items if k in t.items]:
        first, second = m, t
    keys = list(first.items)
    before = None
    for key in second.items:
        if key not in keys:
            keys.insert(0 if before is None else keys.index(before) + 1, key)
        before = key
    return iter([*keys, *(k for k in b.items if k not in keys)])


def _said(value: Any) -> str:
    text = " ".join(str(value).split()) if not isinstance(value, tuple) else ", ".join(map(str, value))
    return text if len(text) <= 200 else f"{text[:197]}..."


def _entries(b: tuple[Any, ...], m: Any, t: Any, paired: bool) -> Any:
    """Entries that one side took away go, those it added come; `MISSING` where both changed the same one."""
    if paired:
        x, y, z = (dict(side) for side in (b, m, t))
        out = []
        for key in dict.fromkeys((*y, *z, *x)):
            old, a, c = (side.get(key, MISSING) for side in (x, y, z))
            if a != c and a != old and c != old:
                return MISSING
            value = c if a == old else a
            if value is not MISSING:
                out.append((key, value))
        return tuple(out)
    if len(set(map(repr, b))) < len(b):
        return MISSING
    kept = [e for e in m if e in t or e not in b]
    behind = None
    for e in t:
        if e not in kept and e not in b:
            kept.insert(len(kept) if behind is None or behind not in kept else kept.index(behind) + 1, e)
        behind = e
    return tuple(kept)


def _lines(b: str, m: str, t: str) -> Any:
    """Three texts put together by their lines; `MISSING` where both changed the same lines otherwise."""
    old, a, c = (text.split("\n") for text in (b, m, t))
    edits = [(*op[1:3], side[op[3] : op[4]], who) for who, side in ((0, a), (1, c))
             for op in SequenceMatcher(None, old, side, autojunk=False).get_opcodes() if op[0] != "equal"]  # fmt: skip
    edits.sort(key=lambda e: (e[0], e[1], e[3]))
    out: list[str] = []
    at = 0
    last: tuple[int, int, list[str], int] | None = None
    for first, end, lines, who in edits:
        if last is not None and last[3] != who and (first < last[1] or (first == last[0] and first == last[1])):
            if (first, end, lines) == last[:3]:
                continue  # both did the same
            if first < last[1] or end > first or last[1] > last[0]:
                return MISSING
        out += old[at:first] + lines
        at, last = max(at, end), (first, end, lines, who)
    return "\n".join(out + old[at:])
