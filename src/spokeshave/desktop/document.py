"""The document on the screen: its history, its file, its findings and the last results. Widgets ask it for edits."""

from __future__ import annotations

import datetime
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from spokeshave.desktop.drafts import Drafts
from spokeshave.desktop.measured_room import MeasuredRoom, holds
from spokeshave.desktop.process_work import Elsewhere
from spokeshave.formats import spoke
from spokeshave.formats.beside import read_beside
from spokeshave.formats.disk import ChangedOnDisk, Stamp, stamp_of
from spokeshave.formats.files import write_project
from spokeshave.formats.recovery import Draft
from spokeshave.formats.tables.grid import Sheet
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.edits import EditError
from spokeshave.model.history import History
from spokeshave.model.project import Project
from spokeshave.reading import Reading, read_file
from spokeshave.verify.check import look_over
from spokeshave.verify.check.waivers import Sorted
from spokeshave.verify.coverage import Shown, coverage
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.ledger import Ledger
from spokeshave.verify.room.work import RoomReport
from spokeshave.verify.scenarios import Result

CHECK_AFTER_MS = 120
OWN = ".spoke"
AT_ONCE = 250
"""Steps, transitions, signals, devices and scenarios of a machine file whose check nobody feels."""


def _parts_of(project: Project) -> int:
    own = len(project.signals) + len(project.devices) + len(project.scenarios)
    return own + sum(len(q.steps) + len(q.transitions) for q in project.sequences)


InProcess = Callable[..., None]
"""in_process(title, then, work, *arguments)"""


def _at_once(title: str, then: Callable[[Any], None], work: Callable[..., Any], *arguments: Any) -> None:
    then(work(*arguments))


