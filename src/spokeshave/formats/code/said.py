"""What an edited text of code changes, in the words of a person who thinks in states."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.changes.compare import MISSING, Difference
from spokeshave.changes.words import told
from spokeshave.model.project import Action, Project, Qualifier, Sequence, Transition
from spokeshave.model.tree import way_key

Said = tuple[str, str, str, str, str]
"""What changes, for a person: the kind and item of the place, what was, what comes, the sequence."""


def said(changes: list[Difference], before: Project, after: Project) -> list[Said]:
    """What differs between what two texts say. Ways out are told state by state."""
    out: list[Said] = []
    marks: list[Said] = []
    for d in changes:
        part = d.path[2] if d.path[0] == "sequences" and len(d.path) > 3 else ""
        if part == "transitions":
            continue
        q = after.sequence(d.path[1]) or before.sequence(d.path[1]) if part else None
        mine = list(_of_step(d, q)) if part == "steps" and q is not None else []
        (more,) = told([d], before, after)
        own = more.place.sequence
        mine = mine or [(more.place.kind, more.place.item, "", more.text.removeprefix(f"{own}: "), own)]
        out += mine[:1] if len(d.path) == 4 else mine
        marks += mine[1:] if len(d.path) == 4 else []
    for q in after.sequences:
        was = before.sequence(q.name)
        if was is not None:
            out += _ways(was, q)
    return out + marks


def _of_step(d: Difference, q: Sequence) -> Iterator[Said]:
    """What is different about a step; nothing for what has no words of its own here."""
    if d.path[3] == "order":
        return
    step = q.step(d.path[3])
    if len(d.path) == 4:
        tree = d.after if d.before is MISSING else d.before
        name = f"step {tree['number']} {tree['name']}"
        yield ("step", tree["name"], *(("", f"{name} is new") if d.before is MISSING else (name, "is gone")), q.name)
        for a in tree["actions"] if d.before is MISSING else ():
            yield ("step", tree["name"], "", f"{_mark(a)} also in {tree['number']}", q.name)
    elif d.path[4] == "actions" and step is not None:
        for a in d.before:
            if a not in d.after:
                yield ("step", step.name, _mark(a), f"{_mark(a)} no longer in {step.number}", q.name)
        for a in d.after:
            if a not in d.before:
                yield ("step", step.name, "", f"{_mark(a)} also in {step.number}", q.name)
    elif d.path[4] == "number" and step is not None:
        yield ("step", step.name, f"step {d.before} {step.name}", f"has the number {d.after}", q.name)


def _mark(a: Action) -> str:
    return a.target if a.qualifier is Qualifier.N else f"{a.target} ({a.qualifier}{' ' * bool(a.time)}{a.time})"


def _ways(was: Sequence, now: Sequence) -> Iterator[Said]:
    """The ways out of each step that are otherwise; one that has gone stands beside one that has come, by where it leads, else by turn."""
    numbers = {s.name: s.number for q in (was, now) for s in q.steps}
    old_number = {s.name: s.number for s in was.steps}

    def words(t: Transition, known: dict[str, int]) -> str:
        ends = (" + ".join(str(known.get(n, n)) for n in side) for side in (t.sources, t.targets))
        return f"{' leads to '.join(ends)} if {t.condition}"

    left = {s.name for s in now.steps}
    firsts = dict.fromkeys(
        t.sources[0] for t in sorted(now.transitions + was.transitions, key=lambda t: numbers[t.sources[0]])
    )
    for first in firsts:
        old, new = ([t for t in q.transitions if t.sources[0] == first] for q in (was, now))
        kept = {(way_key(t), t.condition) for t in old} & {(way_key(t), t.condition) for t in new}
        gone, come = ([t for t in side if (way_key(t), t.condition) not in kept] for side in (old, new))
        for n, t in enumerate(come):
            same = [o for o in gone if way_key(o) == way_key(t)] or [o for o in gone if o.condition == t.condition]
            same = same or (gone[:1] if len(gone) >= len(come) - n else [])
            if same:
                gone.remove(same[0])
            yield ("step", first, words(same[0], old_number) if same else "", words(t, numbers), now.name)
        for t in gone if first in left else ():
            yield ("step", first, words(t, old_number), "no longer", now.name)
        order = [[(way_key(t), t.condition) for t in side] for side in (old, new)]
        if len(kept) > 1 and [k for k in order[0] if k in kept] != [k for k in order[1] if k in kept]:
            yield ("step", first, "", f"the ways out of {numbers[first]} are in another order", now.name)
