"""An IEC text as words, and faults of its syntax with their places."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager

from spokeshave.formats.errors import FormatError
from spokeshave.language import syntax as sx
from spokeshave.language.parse import out_of_place
from spokeshave.language.parser import DoesNotFit
from spokeshave.language.tokens import Tokens, UnknownCharacter

PLAIN_CODE = re.compile(r"\(\* Task period \d+ ms: ")
"""What stands at the head of code in the plain style."""
START = "start_program"
LARGEST_TO_EXPLAIN = 200_000
"""Characters of a file that is read again by the grammar to say what could have stood somewhere."""


def tokens_of(text: str) -> Tokens:
    """The words of a whole file. Raises `FormatError` with line and column."""
    try:
        return Tokens(text, program=True)
    except sx.TextError as error:
        raise as_format_error(error.problems[0]) from None
    except UnknownCharacter as error:
        raise as_format_error(out_of_place(text, START, error.at, largest=LARGEST_TO_EXPLAIN)) from None


@contextmanager
def located(text: str, tokens: Tokens) -> Iterator[None]:
    """Faults of syntax are told with line and column. Raises `FormatError` for them."""
    try:
        yield
    except sx.TextError as error:
        raise as_format_error(error.problems[0]) from None
    except DoesNotFit as error:
        at = tokens.starts[error.at]
        raise as_format_error(out_of_place(text, START, at, error.wanted, LARGEST_TO_EXPLAIN)) from None


def as_format_error(p: sx.Problem) -> FormatError:
    """A fault of syntax as one of the file."""
    return FormatError(p.message, line=p.line, column=p.column, advice=p.advice)


@contextmanager
def parsing(text: str) -> Iterator[Tokens]:
    """The words of an IEC text, to be read by hand. Faults are raised as `FormatError` with line and column."""
    tokens = tokens_of(text)
    with located(text, tokens):
        yield tokens
