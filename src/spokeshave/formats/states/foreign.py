"""A text that was written for another program, made fit to be read: a block that is all there is runs as a program, and words
of ours that it uses as names become others.
"""

from __future__ import annotations

import re

from spokeshave.formats.states.block_rows import rows_apart
from spokeshave.formats.states.choices import Note
from spokeshave.formats.states.flag_rows import flags_apart
from spokeshave.formats.states.records import records_apart
from spokeshave.language import LanguageError
from spokeshave.language.rename import STEP_WORDS
from spokeshave.language.syntax import KEYWORDS
from spokeshave.language.tokens import NAME, Tokens

_CHART = re.compile(r"\bINITIAL_STEP\b", re.IGNORECASE)
ENDING = "Signal"
"""What a name gets that is a word of ours."""


def made_fit(text: str) -> tuple[str, list[Note]]:
    """The text with these changes, each on its line, and what was changed. One that cannot be taken apart stays as it is."""
    if _CHART.search(text):  # it may stand in a comment too: then the text is read as it is
        return text, []
    notes: list[Note] = []
    text = _without_messages(text, notes)
    try:
        words = Tokens(text, program=True)
    except LanguageError:
        return text, notes
    changes: list[tuple[int, int, str]] = []
    _lists_of_globals(words, changes, notes)
    _block_as_program(words, changes, notes)
    _words_of_ours(words, changes, notes)
    _semicolons(words, changes, notes)
    rows_apart(words, changes, notes)
    records_apart(words, changes, notes)
    flags_apart(words, changes, notes)
    for start, end, new in sorted(changes, reverse=True):
        text = text[:start] + new + text[end:]
    return text, notes


_COMMENT = r"(?P<comment>\(\*.*?\*\)|//[^\n]*)"
_QUOTED = r"'(?:[^'$\n]|\$.)*'"
_DECLARED = re.compile(
    rf"{_COMMENT}|(?P<names>\b[A-Za-z_]\w*(?:\s*,\s*[A-Za-z_]\w*)*)\s*:\s*W?STRING\b\s*(?:[(\[]\s*\w+\s*[)\]])?\s*"
    rf"(?::=\s*{_QUOTED}\s*)?;",
    re.DOTALL | re.IGNORECASE,
)


def _without_messages(text: str, notes: list[Note]) -> str:
    """The text without variables that only ever take texts, such as messages for a panel: blanks of the same length."""
    if "STRING" not in text.upper():
        return text
    declared = [m for m in _DECLARED.finditer(text) if not m["comment"]]
    names = {n.strip().lower(): (n.strip(), m.start()) for m in declared for n in m["names"].split(",")}
    if not names:
        return text
    words = "|".join(names)
    uses = re.compile(
        rf"{_COMMENT}|(?P<set>\b(?:{words})\s*:=(?:{_QUOTED}|[^';])*(?=;))|(?P<quoted>{_QUOTED})|(?P<read>\b(?:{words})\b)",
        re.DOTALL | re.IGNORECASE,
    )
    within = {at for m in declared for at in range(m.start(), m.end())}
    found = [m for m in uses.finditer(text) if not (m["comment"] or m["quoted"] or m.start() in within)]
    if any(m["read"] or text[: m.start()].rstrip()[-1:] in ("(", ",") for m in found):
        return text  # whoever reads texts is told that there are none
    for m in (*declared, *found):
        text = text[: m.start()] + re.sub(r"[^\n]", " ", m[0]) + text[m.end() :]
    for name, at in names.values():
        line = text.count("\n", 0, at) + 1
        notes.append(Note(line, f"{name} only takes texts, which no sequence asks for: it is left out"))
    return text


def _lists_of_globals(words: Tokens, changes: list[tuple[int, int, str]], notes: list[Note]) -> None:
    """`GVL.Start` is the global variable `Start`, where nothing is called `GVL`."""
    kinds, declared = words.kinds, set[str]()
    shared, inside = set[str](), ""
    for i, kind in enumerate(kinds):
        inside = kind if kind.startswith("VAR") else "" if kind == "END_VAR" else inside
        if inside and kind == NAME and kinds[i + 1] in (":", ",", "AT"):
            declared.add(words.word(i).lower())
            if inside == "VAR_GLOBAL":
                shared.add(words.word(i).lower())
    lists: dict[str, int] = {}
    for i, kind in enumerate(kinds[:-2]):
        if kind != NAME or kinds[i + 1] != "." or kinds[i + 2] != NAME or (i and kinds[i - 1] == "."):
            continue
        if words.word(i).lower() not in declared and words.word(i + 2).lower() in shared:
            changes.append((words.starts[i], words.ends[i + 1], " " * (words.ends[i + 1] - words.starts[i])))
            lists.setdefault(words.word(i), i)
    for name, i in lists.items():
        line = words.position(words.starts[i])[0]
        notes.append(Note(line, f"{name} is taken as the list of the global variables"))


