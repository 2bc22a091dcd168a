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


def _write_spoke(project: Project, path: Path) -> None:
    from spokeshave.formats import spoke

    spoke.write(project, path)


def _write_iec(project: Project, path: Path) -> None:
    from spokeshave.formats.iec_write import write_iec

    write_text_atomically(write_iec(project), path)


def _read_table(path: Path) -> Project:
    from spokeshave.formats.tables.book import read_tables

    found = read_tables(path)
    if found.questions:
        raise FormatError(f"{path}: {found.questions[0]}", advice=ASKS)
    return found.project


def _read_xml(path: Path) -> Project:
    from spokeshave.formats.plcopen.reading import read_xml

    return read_xml(path)


def _write_xml(project: Project, path: Path) -> None:
    from spokeshave.formats.plcopen.writing import write_xml

    write_text_atomically(write_xml(project), path)


ASKS = "convert the table with --take to take it so, or open it in the desktop, which asks"

# Each format is loaded when a file of it comes.
READERS: dict[str, Callable[[Path], Project]] = {".spoke": _read_spoke, ".st": _read_iec, ".xml": _read_xml}
TABLES = (".csv", ".xlsx", ".xlsm", ".ods", ".xls", ".tsv")
"""Suffixes of tables; the first two are written too."""
WRITERS: dict[str, Callable[[Project, Path], None]] = {".spoke": _write_spoke, ".st": _write_iec, ".xml": _write_xml}


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
    writer(project, path)


def _unknown(path: Path, known: dict[str, object] | dict[str, Callable[[Path], Project]]
             | dict[str, Callable[[Project, Path], None]]) -> FormatError:  # fmt: skip
    error = FormatError(
        f"the suffix {path.suffix or '(none)'} is not known", advice=f"use {', '.join(known)}, .xlsx or .csv"
    )
    error.file = str(path)
    return error
