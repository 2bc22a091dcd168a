"""Arrays that are no tables: of timers or other blocks, `Wait : ARRAY[1..3] OF TON` is `Wait_1, Wait_2, Wait_3 : TON`; of inputs or
outputs, `Sw AT %I* : ARRAY[1..2] OF BOOL` is two inputs.
"""

from __future__ import annotations

import re

from spokeshave.formats.states.choices import Note
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.syntax import KEYWORDS
from spokeshave.language.tokens import INT, NAME, Tokens
from spokeshave.model.edits import free_name
from spokeshave.model.project import Type

MOST = 100
"""Instances or signals of one array."""
_DECLARED = (":", "ARRAY", "[", INT, "..", INT, "]", "OF", NAME)
"""What stands behind the name of an array, or behind its address."""
_OUTSIDE = ("VAR_INPUT", "VAR_OUTPUT")
_BIT = re.compile(r"%(?P<area>[IQ])X?(?P<byte>[0-9]+)\.(?P<bit>[0-7])", re.IGNORECASE)


def rows_apart(words: Tokens, changes: list[tuple[int, int, str]], notes: list[Note]) -> None:
    """Puts instances, or signals, in the place of every such array whose rows are all asked for by number; `changes` are places in
    the text and what stands there instead.
    """
    kinds, inside = words.kinds, ""
    own = {words.word(i + 1).upper() for i, kind in enumerate(kinds[:-1]) if kind == "FUNCTION_BLOCK"}
    taken = {words.word(i).lower() for i, kind in enumerate(kinds) if kind == NAME}
    for i, word in enumerate(kinds):
        if word.startswith("VAR") or word == "END_VAR":
            inside = word
        addressed = 2 if word == NAME and kinds[i + 1 : i + 2] == ["AT"] else 0
        at = i + 1 + addressed
        if word != NAME or tuple(kinds[at : at + len(_DECLARED)]) != _DECLARED or kinds[i - 1] == ",":
            continue
        name, kind = words.word(i), words.word(at + 8)
        low, high = int(words.word(at + 3)), int(words.word(at + 5))
        blocks = kind.upper() in {*BLOCKS, *own} and not addressed
        signals = kind.upper() in Type.__members__ and (addressed or inside in _OUTSIDE) and kinds[at + 9] != ":="
        if not (blocks or signals) or not 0 <= high - low < MOST or name.upper() in KEYWORDS:
            continue  # a word of ours is called otherwise already
        uses = [j for j, k in enumerate(kinds) if k == NAME and j != i and words.word(j).lower() == name.lower()]
        uses = [j for j in uses if kinds[j - 1] != "."]
        plain = all(
            tuple(kinds[j + 1 : j + 4]) == ("[", INT, "]") and low <= int(words.word(j + 2)) <= high for j in uses
        )
        addresses = _addresses(words.word(i + 2), kind, high - low + 1) if addressed else []
        if not plain or (addressed and not addresses):
            continue
        names = {n: free_name(f"{name}_{n}", taken) for n in range(low, high + 1)}
        made = [f"{n} AT {a} :" for n, a in zip(names.values(), addresses)] or [f"{', '.join(names.values())} :"]
        changes.append((words.starts[i], words.ends[at + 7], f" {kind}; ".join(made)))
        changes += [(words.starts[j], words.ends[j + 3], names[int(words.word(j + 2))]) for j in uses]
        what = f"instances of {kind}" if blocks else "signals"
        line = words.position(words.starts[i])[0]
        notes.append(Note(line, f"{name} is {len(names)} {what}: {names[low]} to {names[high]}"))


def _addresses(first: str, kind: str, count: int) -> list[str]:
    """The addresses of the rows of an array: bits one behind the other, or as open as that of the array. None for other ones."""
    if first.endswith("*"):
        return [first] * count
    bit = _BIT.fullmatch(first)
    if bit is None or kind.upper() != Type.BOOL:
        return []
    begin = 8 * int(bit["byte"]) + int(bit["bit"])
    return [f"%{bit['area'].upper()}X{n // 8}.{n % 8}" for n in range(begin, begin + count)]
