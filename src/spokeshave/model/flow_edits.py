"""Edits of the flow along a line: insert, delete, move, numbers. Branches are in `branch_edits`.

Every edit of a sound chart (see `sections`) gives a sound chart or raises `EditError` with the reason, but for those that type
where a step leads (`lead_to`, `wait_with`): a simultaneous section is typed row by row, and is not whole before its end.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any

from spokeshave.model.edits import (
    EditError,
    edit_sequence,
    free_name,
    inserted,
    removed,
    replaced,
    step_index,
    taken_names,
)
from spokeshave.model.project import Project, Sequence, Step, Transition
from spokeshave.model.sections import sections

NEW_CONDITION = "{step}.T >= T#1s"
"""What a freshly inserted step awaits until its author says otherwise."""
NOT_YET = "FALSE"
"""The condition of a way that is not to be taken before its author has written one."""


class NoRoom(EditError):
    """There is no step number left in between: the steps have to be renumbered first."""


def sound_edit(project: Project, name: str, edit: Callable[[Sequence], Sequence]) -> Project:
    """As `edit_sequence`; a sound chart has to stay sound."""

    def checked(seq: Sequence) -> Sequence:
        after = edit(seq)
        same_flow = after.transitions is seq.transitions and after.initial == seq.initial
        problem = "" if same_flow else sections(after).problem
        if problem and not sections(seq).problem:
            raise EditError(problem)
        return after

    return edit_sequence(project, name, checked)


def number_after(sequence: Sequence, index: int) -> int:
    """A step number between the step at `index` and the next higher one, as round as there is room for.

    Raises NoRoom.
    """
    here = sequence.steps[index].number
    above = [s.number for s in sequence.steps if s.number > here]
    if not above:
        return (here // 10 + 1) * 10
    gap = min(above) - here
    if gap < 2:
        raise NoRoom(f"there is no number between {here} and {min(above)}; renumber {sequence.name} first")
    return here + (5 if gap == 10 else gap // 2)


def numbers_after(sequence: Sequence, index: int, count: int) -> list[int]:
    """As `number_after`, for several steps in a row. Raises `NoRoom`."""
    if count == 1:
        return [number_after(sequence, index)]
    here = sequence.steps[index].number
    above = min((s.number for s in sequence.steps if s.number > here), default=0)
    if not above:
        return [(here // 10 + 1 + n) * 10 for n in range(count)]
    step = (above - here) // (count + 1)
    if step < 1:
        raise NoRoom(f"there is no room for {count} numbers between {here} and {above}; renumber {sequence.name} first")
    return [here + step * (n + 1) for n in range(count)]


def number_before(sequence: Sequence, index: int) -> int:
    """As `number_after`, between the next lower number and that of the step at `index`. Raises `NoRoom`."""
    here = sequence.steps[index].number
    lower = max((s.number for s in sequence.steps if s.number < here), default=0)
    if here - lower < 2:
        raise NoRoom(f"there is no number between {lower} and {here}; renumber {sequence.name} first")
    return here - (5 if here - lower == 10 else (here - lower + 1) // 2)


def new_step(project: Project, number: int) -> Step:
    """A step of this number with a name that is free."""
    return Step(free_name(f"Step{number}", taken_names(project)), number)


def spliced(seq: Sequence, at: int, step: Step, condition: str = "") -> Sequence:
    """`step` put into the flow behind the step at `at`: it takes over its first way out.

    The step before keeps its condition and leads to the new one, which goes on to where it went, on `condition`. Where
    it leaves through a join, the new step stands before the join instead.
    """
    here = seq.steps[at].name
    own = condition or NEW_CONDITION.format(step=step.name)
    transitions = list(seq.transitions)
    leaving = next(seq.leaving(here), None)
    if leaving is None:
        transitions.append(Transition((here,), (step.name,), NEW_CONDITION.format(step=here)))
    elif len(leaving[1].sources) == 1:
        index, old = leaving
        transitions[index] = replace(old, targets=(step.name,))
        transitions.insert(index + 1, Transition((step.name,), old.targets, own))
    else:
        index, old = leaving
        sources = tuple(step.name if s == here else s for s in old.sources)
        transitions[index] = replace(old, sources=sources)
        transitions.insert(index, Transition((here,), (step.name,), condition or NEW_CONDITION.format(step=here)))
    return replace(seq, steps=inserted(seq.steps, at + 1, step), transitions=tuple(transitions))


def insert_step(project: Project, sequence: str, after: str) -> Project:
    """A new step in the flow behind `after` (see `spliced`), with a number in between. Raises NoRoom."""

    def edit(seq: Sequence) -> Sequence:
        at = step_index(seq, after)
        return spliced(seq, at, new_step(project, number_after(seq, at)))

    return sound_edit(project, sequence, edit)


def insert_before(project: Project, sequence: str, before: str) -> Project:
    """A new step in the flow in front of `before`: all that led there leads to it. Raises NoRoom."""

    def edit(seq: Sequence) -> Sequence:
        at = step_index(seq, before)
        name = seq.steps[at].name
        if name == seq.initial:
            raise EditError(
                f"{name} is the initial step, nothing comes before it; insert behind the step that leads to it"
            )
        step = new_step(project, number_before(seq, at))
        ways = [replace(t, targets=_swapped(t.targets, name, (step.name,))) for t in seq.transitions]
        last = max((i for i, _ in seq.entering(name)), default=len(ways) - 1)
        ways.insert(last + 1, Transition((step.name,), (name,), NEW_CONDITION.format(step=step.name)))
        return replace(seq, steps=inserted(seq.steps, at, step), transitions=tuple(ways))

    return sound_edit(project, sequence, edit)


def _swapped(names: tuple[str, ...], old: str, new: Iterable[str]) -> tuple[str, ...]:
    new = tuple(new)
    return tuple(dict.fromkeys(x for n in names for x in (new if n == old else (n,))))


def taken_out(seq: Sequence, step: str) -> tuple[Sequence, Step, str]:
    """The sequence without a step, its predecessors led on to where it went; the step and what it awaited.

    Raises EditError where it is not clear how the flow goes on.
    """
    at = step_index(seq, step)
    name = seq.steps[at].name
    if name == seq.initial:
        raise EditError(f"{name} is the initial step; make another step initial first")
    entering = [t for _, t in seq.entering(name)]
    leaving = [t for _, t in seq.leaving(name)]
    if len(leaving) > 1:
        raise EditError(f"{name} has {len(leaving)} ways out; delete all but one first, so that the flow is clear")
    way = leaving[0] if leaving else None
    onward: tuple[str, ...] = () if way is None else tuple(t for t in way.targets if t != name)
    steps = removed(seq.steps, at)
    if way is not None and len(way.sources) > 1:
        before = _only_before(name, entering)
        sources = _swapped(way.sources, name, (before.sources[0],))
        transitions = [replace(t, sources=sources) if t is way else t for t in seq.transitions if t is not before]
        return replace(seq, steps=steps, transitions=tuple(transitions)), seq.steps[at], before.condition
    if not onward and any(len(t.targets) > 1 for t in entering):
        raise EditError(f"{name} is alone in its simultaneous branch; delete the branch instead")
    transitions = []
    for t in seq.transitions:
        if t is way:
            continue
        if name in t.targets:
            targets = _swapped(t.targets, name, onward)
            if not targets:
                continue
            t = replace(t, targets=targets)
        transitions.append(t)
    return (
        replace(seq, steps=steps, transitions=tuple(transitions)),
        seq.steps[at],
        "" if way is None else way.condition,
    )


def _only_before(name: str, entering: list[Transition]) -> Transition:
    """The way into a step that stands before a join: its predecessor takes its place in the join."""
    if len(entering) != 1 or len(entering[0].targets) > 1 or len(entering[0].sources) > 1:
        raise EditError(f"{name} is alone in its simultaneous branch; delete the branch instead")
    return entering[0]


def delete_step(project: Project, sequence: str, step: str) -> Project:
    """The sequence without a step, the flow kept whole. Raises EditError where that is unclear."""
    return sound_edit(project, sequence, lambda seq: taken_out(seq, step)[0])


def place_behind(project: Project, sequence: str, step: str, after: str) -> Project:
    """A step taken out of the flow and put in again behind `after`, with what it does, awaits and is called."""

    def edit(seq: Sequence) -> Sequence:
        name, goal = (seq.steps[step_index(seq, n)].name for n in (step, after))
        if name == goal:
            return seq
        entering = [t for _, t in seq.entering(name)]
        if len(entering) == 1 and (entering[0].sources, entering[0].targets) == ((goal,), (name,)):
            return seq
        rest, moved, condition = taken_out(seq, name)
        return spliced(rest, step_index(rest, goal), moved, condition)

    return sound_edit(project, sequence, edit)


def move_steps(project: Project, sequence: str, names: tuple[str, ...], by: int) -> Project:
    """Moves rows of the sheet up (negative) or down as a block; the flow stays as it is."""

    def edit(seq: Sequence) -> Sequence:
        at = sorted(step_index(seq, n) for n in names)
        block = [seq.steps[i] for i in at]
        rest = [s for i, s in enumerate(seq.steps) if i not in at]
        to = max(0, min(len(rest), at[0] + by))
        steps = (*rest[:to], *block, *rest[to:])
        return seq if steps == seq.steps else replace(seq, steps=steps)

    return edit_sequence(project, sequence, edit)


def make_initial(project: Project, sequence: str, step: str) -> Project:
    """The sequence begins with another step."""

    def edit(seq: Sequence) -> Sequence:
        name = seq.steps[step_index(seq, step)].name
        return seq if name == seq.initial else replace(seq, initial=name)

    return sound_edit(project, sequence, edit)


def change_transition(project: Project, sequence: str, index: int, **changes: Any) -> Project:
    """A transition with other values. Raises EditError for unknown steps, and where the chart would not be sound."""

    def edit(seq: Sequence) -> Sequence:
        after = replace(seq.transitions[index], **changes)
        for name in (*after.sources, *after.targets):
            step_index(seq, name)
        if after == seq.transitions[index]:
            return seq
        return replace(seq, transitions=replaced(seq.transitions, index, after))

    flow = "sources" in changes or "targets" in changes
    return sound_edit(project, sequence, edit) if flow else edit_sequence(project, sequence, edit)


def lead_to(project: Project, sequence: str, step: str, way: int | None, targets: tuple[str, ...]) -> Project:
    """The transition `way` out of a step leads to `targets`; without one the step gets a way of its own, and waits with no other.

    Raises EditError for unknown steps.
    """

    def edit(seq: Sequence) -> Sequence:
        goals = tuple(seq.steps[step_index(seq, name)].name for name in targets)
        if way is not None:
            ways = replaced(seq.transitions, way, replace(seq.transitions[way], targets=goals))
        else:
            ways = (*_waits_alone(seq, step), Transition((step,), goals, NEW_CONDITION.format(step=step)))
        return seq if ways == seq.transitions else replace(seq, transitions=ways)

    return edit_sequence(project, sequence, edit)


def wait_with(project: Project, sequence: str, step: str, other: str) -> Project:
    """A step is left together with another, when that one's condition holds: the end of simultaneous branches.

    Raises EditError for an unknown step, and where one of the two has several ways out.
    """

    def edit(seq: Sequence) -> Sequence:
        mine, theirs = (seq.steps[step_index(seq, name)].name for name in (step, other))
        if mine == theirs:
            raise EditError(f"{mine} cannot wait with itself; name the last step of the other branch")
        ways = [t for _, t in seq.leaving(theirs)]
        if any(mine in t.sources for t in ways):
            return seq
        if len(ways) != 1:
            raise EditError(f"{theirs} has {len(ways) or 'no'} ways out; the steps wait for one that both are left by")
        own = [t for _, t in seq.leaving(mine) if t.sources == (mine,)]
        if len(own) > 1:
            raise EditError(f"{mine} has {len(own)} ways out; delete those it is not to have any more first")
        listed = {s.name: i for i, s in enumerate(seq.steps)}
        joined = replace(ways[0], sources=tuple(sorted((*ways[0].sources, mine), key=lambda n: listed.get(n, -1))))
        left = [t for t in _waits_alone(seq, mine) if t not in own]
        return replace(seq, transitions=tuple(joined if t == ways[0] else t for t in left))

    return edit_sequence(project, sequence, edit)


def _waits_alone(seq: Sequence, step: str) -> tuple[Transition, ...]:
    """The transitions without the step in any that it shares with others."""
    return tuple(
        replace(t, sources=tuple(n for n in t.sources if n != step)) if step in t.sources and len(t.sources) > 1 else t
        for t in seq.transitions
    )
