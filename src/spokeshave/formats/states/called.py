"""Blocks with states that a program calls, written into the program: `Door(Open := StartButton);` becomes the statements of
the block, with the variables of this instance. It does the same; only then can its states be looked at with what surrounds them.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator
from dataclasses import dataclass

from spokeshave.formats.states.blocks import BlockText, Declaration, Outline
from spokeshave.formats.states.choices import Note
from spokeshave.formats.states.moved import Pieces
from spokeshave.formats.states.put_in import PutIn
from spokeshave.language.tokens import Tokens

MOST = 64
"""Instances that are written into one program, and the blocks in them."""
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
    for _ in range(MOST):
        outline = Outline(tokens)
        wanted = _with_states(outline) if only is None else only
        found = list(_instances(outline, wanted))
        if not found:
            break
        often = Counter(low for block, _, _ in found for low in block.members)
        shared |= {low for low, n in often.items() if n > 1}
        one = PutIn(outline, *found[0], shared)
        tokens = _without_blocks(one.written(), wanted)
        notes.append(Note(one.line, f"the block {one.block.name} is written into the program for {one.name}"))
        path = paths.get(one.name.lower(), one.name)
        paths |= {new.lower(): f"{path}.{one.block.members[low].spelt}" for low, new in one.renamed.items()}
        if one.state:
            states[one.name.lower()] = f"{path}.{one.state}"
        if len(tokens.text) > LARGEST:
            raise one.fail(one.declared.names[0], "the blocks are too large to be written into their program", "")
    if not notes:
        return None
    return WrittenIn(tokens, states, notes)


def _with_states(outline: Outline) -> set[str]:
    """Blocks that have states, or instances of a block that has, by their names in lower case."""
    found = {b.name.lower() for b in outline.blocks if b.states}
    while more := {b.name.lower() for b in outline.blocks if any(d.kind in found for d in b.declared)} - found:
        found |= more
    return found


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
