"""A text put together from pieces of another one: each word knows where it stood there."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass, field

from spokeshave.language.tokens import Tokens


@dataclass
class Pieces:
    """A text in the making. Each piece has the offset in the old text that it comes from."""

    old: Tokens
    texts: list[str] = field(default_factory=list)
    starts: list[int] = field(default_factory=list)
    origins: list[tuple[int, bool]] = field(default_factory=list)
    """Of each piece where it comes from, and whether its letters are those that stand there."""
    size: int = 0

    def copy(self, start: int, end: int) -> None:
        """The old text from `start` to `end`."""
        self._add(self.old.text[start:end], start, True)

    def put(self, text: str, at: int) -> None:
        """New text that stands for what is at `at`."""
        self._add(text, at, False)

    def _add(self, text: str, at: int, copied: bool) -> None:
        if text:
            self.texts.append(text)
            self.starts.append(self.size)
            self.origins.append((at, copied))
            self.size += len(text)

    def done(self) -> Moved:
        """The words of the new text. Raises as `Tokens`."""
        return Moved("".join(self.texts), self)


class Moved(Tokens):
    """Words of a text that was put together; their positions are those in the text that it was made from."""

    def __init__(self, text: str, pieces: Pieces) -> None:
        self.pieces = pieces
        super().__init__(text, program=True)

    def position(self, at: int) -> tuple[int, int]:
        """Line and column, from 1, in the text that all came from."""
        n = bisect_right(self.pieces.starts, at) - 1
        if n < 0:
            return self.pieces.old.position(0)
        origin, copied = self.pieces.origins[n]
        return self.pieces.old.position(origin + (at - self.pieces.starts[n] if copied else 0))

    def place_of(self, line: int, column: int) -> tuple[int, int]:
        """Line and column, from 1, of a place in this text in the one that all came from."""
        at = 0
        for _ in range(line - 1):
            at = self.text.find("\n", at) + 1
        return self.position(at + column - 1)
