"""Which simultaneous branches a step stands in, and whether a chart can put two tokens where one belongs.

A ──┬── B ── C ──┬── F        B and C stand in branch 0 of the divergence to {B, D},
    └── D ── E ──┘            D and E in branch 1, A and F in none.

In a chart without a problem here no step is entered while active, and a join waits for steps that can be active
together: every simultaneous section is left by all its branches at once.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from spokeshave.model.project import Sequence, Transition

Context = tuple[tuple[frozenset[str], frozenset[int]], ...]
"""Open sections, the outer one first: the steps a section begins with, and which of its branches."""


@dataclass(frozen=True, slots=True)
class Sections:
    """The context of every step that is reached; `problem` says what is wrong first, empty for a sound chart, and `way` which
    transition it is about.
    """

    of: Mapping[str, Context]
    problem: str = ""
    way: int = -1


def sections(sequence: Sequence) -> Sections:
    """Follows the flow from the initial step, a join once all its predecessors are reached."""
    of: dict[str, Context] = {sequence.initial: ()}
    leaving: dict[str, list[int]] = {}
    for i, t in enumerate(sequence.transitions):
        for name in dict.fromkeys(t.sources):  # a file may name one twice, which the linker tells
            leaving.setdefault(name, []).append(i)
    waiting = [len(set(t.sources)) for t in sequence.transitions]
    todo = [sequence.initial]
    while todo:
        for i in leaving.get(todo.pop(), ()):
            waiting[i] -= 1
            if waiting[i]:
                continue
            t = sequence.transitions[i]
            base = of[t.sources[0]] if len(t.sources) == 1 else _merged([of[s] for s in t.sources])
            if base is None:
                return Sections(of, f"{way_name(t)} waits for steps that are not active together", i)
            begun = frozenset(t.targets)
            for n, target in enumerate(t.targets):
                context = base if len(t.targets) == 1 else (*base, (begun, frozenset((n,))))
                if target not in of:
                    of[target] = context
                    todo.append(target)
                elif of[target] != context:
                    return Sections(of, _crossing(t, target, of[target], context), i)
    return Sections(of)


def side_by_side(a: Context, b: Context) -> bool:
    """Whether steps in these contexts stand in two branches of one section: they have no order between them."""
    for (begun, mine), (other, theirs) in zip(a, b):
        if begun != other:
            return False
        if mine != theirs:
            return mine.isdisjoint(theirs)
    return False


def _merged(contexts: list[Context]) -> Context | None:
    """What is left open behind a join of steps in these contexts; None where they do not belong together."""
    while len(contexts) > 1:
        deepest = max(contexts, key=len)
        if not deepest:
            return None
        outer, (begun, branches) = deepest[:-1], deepest[-1]
        rest = []
        found = False
        for c in contexts:
            if c is deepest:
                continue
            if (
                not found
                and len(c) == len(deepest)
                and c[:-1] == outer
                and c[-1][0] == begun
                and not branches & c[-1][1]
            ):
                branches, found = branches | c[-1][1], True
            else:
                rest.append(c)
        if not found:
            return None
        contexts = [*rest, outer if len(branches) == len(begun) else (*outer, (begun, branches))]
    return contexts[0]


def way_name(t: Transition) -> str:
    """A transition as a person says it."""
    return f"the transition from {' and '.join(t.sources)} to {' and '.join(t.targets)}"


def _crossing(t: Transition, target: str, there: Context, context: Context) -> str:
    opened = [" and ".join(sorted(begun)) for begun, _ in context if begun not in {b for b, _ in there}]
    if opened:
        return f"{way_name(t)} leaves the simultaneous branches of {opened[-1]} while others of them are active"
    entered = [" and ".join(sorted(begun)) for begun, _ in there if begun not in {b for b, _ in context}]
    if entered:
        return f"{way_name(t)} goes into the simultaneous branches of {entered[-1]} without beginning the others"
    return f"{way_name(t)} goes from one simultaneous branch to another; {target} could be entered while active"


def inside(sequence: Sequence, head: str) -> frozenset[str]:
    """Steps that are reached through `head` only, itself among them: what a branch that begins there consists of."""
    onward: dict[str, set[str]] = {}
    for t in sequence.transitions:
        for name in t.sources:
            onward.setdefault(name, set()).update(t.targets)

    def reached(start: str, without: str) -> set[str]:
        seen, todo = {start}, [start]
        while todo:
            for n in onward.get(todo.pop(), ()):
                if n not in seen and n != without:
                    seen.add(n)
                    todo.append(n)
        return seen

    if head == sequence.initial:
        return frozenset((head,))
    others = reached(sequence.initial, head)
    return frozenset(reached(head, "") - others)


def begins_branch(sequence: Sequence, step: str) -> bool:
    """Whether a step is the first of an alternative or simultaneous branch."""
    entering = [t for _, t in sequence.entering(step)]
    if len(entering) != 1 or step == sequence.initial:
        return False
    t = entering[0]
    return len(t.targets) > 1 or any(len(list(sequence.leaving(s))) > 1 for s in t.sources)
