"""Blocks with states that a program calls, written into the program: `Door(Open := StartButton);` becomes the statements of
the block, with the variables of this instance. It does the same; only then can its states be looked at with what surrounds them.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator
from dataclasses import dataclass, field

from spokeshave.formats.errors import FormatError
from spokeshave.formats.states.blocks import BlockText, Declaration, Outline
from spokeshave.formats.states.choices import Note
from spokeshave.formats.states.moved import Pieces
from spokeshave.language.tokens import NAME, Tokens
from spokeshave.model.edits import free_name

MOST = 64
"""Instances that are written into one program, and the blocks in them."""
LARGEST = 4_000_000
"""Characters that a program may have then."""
_LOOPS = frozenset(("FOR", "WHILE", "REPEAT"))
_ENDS = frozenset(("END_FOR", "END_WHILE", "END_REPEAT"))
_ZERO = {"BOOL": "FALSE", "INT": "0", "DINT": "0", "REAL": "0.0", "TIME": "T#0s"}


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
        one = _Writing(outline, *found[0], shared)
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


@dataclass
class _Writing:
    """One instance on its way into the program that calls it."""

    outline: Outline
    block: BlockText
    declared: Declaration
    named_at: int
    shared: set[str]
    """Names, in lower case, that variables of other blocks have too."""
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
        taken = self.outline.taken(self.block) - {self.low}
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
                self.renamed[low] = self._text(first, last)
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
            if not first and m.kind.upper() in _ZERO and m.kind.upper() != "BOOL":
                self.constants[low] = ""  # as it is declared
            elif last == first + 1 and self.tokens.kinds[first] == NAME:
                if self.tokens.word(first).lower() not in self.inside:
                    self.renamed[low] = self.tokens.word(first)
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

    # -- the text

    def _text(self, first: int, last: int) -> str:
        """The text of the words from `first` to the one before `last`."""
        return self.tokens.text[self.tokens.starts[first] : self.tokens.ends[last - 1]] if last > first else ""

    def written(self) -> Tokens:
        """The words of the text with the block in place of its call."""
        t = self.tokens
        changes: list[tuple[int, int, str]] = []  # from offset to offset; what stands there then, but for the call
        changes.append(self._undeclared())
        head = self.program.head_ends
        changes.append((head, head, "declarations"))
        changes.append((t.starts[self.call], t.ends[self.end], "call"))
        changes += [(t.starts[first], t.ends[last - 1], "") for first, last in self.dropped]
        changes += [
            (t.starts[i], t.ends[i + 2], self.renamed[t.word(i + 2).lower()])
            for i in self.outline.uses(self.low)
            if t.kinds[i + 1] == "." and t.word(i + 2).lower() in self.renamed
            and not any(first <= i < last for first, last in self.dropped)
        ]  # fmt: skip
        self.pieces, at = Pieces(t), 0
        for start, end, new in sorted(changes):
            self.pieces.copy(at, start)
            if new == "declarations" and start == end:
                self._declarations()
            elif new == "call":
                self._body()
            else:
                self.pieces.put(new, start)
            at = end
        self.pieces.copy(at, len(t.text))
        return self.pieces.done()

    def _undeclared(self) -> tuple[int, int, str]:
        """The declaration without the name of the instance; all of it goes where it is the only one."""
        t, d, i = self.tokens, self.declared, self.named_at
        if len(d.names) == 1:
            return t.starts[i], t.ends[d.last], ""
        if t.kinds[i + 1] == ",":
            return t.starts[i], t.ends[i + 1], ""
        return t.starts[i - 1], t.ends[i], ""

    def _declarations(self) -> None:
        """The variables of the block, below those of the program."""
        t, put = self.tokens, self.pieces.put
        for d in self.block.declared:
            if d.role in ("VAR_EXTERNAL", "VAR_IN_OUT"):
                continue
            for i in d.names:
                low = t.word(i).lower()
                if low in self.gone:
                    continue
                constant = low in self.constants or d.constant
                opener = f"\nVAR{' CONSTANT' * constant}{' RETAIN' * (d.retain and not constant)} "
                put(opener, t.starts[i])
                put(self.renamed[low], t.starts[i])
                put(" ", t.starts[i])
                value = self.constants.get(low, "")
                colon = t.starts[d.colon]
                if value:
                    put(f": {d.kind_text} := {value};", colon)
                else:
                    self.pieces.copy(colon, t.ends[d.last])
                self.pieces.copy(t.ends[d.last], self.outline.line_end(d.last))
                put("\nEND_VAR\n", t.starts[i])

    def _body(self) -> None:
        """What the call gives, the statements of the block, what it takes out."""
        t, put, here = self.tokens, self.pieces.put, self.tokens.starts[self.call]
        for d in self.block.declared:
            if d.role == "VAR_TEMP":
                for i in d.names:
                    put(
                        f"{self.renamed[t.word(i).lower()]} := {d.initial or _ZERO.get(d.kind.upper(), 'FALSE')};\n",
                        here,
                    )
        for low, (first, last) in self.given.items():
            if low not in self.gone and low not in self.constants:
                put(f"{self.renamed[low]} := ", here)
                self.pieces.copy(t.starts[first], t.ends[last - 1])
                put(";\n", here)
        self._statements()
        for low, (first, last) in self.taken_out.items():
            self.pieces.copy(t.starts[first], t.ends[last - 1])
            put(f" := {self.renamed[low]};\n", here)

    def _statements(self) -> None:
        """The statements of the block in the names of the program. A RETURN of an IF leaves out what is behind it."""
        t, kinds, b = self.tokens, self.tokens.kinds, self.block
        at = t.ends[b.begins - 1]
        opened = i = 0
        depth = parentheses = 0
        for i in range(b.begins, b.last):
            kind = kinds[i]
            depth += (kind in ("IF", "CASE") or kind in _LOOPS) - (kind in ("END_IF", "END_CASE") or kind in _ENDS)
            parentheses += (kind == "(") - (kind == ")")
            if kind == "RETURN":
                if depth != 1 or not self._ends_an_if(i):
                    raise self.fail(i, "this RETURN leaves a block with states from within",
                                    "write IF around what it leaves out")  # fmt: skip
                self.pieces.copy(at, t.starts[i])
                self.pieces.put("ELSE", t.starts[i])
                at = t.ends[i + 3]
                opened += 1
                continue
            if kind != NAME or t.starts[i] < at or kinds[i - 1] == ".":
                continue
            new = self.renamed.get(t.word(i).lower())
            if new is None or new == t.word(i) or (parentheses and kinds[i + 1] in (":=", "=>")):
                continue
            self.pieces.copy(at, t.starts[i])
            self.pieces.put(new, t.starts[i])
            at = t.ends[i]
        self.pieces.copy(at, t.starts[b.last])
        self.pieces.put("\n" + "END_IF;\n" * opened, t.starts[b.last])

    def _ends_an_if(self, i: int) -> bool:
        """Whether a RETURN is the last statement of the only branch of an IF: `RETURN; END_IF;`."""
        kinds = self.tokens.kinds
        if kinds[i + 1 : i + 4] != [";", "END_IF", ";"]:
            return False
        j, depth = i, 0
        while j > self.block.begins:
            j -= 1
            depth += (kinds[j] == "END_IF") - (kinds[j] == "IF")
            if depth < 0:
                return True
            if not depth and kinds[j] in ("ELSE", "ELSIF", "CASE"):
                return False
        return False
