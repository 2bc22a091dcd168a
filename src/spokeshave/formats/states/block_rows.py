"""An array of timers, or of other blocks, as that many instances: `Wait : ARRAY[1..3] OF TON` is `Wait_1, Wait_2, Wait_3 : TON`."""

from __future__ import annotations

from spokeshave.formats.states.choices import Note
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.syntax import KEYWORDS
from spokeshave.language.tokens import INT, NAME, Tokens
from spokeshave.model.edits import free_name

MOST = 100
"""Instances of one array."""
_DECLARED = (NAME, ":", "ARRAY", "[", INT, "..", INT, "]", "OF", NAME)


def rows_of_blocks(words: Tokens, changes: list[tuple[int, int, str]], notes: list[Note]) -> None:
    """Puts instances in the place of every such array whose rows are all asked for by number; `changes` are places in the text and
    what stands there instead.
    """
    kinds = words.kinds
    own = {words.word(i + 1).upper() for i, kind in enumerate(kinds[:-1]) if kind == "FUNCTION_BLOCK"}
    taken = {words.word(i).lower() for i, kind in enumerate(kinds) if kind == NAME}
    for i in range(len(kinds) - len(_DECLARED)):
        if tuple(kinds[i : i + len(_DECLARED)]) != _DECLARED or kinds[i - 1] == ",":
            continue
        name, kind = words.word(i), words.word(i + 9)
        low, high = int(words.word(i + 4)), int(words.word(i + 6))
        if kind.upper() not in {*BLOCKS, *own} or not 0 <= high - low < MOST or name.upper() in KEYWORDS:
            continue  # a word of ours is called otherwise already
        uses = [j for j, k in enumerate(kinds) if k == NAME and j != i and words.word(j).lower() == name.lower()]
        uses = [j for j in uses if kinds[j - 1] != "."]
        plain = all(
            tuple(kinds[j + 1 : j + 4]) == ("[", INT, "]") and low <= int(words.word(j + 2)) <= high for j in uses
        )
        if not plain:
            continue
        names = {n: free_name(f"{name}_{n}", taken) for n in range(low, high + 1)}
        changes.append((words.starts[i], words.ends[i + 8], f"{', '.join(names.values())} :"))
        changes += [(words.starts[j], words.ends[j + 3], names[int(words.word(j + 2))]) for j in uses]
        line = words.position(words.starts[i])[0]
        notes.append(Note(line, f"{name} is {len(names)} instances of {kind}: {names[low]} to {names[high]}"))
