"""What was edited and not saved, kept beside the machine files until it is: for the next start after a program died."""

from __future__ import annotations

import json
import os
import re
import time
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

from spokeshave.formats.errors import FormatError
from spokeshave.formats.spoke import dumps, loads, write_text_atomically
from spokeshave.model.project import Project


@dataclass(frozen=True, slots=True)
class Draft:
    """A text of a sequence's code that was typed and not applied; `choice` is what the code face showed."""

    sequence: str
    choice: str
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


class Recovery:
    """The kept edits of one running program, in a folder that all of them share."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._mine: Path | None = None

    def keep(self, project: Project, origin: Path | None, drafts: Sequence[Draft] = ()) -> None:
        """Writes the present state in the place of the one kept before. Raises `FormatError`."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise FormatError(f"edits cannot be kept in {self.folder}: {error.strerror or error}") from None
        if self._mine is None:
            stem = re.sub(r"[^A-Za-z0-9]+", "-", project.name).strip("-") or "machine"
            self._mine = self.folder / f"{stem}.{os.getpid()}.{time.time_ns()}.kept"
        head: dict[str, object] = {"drafts": [asdict(d) for d in drafts]}
        head |= {"origin": str(origin.resolve()) if origin else "", "written": time.time(), "pid": os.getpid()}
        write_text_atomically(f"{json.dumps(head)}\n{dumps(project)}", self._mine)

    def forget(self) -> None:
        """Takes away what this program has kept: it was saved, or given up on purpose."""
        if self._mine is not None:
            self._mine.unlink(missing_ok=True)
            self._mine = None

    def left_over(self) -> list[Kept]:
        """What programs that no longer run have kept, the newest first. Files that cannot be read stay where they are."""
        found = []
        for path in self.folder.glob("*.kept") if self.folder.is_dir() else ():
            if path == self._mine:
                continue
            try:
                head, _, body = path.read_text(encoding="utf-8").partition("\n")
                data = json.loads(head)
                if not _runs(int(data["pid"])):
                    drafts = tuple(Draft(**d) for d in data.get("drafts", ()))
                    found.append(Kept(path, loads(body), str(data["origin"]), float(data["written"]), drafts))
            except (OSError, ValueError, KeyError, TypeError, FormatError):
                continue
        return sorted(found, key=lambda k: -k.written)


def _runs(pid: int) -> bool:
    """Whether a program with this number runs; the own one counts as another run of it."""
    if pid == os.getpid():
        return False
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True
