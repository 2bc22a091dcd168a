"""What was edited and not saved, kept beside the machine files until it is: for the next start after a program died."""

from __future__ import annotations

import fcntl
import json
import os
import re
import time
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

from spokeshave.formats.disk import Stamp, write_text_atomically
from spokeshave.formats.errors import FormatError
from spokeshave.formats.spoke import dumps, loads
from spokeshave.model.project import Project


@dataclass(frozen=True, slots=True)
class Draft:
    """A text that was typed and not taken over: of what (`opening`, `scenario Name`, `code Sequence/Choice`), the text it
    began from, and the text now.
    """

    place: str
    base: str
    text: str


@dataclass(frozen=True, slots=True)
class Kept:
    """A machine file as it was edited last; `origin` is the file it was opened from, empty if it had none."""

    at: Path
    project: Project
    origin: str
    written: float
    """Seconds since 1970."""
    drafts: tuple[Draft, ...] = ()
    stamp: Stamp | None = None
    """What `origin` was when the edits began."""


class Recovery:
    """The kept edits of one running program, in a folder that all of them share."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._mine: Path | None = None
        self._lock = -1

    def keep(
        self, project: Project, origin: Path | None, drafts: Sequence[Draft] = (), stamp: Stamp | None = None
    ) -> None:
        """Writes the present state in the place of the one kept before. Raises `FormatError`."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise FormatError(f"edits cannot be kept in {self.folder}: {error.strerror or error}") from None
        if self._mine is None:
            stem = re.sub(r"[^A-Za-z0-9]+", "-", project.name[:40]).strip("-") or "machine"
            self._mine = self.folder / f"{stem}.{os.getpid()}.{time.time_ns()}.kept"
            # The lock tells others that this program runs; it goes with the program, however that ends.
            self._lock = os.open(_lock_of(self._mine), os.O_RDWR | os.O_CREAT, 0o600)
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        head: dict[str, object] = {"drafts": [asdict(d) for d in drafts]}
        head |= {"origin": str(origin.absolute()) if origin else "", "written": time.time()}
        head |= {"stamp": asdict(stamp) if stamp is not None else None}
        write_text_atomically(f"{json.dumps(head)}\n{dumps(project)}", self._mine)

    def forget(self) -> None:
        """Takes away what this program has kept: it was saved, or given up on purpose."""
        if self._mine is not None:
            self._mine.unlink(missing_ok=True)
            _lock_of(self._mine).unlink(missing_ok=True)
            os.close(self._lock)
            self._mine, self._lock = None, -1

    def left_over(self) -> list[Kept]:
        """What programs that no longer run have kept, the newest first. Files that cannot be read stay where they are."""
        found = []
        for path in self.folder.glob("*.kept") if self.folder.is_dir() else ():
            if path == self._mine:
                continue
            try:
                head, _, body = path.read_text(encoding="utf-8").partition("\n")
                data = json.loads(head)
                if not is_running(path):
                    drafts = tuple(Draft(**d) for d in data.get("drafts", ()))
                    stamp = Stamp(**data["stamp"]) if data.get("stamp") else None
                    found.append(Kept(path, loads(body), str(data["origin"]), float(data["written"]), drafts, stamp))
            except (OSError, ValueError, KeyError, TypeError, FormatError):
                continue
        return sorted(found, key=lambda k: -k.written)


def discard(kept: Path) -> None:
    """Takes away what a program that no longer runs has kept."""
    kept.unlink(missing_ok=True)
    _lock_of(kept).unlink(missing_ok=True)


def _lock_of(kept: Path) -> Path:
    return kept.with_suffix(".lock")


def is_running(kept: Path) -> bool:
    """Whether the program that keeps this still runs: then it holds its lock. A number of a process would tell nothing,
    since numbers come again.
    """
    try:
        handle = os.open(_lock_of(kept), os.O_RDWR)
    except OSError:
        return False
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return True
    finally:
        os.close(handle)
    return False
