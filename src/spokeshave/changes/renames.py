"""What has another name in another version: signals by their address or by all else alike, steps by their number."""

from __future__ import annotations

from dataclasses import dataclass, replace

from spokeshave.language.rename import rename_sequence, rename_signal, rename_step
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project, Sequence, Signal


@dataclass(frozen=True, slots=True)
class Rename:
    """A signal, sequence or step that has another name; `owner` is the sequence of a step, by its old name."""

    kind: str
    old: str
    new: str
    owner: str = ""

    def done(self, project: Project) -> Project:
        """The file with the new name in every text; as it is where it does not have the old one, or the new one is taken."""
        try:
            if self.kind == "signal":
                return rename_signal(project, self.old, self.new) if project.signal(self.old) else project
            if self.kind == "sequence":
                return rename_sequence(project, self.old, self.new) if project.sequence(self.old) else project
            q = project.sequence(self.owner)
            return (
                rename_step(project, self.owner, self.old, self.new) if q is not None and q.step(self.old) else project
            )
        except EditError:
            return project


def renames(before: Project, after: Project) -> list[Rename]:
    """What was renamed, sequences first."""
    out: list[Rename] = []
    old = [q for q in before.sequences if after.sequence(q.name) is None]
    new = [q for q in after.sequences if before.sequence(q.name) is None]
    of = {q.name: q.name for q in before.sequences if after.sequence(q.name) is not None}
    for q in new:
        same = [o for o in old if _shape(o) == _shape(q)]
        if len(same) == 1:
            out.append(Rename("sequence", same[0].name, q.name))
            of[same[0].name] = q.name
    for name, now in of.items():
        a, b = before.sequence(name), after.sequence(now)
        if a is not None and b is not None:
            out += [replace(r, owner=now) for r in _steps(a, b)]
    return out + _signals(before, after)


def _shape(q: Sequence) -> tuple[object, ...]:
    return tuple((s.number, s.name) for s in q.steps)


def _steps(a: Sequence, b: Sequence) -> list[Rename]:
    gone = {s.number: s for s in a.steps if b.step(s.name) is None}
    return [Rename("step", gone[s.number].name, s.name) for s in b.steps if a.step(s.name) is None and s.number in gone]


def _signals(before: Project, after: Project) -> list[Rename]:
    old = [s for s in before.signals if after.signal(s.name) is None]
    out: list[Rename] = []
    for s in after.signals:
        if before.signal(s.name) is not None:
            continue
        same = [o for o in old if (s.address and o.address == s.address and o.type is s.type) or _alike(o, s)]
        if len(same) == 1:
            old.remove(same[0])
            out.append(Rename("signal", same[0].name, s.name))
    return out


def _alike(a: Signal, b: Signal) -> bool:
    return bool(a.comment) and replace(a, name="") == replace(b, name="")


def aligned(project: Project, found: list[Rename]) -> Project:
    """The file with the new names, where it has the old ones."""
    for r in found:
        project = r.done(project)
    return project
