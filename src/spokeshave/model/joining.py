"""What another machine file has, put into this one: its signals, block instances, sequences and logic."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.model import fragments
from spokeshave.model.edits import EditError, taken_names
from spokeshave.model.project import Project
from spokeshave.model.recipes import recipe_of


def joined(project: Project, other: Project) -> Project:
    """`project` with all that `other` has. A signal that both have is this one's; a sequence that nobody has written in gives way.

    Raises `EditError` where a name means two things.
    """
    starters = tuple(q for q in project.sequences if fragments.is_starter(q))
    kept = replace(project, sequences=tuple(q for q in project.sequences if q not in starters))
    mine = {s.name.lower(): s for s in kept.signals}
    taken = taken_names(kept)
    signals, instances = list(kept.signals), list(kept.instances)
    for s in other.signals:
        had = mine.get(s.name.lower())
        if had is not None and had.type is not s.type:
            raise EditError(f"{s.name} is {had.type} here and {s.type} in the text; rename one of them")
        if had is None:
            if s.name.lower() in taken:
                raise EditError(f"{s.name} is a name already; rename it in the text")
            signals.append(s)
    known = {i.name.lower(): i for i in kept.instances}
    for i in other.instances:
        if known.get(i.name.lower(), i).kind != i.kind:
            raise EditError(
                f"{i.name} is {known[i.name.lower()].kind} here and {i.kind} in the text; rename one of them"
            )
        instances += [i] if i.name.lower() not in known else []
    for q in other.sequences:
        if any(x.name.lower() == q.name.lower() for x in kept.sequences):
            raise EditError(f"there is a sequence {q.name} already; rename the program in the text")
    fresh = not kept.sequences and not project.signals
    return replace(
        kept,
        name=other.name if fresh else project.name,
        period_ms=other.period_ms if fresh else project.period_ms,
        signals=tuple(signals),
        instances=tuple(instances),
        sequences=(*kept.sequences, *other.sequences),
        recipes=(*kept.recipes, *(r for r in other.recipes if recipe_of(kept, r.name) is None)),
        opening=f"{kept.opening}\n{other.opening}".strip(),
        closing=f"{kept.closing}\n{other.closing}".strip(),
    )
