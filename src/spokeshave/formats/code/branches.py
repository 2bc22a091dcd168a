"""Plain code taken apart word by word: the branches of each thread's CASE with their ways out, and the statements around them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import zip_longest

from spokeshave.formats.code.plain import PlainStyle
from spokeshave.formats.code.tokens import Token, tokens
from spokeshave.formats.errors import FormatError
from spokeshave.model.diagnostics import line_and_column

Thread = tuple[str, int]
"""A sequence and the number of a thread in it."""
Words = tuple[str, ...]

_COMMENT = re.compile(r"\s*:\s*\(\*\s*(?P<name>[A-Za-z_]\w*)\s*(?::\s*.*?)?\s*\*\)", re.DOTALL)


@dataclass
class Arm:
    """A way out as it stands in a branch: its condition and where it leads, each thread that moves with a number."""

    condition: list[Token]
    goes: tuple[tuple[str, str], ...]
    at: Token


@dataclass
class Branch:
    """A state: its number, the name beside it, its ways out."""

    label: Token
    name: str
    arms: list[Arm] = field(default_factory=list)


@dataclass
class Parts:
    """A text taken apart: the branches of each thread's CASE, and the statements around them."""

    cases: dict[Thread, dict[int, Branch]]
    around: list[list[Token]]


def words(found: list[Token]) -> Words:
    """Their texts in small letters."""
    return tuple(t.word.lower() for t in found)


def bare(found: Words) -> Words:
    """Words without a pair of parentheses around all of them."""
    while len(found) > 2 and found[0] == "(" and found[-1] == ")":
        depth = [0]
        for w in found:
            depth.append(depth[-1] + (w == "(") - (w == ")"))
        if 0 in depth[1:-1]:
            break
        found = found[1:-1]
    return found


def split(found: Words, by: str) -> list[Words]:
    """Parts between words that are in no parentheses."""
    out: list[list[str]] = [[]]
    depth = 0
    for w in found:
        depth += (w == "(") - (w == ")")
        if w == by and not depth:
            out.append([])
        else:
            out[-1].append(w)
    return [tuple(p) for p in out]


class Apart:
    """A text of plain code and the style it was written in."""

    def __init__(self, text: str, maker: PlainStyle) -> None:
        self.text, self.maker = text, maker

    def fail(self, at: Token | int, message: str, advice: str = "") -> FormatError:
        """What is wrong at a word, or at an offset."""
        line, column = line_and_column(self.text, at if isinstance(at, int) else at.start)
        return FormatError(message, line=line, column=column, advice=advice)

    def parts(self, start: int, end: int) -> Parts:
        """The parts of the text from `start` to `end`. Raises `FormatError` with line and column."""
        text, maker = self.text, self.maker
        of = {
            (maker.was.get(key) if key[1] else at) or at: key
            for key, at in maker.at.items() if maker.threads[key[0]].count > 0
        }  # fmt: skip
        by_word = {name.lower(): key for name, key in of.items()}
        found = tokens(text[start:end], start)
        cases: dict[Thread, dict[int, Branch]] = {}
        around: list[list[Token]] = [[]]
        i = 0
        while i < len(found):
            word = found[i].word.upper()
            key = by_word.get(found[i + 1].word.lower()) if word == "CASE" and i + 2 < len(found) else None
            if key is not None and found[i + 2].word.upper() == "OF" and key not in cases:
                stop = next((j for j in range(i, len(found)) if found[j].word.upper() == "END_CASE"), None)
                if stop is None:
                    raise self.fail(found[i], "this CASE is not closed", "write END_CASE;")
                cases[key] = self._branches(found[i + 3 : stop])
                i = stop + 1
                continue
            around[-1].append(found[i])
            if word == ";":
                around.append([])
            i += 1
        return Parts({key: cases.get(key, {}) for key in of.values()}, [c for c in around if c])

    def _branches(self, found: list[Token]) -> dict[int, Branch]:
        out: dict[int, Branch] = {}
        at_label = [
            i for i, t in enumerate(found)
            if t.word.isdigit() and i + 1 < len(found) and found[i + 1].word == ":"
        ]  # fmt: skip
        for i, stop in zip_longest(at_label, at_label[1:], fillvalue=len(found)):
            label = found[i]
            beside = _COMMENT.match(self.text, label.end)
            branch = Branch(label, beside["name"] if beside else "")
            if int(label.word) in out:
                raise self.fail(label, f"the state {label.word} has two labels", "take one of them out")
            out[int(label.word)] = branch
            branch.arms = list(self._arms(found[i + 2 : stop]))
        return out

    def _arms(self, found: list[Token]) -> Iterator[Arm]:
        if not found or words(found) == (";",):
            return
        if found[0].word.upper() != "IF":
            raise self.fail(
                found[0],
                f"{found[0].word} stands in a state of its own",
                "a state has IF ... THEN ... END_IF; and nothing else",
            )
        i = 0
        while i < len(found) and found[i].word.upper() in ("IF", "ELSIF", "ELSE"):
            head = found[i]
            then = i if head.word.upper() == "ELSE" else _next(found, i, ("THEN",))
            stop = _next(found, then + 1, ("ELSIF", "ELSE", "END_IF"))
            if then >= len(found) or stop >= len(found):
                raise self.fail(head, f"this {head.word} is not closed", "write THEN ... END_IF;")
            condition = found[i + 1 : then] or [Token("TRUE", head.start, head.end)]
            yield Arm(condition, tuple(self._goes(found[then + 1 : stop])), head)
            i = stop
        rest = words(found[i:])
        if rest != ("end_if", ";"):
            raise self.fail(
                found[min(i + 2, len(found) - 1)], "this stands behind the ways out of the state", "take it out"
            )

    def _goes(self, found: list[Token]) -> Iterator[tuple[str, str]]:
        """Which numbers the threads get; what else a way does follows from the model."""
        at = {name.lower() for name in self.maker.at.values()}
        line: list[Token] = []
        for t in found:
            if t.word != ";":
                line.append(t)
                continue
            said = words(line)
            if len(said) > 2 and said[1] == ":=" and said[0] in at:
                yield said[0], "".join(said[2:])
            elif len(said) < 3 or said[1] != ":=":
                raise self.fail(
                    line[0] if line else t,
                    "a way out only says which state comes next",
                    "put it into a body of the step",
                )
            line = []
        if line:
            raise self.fail(line[-1], "a semicolon is missing behind this", "write ;")


def _next(found: list[Token], at: int, wanted: tuple[str, ...]) -> int:
    return next((i for i in range(at, len(found)) if found[i].word.upper() in wanted), len(found))
