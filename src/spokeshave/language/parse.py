"""From text to syntax trees, with messages that a person can act on.

A text that the parser does not take is read again by the grammar, which knows what could have stood there (`expected`).
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any, cast

from spokeshave.language import syntax as sx
from spokeshave.language.parser import BadWord, DoesNotFit, Parser
from spokeshave.language.tokens import END, Tokens, UnknownCharacter
from spokeshave.model.diagnostics import line_and_column, quoted


def _parse(text: str, start: str) -> Any:
    try:
        parser = Parser(Tokens(text))
        found = parser.expression() if start == "start_expression" else parser.statements()
        parser.take(END, "the end")
        return found
    except BadWord as error:  # a fault in how the text is built is told first
        raise sx.TextError([expected(text, start) or error.problems[0]]) from None
    except UnknownCharacter as error:
        raise sx.TextError([out_of_place(text, start, error.at)]) from None
    except DoesNotFit as error:
        raise sx.TextError([out_of_place(text, start, parser.tokens.starts[error.at], error.wanted)]) from None


LARGEST_TO_READ_AGAIN = 50_000
"""Characters of a text of which more than the first fault is told."""


def expected(text: str, start: str, largest: int = LARGEST_TO_READ_AGAIN) -> sx.Problem | None:
    """What the grammar says of a text from the rule `start`; None for one that is well formed, or too long to be read twice."""
    if len(text) > largest:
        return None
    from spokeshave.language.expected import syntax_problem

    return syntax_problem(text, start)


def out_of_place(
    text: str, start: str, at: int, wanted: str = "", largest: int = LARGEST_TO_READ_AGAIN
) -> sx.Problem:  # fmt: skip
    """The problem of a word at offset `at`, where `wanted` could stand: what the grammar says, if the text is short enough."""
    return expected(text, start, largest) or _not_here(text, at, wanted)


def _not_here(text: str, at: int, wanted: str) -> sx.Problem:
    line, column = line_and_column(text, at)
    word = re.match(r"\w+|.|$", text[at : at + 100], re.DOTALL)
    advice = f"expected {wanted}" if wanted else "take it out"
    return sx.Problem(line, column, f"{quoted(word[0] if word else '')} does not fit here", advice, at, at + 1)


@lru_cache(maxsize=20_000)
def parse_expression(text: str) -> sx.Expression:
    """The tree of an expression. Raises `TextError` with a located problem."""
    if not text.strip():
        raise sx.TextError([sx.Problem(1, 1, "nothing is written here", "write a condition, for example TRUE")])
    return cast(sx.Expression, _parse(text, "start_expression"))


@lru_cache(maxsize=5_000)
def parse_statements(text: str) -> tuple[sx.Statement, ...]:
    """The statements of a body or of opening or closing logic. Raises `TextError` with all located problems."""
    try:
        return cast("tuple[sx.Statement, ...]", _parse(text, "start_statements"))
    except sx.TooMuch:
        raise
    except sx.TextError as error:
        raise sx.TextError(_all_problems(text, error.problems[0])) from None


MOST_PROBLEMS = 20


def _all_problems(text: str, first: sx.Problem) -> list[sx.Problem]:
    """The first problem and those behind it: each is mended (`_mended`) and the rest read again.

    A fault that the mending itself makes (an IF whose head is gone) is not told.
    """
    problems, rest, last = [first], text, first
    for _ in range(2 * MOST_PROBLEMS if len(text) <= LARGEST_TO_READ_AGAIN else 0):
        mended = _mended(rest, last)
        if mended == rest:
            break
        rest = mended
        try:
            _parse(rest, "start_statements")
            break
        except sx.TextError as error:
            found = error.problems[0]
        if found.start <= last.start or found.message == "the text ends too early" or len(problems) == MOST_PROBLEMS:
            break
        last = found
        if (
            not found.message.upper().startswith(("END_", "ELSE ", "ELSIF ", "UNTIL "))
            and " is not closed" not in found.message
        ):
            problems.append(found)
    return problems


def _mended(text: str, problem: sx.Problem) -> str:
    """The text with a missing semicolon put in, or else with the faulty statement blanked out; offsets stay."""
    at = problem.start
    if problem.advice == "write ; here" and text[at : at + 1].isspace():
        return f"{text[:at]};{text[at + 1 :]}"
    start = max(text.rfind(w, 0, at) for w in (";", "THEN", "ELSE", "DO", "then", "else", "do"))
    start = 0 if start < 0 else start + (1 if text[start] == ";" else 4 if text[start] in "TtEe" else 2)
    end = text.find(";", at)
    end = len(text) if end < 0 else end
    return text[:start] + re.sub(r"[^\n]", " ", text[start:end]) + text[end:]
