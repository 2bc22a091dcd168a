"""A block with states in place of its call: its declarations among those of the program, its statements in the program's names."""

from __future__ import annotations

from collections.abc import Callable

from spokeshave.formats.states.blocks import Outline
from spokeshave.formats.states.moved import Pieces
from spokeshave.formats.states.one_call import OneCall, zero_text
from spokeshave.language.tokens import NAME, Tokens

Change = tuple[int, int, str | Callable[[], None]]
"""From offset to offset, and what stands there then: a text, or what writes it."""


def put_in(outline: Outline, ones: list[PutIn]) -> Tokens:
    """The words of a text with the blocks of some instances in place of their calls."""
    t, pieces, at = outline.tokens, Pieces(outline.tokens), 0
    uses = {start: use for one in ones for start, use in one.looked_at().items()}
    changes: list[Change] = [(start, end, new) for start, (end, new) in uses.items()]
    named = {one.named_at for one in ones}
    for d in dict.fromkeys(one.declared for one in ones):
        left = [t.word(i) for i in d.names if i not in named]
        end = t.ends[d.names[-1]] if left else t.ends[d.last]
        changes.append((t.starts[d.names[0]], end, ", ".join(left)))
    for one in ones:
        one.pieces, one.uses = pieces, uses
        changes += one.changes()
    for start, end, new in sorted(changes, key=lambda c: c[:2]):
        if start < at:
            continue  # inside of what has gone, or of a call
        pieces.copy(at, start)
        if isinstance(new, str):
            pieces.put(new, start)
        else:
            new()
        at = end
    pieces.copy(at, len(t.text))
    return pieces.done()


class PutIn(OneCall):
    """The text with the block in place of the call."""

    pieces: Pieces
    uses: dict[int, tuple[int, str]]
    """What is looked at of all instances that are put in, from offset to offset, and what it is called then."""

    def looked_at(self) -> dict[int, tuple[int, str]]:
        """Where the program looks at a variable of this instance, by offset, with the end and the new name."""
        t = self.tokens
        return {
            t.starts[i]: (t.ends[i + 2], self.renamed[t.word(i + 2).lower()])
            for i in self.outline.uses(self.low)
            if t.kinds[i + 1] == "." and t.word(i + 2).lower() in self.renamed
        }

    def changes(self) -> list[Change]:
        """What becomes of the program: declarations, the call, statements that are needed no more."""
        t, head = self.tokens, self.program.head_ends
        gone = [(t.starts[first], t.ends[last - 1], "") for first, last in self.dropped]
        return [(head, head, self._declarations), (t.starts[self.call], t.ends[self.end], self._body), *gone]

    def _copy(self, first: int, last: int) -> None:
        """The words from `first` to the one before `last`, in the new names."""
        t, at = self.tokens, self.tokens.starts[first]
        for i in range(first, last):
            if t.starts[i] in self.uses:
                end, new = self.uses[t.starts[i]]
                self.pieces.copy(at, t.starts[i])
                self.pieces.put(new, t.starts[i])
                at = end
        self.pieces.copy(at, t.ends[last - 1])

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
                        f"{self.renamed[t.word(i).lower()]} := {d.initial or zero_text(d.kind)};\n",
                        here,
                    )
        for low, (first, last) in self.given.items():
            if low not in self.gone and low not in self.constants:
                put(f"{self.renamed[low]} := ", here)
                self._copy(first, last)
                put(";\n", here)
        self._statements()
        for low, (first, last) in self.taken_out.items():
            self._copy(first, last)
            put(f" := {self.renamed[low]};\n", here)

    def _statements(self) -> None:
        """The statements of the block in the names of the program. A RETURN of an IF leaves out what is behind it."""
        t, kinds, b = self.tokens, self.tokens.kinds, self.block
        at = t.ends[b.begins - 1]
        opened = 0
        parentheses = 0
        for i in range(b.begins, b.last):
            kind = kinds[i]
            parentheses += (kind == "(") - (kind == ")")
            if kind == "RETURN":
                if self.outline.depth(i) != 1 or not self._ends_an_if(i):
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
