"""Blocks with states that a program calls, written into the program: `Door(Open := StartButton);` becomes the statements of
the block, with the variables of this instance. It does the same; only then can its states be looked at with what surrounds them.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator
from dataclasses import dataclass

from spokeshave.formats.errors import FormatError
from spokeshave.formats.states.blocks import BlockText, Declaration, Outline
from spokeshave.formats.states.choices import Note
from spokeshave.formats.states.moved import Pieces
from spokeshave.formats.states.one_call import OneCall
from spokeshave.formats.states.put_in import PutIn, put_in
from spokeshave.language.tokens import Tokens

LARGEST = 4_000_000
"""Characters that a program may have then."""


@dataclass(frozen=True, slots=True)
class WrittenIn:
    """A text with the blocks written into their program."""

    tokens: Tokens
    states: dict[str, str]
    """The variable that each of these states was, as `Door.State`, by the name of the instance in lower case."""
    notes: list[Note]


def write_in(tokens: Tokens, only: Collection[str] | None = None) -> WrittenIn | None:
    """A text, which must be right as it is, with each block that has states in place of its call, or each of those that `only`
    names, in lower case; None where there is none.

    Raises `FormatError` with line and column for a block that cannot stand there.
    """
    states: dict[str, str] = {}
    notes: list[Note] = []
    shared: set[str] = set()
    paths: dict[str, str] = {}
    while found := list(_instances(outline := Outline(tokens), _with_states(outline) if only is None else only)):
        wanted = {block.name.lower() for block, _, _ in found}
        _refuse_circles(outline, wanted)
        often = Counter(low for block, _, _ in found for low in block.members)
        shared |= {low for low, n in often.items() if n > 1}
        known: dict[str, OneCall] = {}
        ones = list[PutIn]()
        for one_found in found:
            ones.append(PutIn(outline, *one_found, shared, known))
            known[ones[-1].low] = ones[-1]
        tokens = _without_blocks(put_in(outline, ones), wanted)
        for one in ones:
            notes.append(Note(one.line, f"the block {one.block.name} is written into the program for {one.name}"))
            path = paths.get(one.name.lower(), one.name)
            paths |= {new.lower(): f"{path}.{one.block.members[low].spelt}" for low, new in one.renamed.items()}
            if one.state:
                states[one.name.lower()] = f"{path}.{one.state}"
        if len(tokens.text) > LARGEST:
            raise ones[0].fail(ones[0].named_at, "the blocks are too large to be written into their program", "")
    if not notes:
        return None
    return WrittenIn(tokens, states, notes)


def _with_states(outline: Outline) -> set[str]:
    """Blocks that have states, or instances of a block that has, by their names in lower case."""
    found = {b.name.lower() for b in outline.blocks if b.states}
    while more := {b.name.lower() for b in outline.blocks if any(d.kind in found for d in b.declared)} - found:
        found |= more
    return found


def _refuse_circles(outline: Outline, names: Collection[str]) -> None:
    """Raises `FormatError` for a block that has an instance of itself, or of a block that has one."""
    inside = {b.name.lower(): b for b in outline.blocks}
    for low in names:
        todo, seen = [low], set[str]()
        while todo:
            for d in inside[todo.pop()].declared:
                if d.kind == low:
                    line, column = outline.tokens.position(outline.tokens.starts[d.names[0]])
                    raise FormatError(f"{inside[low].name} has an instance of itself inside it", line=line, column=column,
                                      advice="a block cannot be inside itself")  # fmt: skip
                if d.kind in inside and d.kind not in seen:
                    seen.add(d.kind)
                    todo.append(d.kind)


def _instances(outline: Outline, wanted: Collection[str]) -> Iterator[tuple[BlockText, Declaration, int]]:
    """Instances of some blocks that a program has, each as its block, its declaration and the word that names it."""
    blocks = {b.name.lower(): b for b in outline.blocks if b.name.lower() in wanted}
    for d in outline.declared:
        if d.kind in blocks and d.role != "VAR_EXTERNAL":
            yield from ((blocks[d.kind], d, i) for i in d.names)


def _without_blocks(tokens: Tokens, wanted: Collection[str]) -> Tokens:
    """Blocks of which no instance is left go; their lines stay."""
    outline = Outline(tokens)
    used = {d.kind for d in (*outline.declared, *(d for b in outline.blocks for d in b.declared))}
    pieces, at = Pieces(tokens), 0
    for b in outline.blocks:
        if b.name.lower() not in used and b.name.lower() in wanted:
            start, end = tokens.starts[b.first], tokens.ends[b.last]
            pieces.copy(at, start)
            pieces.put("\n" * tokens.text.count("\n", start, end), start)
            at = end
    pieces.copy(at, len(tokens.text))
    return pieces.done()