def _block_as_program(words: Tokens, changes: list[tuple[int, int, str]], notes: list[Note]) -> None:
    """The only block of a text without a program that no other block has an instance of."""
    kinds = words.kinds
    if "PROGRAM" in kinds:
        return
    at = [i for i, kind in enumerate(kinds) if kind == "FUNCTION_BLOCK" and kinds[i + 1] == NAME]
    names = {words.word(i + 1).lower(): i for i in at}
    typed = {words.word(i + 1).lower() for i, kind in enumerate(kinds) if kind == ":" and kinds[i + 1] == NAME}
    alone = [i for name, i in names.items() if name not in typed]
    if len(alone) != 1:
        return
    (i,) = alone
    end = next((j for j in range(i, len(kinds)) if kinds[j] == "END_FUNCTION_BLOCK"), -1)
    if end < 0 or ("CASE" not in kinds[i:end] and "IF" not in kinds[i:end]):
        return
    for j, new in ((i, "PROGRAM"), (end, "END_PROGRAM")):
        changes.append((words.starts[j], words.ends[j], new.ljust(words.ends[j] - words.starts[j])))
    notes.append(
        Note(words.position(words.starts[i])[0], f"the block {words.word(i + 1)} runs as the program of the machine")
    )


_CLOSING = frozenset(("END_IF", "END_CASE", "END_FOR", "END_WHILE", "END_REPEAT"))


def _semicolons(words: Tokens, changes: list[tuple[int, int, str]], notes: list[Note]) -> None:
    """Those that some programs do not want behind the end of a statement."""
    missing = [i for i, kind in enumerate(words.kinds) if kind in _CLOSING and words.kinds[i + 1] != ";"]
    changes += [(words.ends[i], words.ends[i], ";") for i in missing]
    if missing:
        line = words.position(words.starts[missing[0]])[0]
        notes.append(
            Note(line, f"a semicolon was put behind {len(missing)} statements, such as this {words.word(missing[0])}")
        )


_OURS = (STEP_WORDS | KEYWORDS) - {"STEP"}
"""What a variable of another program may be called and one of ours may not; a state that is called `Step` is known as the state."""
_BEFORE_CALL = frozenset((";", ":", "THEN", "ELSE", "DO", "OF", "REPEAT", "END_VAR"))
"""Behind these a block is called, elsewhere a function."""


def _words_of_ours(words: Tokens, changes: list[tuple[int, int, str]], notes: list[Note]) -> None:
    """Variables that are called as a function or word of ours is, `Home` becomes `HomeSignal`, `Limit` `LimitSignal`; and those with
    underscores that the standard does not know, `left_` becomes `left`.
    """
    kinds = words.kinds
    known = {words.word(i).lower() for i, kind in enumerate(kinds) if kind == NAME}
    declared: dict[str, int] = {}
    inside, typed = "", set[int]()
    for i, kind in enumerate(kinds):
        if kind.startswith("VAR") or kind == "TYPE":
            inside = kind
        elif kind in ("END_VAR", "END_TYPE"):
            inside = ""
        elif kind == NAME and (kinds[i - 1] in (":", "OF") if inside else kinds[i - 3 : i - 2] == ["FUNCTION"]):
            typed.add(i)
        elif (
            inside.startswith("VAR")
            and kind == NAME
            and (words.word(i).upper() in _OURS or _underscored(words.word(i)))
            and kinds[i + 1] in (":", ",", "AT")
        ):
            declared.setdefault(words.word(i).lower(), i)
    for i, kind in enumerate(kinds):
        if kind != NAME or words.word(i).lower() not in declared or kinds[i - 1] == "." or i in typed:
            continue
        if kinds[i + 1] != "(" or kinds[i - 1] in _BEFORE_CALL:
            changes.append((words.starts[i], words.ends[i], _other_name(words.word(i), known)))
    for i in declared.values():
        name = words.word(i)
        why = "has a doubled or trailing underscore" if _underscored(name) else "is a word of this program"
        said = f"{name} {why}: the variable is called {_other_name(name, known)}"
        notes.append(Note(words.position(words.starts[i])[0], said))


def _underscored(name: str) -> bool:
    return "__" in name or name.endswith("_")


def _other_name(name: str, known: set[str]) -> str:
    """What a variable is called whose name cannot be one here; `known` are the names of the text, in lower case."""
    plain = re.sub("_+", "_", name).rstrip("_") if _underscored(name) else name
    return plain if plain.lower() not in known and plain.upper() not in _OURS and plain else f"{plain}{ENDING}"
