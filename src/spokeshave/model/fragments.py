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


def _fresh(block: Block, taken: set[str]) -> dict[str, str]:
    """A free name for every step of a block; `taken`, in lower case, grows with them."""
    names: dict[str, str] = {}
    for s in block.steps:
        names[s.name] = free_name(s.name, taken)
        taken.add(names[s.name].lower())
    return names


class _Named:
    """Puts other names of steps into steps, ways and their texts; `others` are words of the texts alone."""

    def __init__(self, names: dict[str, str], others: dict[str, str] | None = None) -> None:
        self.names = names
        self.words = {old.lower(): new for old, new in names.items()} | (others or {})

    def text(self, text: str) -> str:
        return _WORD.sub(lambda m: self.words.get(m[0].lower(), m[0]), text)

    def steps(self, steps: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(self.names.get(s, s) for s in steps)

    def step(self, s: Step) -> Step:
        put = self.text
        return replace(
            s, name=self.names[s.name], longest=put(s.longest), shortest=put(s.shortest), permissive=put(s.permissive),
            actions=tuple(replace(a, time=put(a.time)) for a in s.actions),
        )  # fmt: skip

    def way(self, t: Transition, targets: tuple[str, ...], name: str = "") -> Transition:
        """A way of the block to `targets`; a copy has no name of its own."""
        return replace(t, sources=self.steps(t.sources), targets=targets, condition=self.text(t.condition), name=name)


def paste_block(project: Project, sequence: str, after: str, block: Block) -> tuple[Project, tuple[str, ...]]:
    """The block put into the flow behind `after`, under free names and numbers; gives the names of its steps too.

    What its own texts say of its steps follows. Raises NoRoom, and EditError as `insert_step` does.
    """
    taken = taken_names(project)
    names = _fresh(block, taken)
    others: dict[str, str] = {}
    home = project.sequence(sequence)
    if home is not None and block.sequence.lower() != home.name.lower():
        others[block.sequence.lower()] = home.name
    named = _Named(names, others)

    def edit(seq: Sequence) -> Sequence:
        at = step_index(seq, after)
        here = seq.steps[at].name
        leaving = next(seq.leaving(here), None)
        if leaving is not None and len(leaving[1].sources) > 1:
            raise EditError(f"{here} waits in a join; paste behind a step that goes on alone")
        numbers = numbers_after(seq, at, len(block.steps))
        made = [replace(named.step(s), number=n) for s, n in zip(block.steps, numbers)]
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
        new = [named.way(t, named.steps(t.targets)) for t in block.inner]
        if onward:
            outs = [named.way(t, onward) for t in block.out]
            if not outs:
                last = made[-1].name
                outs = [Transition((last,), onward, NEW_CONDITION.format(step=last))]
            new += outs
        ways[at_way + 1 : at_way + 1] = new
        steps = (*seq.steps[: at + 1], *made, *seq.steps[at + 1 :])
        return replace(seq, steps=steps, transitions=tuple(ways))

    return sound_edit(project, sequence, edit), tuple(names[s.name] for s in block.steps)


def is_starter(sequence: Sequence) -> bool:
    """Whether a sequence is as `new_sequence` makes it: two steps in which nothing is done yet."""
    plain = all(replace(s, name="", number=0) == Step("", 0) for s in sequence.steps)
    conditions = [t.condition for t in sequence.transitions]
    return (
        len(sequence.steps) == 2 and plain and not sequence.bodies
        and conditions == ["FALSE", NEW_CONDITION.format(step=sequence.steps[1].name)]
    )  # fmt: skip


def replace_starter(project: Project, sequence: str, block: Block) -> Project:
    """The steps of a block in the place of the two a new sequence begins with. A last step without a way out leads to
    the first, as a table says it.
    """
    taken = taken_names(project) - {s.name.lower() for q in project.sequences if q.name == sequence for s in q.steps}
    named = _Named(_fresh(block, taken))

    def edit(seq: Sequence) -> Sequence:
        steps = tuple(map(named.step, block.steps))
        first, last = steps[0].name, steps[-1].name
        ways = [named.way(t, named.steps(t.targets) or (first,), t.name) for t in (*block.inner, *block.out)]
        if not any(last in t.sources for t in ways):
            ways.append(Transition((last,), (first,), NEW_CONDITION.format(step=last)))
        return replace(seq, initial=first, steps=steps, transitions=tuple(ways))

    return sound_edit(project, sequence, edit)


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
