"""Step flags that are kept in an array: `Step : ARRAY[0..6] OF BOOL := [TRUE, 6(FALSE)]` is `Step_0 : BOOL := TRUE; Step_1 : BOOL; ...`,
and a FOR that goes through them is written out.
"""

from __future__ import annotations

from spokeshave.formats.states.choices import Note
from spokeshave.language.tokens import END, INT, NAME, Tokens
from spokeshave.model.edits import free_name

MOST = 100
"""Flags of one array, and rounds of a loop that is written out."""
_DECLARED = (NAME, ":", "ARRAY", "[", INT, "..", INT, "]", "OF", NAME)
_LOOP = ("FOR", NAME, ":=", INT, "TO", INT, "DO")
_CONSTANT = ("TRUE", "FALSE")
_BEYOND = (END,) * 8
"""Stands behind the last word of a text that ends in the middle."""


def flags_apart(words: Tokens, changes: list[tuple[int, int, str]], notes: list[Note]) -> None:
    """Puts BOOLs in the place of every array of which rows that are named by number, or by the counter of a loop between numbers, are set
    to TRUE and FALSE and to nothing else.
    """
    kinds, inside = words.kinds, ""
    loops = _loops(words)
    taken = {words.word(i).lower() for i, kind in enumerate(kinds) if kind == NAME}
    for i, word in enumerate(kinds):
        if word.startswith("VAR") or word == "END_VAR":
            inside = word
        if inside != "VAR" or tuple(kinds[i : i + len(_DECLARED)]) != _DECLARED or words.word(i + 9).upper() != "BOOL":
            continue
        name, low, high = words.word(i), int(words.word(i + 4)), int(words.word(i + 6))
        uses = [j for j, k in enumerate(kinds) if k == NAME and j != i and words.word(j).lower() == name.lower()]
        if not 0 < high - low < MOST or kinds[i - 1] == "," or not _are_flags(words, uses, loops, low, high):
            continue
        own = [(a, b) for a, b in loops if any(a < j < b for j in uses)]
        if any(words.starts[a] <= start < words.ends[b] for a, b in own for start, _, _ in changes):
            continue  # something else is put into the loop
        names = {n: free_name(f"{name}_{n}", taken) for n in range(low, high + 1)}
        starts, end = _starts(words, i + 10, high - low + 1)
        made = (f"{n} : BOOL{' := TRUE' if on else ''}" for n, on in zip(names.values(), starts))
        changes.append((words.starts[i], words.ends[end], "; ".join(made)))
        changes += [(words.starts[a], words.ends[b], _written_out(words, a, b, name, names)) for a, b in own]
        changes += [
            (words.starts[j], words.ends[j + 3], names[int(words.word(j + 2))])
            for j in uses
            if not any(a < j < b for a, b in own)
        ]
        line = words.position(words.starts[i])[0]
        notes.append(Note(line, f"{name} is {len(names)} flags: {names[low]} to {names[high]}"))


def _loops(words: Tokens) -> list[tuple[int, int]]:
    """Where loops between numbers begin and end that have no other loop in them."""
    found = []
    for i, word in enumerate(words.kinds):
        if word == "FOR" and tuple(words.kinds[i : i + len(_LOOP)]) == _LOOP:
            end = next((j for j in range(i + 1, len(words.kinds)) if words.kinds[j] in ("FOR", "END_FOR")), -1)
            rounds = int(words.word(i + 5)) - int(words.word(i + 3))
            if end > 0 and words.kinds[end] == "END_FOR" and 0 <= rounds < MOST:
                found.append((i, end))
    return [(a, b) for a, b in found if "EXIT" not in words.kinds[a:b]]


def _are_flags(words: Tokens, uses: list[int], loops: list[tuple[int, int]], low: int, high: int) -> bool:
    """Whether rows are named so that it is known which, all that is put into them is TRUE or FALSE, and two are set."""
    set_, kinds = 0, [*words.kinds, *_BEYOND]
    for j in uses:
        if kinds[j + 1] != "[" or kinds[j + 3] != "]":
            return False
        loop = next((a for a, b in loops if a < j < b), None)
        if kinds[j + 2] == INT:
            rows = range(int(words.word(j + 2)), int(words.word(j + 2)) + 1)
        elif kinds[j + 2] == NAME and loop is not None and words.word(j + 2).lower() == words.word(loop + 1).lower():
            rows = range(int(words.word(loop + 3)), int(words.word(loop + 5)) + 1)
        else:
            return False
        if rows[0] < low or rows[-1] > high:
            return False
        if kinds[j + 4] == ":=":
            if kinds[j + 5] not in _CONSTANT or kinds[j + 6] != ";":
                return False
            set_ += kinds[j + 5] == "TRUE"
    return set_ > 1


def _starts(words: Tokens, at: int, count: int) -> tuple[list[bool], int]:
    """What the rows are before anything sets them, and the last word of the declaration before its semicolon."""
    kinds = [*words.kinds, *_BEYOND]
    if tuple(kinds[at : at + 2]) != (":=", "["):
        return [False] * count, at - 1
    starts: list[bool] = []
    times, j = 1, at + 2
    while kinds[j] not in ("]", ";", END):
        if kinds[j] == INT:
            times = int(words.word(j))
        elif kinds[j] in _CONSTANT:
            starts += [kinds[j] == "TRUE"] * min(times, count)
            times = 1
        j += 1
    return (starts + [False] * count)[:count], min(j, len(words.kinds) - 1)


def _written_out(words: Tokens, begin: int, end: int, name: str, names: dict[int, str]) -> str:
    """The rounds of a loop one behind the other, on as many lines."""
    counter = words.word(begin + 1).lower()
    out = []
    for n in range(int(words.word(begin + 3)), int(words.word(begin + 5)) + 1):
        j = begin + len(_LOOP)
        while j < end:
            word = words.word(j)
            if words.kinds[j] == NAME and word.lower() == name.lower():
                out.append(names[n if words.kinds[j + 2] == NAME else int(words.word(j + 2))])
                j += 4
                continue
            out.append(str(n) if words.kinds[j] == NAME and word.lower() == counter else word)
            j += 1
    return " ".join(out) + "\n" * words.text.count("\n", words.starts[begin], words.ends[end])
