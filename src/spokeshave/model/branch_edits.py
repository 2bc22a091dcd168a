"""Edits of branches: alternatives, simultaneous sections, jumps, joins. Each stays sound or says why it cannot."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.model.edits import EditError, inserted, removed, replaced, step_index
from spokeshave.model.flow_edits import NEW_CONDITION, NOT_YET, new_step, number_after, sound_edit
from spokeshave.model.project import Project, Sequence, Transition
from spokeshave.model.sections import begins_branch, inside, sections


def add_transition(project: Project, sequence: str, source: str, target: str, condition: str = NOT_YET) -> Project:
    """One more way out of `source`, listed behind those it has: an alternative that jumps to `target`."""

    def edit(seq: Sequence) -> Sequence:
        start, end = (seq.steps[step_index(seq, n)].name for n in (source, target))
        _no_join(seq, start)
        last = max((i for i, _ in seq.leaving(start)), default=len(seq.transitions) - 1)
        return replace(seq, transitions=inserted(seq.transitions, last + 1, Transition((start,), (end,), condition)))

    return sound_edit(project, sequence, edit)


def _no_join(seq: Sequence, step: str) -> None:
    for _, t in seq.leaving(step):
        if len(t.sources) > 1:
            others = " and ".join(s for s in t.sources if s != step)
            raise EditError(f"{step} waits for {others}; another way out of it would leave them behind")


def remove_transition(project: Project, sequence: str, index: int) -> Project:
    """A transition taken out. Raises `EditError` for an index there is not, and where the chart would be unsound."""

    def edit(seq: Sequence) -> Sequence:
        if not 0 <= index < len(seq.transitions):
            raise EditError(f"{seq.name} has no transition {index + 1}")
        return replace(seq, transitions=removed(seq.transitions, index))

    return sound_edit(project, sequence, edit)


def add_alternative(project: Project, sequence: str, step: str) -> Project:
    """A new step beside what follows `step`, to be chosen instead of it; both lead to the same place.

    The way into it is FALSE until its author writes a condition. Raises NoRoom; EditError where nothing follows.
    """

    def edit(seq: Sequence) -> Sequence:
        at = step_index(seq, step)
        name = seq.steps[at].name
        _no_join(seq, name)
        leaving = [(i, t) for i, t in seq.leaving(name)]
        if not leaving:
            raise EditError(f"nothing follows {name} yet; insert a step after it first")
        targets = _beyond(seq, leaving[0][1])
        beside = step_index(seq, leaving[0][1].targets[-1])
        row = max(at, beside) if abs(beside - at) <= 2 + len(leaving[0][1].targets) else at
        new = new_step(project, number_after(seq, row))
        ways = list(seq.transitions)
        last = leaving[-1][0]
        ways.insert(last + 1, Transition((name,), (new.name,), NOT_YET))
        ways.insert(last + 2, Transition((new.name,), targets, NEW_CONDITION.format(step=new.name)))
        return replace(seq, steps=inserted(seq.steps, row + 1, new), transitions=tuple(ways))

    return sound_edit(project, sequence, edit)


def _beyond(seq: Sequence, way: Transition) -> tuple[str, ...]:
    """Where a branch beside the one behind `way` leads: behind its only step, or to that step itself."""
    if len(way.targets) > 1:
        join = section_end(seq, way)
        return way.targets if join is None else join.targets
    following = way.targets[0]
    ways = [t for _, t in seq.leaving(following)]
    if (
        len(ways) == 1
        and len(ways[0].sources) == 1
        and ways[0].targets != (way.sources[0],)
        and following != seq.initial
    ):
        return ways[0].targets
    return way.targets


def section_end(seq: Sequence, begin: Transition) -> Transition | None:
    """The join that closes the simultaneous section which a transition with several successors begins."""
    found = sections(seq)
    base = found.of.get(begin.sources[0])
    begun = frozenset(begin.targets)
    for t in seq.transitions:
        if len(t.sources) < 2:
            continue
        contexts = [found.of.get(s, ()) for s in t.sources]
        if all(any(b == begun for b, _ in c) for c in contexts) and found.of.get(t.targets[0]) == base:
            return t
    return None


def add_simultaneous(project: Project, sequence: str, first: str, last: str = "") -> Project:
    """A new step that is active beside `first` to `last` (one step if `last` is empty); both are waited for.

    Raises NoRoom; EditError where these steps are not entered and left by one transition each.
    """

    def edit(seq: Sequence) -> Sequence:
        at = step_index(seq, first)
        head, tail = seq.steps[at].name, seq.steps[step_index(seq, last or first)].name
        if head == seq.initial:
            raise EditError(
                f"{head} is the initial step; a simultaneous branch begins with a transition, so begin one step later"
            )
        entering, leaving = list(seq.entering(head)), list(seq.leaving(tail))
        if len(entering) != 1:
            raise EditError(
                f"{head} is entered by {len(entering)} transitions; insert a step before it, and begin the branch there"
            )
        if len(leaving) != 1:
            raise EditError(f"{tail} has {len(leaving)} ways out; insert a step after it, and end the branch there")
        (i, begin), (j, end) = entering[0], leaving[0]
        if i == j:
            raise EditError(f"{head} only leads to itself; a branch beside it would never end")
        row = max(step_index(seq, n) for n in (head, tail))
        new = new_step(project, number_after(seq, row))
        ways = replaced(seq.transitions, i, replace(begin, targets=(*begin.targets, new.name)))
        ways = replaced(ways, j, replace(end, sources=(*end.sources, new.name)))
        return replace(seq, steps=inserted(seq.steps, row + 1, new), transitions=ways)

    return sound_edit(project, sequence, edit)


def delete_branch(project: Project, sequence: str, head: str) -> Project:
    """Deletes a whole branch: the step it begins with, and all that is reached through it only.

    Raises EditError where `head` begins no branch.
    """

    def edit(seq: Sequence) -> Sequence:
        name = seq.steps[step_index(seq, head)].name
        if not begins_branch(seq, name):
            raise EditError(f"{name} does not begin a branch; select the first step of one")
        gone = inside(seq, name)
        ways = []
        for t in seq.transitions:
            sources = tuple(s for s in t.sources if s not in gone)
            targets = tuple(s for s in t.targets if s not in gone)
            if sources and targets:
                ways.append(
                    t if sources == t.sources and targets == t.targets else replace(t, sources=sources, targets=targets)
                )
        return replace(seq, steps=tuple(s for s in seq.steps if s.name not in gone), transitions=tuple(ways))

    return sound_edit(project, sequence, edit)


def jump_to(project: Project, sequence: str, step: str, target: str) -> Project:
    """Leads the last way out of `step` to another step; with no way out, makes one."""

    def edit(seq: Sequence) -> Sequence:
        start, end = (seq.steps[step_index(seq, n)].name for n in (step, target))
        if _ends_in_join(seq, start):
            _no_join(seq, start)
        return _led_to(seq, start, end)

    return sound_edit(project, sequence, edit)


def _ends_in_join(seq: Sequence, step: str) -> bool:
    """Whether the last way out of a step waits for others."""
    ways = list(seq.leaving(step))
    return bool(ways) and len(ways[-1][1].sources) > 1


def _led_to(seq: Sequence, step: str, target: str) -> Sequence:
    """The last way out of a step leads to `target`; a first one is made where there is none."""
    ways = list(seq.leaving(step))
    if not ways:
        return replace(
            seq, transitions=(*seq.transitions, Transition((step,), (target,), NEW_CONDITION.format(step=step)))
        )
    index, way = ways[-1]
    return replace(seq, transitions=replaced(seq.transitions, index, replace(way, targets=(target,))))


def closings(seq: Sequence, step: str) -> list[str]:
    """Steps at which the alternative branch that ends with `step` can be closed: where its neighbours meet, then others
    that follow them, the nearest first.
    """
    head, found = step, sections(seq)
    seen: set[str] = set()
    while not begins_branch(seq, head):
        before = [t for _, t in seq.entering(head)]
        if len(before) != 1 or head in seen:
            return []
        seen.add(head)
        head = before[0].sources[0]
    fork = next(seq.entering(head))[1].sources[0]
    own = inside(seq, head)
    beside = [n for _, t in seq.leaving(fork) for n in t.targets if n != head]
    out: list[str] = []
    queue, seen = list(beside), {fork, *own, *beside}
    while queue:
        for _, t in seq.leaving(queue.pop(0)):
            for n in t.targets:
                if n not in seen:
                    seen.add(n)
                    queue.append(n)
                    if found.of.get(n) == found.of.get(step):
                        out.append(n)
    return sorted(out, key=lambda n: sum(1 for _ in seq.entering(n)) < 2)


def _open_join(seq: Sequence, step: str) -> Transition | None:
    """The join at which the other branches of the innermost section around `step` meet without it."""
    found = sections(seq)
    context = found.of.get(step, ())
    for t in seq.transitions if context else ():
        there = [found.of.get(s, ()) for s in t.sources]
        others = all(c and c[-1][0] == context[-1][0] and not c[-1][1] & context[-1][1] for c in there)
        if len(there) > 1 and others:
            return t
    return None


def close_branch(project: Project, sequence: str, step: str) -> Project:
    """Leads the end of a branch to where its neighbours meet; a simultaneous one joins the others that wait.

    Raises EditError where there is nothing to close.
    """

    def edit(seq: Sequence) -> Sequence:
        name = seq.steps[step_index(seq, step)].name
        join = _open_join(seq, name)
        if join is not None:
            joined = replace(join, sources=(*join.sources, name))
            rest = (joined if t is join else t for t in seq.transitions if t.sources != (name,))
            return replace(seq, transitions=tuple(rest))
        goals = closings(seq, name)
        if not goals:
            raise EditError(f"{name} is in no branch that could be closed; use a jump to lead it somewhere")
        if _ends_in_join(seq, name):
            raise EditError(f"{name} waits in a join already")
        return _led_to(seq, name, goals[0])

    return sound_edit(project, sequence, edit)
