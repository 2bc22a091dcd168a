"""Words of IEC 61131-3 texts: numbers, names, keywords and signs with their places, in one pass over the text."""

from __future__ import annotations

import re
from bisect import bisect_left

from spokeshave.language import LanguageError
from spokeshave.language.syntax import Problem, Span, TooMuch

DEEPEST = 150
"""Parentheses, operators and functions may nest this deep; more is a slip or an attack, and is refused with its place."""

_STATEMENT_WORDS = """
IF THEN ELSIF ELSE END_IF CASE OF END_CASE FOR TO BY DO END_FOR WHILE END_WHILE REPEAT UNTIL END_REPEAT EXIT RETURN OR XOR
AND NOT MOD TRUE FALSE
"""
_PROGRAM_WORDS = """
PROGRAM END_PROGRAM VAR VAR_INPUT VAR_OUTPUT VAR_GLOBAL VAR_EXTERNAL END_VAR CONSTANT RETAIN AT INITIAL_STEP STEP END_STEP
TRANSITION END_TRANSITION PRIORITY FROM ACTION END_ACTION VAR_TEMP VAR_IN_OUT FUNCTION END_FUNCTION FUNCTION_BLOCK
END_FUNCTION_BLOCK TYPE END_TYPE STRUCT END_STRUCT ARRAY
"""
STATEMENT_WORDS = frozenset(_STATEMENT_WORDS.split())
"""Keywords of expressions and statements."""
PROGRAM_WORDS = STATEMENT_WORDS | frozenset(_PROGRAM_WORDS.split())
"""Keywords of a whole file."""
_CHART_WORDS = frozenset(
    ["INITIAL_STEP", "STEP", "END_STEP", "TRANSITION", "END_TRANSITION", "PRIORITY", "FROM", "ACTION", "END_ACTION"]
)
_CHART = re.compile(r"\b(?:INITIAL_STEP|END_STEP|END_TRANSITION)\b", re.IGNORECASE)

NAME, INT, REAL, TIME, TYPED, BASED, ADDRESS, END = "NAME", "INT", "REAL", "TIME", "TYPED", "BASED", "ADDRESS", "$END"

_TOKEN = re.compile(
    r"""(?P<SPACE>(?:[ \t\f\r\n]+|\(\*[\s\S]*?\*\)|//[^\n]*)+)
    |(?P<TIME>(?:T|TIME)\#[-+]?(?:[0-9][0-9_]*(?:\.[0-9][0-9_]*)?(?:ms|d|h|m|s)_?)+)
    |(?P<TYPED>(?:BOOL|INT|DINT|REAL)\#[-+]?[0-9a-z_.\#]+)
    |(?P<BASED>(?:2|8|16)\#[0-9a-f_]+)
    |(?P<REAL>[0-9][0-9_]*\.[0-9][0-9_]*(?:e[-+]?[0-9]+)?)
    |(?P<INT>[0-9][0-9_]*)
    |(?P<NAME>[a-z_][a-z0-9_]*)
    |(?P<SIGN>:=|\.\.|=>|\*\*|<=|>=|<>|[=<>+\-*/&;:(),.\[\]])
    |(?P<PRAGMA>\{[^{}]*\})
    |(?P<ADDRESS>%[IQM][XBWDL]?(?:\*|[0-9]+(?:\.[0-9]+)*))""",
    re.IGNORECASE | re.VERBOSE | re.ASCII,
)


class UnknownCharacter(LanguageError):
    """A character that begins no word; `at` is its offset."""

    def __init__(self, at: int) -> None:
        super().__init__(f"character {at}")
        self.at = at


class Tokens:
    """The words of a text. `kinds` are keywords and signs as they are, in capitals, else one of the kinds above."""

    def __init__(self, text: str, program: bool = False) -> None:
        """Words of a text; `program` for a whole file, which has pragmas and addresses.

        Raises `UnknownCharacter`, and `TooMuch` for what would only exhaust a parser: nesting no person writes, a
        comment without an end, NULs.
        """
        self.text = text
        self.kinds: list[str] = []
        self.starts: list[int] = []
        self.ends: list[int] = []
        self._breaks: list[int] | None = None
        words = PROGRAM_WORDS if program else STATEMENT_WORDS
        if program and not _CHART.search(text):
            words = words - _CHART_WORDS  # variables of state programs are called Step or Action
        at = depth = 0
        for m in _TOKEN.finditer(text):
            start, end = m.span()
            if start != at:
                break
            at = end
            kind = str(m.lastgroup)
            if kind == "SPACE" or (kind == "PRAGMA" and program):
                continue
            if kind == "SIGN":
                kind = m.group()
                if kind == "(":
                    depth += 1
                    if depth > DEEPEST:
                        advice = f"at most {DEEPEST} levels; use an internal for a part of it"
                        raise self._refused(start, "the parentheses nest too deeply", advice)
                    if text.startswith("*", end):
                        raise self._refused(start, "a comment is opened and never closed", "end it with *)")
                elif kind == ")":
                    depth -= 1
            elif kind == NAME:
                word = m.group().upper()
                kind = word if word in words else NAME
            elif kind in ("PRAGMA", ADDRESS) and not program:
                raise UnknownCharacter(start)
            self.kinds.append(kind)
            self.starts.append(start)
            self.ends.append(end)
        if text.startswith("\0", at):
            raise self._refused(at, "a NUL character", "take it out")
        if at != len(text):
            raise UnknownCharacter(at)
        self.kinds.append(END)
        self.starts.append(at)
        self.ends.append(at)

    def _refused(self, at: int, message: str, advice: str) -> TooMuch:
        return TooMuch([Problem(*self.position(at), message, advice, at, at + 1)])

    def word(self, i: int) -> str:
        """The text of word `i`."""
        return self.text[self.starts[i] : self.ends[i]]

    def position(self, at: int) -> tuple[int, int]:
        """Line and column, from 1, of an offset."""
        if self._breaks is None:
            self._breaks = [i for i, c in enumerate(self.text) if c == "\n"] if "\n" in self.text else []
        line = bisect_left(self._breaks, at)
        return line + 1, at - (self._breaks[line - 1] if line else -1)

    def span(self, first: int, behind: int) -> Span:
        """From word `first` to the one before `behind`."""
        start = self.starts[first]
        return Span(*self.position(start), start, self.ends[behind - 1])