class Document(QObject):
    """Holds the present machine file. `changed` comes after every edit, undo, redo and opening."""

    changed = Signal()
    edited = Signal()
    """An edit has succeeded."""
    checked = Signal()
    refused = Signal(str)
    noted = Signal(str)
    """What is to be known of an edit that was taken over."""
    proven = Signal()
    measured = Signal()
    """Room was measured."""
    was_read = Signal()
    """A file was opened: `reading` tells how a program written by hand was read."""

    def __init__(self, project: Project, path: Path | None = None) -> None:
        super().__init__()
        self.history = History.of(project)
        self.path = path
        self.saved: Project | None = project if path else None
        self.stamp: Stamp | None = stamp_of(path) if path else None
        """What the file was when it was read or written last."""
        self.in_process: InProcess = _at_once
        """Has work done that takes longer than a moment, and hands on what comes of it; the window has it done elsewhere."""
        self.show_table: Callable[[Sheet], object] = lambda sheet: None
        """Shows a table from the clipboard, to be taken in as a sequence."""
        self.reading: Reading | None = None
        """How the machine file came out of a program written by hand, which is the file `origin`."""
        self.origin: Path | None = None
        self.drafts = Drafts()
        self.findings: list[Diagnostic] = []
        self.waived: list[tuple[Diagnostic, str]] = []
        """Findings that may stand, with the reasons."""
        self.ledger = Ledger()
        """The verdicts: which hold, and which held before what change."""
        self._kept: list[dict[str, Any]] = []
        """The verdicts as they stand beside the file."""
        self._room: MeasuredRoom | None = None
        self._room_holds: tuple[Project, bool] | None = None
        """Whether it is that of the machine file that was asked about last."""
        self._coverage: tuple[object, list[Shown]] | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(CHECK_AFTER_MS)
        self._timer.timeout.connect(self.check)
        self._elsewhere = Elsewhere(self)
        self._take_kept()
        self.check()

    @property
    def project(self) -> Project:
        return self.history.project

    @property
    def room(self) -> MeasuredRoom | None:
        """The room that was measured last, if it is that of the present machine file."""
        project = self.project  # asked for by each cell and card that is painted
        if self._room_holds is None or self._room_holds[0] is not project:
            self._room_holds = project, holds(self._room, project)
        return self._room if self._room_holds[1] else None

    def take_room(self, report: RoomReport) -> None:
        """Room that was measured: shown where its windows and devices are."""
        self._room, self._room_holds = MeasuredRoom(report), None
        self.measured.emit()

    @property
    def results(self) -> dict[str, Result]:
        """The results that hold, with their runs."""
        return self.ledger.results

    @property
    def has_passed(self) -> bool:
        """Whether any scenario has passed with a verdict that holds."""
        return any(r.outcome is Outcome.PASS for r in self.results.values())

    @property
    def dirty(self) -> bool:
        """Whether anything is not saved: edits, or what is typed and not taken over."""
        return self.saved is not self.project or bool(self.drafts)

    def edit(self, name: str, change: Callable[[Project], Project]) -> bool:
        """Applies a named edit; an illegal one is refused with its reason and changes nothing."""
        try:
            self._set(self.history.do(name, change(self.project)))
        except EditError as error:
            self.refused.emit(str(error))
            return False
        self.edited.emit()
        return True

    def undo(self) -> None:
        self._set(self.history.undo())

    def redo(self) -> None:
        self._set(self.history.redo())

    def _set(self, history: History) -> None:
        if history is self.history:
            return
        self.history = history
        self.ledger.follow(self.project)
        self._timer.start()
        self.changed.emit()

    def coverage(self) -> list[Shown]:
        """What shows each requirement, worked out anew when anything it depends on has changed."""
        standing = self.ledger.standing
        basis = (self.project, tuple(self.results.values()), tuple(self.findings), tuple(standing.values()))
        if self._coverage is None or self._coverage[0] != basis:
            self._coverage = (basis, coverage(self.project, self.results, self.findings, standing))
        return self._coverage[1]

    def check(self) -> None:
        """Runs the static check now; that of a large machine file in a process, and `checked` comes when it is through."""
        self._timer.stop()
        project = self.project
        if _parts_of(project) <= AT_ONCE:
            self._elsewhere.forget()
            self._take_check(look_over(project))
        else:
            self._elsewhere.ask(lambda found: self._checked_elsewhere(project, found), look_over, project)

    @property
    def checking(self) -> bool:
        """Whether a check is under way, so that the findings are not yet those of the present file."""
        return self._elsewhere.busy

    def _checked_elsewhere(self, project: Project, found: Sorted | str) -> None:
        if isinstance(found, str):
            self.refused.emit(f"The check could not be run: {found}")
        elif project is not self.project:
            self.check()
        else:
            self._take_check(found)

    def _take_check(self, found: Sorted) -> None:
        self.findings, self.waived = list(found.open), list(found.waived)
        self.checked.emit()

    def take_results(self, results: list[Result]) -> None:
        self.ledger.take(results, self.project, datetime.date.today().isoformat())
        self.proven.emit()

    def open(self, path: Path) -> None:
        """Opens another file. Raises `FormatError`, and keeps the present one then."""
        stamp = stamp_of(path)
        self.take(read_file(path), path, stamp)

    def take(self, found: Reading, path: Path, stamp: Stamp | None) -> None:
        """Puts a file that was read in the place of the present one."""
        self.replace(found.project, None if found.shown else path, stamp if not found.shown else None)
        self.tell_reading(found, path)

    def tell_reading(self, found: Reading, path: Path | None) -> None:
        """Says how the machine file was read, or what was pasted into it. A program written by hand stays as it is: it is not
        what is saved.
        """
        if found.shown:
            self.reading, self.origin, self.saved = found, path, None
        self.was_read.emit()

    def replace(
        self, project: Project, path: Path | None, stamp: Stamp | None = None, drafts: tuple[Draft, ...] = ()
    ) -> None:
        """Puts another machine file in the place of the present one, with a history of its own."""
        self.history, self.path, self.stamp = History.of(project), path, stamp
        self.saved = project
        self.reading = self.origin = None
        self.was_read.emit()
        self.drafts.take(drafts)
        self.ledger = Ledger()
        self._take_kept()
        self.check()
        self.changed.emit()

    def _take_kept(self) -> None:
        """The verdicts that were kept beside the file, as far as they hold."""
        if self.path is not None and self.path.suffix.lower() == OWN:
            self.ledger.take_kept(read_beside(self.path).verdicts, self.project)
        self._kept = self.ledger.kept(self.project)

    @property
    def has_new_verdicts(self) -> bool:
        """Whether something was proven since the file was opened or saved that could be kept beside it."""
        own = self.path is not None and self.path.suffix.lower() == OWN
        return own and self._kept != self.ledger.kept(self.project)

    def save(self, path: Path) -> None:
        """Writes the file, and beside it what is accepted and the verdicts.

        Raises `FormatError`; `ChangedOnDisk` if somebody else has written it since it was read."""
        if path == self.path and self.stamp is not None and path.exists() and not self.stamp.holds(path):
            raise ChangedOnDisk(f"{path.name} was changed by another program since it was read")
        if path.suffix.lower() == OWN:
            kept = self.ledger.kept(self.project)
            spoke.write(self.project, path, kept)
            self._kept = kept
        else:
            write_project(self.project, path)
        self.path, self.saved, self.stamp = path, self.project, stamp_of(path)
        self.changed.emit()
