"""Which reader and writer a file's suffix stands for."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from spokeshave.formats.disk import text_of_file, write_text_atomically
from spokeshave.formats.errors import FormatError, reading
from spokeshave.model.project import Project


def text_of(path: Path) -> str:
    """The text of an IEC file. Raises `FormatError` for one that is not UTF-8 or cannot be read."""
    with reading(path):
        return text_of_file(path).replace("\r\n", "\n")


def _read_iec(path: Path) -> Project:
    from spokeshave.formats.iec_read import parse_iec

    with reading(path):
        return parse_iec(text_of(path))


def _read_spoke(path: Path) -> Project:
    from spokeshave.formats import spoke

    return spoke.read(path)


def _spoke_text(project: Project) -> str:
    from spokeshave.formats import spoke

    return spoke.dumps(project)


def _iec_text(project: Project) -> str:
    from spokeshave.formats.iec_write import write_iec

    return write_iec(project)


def _read_table(path: Path) -> Project:
    from spokeshave.formats.tables.book import read_tables

    found = read_tables(path)
    if found.questions:
        raise FormatError(f"{path}: {found.questions[0]}", advice=ASKS)
    return found.project


def _read_xml(path: Path) -> Project:
    from spokeshave.formats.plcopen.reading import read_xml

    return read_xml(path)


def _xml_text(project: Project) -> str:
    from spokeshave.formats.plcopen.writing import write_xml

    return write_xml(project)


ASKS = "convert the table with --take to take it so, or open it in the desktop, which asks"

# Each format is loaded when a file of it comes.
READERS: dict[str, Callable[[Path], Project]] = {".spoke": _read_spoke, ".st": _read_iec, ".xml": _read_xml}
TABLES = (".csv", ".xlsx", ".xlsm", ".ods", ".xls", ".tsv")
"""Suffixes of tables; the first two are written too."""
WRITERS: dict[str, Callable[[Project], str]] = {".spoke": _spoke_text, ".st": _iec_text, ".xml": _xml_text}


def read_project(path: Path) -> Project:
    """The machine file at `path`, in whatever readable format its suffix tells. Raises `FormatError`."""
    reader = _read_table if path.suffix.lower() in TABLES else READERS.get(path.suffix.lower())
    if reader is None:
        raise _unknown(path, READERS)
    return reader(path)


def write_project(project: Project, path: Path) -> None:
    """Writes `project` in the format of the suffix, atomically. Raises `FormatError`."""
    if path.suffix.lower() in TABLES[:2]:
        from spokeshave.formats.tables.write import write_tables

        write_tables(project, path)
        return
    writer = WRITERS.get(path.suffix.lower())
    if writer is None:
        raise _unknown(path, WRITERS)
    write_text_atomically(writer(project), path)


def _unknown(path: Path, known: dict[str, object] | dict[str, Callable[[Path], Project]]
             | dict[str, Callable[[Project], str]]) -> FormatError:  # fmt: skip
    error = FormatError(
        f"the suffix {path.suffix or '(none)'} is not known", advice=f"use {', '.join(known)}, .xlsx or .csv"
    )
    error.file = str(path)
    return error
