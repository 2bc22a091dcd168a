"""Blocks of steps: several steps with the ways between them, to be copied, duplicated and pasted as one piece."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from spokeshave.model.edits import EditError, free_name, step_index, taken_names
from spokeshave.model.flow_edits import NEW_CONDITION, numbers_after, sound_edit, taken_out
from spokeshave.model.project import Project, Sequence, Step, Transition

_WORD = re.compile(r"[A-Za-z_]\w*")


@dataclass(frozen=True, slots=True)
class Block:
    """Steps in listed order, the ways between them, and the ways that lead out of the block.

    The first step is the one the block is entered by; ways out keep their conditions, their targets are given on pasting.
    """

    sequence: str
    steps: tuple[Step, ...]
    inner: tuple[Transition, ...]
    out: tuple[Transition, ...]


def block_of(seq: Sequence, names: tuple[str, ...]) -> Block:
    """The block of these steps. Raises EditError if the flow enters it in several places or leaves it for several."""
    wanted = {seq.steps[step_index(seq, n)].name for n in names}
    steps = tuple(s for s in seq.steps if s.name in wanted)
    inner = tuple(t for t in seq.transitions if wanted.issuperset(t.sources) and wanted.issuperset(t.targets))
    entries = {n for t in seq.transitions if not wanted.issuperset(t.sources) for n in t.targets if n in wanted}
    entries |= {seq.initial} & wanted
    out = tuple(t for t in seq.transitions if wanted.intersection(t.sources) and not wanted.issuperset(t.targets))
    if len(entries) > 1:
        raise EditError(
            f"the block is entered at {' and '.join(sorted(entries))}; choose steps that are entered at one"
        )
    goals = {t.targets for t in out}
    if len(goals) > 1:
        raise EditError(
            "the block is left for several places; choose steps that all lead to one place, or one step less"
        )
    if any(not wanted.issuperset(t.sources) for t in out) or any(wanted.intersection(t.targets) for t in out):
        raise EditError("the block cuts through a simultaneous section; choose all of its branches or one of them")
    first = next((s for s in steps if s.name in entries), steps[0])
    return Block(seq.name, (first, *(s for s in steps if s is not first)), inner, out)


def paste_block(project: Project, sequence: str, after: str, block: Block) -> tuple[Project, tuple[str, ...]]:
    """The block put into the flow behind `after`, under free names and numbers; gives the names of its steps too.

    What its own texts say of its steps follows. Raises NoRoom, and EditError as `insert_step` does.
    """
    taken = taken_names(project)
    names: dict[str, str] = {}
    for s in block.steps:
        names[s.name] = free_name(s.name, taken)
        taken.add(names[s.name].lower())
    words = {old.lower(): new for old, new in names.items()}
    home = project.sequence(sequence)
    if home is not None and block.sequence.lower() != home.name.lower():
        words[block.sequence.lower()] = home.name

    def put(text: str) -> str:
        return _WORD.sub(lambda m: words.get(m[0].lower(), m[0]), text)

    def edit(seq: Sequence) -> Sequence:
        at = step_index(seq, after)
        here = seq.steps[at].name
        leaving = next(seq.leaving(here), None)
        if leaving is not None and len(leaving[1].sources) > 1:
            raise EditError(f"{here} waits in a join; paste behind a step that goes on alone")
        numbers = numbers_after(seq, at, len(block.steps))
        made = [
            replace(
                s, name=names[s.name], number=n, longest=put(s.longest), shortest=put(s.shortest),
                permissive=put(s.permissive), actions=tuple(replace(a, time=put(a.time)) for a in s.actions),
            )
            for s, n in zip(block.steps, numbers)
        ]  # fmt: skip
        onward = leaving[1].targets if leaving else ()
        ways = list(seq.transitions)
        at_way = leaving[0] if leaving else len(ways)
        entry = made[0].name
        into = (
            replace(leaving[1], targets=(entry,))
            if leaving
            else Transition((here,), (entry,), NEW_CONDITION.format(step=here))
        )
        ways[at_way : at_way + 1] = [into]
        new = [
            replace(
                t,
                sources=_named(t.sources, names),
                targets=_named(t.targets, names),
                condition=put(t.condition),
                name="",
            )
            for t in block.inner
        ]
        if onward:
            outs = [
                replace(t, sources=_named(t.sources, names), targets=onward, condition=put(t.condition), name="")
                for t in block.out
            ]
            if not outs:
                last = made[-1].name
                outs = [Transition((last,), onward, NEW_CONDITION.format(step=last))]
            new += outs
        ways[at_way + 1 : at_way + 1] = new
        steps = (*seq.steps[: at + 1], *made, *seq.steps[at + 1 :])
        return replace(seq, steps=steps, transitions=tuple(ways))

    return sound_edit(project, sequence, edit), tuple(names[s.name] for s in block.steps)


def _named(steps: tuple[str, ...], names: dict[str, str]) -> tuple[str, ...]:
    return tuple(names.get(s, s) for s in steps)


def duplicate(project: Project, sequence: str, names: tuple[str, ...]) -> tuple[Project, tuple[str, ...]]:
    """The block of these steps once more, behind the last of them. Raises as `block_of` and `paste_block`."""
    seq = project.sequence(sequence)
    if seq is None:
        raise EditError(f"there is no sequence {sequence}")
    block = block_of(seq, names)
    last = block.out[0].sources[0] if block.out else block.steps[-1].name
    if block.out and len(block.out) > 1:
        raise EditError("the block has several ways out; duplicate steps that are left by one transition")
    if block.out and len(block.out[0].sources) > 1:
        raise EditError("the block ends in a join; choose the step behind the join too")
    return paste_block(project, sequence, last, block)


def delete_steps(project: Project, sequence: str, names: tuple[str, ...]) -> Project:
    """Deletes several steps one after the other, the flow kept whole. Raises EditError as `delete_step` does."""

    def edit(seq: Sequence) -> Sequence:
        for n in names:
            seq = taken_out(seq, n)[0]
        return seq

    return sound_edit(project, sequence, edit)
