"""Which reader and writer a file's suffix stands for."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from spokeshave.formats import spoke
from spokeshave.formats.errors import FormatError, reading
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_iec
from spokeshave.model.project import Project


def _read_iec(path: Path) -> Project:
    with reading(path):
        return parse_iec(path.read_bytes().decode("utf-8-sig").replace("\r\n", "\n"))


READERS: dict[str, Callable[[Path], Project]] = {".spoke": spoke.read, ".st": _read_iec}
WRITERS: dict[str, Callable[[Project], str]] = {".spoke": spoke.dumps, ".st": write_iec}


def read_project(path: Path) -> Project:
    """The machine file at `path`, in whatever readable format its suffix tells. Raises `FormatError`."""
    reader = READERS.get(path.suffix.lower())
    if reader is None:
        raise _unknown(path, READERS)
    return reader(path)


def write_project(project: Project, path: Path) -> None:
    """Writes `project` in the format of the suffix, atomically. Raises `FormatError`."""
    writer = WRITERS.get(path.suffix.lower())
    if writer is None:
        raise _unknown(path, WRITERS)
    spoke.write_text_atomically(writer(project), path)


def _unknown(path: Path, known: dict[str, object] | dict[str, Callable[[Path], Project]]
             | dict[str, Callable[[Project], str]]) -> FormatError:  # fmt: skip
    error = FormatError(f"the suffix {path.suffix or '(none)'} is not known", advice=f"use {' or '.join(known)}")
    error.file = str(path)
    return error
