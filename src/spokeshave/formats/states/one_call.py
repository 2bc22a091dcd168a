"""One call of a block with states: what it is given, where its outputs go, and what its variables are called in the program."""

from __future__ import annotations

from dataclasses import dataclass, field

from spokeshave.formats.errors import FormatError
from spokeshave.formats.states.blocks import BlockText, Declaration, Outline
from spokeshave.language.literals import value_text
from spokeshave.language.tokens import NAME
from spokeshave.model.edits import free_name
from spokeshave.model.project import Type, zero_of

_LOOPS = frozenset(("FOR", "WHILE", "REPEAT"))
_ENDS = frozenset(("END_FOR", "END_WHILE", "END_REPEAT"))


@dataclass
class OneCall:
    """One instance on its way into the program that calls it."""

    outline: Outline
    block: BlockText
    declared: Declaration
    named_at: int
    shared: set[str]
    """Names, in lower case, that variables of other blocks have too."""
    others: dict[str, OneCall]
    """Instances that have their names already, by their own in lower case."""
    renamed: dict[str, str] = field(default_factory=dict)
    """What the variables of the block are called in the program, by their names in lower case."""
    gone: set[str] = field(default_factory=set)
    """Variables of the block that need no declaration: another one has their part."""
    constants: dict[str, str] = field(default_factory=dict)
    """Inputs that are always given the same value, with it."""
    dropped: list[tuple[int, int]] = field(default_factory=list)
    """Statements of the program that are needed no more, from word to word."""

    def __post_init__(self) -> None:
        self.tokens = self.outline.tokens
        self.name = self.tokens.word(self.named_at)
        self.low = self.name.lower()
        self.call = self._call()
        self.line = self.tokens.position(self.tokens.starts[self.call])[0]
        self.end = self.outline.behind_parentheses(self.call + 1)
        mine = [n for n in self.block.states if n not in self.block.outside]
        self.state = self.block.members[mine[0]].spelt if len(mine) == 1 else ""
        self.given, self.taken_out = self._arguments()
        self.inside = self.outline.written(self.block.begins, self.block.last)
        self._name_members()
        self._put_through()

    def fail(self, i: int, message: str, advice: str) -> FormatError:
        line, column = self.tokens.position(self.tokens.starts[i])
        return FormatError(message, line=line, column=column, advice=advice)

    # -- what is there

    def _call(self) -> int:
        """The word at which the only call of the instance stands, in a program and in no loop."""
        kinds = self.tokens.kinds
        calls, inside = list[int](), 0
        for i in self.outline.uses(self.low):
            if kinds[i + 1] == "(":
                calls.append(i)
            elif kinds[i + 1] != ".":
                raise self.fail(i, f"{self.name} has states and is handed on", "call it by its name")
        if len(calls) != 1:
            at = calls[1] if calls else self.named_at
            said = "is called in two places" if calls else "is called nowhere"
            raise self.fail(at, f"{self.name} has states and {said}", "call it once in each scan")
        (call,) = calls
        program = self.outline.program_at(call)
        if program is None:
            raise self.fail(call, f"{self.name} has states and is called in a block without",
                            "call it in the program")  # fmt: skip
        for i in range(program.begins, call):
            inside += (kinds[i] in _LOOPS) - (kinds[i] in _ENDS)
        if inside:
            raise self.fail(call, f"{self.name} has states and is called in a loop", "call it once in each scan")
        self.program = program
        return call

    def _arguments(self) -> tuple[dict[str, tuple[int, int]], dict[str, tuple[int, int]]]:
        """What the inputs are given and where the outputs go, each from word to word, by their names in lower case."""
        t, kinds = self.tokens, self.tokens.kinds
        given: dict[str, tuple[int, int]] = {}
        out: dict[str, tuple[int, int]] = {}
        order = [low for low, m in self.block.members.items() if m.role in ("VAR_INPUT", "VAR_IN_OUT")]
        for n, (first, last) in enumerate(self.outline.arguments(self.call + 1)):
            sign = kinds[first + 1]
            if kinds[first] == NAME and sign in (":=", "=>"):
                low = t.word(first).lower()
                (out if sign == "=>" else given)[low] = (first + 2, last)
            elif n < len(order):
                low = order[n]
                given[low] = (first, last)
            else:
                raise self.fail(first, f"{self.block.name} has no input for this", "name the input: Input := value")
            if low not in self.block.members:
                raise self.fail(first, f"{self.block.name} has no {t.word(first)}", "see its declaration")
        return given, out

    # -- names

    def _name_members(self) -> None:
        """Each variable of the block gets a name that is free in the program; its state gets that of the instance."""
        given_out = {new.lower() for o in self.others.values() for new in o.renamed.values()}
        taken = (self.outline.taken(self.block) | given_out) - {self.low}
        if self.state:
            self.renamed[self.state.lower()] = self.name
            taken.add(self.low)
        for low, m in self.block.members.items():
            if m.role == "VAR_EXTERNAL" or low in self.renamed:
                continue
            if m.role == "VAR_IN_OUT":
                first, last = self.given.get(low, (0, 0))
                if not first:
                    raise self.fail(self.call, f"{self.block.name} needs {m.spelt}", f"write {m.spelt} := a variable")
                self.renamed[low] = self.text_of(first, last)
                self.gone.add(low)
                continue
            stem = f"{self.name}_{m.spelt}" if low in self.shared or low in taken else m.spelt
            self.renamed[low] = free_name(stem, taken)
            taken.add(self.renamed[low].lower())

    def _put_through(self) -> None:
        """Inputs that are just a variable or a value of the program, and outputs that only go to one of its variables, are that."""
        asked = {
            self.tokens.word(i + 2).lower() for i in self.outline.uses(self.low) if self.tokens.kinds[i + 1] == "."
        }
        for low, m in self.block.members.items():
            if m.role != "VAR_INPUT" or low in self.inside or low in asked:
                continue
            first, last = self.given.get(low, (0, 0))
            if not first and m.kind.upper() in Type.__members__ and m.kind.upper() != "BOOL":
                self.constants[low] = ""  # as it is declared
            elif last == first + 1 and self.tokens.kinds[first] == NAME:
                if self.tokens.word(first).lower() not in self.inside:
                    self.renamed[low] = self.tokens.word(first)
                    self.gone.add(low)
            elif last == first + 3 and (theirs := self._of_another(first)) and theirs.lower() not in self.inside:
                self.renamed[low] = theirs
                self.gone.add(low)
            elif last == first + 1 and self.tokens.kinds[first] in ("TIME", "INT", "REAL", "TYPED"):
                self.constants[low] = self.tokens.word(first)
        for low, (first, last) in self._goes_out().items():
            m, to = self.block.members[low], self.tokens.word(first)
            mine = self.outline.declaration_of(to)
            if m.role == "VAR_OUTPUT" and mine is not None and (mine.kind, mine.initial) == (m.kind, m.initial):
                self.renamed[low] = to
                self.gone.add(low)
                if low in self.taken_out:
                    del self.taken_out[low]
                else:
                    self.dropped.append((first, last))

    def _of_another(self, first: int) -> str:
        """What a variable of another instance, `Left.Busy`, is called in the program; empty for other words."""
        kinds, word = self.tokens.kinds, self.tokens.word
        other = self.others.get(word(first).lower()) if kinds[first : first + 3] == [NAME, ".", NAME] else None
        return other.renamed.get(word(first + 2).lower(), "") if other is not None else ""

    def _goes_out(self) -> dict[str, tuple[int, int]]:
        """Outputs whose value the program gives to a variable of its own that nothing else speaks of, in every scan."""
        t, kinds = self.tokens, self.tokens.kinds
        found: dict[str, tuple[int, int]] = {}
        uses = [i for i in self.outline.uses(self.low) if kinds[i + 1] == "."]
        for low in self.block.members:
            mine = [i for i in uses if t.word(i + 2).lower() == low]
            if low in self.taken_out and not mine:
                first, last = self.taken_out[low]
                if last == first + 1 and len(self.outline.uses(t.word(first).lower())) == 1:
                    found[low] = (first, last)
            if low in self.taken_out:
                continue
            for i in mine:
                alone = kinds[i - 1] == ":=" and kinds[i - 2] == NAME and kinds[i + 3] == ";" and kinds[i - 3] == ";"
                behind = i > self.call and self.outline.depth(self.call) == 0 == self.outline.depth(i)
                if alone and behind and len(self.outline.uses(t.word(i - 2).lower())) == 1:
                    found[low] = (i - 2, i + 4)
                    break
        return found

    def text_of(self, first: int, last: int) -> str:
        """The text of the words from `first` to the one before `last`."""
        return self.tokens.text[self.tokens.starts[first] : self.tokens.ends[last - 1]] if last > first else ""


def zero_text(kind: str) -> str:
    """What a variable of a type is at first, as it is written; of a type that is not known as a BOOL."""
    of = Type(kind.upper()) if kind.upper() in Type.__members__ else Type.BOOL
    return value_text(zero_of(of), of)
