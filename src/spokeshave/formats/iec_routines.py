"""FUNCTION and FUNCTION_BLOCK of an IEC text (IEC 61131-3, 6.6)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from itertools import groupby
from textwrap import dedent, indent

from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_places import Origins
from spokeshave.formats.iec_tables import Struct, TableReader
from spokeshave.formats.iec_variables import BLANKS, VariableReader
from spokeshave.formats.iec_words import parsing
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.literals import value_text
from spokeshave.language.parser import DoesNotFit
from spokeshave.language.tokens import END, NAME
from spokeshave.model.project import Member, Routine, Type, Value

_ROLES = {
    "VAR_INPUT": "input",
    "VAR_OUTPUT": "output",
    "VAR": "variable",
    "VAR_TEMP": "temporary",
    "VAR_EXTERNAL": "external",
}
_OPENERS = {role: word for word, role in _ROLES.items()} | {"constant": "VAR CONSTANT"}


@dataclass
class MemberReader(VariableReader):
    """Reads the variables of a function or a block."""

    kinds: dict[str, str] = field(default_factory=dict)
    """Blocks of the file as they are declared, by their names in lower case."""
    members: list[Member] = field(default_factory=list)
    rows: frozenset[str] = frozenset()
    """STRUCTs of the file, in lower case."""
    refused: FormatError | None = None
    """What is wrong with a variable, where the routine may do nevertheless if it is written into its program."""

    def has_many(self) -> bool:
        return self.next == "ARRAY" or self.tokens.word(self.parser.at).lower() in self.rows

    def table(self, kind: str, options: set[str], names: list[int]) -> None:
        """A table of the file that the routine names external; its type stays as it is written."""
        p = self.parser
        begins = p.at
        if kind != "VAR_EXTERNAL":
            raise self.fail(begins, "a table inside a function or a block is not supported",
                            "declare it beside, and name it here as VAR_EXTERNAL")  # fmt: skip
        while self.next not in (";", END):
            p.at += 1
        end = p.take(";", "a semicolon")
        of = " ".join(self.text[self.tokens.starts[begins] : self.tokens.starts[end]].split())
        self.members += [Member(self.tokens.word(i), "external", of) for i in names]

    def declared(
        self, kind: str, options: set[str], names: list[int], address: str, of: tuple[int, str], first: int, last: int
    ) -> None:  # fmt: skip
        type_at, type_name = of
        if kind not in _ROLES:
            self.refused = self.refused or self.fail(
                names[0], f"{kind} is not supported", "take the variable as an input and give it back as an output"
            )
            return
        role = "constant" if "CONSTANT" in options else _ROLES[kind]
        upper = type_name.upper()
        values = self.enumeration(type_name)
        plain = Type.INT if values else self.foreign.get(upper) or (Type(upper) if upper in Type.__members__ else None)
        if plain is None and upper not in BLOCKS and type_name.lower() not in self.kinds and role != "external":
            known = ", ".join([*Type, "a block such as TON"])
            raise self.fail(type_at, f"type {type_name} is not supported here", f"use one of {known}")
        if values:
            value: Value | None = self.first_value(values, first, last)
        else:
            value = self.initial(first, last, plain) if first >= 0 and plain is not None else None
        spelt = (
            str(plain)
            if plain is not None
            else upper
            if upper in BLOCKS
            else self.kinds.get(type_name.lower(), type_name)
        )
        for i in names:
            name = self.tokens.word(i)
            if any(m.name.lower() == name.lower() for m in self.members):
                raise self.fail(i, f"{name} is declared twice")
            self.members.append(Member(name, role, spelt, value, "RETAIN" in options, self.comment_behind(last)))


@dataclass
class RoutineReader(TableReader):
    """Reads functions and blocks beside variables."""

    routines: dict[str, Routine] = field(default_factory=dict)
    more_kinds: tuple[str, ...] = ()
    """Blocks that are declared elsewhere."""
    spelt: dict[str, str] = field(init=False)
    """Names of blocks as they are declared, wherever that is, by their names in lower case."""

    refused: FormatError | None = None
    """Why a block is no block of a machine file; one with states may be written into its program."""

    def __post_init__(self) -> None:
        super().__post_init__()
        found = (i + 1 for i, kind in enumerate(self.tokens.kinds) if kind == "FUNCTION_BLOCK")
        self.spelt = {n.lower(): n for n in (*self.more_kinds, *map(self.tokens.word, found))}

    def routine(self) -> None:
        """`FUNCTION Name : INT ... END_FUNCTION`, `FUNCTION_BLOCK Name ... END_FUNCTION_BLOCK`"""
        p = self.parser
        word = self.next
        p.at += 1
        name_at = p.name_at()
        name, result = self.tokens.word(name_at), ""
        if name.lower() in {*self.routines, *self.signals, *self.instances, *self.tables}:
            raise self.fail(name_at, f"{name} is declared twice", "give one of the two another name")
        if word == "FUNCTION":
            p.take(":", "a colon and the type of the result")
            result = str(self._plain_type(f"a function gives one of {', '.join(Type)}"))
        inner = MemberReader(
            self.text,
            self.tokens,
            origins=self.origins,
            enumerations=self.enumerations,
            kinds=self.spelt,
            rows=frozenset(self.structs),
        )
        inner.parser.at = p.at
        while inner.next in (*_ROLES, "VAR_IN_OUT"):
            inner.var_block()
        self.told += inner.told
        self.refused = self.refused or inner.refused
        p.at = inner.parser.at
        before = p.at - 1
        p.statements()
        end = p.take(f"END_{word}")
        inner.members += self._values_in(inner, before + 1, end)
        comment = self.comment_behind(name_at) if word != "FUNCTION" else ""
        text, left = self._lines_between(before, end)
        at = BLANKS.match(self.text, self.tokens.ends[before]).end()  # type: ignore[union-attr]
        self.origins.add("routine", "", name, -1, self.tokens.position(at), left=left)
        self.routines[name.lower()] = Routine(name, tuple(inner.members), text, result, comment)

    def _values_in(self, inner: MemberReader, first: int, last: int) -> Iterator[Member]:
        """Values of enumerations that statements name, which are constants of the routine."""
        if not self.enumerations:
            return
        values = {n.lower(): (n, v) for e in self.enumerations.values() for n, v in e.items()}
        had = {m.name.lower() for m in inner.members}
        for low in dict.fromkeys(
            self.tokens.word(i).lower() for i in range(first, last) if self.tokens.kinds[i] == NAME
        ):
            if low in values and low not in had:
                yield Member(values[low][0], "constant", Type.INT, values[low][1])

    def _lines_between(self, first: int, last: int) -> tuple[str, int]:
        """The lines behind word `first` up to word `last`, together as far to the left as they go, and how far that is."""
        text = self.text[self.tokens.ends[first] : self.tokens.starts[last]]
        head, newline, rest = text.partition("\n")
        if not newline or head.strip():
            return text.strip(), 0
        lines = [line for line in rest.split("\n") if line.strip()]
        made = dedent(rest).strip("\n ")
        return made, len(lines[0]) - len(made.split("\n")[0]) if lines else 0

    def kind_of_block(self, i: int) -> str:
        """The block that word `i` is the kind of, as it is declared; empty for none."""
        return self.spelt.get(self.tokens.word(i).lower(), "") if self.tokens.kinds[i] == NAME else ""


def read_routine(text: str, blocks: Iterable[str] = (), rows: Iterable[str] = ()) -> Routine:
    """The function or block that a text declares; `blocks` and `rows` are names of other blocks and STRUCTs of the file. Raises
    `FormatError` with line and column.
    """
    return _alone(text, blocks, rows)[0]


def body_at(text: str, blocks: Iterable[str] = (), rows: Iterable[str] = ()) -> tuple[int, int, int]:
    """Where the body of a declaration begins, line and column from 1, and how far its other lines are moved to the left.

    Raises as `read_routine`.
    """
    routine, origins = _alone(text, blocks, rows)
    _, (line, column), left = origins.found["routine", "", routine.name.lower(), -1][0]
    return line, column, left


def _alone(text: str, blocks: Iterable[str], rows: Iterable[str]) -> tuple[Routine, Origins]:
    with parsing(text) as tokens:
        reader = RoutineReader(text, tokens, more_kinds=tuple(blocks))
        reader.structs |= {n.lower(): Struct(n, (), ()) for n in rows}
        if reader.next not in ("FUNCTION", "FUNCTION_BLOCK"):
            raise DoesNotFit(0, "FUNCTION or FUNCTION_BLOCK")
        reader.routine()
        reader.parser.take(END, "the end")
    if reader.refused is not None:
        raise reader.refused
    return next(iter(reader.routines.values())), reader.origins


def routine_text(r: Routine) -> str:
    """The declaration of a function or a block with its body."""
    word = "FUNCTION_BLOCK" if r.is_block else "FUNCTION"
    comment = f" (* {' '.join(r.comment.split())} *)" * bool(r.comment) if r.is_block else ""
    out = f"{word} {r.name}{f' : {r.result}' * bool(r.result)}{comment}\n"
    for (role, retain), members in groupby(r.members, key=lambda m: (m.role, m.retain)):
        lines = "".join(f"    {_member_text(m)}\n" for m in members)
        out += f"  {_OPENERS[role]}{' RETAIN' * retain}\n{lines}  END_VAR\n"
    return f"{out}{indent(r.text.rstrip(), '  ')}\nEND_{word}\n"


def _member_text(m: Member) -> str:
    value = "" if m.initial is None else f" := {value_text(m.initial, Type(m.type))}"
    comment = " ".join(m.comment.split()).replace("*)", "* )")
    return f"{m.name} : {m.type}{value};{f' (* {comment} *)' * bool(comment)}"
