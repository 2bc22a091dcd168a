"""IEC 61131-3 text into a machine file: programs with charts become sequences, their variables signals."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_places import Origins
from spokeshave.formats.iec_reader import Reader
from spokeshave.formats.iec_variables import Enumerations, without_enumerations
from spokeshave.formats.iec_words import LARGEST_TO_EXPLAIN, PLAIN_CODE, START, as_format_error, located, tokens_of
from spokeshave.formats.pragma import merge_pragma, take_pragma
from spokeshave.formats.states.called import write_in
from spokeshave.formats.states.choices import Choices, Note
from spokeshave.formats.states.foreign import made_fit
from spokeshave.formats.states.overrides import as_trips
from spokeshave.language.parse import expected
from spokeshave.language.tokens import Tokens
from spokeshave.model.project import Project


def parse_iec(text: str) -> Project:
    """The machine file of an IEC text, its pragma taken in. Raises `FormatError` with line and column."""
    return parse_states(text).project(Choices())


@dataclass(frozen=True, slots=True)
class Read:
    """A text that was read. Where it has state programs, `written` is the same file in which they are no sequences but run
    as they are written, from the second scan on (see `reading`).
    """

    whole: Project | None
    reader: Reader
    pragma: dict[str, Any] | None
    written: Project | None
    at_once: Project | None = None
    """As `written`, but from the first scan on; None where that is the same."""
    text: str = ""
    """The text of a file with state programs."""
    shown: str = ""
    """How a text that is plain code was held against what it was read as."""
    called: dict[str, str] = field(default_factory=dict)
    """The variable of the state in blocks that the text calls, by the name of the sequence in lower case."""

    def project(self, choices: Choices | None) -> Project:
        """The machine file, its state programs in the form of `choices`; None keeps their text."""
        if self.whole is not None:
            return self.whole
        project = self.reader.project(choices)
        if self.pragma is not None:
            return merge_pragma(project, self.pragma)
        return (
            as_trips(project, self.reader.notes)
            if choices is not None and choices.trip and self.reader.cases
            else project
        )

    @property
    def states(self) -> dict[str, str]:
        """Of each sequence that was a state program, by its name in lower case, the variable of its state."""
        return {name: variable for p in self.reader.cases for name, variable in p.states.items()} | self.called


def parse_states(text: str) -> Read:
    """An IEC text with its state programs. Raises `FormatError` with line and column."""
    plain, pragma = take_pragma(text) if "{spokeshave" in text else (text, None)
    plain, enumerations = without_enumerations(plain)
    told: list[Note] = []
    if pragma is None:
        plain, told = made_fit(plain)
    reader = _read(plain, pragma is not None and "code" in pragma, enumerations)
    if pragma is not None and "code" in pragma:
        try:
            with located(plain, reader.tokens):
                from spokeshave.formats.iec_generated import read_generated

                return Read(read_generated(plain, reader, pragma), reader, None, None)
        except FormatError as error:  # a fault of syntax is told as one
            problem = expected(plain, START, LARGEST_TO_EXPLAIN)
            raise (error if problem is None else as_format_error(problem)) from None
    if pragma is None and PLAIN_CODE.search(plain) and (code := _plain_code(reader, text, told)) is not None:
        return code
    if not reader.sequences and not reader.cases:
        reader = _read(plain, False, enumerations, surrounded=True)
    called, states = None, dict[str, str]()
    if (reader.refused or not (reader.sequences or reader.cases)) and (found := write_in(reader.tokens)) is not None:
        told = [*told, *found.notes]
        called, states = (None if reader.refused else reader), found.states
        reader = _read_words(found.tokens, enumerations, found.states)
    if reader.refused is not None:
        raise reader.refused
    reader.told += [(n.line, n.text) for n in told]
    if not reader.sequences and not reader.cases:
        raise FormatError("there is no sequence in this text",
                          advice="a chart has an INITIAL_STEP; a state program chooses by a whole number that it assigns")  # fmt: skip
    if not reader.cases:
        return Read(None, reader, pragma, None)
    known = all(p.found.first for p in reader.cases)
    written, at_once = reader.as_written(), None if known else reader.as_written(at_once=True)
    if called is not None:
        written = called.as_called(written, known)
        at_once = at_once and called.as_called(at_once, at_once=True)
    return Read(None, reader, pragma, written, at_once, text, called=states if called is not None else {})


def _plain_code(reader: Reader, text: str, told: list[Note]) -> Read | None:
    """A text that is plain code without its pragma; None for another one."""
    from spokeshave.formats.code.found import steps_told
    from spokeshave.formats.iec_generated import found_in_code

    if (project := found_in_code(reader)) is None:
        return None
    reader.notes = [*told, *steps_told(project, text)]
    return Read(project, reader, None, None, text=text, shown="written out again it is this text, word by word")


def places_in_text(text: str, choices: Choices | None = None) -> Origins:
    """Where the items and texts of the machine file of an IEC text stand in it; nothing for one that cannot be read."""
    try:
        pragma = take_pragma(text)[1]
        if pragma is not None and "code" in pragma:
            return Origins()
        read = parse_states(text)
        read.project(choices)
        return read.reader.origins
    except FormatError:
        return Origins()


def _read(text: str, words_alone: bool, enumerations: Enumerations, surrounded: bool = False) -> Reader:
    """A reader that has read all of a text, or its words alone (see `Reader.surrounded`). Raises `FormatError`."""
    reader = Reader(text, tokens_of(text), enumerations=enumerations, surrounded=surrounded)
    if not words_alone:
        with located(text, reader.tokens):
            reader.file()
    return reader


def _read_words(tokens: Tokens, enumerations: Enumerations, named: Iterable[str]) -> Reader:
    """A reader that has read words that were put together. Raises `FormatError`."""
    reader = Reader(tokens.text, tokens, enumerations=enumerations, surrounded=True, named=frozenset(named))
    with located(tokens.text, tokens):
        reader.file()
    return reader
