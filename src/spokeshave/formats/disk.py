"""What a file on the disk was when it was read or written, so that nobody's change is written over without a word."""

from __future__ import annotations

import hashlib
import os
import stat
import tempfile
from dataclasses import dataclass
from pathlib import Path

from spokeshave.formats.errors import FormatError
from spokeshave.model.diagnostics import quoted


@dataclass(frozen=True, slots=True)
class Stamp:
    """Time of the last change in ns, size in bytes, and a digest of what is in the file."""

    mtime_ns: int
    size: int
    digest: str

    def holds(self, path: Path) -> bool:
        """Whether the file still has this content; time and size tell at once where nothing happened."""
        try:
            found = path.stat()
        except OSError:
            return False
        if (found.st_mtime_ns, found.st_size) == (self.mtime_ns, self.size):
            return True
        now = stamp_of(path)
        return now is not None and now.digest == self.digest


class ChangedOnDisk(FormatError):
    """The file has another content than when it was read: somebody else has written it."""


def stamp_of(path: Path) -> Stamp | None:
    """The stamp of a file; None if it is not there or cannot be read."""
    try:
        data, found = path.read_bytes(), path.stat()
    except OSError:
        return None
    return Stamp(found.st_mtime_ns, len(data), hashlib.sha256(data).hexdigest())


def beside(path: Path) -> Path:
    """A free name beside a file: `roaster-mine.spoke`, then `roaster-mine-2.spoke`."""
    n, found = 1, path.with_name(f"{path.stem}-mine{path.suffix}")
    while found.exists():
        n += 1
        found = path.with_name(f"{path.stem}-mine-{n}{path.suffix}")
    return found


LARGEST_TEXT = 20_000_000
"""Bytes of a text or a table that is read."""


def bytes_of(path: Path, largest: int = LARGEST_TEXT) -> bytes:
    """All of a file, looked at before it is opened: what is no file is not waited for, what is too large not read.

    Raises `FormatError`, and `OSError`.
    """
    found = path.stat()
    if stat.S_ISDIR(found.st_mode):
        raise FormatError("this is a folder, not a file")
    if not stat.S_ISREG(found.st_mode):
        raise FormatError(
            "this is a device or a pipe, not a file", advice="write what comes out of it into a file first"
        )
    if found.st_size > largest:
        raise FormatError(f"the file has {found.st_size:,} bytes; at most {largest:,} are read")
    return path.read_bytes()


def text_of_file(path: Path, largest: int = LARGEST_TEXT) -> str:
    """As `bytes_of`, in UTF-8, with or without its mark. Raises `UnicodeDecodeError` too."""
    return bytes_of(path, largest).decode("utf-8-sig")


def write_text_atomically(text: str, path: Path) -> None:
    """As `write_bytes_atomically`, in UTF-8. Raises `FormatError`."""
    try:
        data = text.encode()
    except UnicodeEncodeError as error:
        near = quoted(text[max(0, error.start - 20) : error.start])
        failure = FormatError(f"could not be written: behind {near!r} stands half a character", advice="type it anew")
        failure.file = str(path)
        raise failure from None
    write_bytes_atomically(data, path)


def write_bytes_atomically(data: bytes, path: Path) -> None:
    """Temporary file in the same folder, synced, then renamed over the old one, and the folder synced too. A link is
    written through, a mode is kept, what is read-only stays. Raises `FormatError`.
    """
    failed = path
    try:
        path = path.resolve() if path.is_symlink() else path
        if path.exists() and not path.is_file():
            raise PermissionError(0, "it is a device, a pipe or a folder")
        mode = path.stat().st_mode & 0o777 if path.exists() else 0o666 & ~_umask()
        if not mode & 0o222:
            raise PermissionError(0, "it is read-only")
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name[:40]}.", dir=path.parent)
        try:
            with os.fdopen(handle, "wb") as out:
                out.write(data)
                out.flush()
                os.fsync(out.fileno())
            os.chmod(temporary, mode)
            os.replace(temporary, path)
            _sync(path.parent)
        except BaseException:
            os.unlink(temporary)
            raise
    except OSError as error:
        failure = FormatError(f"could not be written: {error.strerror or error}")
        failure.file = str(failed)
        raise failure from None


def _umask() -> int:
    """What new files of this process may not have."""
    mask = os.umask(0)
    os.umask(mask)
    return mask


def _sync(folder: Path) -> None:
    """Makes a rename in a folder last."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
