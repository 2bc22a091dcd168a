"""A block with states in place of its call: its declarations among those of the program, its statements in the program's names."""

from __future__ import annotations

from spokeshave.formats.states.moved import Pieces
from spokeshave.formats.states.one_call import ZERO, OneCall
from spokeshave.language.tokens import NAME, Tokens

_OPENED = frozenset(("IF", "CASE", "FOR", "WHILE", "REPEAT"))
_CLOSED = frozenset(("END_IF", "END_CASE", "END_FOR", "END_WHILE", "END_REPEAT"))


class PutIn(OneCall):
    """The text with the block in place of the call."""

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
                        f"{self.renamed[t.word(i).lower()]} := {d.initial or ZERO.get(d.kind.upper(), 'FALSE')};\n",
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
            depth += (kind in _OPENED) - (kind in _CLOSED)
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
