"""The blocks and programs of a text by their words alone: what they declare, where their statements stand, which have states."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from spokeshave.language.tokens import ADDRESS, END, INT, NAME, Tokens

_ENDS = {"PROGRAM": "END_PROGRAM", "FUNCTION_BLOCK": "END_FUNCTION_BLOCK", "FUNCTION": "END_FUNCTION"}
_NO_NUMBERS = frozenset(("BOOL", "REAL", "LREAL", "TIME", "STRING"))
_OPENED = frozenset(("IF", "CASE", "FOR", "WHILE", "REPEAT"))
_CLOSED = frozenset(("END_IF", "END_CASE", "END_FOR", "END_WHILE", "END_REPEAT"))


@dataclass(frozen=True, slots=True)
class Declaration:
    """`A, B : INT := 3;` in words: `names`, then `colon` up to the semicolon `last`. `kind` is the type in lower case."""

    role: str
    constant: bool
    retain: bool
    names: tuple[int, ...]
    colon: int
    last: int
    kind: str
    kind_text: str
    initial: str


@dataclass(frozen=True, slots=True)
class MemberText:
    """A variable of a block."""

    spelt: str
    role: str
    kind: str
    initial: str


@dataclass
class BlockText:
    """A program, a block or a function. `begins` is its first statement, `first` and `last` its first and last word."""

    name: str
    word: str
    first: int
    begins: int
    last: int
    head_ends: int
    """The offset behind its declarations."""
    declared: tuple[Declaration, ...]
    states: tuple[str, ...] = ()
    """Variables of its states, in lower case: it chooses by them and sets them."""
    outside: frozenset[str] = frozenset()
    """Those that are global, or take the value of a global one."""
    members: dict[str, MemberText] = field(default_factory=dict)


class Outline:
    """What a text consists of."""

    def __init__(self, tokens: Tokens) -> None:
        self.tokens = tokens
        self.kinds = [*tokens.kinds, END, END, END, END]  # looked at beyond the last word of a damaged text
        self.bodies: list[BlockText] = []
        self.globals: list[Declaration] = []
        self._uses: dict[str, list[int]] = {}
        self._depths: list[int] | None = None
        i, kinds = 0, self.kinds
        while kinds[i] != END:
            if kinds[i] in _ENDS:
                body = self._body(i)
                self.bodies.append(body)
                i = body.last + 1
            elif kinds[i].startswith("VAR"):
                declared, i = self._block(i)
                self.globals += declared
            else:
                i += 1

    def word(self, i: int) -> str:
        """The text of word `i`; empty beyond the last one."""
        return self.tokens.word(i) if i < len(self.tokens.kinds) else ""

    @property
    def blocks(self) -> list[BlockText]:
        return [b for b in self.bodies if b.word == "FUNCTION_BLOCK"]

    @property
    def declared(self) -> list[Declaration]:
        """What is declared outside blocks and functions."""
        return [*self.globals, *(d for b in self.bodies if b.word == "PROGRAM" for d in b.declared)]

    def program_at(self, i: int) -> BlockText | None:
        """The program in whose statements a word stands."""
        return next((b for b in self.bodies if b.word == "PROGRAM" and b.begins <= i < b.last), None)

    def declaration_of(self, name: str) -> MemberText | None:
        """What a variable of a program, or a global one, is declared as."""
        low, word = name.lower(), self.word
        found = (d for d in self.declared if d.role != "VAR_EXTERNAL" and any(word(i).lower() == low for i in d.names))
        return next((MemberText(name, d.role, d.kind, d.initial) for d in found), None)

    def taken(self, block: BlockText) -> set[str]:
        """Names that a variable of a block cannot have in a program, in lower case."""
        word = self.word
        return {
            *(word(i).lower() for d in self.declared for i in d.names),
            *(b.name.lower() for b in self.bodies),
            *(low for low, m in block.members.items() if m.role == "VAR_EXTERNAL"),
        }

    def uses(self, low: str) -> list[int]:
        """Where statements name a variable of a program or a global one, given in lower case: not what a block calls so itself,
        what stands behind a point, or names an argument.
        """
        if not self._uses:
            self._uses[""] = []
            for b in self.bodies:
                mine = {n for n, m in b.members.items() if b.word != "PROGRAM" and m.role != "VAR_EXTERNAL"}
                parentheses = 0
                for i in range(b.begins, b.last):
                    kind = self.kinds[i]
                    parentheses += (kind == "(") - (kind == ")")
                    if kind != NAME or self.kinds[i - 1] == "." or self.word(i).lower() in mine:
                        continue
                    if not (parentheses and self.kinds[i + 1] in (":=", "=>")):
                        self._uses.setdefault(self.word(i).lower(), []).append(i)
        return self._uses.get(low, [])

    def written(self, first: int, last: int) -> set[str]:
        """Names that statements between two words set, in lower case."""
        kinds, out, parentheses = self.kinds, set[str](), 0
        for i in range(first, last):
            parentheses += (kinds[i] == "(") - (kinds[i] == ")")
            set_here = (kinds[i + 1] == ":=" and not parentheses) or kinds[i - 1] == "=>"
            if kinds[i] == NAME and kinds[i - 1] != "." and set_here:
                out.add(self.word(i).lower())
        return out

    def depth(self, i: int) -> int:
        """In how many statements a word stands."""
        if self._depths is None:
            self._depths, now = [], 0
            for kind in self.kinds:
                now += (kind in _OPENED) - (kind in _CLOSED)
                self._depths.append(now)
        return self._depths[i]

    def behind_parentheses(self, i: int) -> int:
        """The semicolon behind the parentheses that open at word `i`."""
        depth = 0
        while True:
            depth += (self.kinds[i] == "(") - (self.kinds[i] == ")")
            i += 1
            if not depth:
                return i

    def arguments(self, i: int) -> Iterator[tuple[int, int]]:
        """What stands between the parentheses that open at word `i` and its commas, from word to word."""
        depth, start, kinds = 0, i + 1, self.kinds
        while True:
            depth += (kinds[i] in "([") - (kinds[i] in ")]")
            if (kinds[i] == "," and depth == 1) or not depth:
                if i > start:
                    yield start, i
                start = i + 1
            i += 1
            if not depth:
                return

    def line_end(self, i: int) -> int:
        """The offset of the end of the line on which word `i` ends, if nothing but a comment is left on it; else of the word."""
        end = self.tokens.text.find("\n", self.tokens.ends[i])
        end = end if end >= 0 else len(self.tokens.text)
        return end if self.tokens.starts[min(i + 1, len(self.tokens.starts) - 1)] >= end else self.tokens.ends[i]

    # -- taken apart

    def _body(self, i: int) -> BlockText:
        kinds, word = self.kinds, self.kinds[i]
        name, j = self.word(i + 1), i + 2
        last = next((k for k in range(i, len(kinds)) if kinds[k] == _ENDS[word]), len(self.tokens.kinds) - 1)
        while word == "FUNCTION" and j < last and not kinds[j].startswith("VAR"):
            j += 1
        head, declared = self.tokens.ends[j - 1], list[Declaration]()
        while kinds[j].startswith("VAR"):
            more, j = self._block(j)
            declared += more
            head = self.line_end(j - 1)
        body = BlockText(name, word, i, j, last, head, tuple(declared))
        for d in declared:
            for n in d.names:
                spelt = self.word(n)
                body.members[spelt.lower()] = MemberText(spelt, d.role, d.kind, d.initial)
        body.states = tuple(self._states(body))
        outer = {low for low, m in body.members.items() if m.role == "VAR_EXTERNAL"}
        words = range(j, last)
        copies = {self.word(k).lower() for k in words if kinds[k + 1] == ":=" and self.word(k + 2).lower() in outer}
        body.outside = frozenset(outer | copies)
        return body

    def _states(self, b: BlockText) -> Iterator[str]:
        """Variables that it chooses by and sets, in the order of the choices."""
        kinds, word = self.kinds, self.word
        sets = {
            word(i).lower() for i in range(b.begins, b.last)
            if kinds[i] == NAME and kinds[i + 1] == ":=" and kinds[i + 2] in (INT, NAME) and kinds[i + 3] == ";"
        }  # fmt: skip
        found: dict[str, None] = {}
        for i in range(b.begins, b.last):
            low = word(i).lower()
            chosen = kinds[i] == NAME and kinds[i - 1] == "CASE" and kinds[i + 1] == "OF"
            asked = (
                kinds[i] == NAME
                and kinds[i - 1] in ("IF", "ELSIF")
                and kinds[i + 1] == "="
                and kinds[i + 2] in (INT, NAME)
            )
            m = b.members.get(low)
            if (chosen or asked) and low in sets and m is not None and m.kind.upper() not in _NO_NUMBERS:
                found[low] = None
        yield from found

    def _block(self, i: int) -> tuple[list[Declaration], int]:
        """The declarations of a block of variables that begins at word `i`, and the word behind it."""
        kinds, role = self.kinds, self.kinds[i]
        i += 1
        constant = retain = False
        while kinds[i] in ("CONSTANT", "RETAIN"):
            constant, retain, i = constant or kinds[i] == "CONSTANT", retain or kinds[i] == "RETAIN", i + 1
        found = []
        while kinds[i] not in ("END_VAR", END):
            last = i
            while kinds[last] not in (";", END):
                last += 1
            found.append(self._declaration(role, constant, retain, i, last))
            i = last + 1
        return found, min(i + 1, len(self.tokens.kinds) - 1)

    def _declaration(self, role: str, constant: bool, retain: bool, first: int, last: int) -> Declaration:
        kinds, word = self.kinds, self.word
        colon = next((i for i in range(first, last) if kinds[i] == ":"), last)
        names = tuple(i for i in range(first, colon) if kinds[i] not in (",", "AT", ADDRESS))
        equal = next((i for i in range(colon, last) if kinds[i] == ":="), last)
        text = self.tokens.text
        kind = text[self.tokens.starts[colon + 1] : self.tokens.ends[equal - 1]] if equal > colon + 1 else ""
        initial = text[self.tokens.starts[equal + 1] : self.tokens.ends[last - 1]] if last > equal + 1 else ""
        return Declaration(role, constant, retain, names, colon, last, word(colon + 1).lower(), kind, initial)
