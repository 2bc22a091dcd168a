"""A variable of a STRUCT that keeps a state or a timer, or is an image of inputs and outputs, as a variable for each member: `Seq.Step` is
`Seq_Step`.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from spokeshave.formats.states.choices import Note
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.syntax import KEYWORDS
from spokeshave.language.tokens import NAME, Tokens
from spokeshave.model.edits import free_name


@dataclass(frozen=True, slots=True)
class _Record:
    """A STRUCT: its name, its members by lower-case name as they are spelt with what stands behind their colon, and its words."""

    name: str
    members: dict[str, tuple[str, str]]
    first: int
    last: int


def records_apart(words: Tokens, changes: list[tuple[int, int, str]], notes: list[Note]) -> None:
    """Puts variables in the place of those of such a STRUCT, where nothing but their members is used; `changes` are places in the
    text and what stands there instead.
    """
    kinds = words.kinds
    chosen = {
        (words.word(i + 1).lower(), words.word(i + 3).lower())
        for i, kind in enumerate(kinds) if kind == "CASE" and tuple(kinds[i + 1 : i + 5]) == (NAME, ".", NAME, "OF")
    }  # fmt: skip
    own = {words.word(i + 1).upper() for i, kind in enumerate(kinds[:-1]) if kind == "FUNCTION_BLOCK"} | {*BLOCKS}
    taken = {words.word(i).lower() for i, kind in enumerate(kinds) if kind == NAME}
    for record in _records(words):
        declared = list(_declared(words, record))
        names = {words.word(i).lower() for at, _ in declared for i in at}
        timed = any(of.split()[0].upper() in own for _, of in record.members.values())
        places = {i for at, of in declared for i in (*at, of)}
        uses = [i for i, kind in enumerate(kinds) if kind == NAME and kinds[i - 1] != "." and i not in places
                and words.word(i).lower() in names]  # fmt: skip
        state = any((n, m) in chosen for n in names for m in record.members)
        given = _given(words, uses, record)
        if not names or not (timed or state or given):
            continue
        others = [i for i, kind in enumerate(kinds) if kind == NAME and words.word(i).lower() == record.name.lower()]
        if len(others) != 1 + len(declared) or not all(_is_member(words, i, record) for i in uses):
            continue  # it is given away as a whole
        new: dict[tuple[str, str], str] = {}
        for at, of in declared:
            spelt = {words.word(i).lower(): words.word(i) for i in at}
            new |= {
                (n, m): free_name(f"{spelt[n]}_{record.members[m][0]}", taken) for n in spelt for m in record.members
            }
            made = [f"{new[n, m]} : {kind}" for n in spelt for m, (_, kind) in record.members.items()]
            inputs = [f"{new[n, m]} : BOOL" for n in spelt for m in record.members if (n, m) in given]
            rest = [x for x in made if x not in inputs]
            if inputs and rest and _section(words, at[0]) == "VAR":
                made = [f"END_VAR VAR_INPUT {'; '.join(inputs)}; END_VAR VAR {rest[0]}", *rest[1:]]
            changes.append((words.starts[at[0]], words.ends[of], "; ".join(made)))
            line = words.position(words.starts[at[0]])[0]
            notes.append(
                Note(
                    line,
                    f"{', '.join(spelt.values())}, a {record.name}, is a variable for each member: {next(iter(new.values()))}",
                )
            )
        changes += [
            (words.starts[i], words.ends[i + 2], new[words.word(i).lower(), words.word(i + 2).lower()]) for i in uses
        ]
        start, end = words.starts[record.first], words.ends[record.last]
        changes.append((start, end, "\n" * words.text.count("\n", start, end)))


def _records(words: Tokens) -> Iterator[_Record]:
    """Each TYPE that is one STRUCT of plain members or blocks."""
    kinds = words.kinds
    for i, kind in enumerate(kinds):
        if kind != "TYPE" or tuple(kinds[i + 1 : i + 4]) != (NAME, ":", "STRUCT"):
            continue
        members: dict[str, tuple[str, str]] = {}
        at = i + 4
        while kinds[at] == NAME:
            names = [at]
            while kinds[at + 1] == "," and kinds[at + 2] == NAME:
                at += 2
                names.append(at)
            if kinds[at + 1] != ":" or kinds[at + 2] != NAME:
                break
            end = next((k for k in range(at + 3, len(kinds)) if kinds[k] in (";", "END_STRUCT", "END_TYPE")), 0)
            if not end or kinds[end] != ";":
                break
            of = words.text[words.starts[at + 2] : words.starts[end]].strip()
            members |= {words.word(n).lower(): (words.word(n), of) for n in names}
            at = end + 1
        ends = [k for k in range(at + 1, min(at + 4, len(kinds))) if kinds[k] == "END_TYPE"]
        if kinds[at] == "END_STRUCT" and ends and members and all(k == ";" for k in kinds[at + 1 : ends[0]]):
            yield _Record(words.word(i + 1), members, i, ends[0])


def _declared(words: Tokens, record: _Record) -> Iterator[tuple[list[int], int]]:
    """The names that are declared as such a STRUCT, and the place of its name behind them; none of an array, or with an address."""
    kinds = words.kinds
    for i, kind in enumerate(kinds):
        if (
            kind == NAME
            and words.word(i).lower() == record.name.lower()
            and kinds[i - 1] == ":"
            and kinds[i + 1] == ";"
        ):
            at = [i - 2]
            while kinds[at[0] - 1] == ",":
                at.insert(0, at[0] - 2)
            if all(kinds[n] == NAME and words.word(n).upper() not in KEYWORDS for n in at) and kinds[at[0] - 1] != "AT":
                yield at, i


def _given(words: Tokens, uses: list[int], record: _Record) -> set[tuple[str, str]]:
    """The BOOLs that are read and nothing here writes, of variables that have others that are written: it is an image of inputs and
    outputs. None of another STRUCT.
    """
    written, read = set[tuple[str, str]](), set[tuple[str, str]]()
    for i in uses:
        if tuple(words.kinds[i + 1 : i + 3]) == (".", NAME):
            member = words.word(i).lower(), words.word(i + 2).lower()
            (written if words.kinds[i + 3] in (":=", "=>") else read).add(member)
    given = {m for m in read - written if record.members.get(m[1], ("", ""))[1].upper() == "BOOL"}
    return given if written - read else set()


def _section(words: Tokens, at: int) -> str:
    """In which kind of declarations a word stands."""
    return next((k for k in reversed(words.kinds[:at]) if k.startswith("VAR") or k == "END_VAR"), "")


def _is_member(words: Tokens, i: int, record: _Record) -> bool:
    return words.kinds[i + 1] == "." and words.kinds[i + 2] == NAME and words.word(i + 2).lower() in record.members
