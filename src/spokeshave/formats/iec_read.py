"""IEC 61131-3 text into a machine file: programs with charts become sequences, their variables signals."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Any

from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_places import Origins
from spokeshave.formats.iec_reader import Reader
from spokeshave.formats.iec_variables import VARIABLES, Enumerations, without_enumerations
from spokeshave.formats.pragma import merge_pragma, take_pragma
from spokeshave.formats.states.called import write_in
from spokeshave.formats.states.choices import Choices, Note
from spokeshave.formats.states.foreign import made_fit
from spokeshave.formats.states.moved import Moved
from spokeshave.formats.states.overrides import as_trips
from spokeshave.language import syntax as sx
from spokeshave.language.parse import expected, out_of_place
from spokeshave.language.parser import DoesNotFit
from spokeshave.language.tokens import END, NAME, Tokens, UnknownCharacter
from spokeshave.model.diagnostics import quoted
from spokeshave.model.project import Project

START = "start_program"
LARGEST_TO_EXPLAIN = 200_000
"""Characters of a file that is read again by the grammar to say what could have stood somewhere."""


def _read_code(text: str, reader: Reader, pragma: dict[str, Any]) -> Project:
    """Generated code: the machine file of its pragma, with the texts as they stand in the code."""
    from spokeshave.formats.code.finals import unprotected
    from spokeshave.formats.code.read import read_code
    from spokeshave.formats.code.units import program_text
    from spokeshave.formats.code.write import STYLES, generate
    from spokeshave.formats.iec_declared import with_declarations
    from spokeshave.formats.iec_write import code_head
    from spokeshave.formats.spoke import from_data

    style = pragma.get("code")
    if style not in STYLES:
        raise FormatError(f"the pragma speaks of code of the style {style}", advice=f"there are {' and '.join(STYLES)}")
    project = from_data(
        {k: v for k, v in pragma.items() if k not in ("version", "code", "unprotected", "measured", "blocks")}
    )
    if odd := _hangs_loose(project):
        raise FormatError(f"the pragma is damaged: {odd}", advice="write the code out again")
    blocks = [b.lower() for b in pragma.get("blocks", ()) if isinstance(b, str)]
    programs = reader.tokens.kinds.count("PROGRAM")
    if programs != 1:
        raise FormatError(f"generated code is one PROGRAM, here are {programs}")
    protect, measured = not pragma.get("unprotected"), bool(pragma.get("measured"))
    if blocks:
        reader = _joined(reader, blocks)
    kinds = reader.tokens.kinds
    begins = _read_head(reader)
    project = replace(project, routines=tuple(reader.routines.values()))
    try:
        made = generate(project if protect else unprotected(project), str(style), measured, bool(blocks))
    except (AssertionError, LookupError, StopIteration, sx.TextError):  # what could never run was never written as code
        raise FormatError(
            "the pragma is damaged: its machine file cannot run", advice="write the code out again"
        ) from None
    head = f"{code_head(project, made, str(style), protect)}{program_text(made) if blocks else ''}END_PROGRAM\n"
    head, enumerations = without_enumerations(head)
    written = Reader(head, _tokens(head), enumerations=enumerations)
    if blocks:
        written = _joined(written, blocks)
    _read_head(written)
    project = with_declarations(project, written, reader)
    if "END_PROGRAM" not in kinds:
        raise DoesNotFit(len(kinds) - 1, "END_PROGRAM")
    end = kinds.index("END_PROGRAM")
    if kinds[end + 1] != END:
        raise DoesNotFit(end + 1, "the end")
    start = reader.tokens.ends[begins - 1]
    try:
        return read_code(reader.text, start, reader.tokens.starts[end], project, str(style), protect, measured)[0]
    except FormatError as error:
        raise _as_it_stands(error, reader.tokens) from None


def _joined(reader: Reader, blocks: list[str]) -> Reader:
    """A reader of the same text with the blocks of its sequences in their places in the program, as the statements are generated."""
    with _located(reader.text, reader.tokens):  # what is wrong in them is told before they move
        Reader(reader.text, reader.tokens, enumerations=reader.enumerations).file()
    found = write_in(reader.tokens, blocks)
    if found is None:
        raise FormatError(f"the block {blocks[0]} of a sequence is missing", advice="write the code out again")
    return Reader(found.tokens.text, found.tokens, enumerations=reader.enumerations)


def _written_by_us(reader: Reader) -> Project | None:
    """The charts of plain code that has lost its pragma; None for another text, and where other ways of reading do as well."""
    from spokeshave.formats.code.found import OURS, charts_of

    if reader.sequences or reader.cases or reader.refused or not OURS.search(reader.text):
        return None
    tokens = reader.tokens
    if tokens.kinds.count("PROGRAM") != 1:
        return None
    try:
        if "FUNCTION_BLOCK" in tokens.kinds and (found := write_in(tokens)) is not None:
            tokens = found.tokens
        one = Reader(tokens.text, tokens, enumerations=reader.enumerations)
        begins = _read_head(one)
    except (FormatError, DoesNotFit, sx.TextError):
        return None
    start, end = tokens.ends[begins - 1], tokens.starts[tokens.kinds.index("END_PROGRAM")]
    base = Project("Text", one.period_ms, tables=tuple(one.tables.values()), routines=tuple(one.routines.values()))
    return charts_of(tokens.text, start, end, base, one.signals, one.instances)


def _as_it_stands(error: FormatError, tokens: Tokens) -> FormatError:
    """A fault in a text that was put together, with its place in the text as it stands."""
    if not isinstance(tokens, Moved) or not error.line:
        return error
    line, column = tokens.place_of(error.line, error.column or 1)
    return FormatError(error.message, line=line, column=column, advice=error.advice)


def _hangs_loose(project: Project) -> str:
    """What of a machine file speaks of something that is not there, in a few words; empty for nothing."""
    narrow = next((t.name for t in project.tables if any(len(row) != len(t.columns) for row in t.rows)), "")
    if narrow:
        return f"a row of {quoted(narrow)} has another width than its columns"
    signals = {s.name.lower() for s in project.signals}
    for q in project.sequences:
        steps = {s.name for s in q.steps}
        ends = [q.initial, *(n for t in q.transitions for n in (*t.sources, *t.targets))]
        if lost := next((n for n in ends if n not in steps), ""):
            return f"{q.name} has no step {quoted(lost)}"
        known = signals | {b.name.lower() for b in q.bodies}
        if lost := next((a.target for s in q.steps for a in s.actions if a.target.lower() not in known), ""):
            return f"there is no signal or body {quoted(lost)}"
    there = {f"{q.name}.{s.name}".lower() for q in project.sequences for s in q.steps}
    lost = next((n for t in project.trips for n in t.go_to if n.lower() not in there), "")
    return f"there is no step {quoted(lost)}" if lost else ""


def _read_head(reader: Reader) -> int:
    """Reads what stands above the statements of generated code; gives the word there."""
    while reader.next in (*VARIABLES, "TYPE", "FUNCTION", "FUNCTION_BLOCK"):
        if reader.next == "TYPE":
            reader.type_block()
        elif reader.next in VARIABLES:
            reader.var_block()
        else:
            reader.routine()
    reader.parser.take("PROGRAM")
    reader.parser.take(NAME, "a name")
    while reader.next in VARIABLES:
        reader.var_block()
    return reader.parser.at


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
            with _located(plain, reader.tokens):
                return Read(_read_code(plain, reader, pragma), reader, None, None)
        except FormatError as error:  # a fault of syntax is told as one
            problem = expected(plain, START, LARGEST_TO_EXPLAIN)
            raise (error if problem is None else _format_error(problem)) from None
    if pragma is None and (project := _written_by_us(reader)) is not None:
        from spokeshave.formats.code.found import steps_told

        reader.notes = [*told, *steps_told(project, plain)]
        return Read(project, reader, None, None, text=text, shown="written out again it is this text, word by word")
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


@contextmanager
def parsing(text: str) -> Iterator[Tokens]:
    """The words of an IEC text, to be read by hand. Faults are raised as `FormatError` with line and column."""
    tokens = _tokens(text)
    with _located(text, tokens):
        yield tokens


def _tokens(text: str) -> Tokens:
    try:
        return Tokens(text, program=True)
    except sx.TextError as error:
        raise _format_error(error.problems[0]) from None
    except UnknownCharacter as error:
        raise _format_error(out_of_place(text, START, error.at, largest=LARGEST_TO_EXPLAIN)) from None


def _read(text: str, words_alone: bool, enumerations: Enumerations, surrounded: bool = False) -> Reader:
    """A reader that has read all of a text, or its words alone (see `Reader.surrounded`). Raises `FormatError`."""
    reader = Reader(text, _tokens(text), enumerations=enumerations, surrounded=surrounded)
    if not words_alone:
        with _located(text, reader.tokens):
            reader.file()
    return reader


def _read_words(tokens: Tokens, enumerations: Enumerations, named: Iterable[str]) -> Reader:
    """A reader that has read words that were put together. Raises `FormatError`."""
    reader = Reader(tokens.text, tokens, enumerations=enumerations, surrounded=True, named=frozenset(named))
    with _located(tokens.text, tokens):
        reader.file()
    return reader


@contextmanager
def _located(text: str, tokens: Tokens) -> Iterator[None]:
    """Faults of syntax as `FormatError` with line and column."""
    try:
        yield
    except sx.TextError as error:
        raise _format_error(error.problems[0]) from None
    except DoesNotFit as error:
        at = tokens.starts[error.at]
        raise _format_error(out_of_place(text, START, at, error.wanted, LARGEST_TO_EXPLAIN)) from None


def _format_error(p: sx.Problem) -> FormatError:
    return FormatError(p.message, line=p.line, column=p.column, advice=p.advice)
