"""Generated code taken apart into words, each with its place."""

from __future__ import annotations

import re
from dataclasses import dataclass

# Comments are left out, but those that tell where a body ends.
_TOKEN = re.compile(
    r"(?P<end>\(\* end of [^*]*\*\))|(?P<skip>\(\*.*?\*\)|//[^\n]*|\s+)"
    r"|(?P<word>(?:T|TIME|BOOL|INT|DINT|REAL)#[-+]?[\w.]+|[A-Za-z_]\w*(?:\.[A-Za-z_]\w*)*|\d[\w#.]*|:=|=>|<=|>=|<>|\*\*|.)",
    re.DOTALL | re.IGNORECASE,
)


@dataclass(frozen=True, slots=True)
class Token:
    """A word of generated code, and where it stands in the text."""

    word: str
    start: int
    end: int

    def same(self, other: Token) -> bool:
        return self.word.lower() == other.word.lower()


def tokens(text: str, offset: int = 0) -> list[Token]:
    """The words of generated code; `offset` is where `text` begins in the file."""
    found = _TOKEN.finditer(text)
    return [Token(m[0], m.start() + offset, m.end() + offset) for m in found if m.lastgroup != "skip"]


def common(a: str, b: str) -> int:
    """How many characters at the beginning of two texts are the same."""
    low, high = 0, min(len(a), len(b))
    while low < high:
        middle = (low + high + 1) // 2
        if a[low:middle] == b[low:middle]:
            low = middle
        else:
            high = middle - 1
    return low
