"""A chart with some of its branches folded away: each is one step that stands for all in it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from spokeshave.model.project import Sequence
from spokeshave.model.sections import begins_branch, inside


@dataclass(frozen=True, slots=True)
class Folded:
    """What is left to draw. `ways[i]` is the index that transition `i` of it has in the whole sequence."""

    sequence: Sequence
    ways: tuple[int, ...]
    within: dict[str, frozenset[str]]
    """The steps that each folded branch stands for, by its first step."""

    def shown_as(self, step: str) -> str:
        """The step that stands for `step`: itself where nothing is folded."""
        return next((head for head, names in self.within.items() if step in names), step)


def foldable(sequence: Sequence, step: str) -> bool:
    """Whether a branch of at least two steps begins with `step`."""
    return begins_branch(sequence, step) and len(inside(sequence, step)) > 1


def folded(sequence: Sequence, heads: Iterable[str]) -> Folded:
    """The sequence with the branches that begin with `heads` folded; heads that begin none any more are left open."""
    within: dict[str, frozenset[str]] = {}
    for head in heads:
        if sequence.step(head) is not None and foldable(sequence, head):
            within[head] = inside(sequence, head)
    # A branch within a folded one goes with it.
    within = {h: s for h, s in within.items() if not any(h in other for k, other in within.items() if k != h)}
    if not within:
        return Folded(sequence, tuple(range(len(sequence.transitions))), {})
    stands_for = {s: head for head, names in within.items() for s in names}
    steps = tuple(
        replace(s, actions=(), longest="", shortest="", permissive="") if s.name in within else s
        for s in sequence.steps
        if stands_for.get(s.name, s.name) == s.name
    )
    transitions, ways = [], []
    for i, t in enumerate(sequence.transitions):
        ends = [stands_for.get(n) for n in (*t.sources, *t.targets)]
        if ends[0] is not None and all(e == ends[0] for e in ends):
            continue
        sources = tuple(dict.fromkeys(stands_for.get(n, n) for n in t.sources))
        targets = tuple(dict.fromkeys(stands_for.get(n, n) for n in t.targets))
        transitions.append(replace(t, sources=sources, targets=targets))
        ways.append(i)
    return Folded(replace(sequence, steps=steps, transitions=tuple(transitions)), tuple(ways), within)
