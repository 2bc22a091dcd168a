"""The files that were opened or saved last, for the start page and the File menu. They are kept beside the window's sizes."""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, QSettings, Signal

MOST = 12


@dataclass(frozen=True, slots=True)
class RecentFile:
    """A file by its absolute path, and when it was opened or saved last, in seconds since 1970."""

    path: Path
    when: float

    @property
    def folder(self) -> str:
        """Where it is, with `~` for the home folder."""
        folder = self.path.parent
        return f"~/{folder.relative_to(Path.home())}" if folder.is_relative_to(Path.home()) else str(folder)


class RecentFiles(QObject):
    """Without `settings` they are forgotten with the window. Two windows, or two programs, add to one list."""

    changed = Signal()

    def __init__(self, settings: QSettings | None) -> None:
        super().__init__()
        self._settings = settings
        self._known: list[RecentFile] = []

    @property
    def files(self) -> list[RecentFile]:
        """The last one first. What is no path or no time is passed over: the list is a file that anybody can write."""
        if self._settings is None:
            return self._known
        self._settings.sync()
        found = []
        count = self._settings.beginReadArray("recent")
        for i in range(min(count, MOST)):
            self._settings.setArrayIndex(i)
            path, when = self._settings.value("path"), self._settings.value("when")
            try:
                found.append(RecentFile(Path(str(path)), float(str(when))))
            except ValueError:
                continue
        self._settings.endArray()
        return found

    def add(self, path: Path) -> None:
        """A file was opened or saved just now."""
        path = path.absolute()
        self._keep([RecentFile(path, time.time()), *(f for f in self.files if f.path != path)])

    def remove(self, path: Path) -> None:
        """Takes a file off the list; the file itself stays."""
        self._keep([f for f in self.files if f.path != path])

    def _keep(self, files: list[RecentFile]) -> None:
        self._known = files[:MOST]
        if self._settings is not None:
            self._settings.remove("recent")
            self._settings.beginWriteArray("recent", len(self._known))
            for i, f in enumerate(self._known):
                self._settings.setArrayIndex(i)
                self._settings.setValue("path", str(f.path))
                self._settings.setValue("when", f.when)
            self._settings.endArray()
            self._settings.sync()
        self.changed.emit()
