"""Generated code read back: with its pragma the machine file it was made from, without it the charts that are found in it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from spokeshave.formats.code.finals import unprotected
from spokeshave.formats.code.found import charts_of
from spokeshave.formats.code.loose import hangs_loose
from spokeshave.formats.code.read import read_code
from spokeshave.formats.code.units import program_text
from spokeshave.formats.code.write import STYLES, generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.iec_declared import with_declarations
from spokeshave.formats.iec_reader import Reader
from spokeshave.formats.iec_variables import VARIABLES, without_enumerations
from spokeshave.formats.iec_words import located, tokens_of
from spokeshave.formats.iec_write import code_head
from spokeshave.formats.spoke import from_data
from spokeshave.formats.states.called import write_in
from spokeshave.formats.states.moved import Moved
from spokeshave.language import syntax as sx
from spokeshave.language.parser import DoesNotFit
from spokeshave.language.tokens import END, NAME, Tokens
from spokeshave.model.project import Project


def read_generated(text: str, reader: Reader, pragma: dict[str, Any]) -> Project:
    """Generated code: the machine file of its pragma, with the texts as they stand in the code. Raises `FormatError` with line and
    column for what does not come back.
    """
    style = pragma.get("code")
    if style not in STYLES:
        raise FormatError(f"the pragma speaks of code of the style {style}", advice=f"there are {' and '.join(STYLES)}")
    project = from_data(
        {k: v for k, v in pragma.items() if k not in ("version", "code", "unprotected", "measured", "blocks")}
    )
    if odd := hangs_loose(project):
        raise FormatError(f"the pragma is damaged: {odd}", advice="write the code out again")
    said = pragma.get("blocks", ())
    blocks = [b for b in said if isinstance(b, str)] if isinstance(said, list) else []
    programs = reader.tokens.kinds.count("PROGRAM")
    if programs != 1:
        raise FormatError(f"generated code is one PROGRAM, here are {programs}")
    protect, measured = not pragma.get("unprotected"), bool(pragma.get("measured"))
    if blocks:
        with located(text, reader.tokens):  # what is wrong in them is told before they move
            Reader(text, reader.tokens, enumerations=reader.enumerations).file()
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
    written = Reader(head, tokens_of(head), enumerations=enumerations)
    if blocks:
        written = _joined(written, blocks)
    _read_head(written)
    known = {x.name.lower() for listed in (project.signals, project.instances) for x in listed}
    project = with_declarations(project, written, reader, helpers=style == "plain")
    declared = {x.name.lower() for listed in (project.signals, project.instances) for x in listed} - known
    if "END_PROGRAM" not in kinds:
        raise DoesNotFit(len(kinds) - 1, "END_PROGRAM")
    end = kinds.index("END_PROGRAM")
    if kinds[end + 1] != END:
        raise DoesNotFit(end + 1, "the end")
    start = reader.tokens.ends[begins - 1]
    try:
        return read_code(
            reader.text, start, reader.tokens.starts[end], project, str(style), protect, measured, frozenset(declared)
        )[0]
    except FormatError as error:
        raise _as_it_stands(error, reader.tokens) from None


def _joined(reader: Reader, blocks: list[str]) -> Reader:
    """A reader of the same text with the blocks of its sequences in their places in the program, as the statements are generated."""
    found = write_in(reader.tokens, [b.lower() for b in blocks])
    if found is None:
        raise FormatError(f"the block {blocks[0]} of a sequence is missing", advice="write the code out again")
    return Reader(found.tokens.text, found.tokens, enumerations=reader.enumerations)


def found_in_code(reader: Reader) -> Project | None:
    """The charts of plain code that has lost its pragma; None for another text, and where other ways of reading do as well."""
    if reader.sequences or reader.cases or reader.refused:
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
