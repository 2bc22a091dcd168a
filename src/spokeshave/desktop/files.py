"""What a window does with its file: open, save, recover, and what others do to it meanwhile."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QApplication, QDialog, QFileDialog, QMainWindow, QMessageBox

from spokeshave.desktop.compare_dialog import CompareDialog
from spokeshave.desktop.disk_bar import DiskBar
from spokeshave.desktop.document import Document
from spokeshave.desktop.kept_edits import Keeper
from spokeshave.desktop.merge_dialog import MergeDialog
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.preferences import Preferences
from spokeshave.desktop.recent import RecentFiles
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.page import SequencePage
from spokeshave.desktop.table_dialog import TableDialog
from spokeshave.examples import FOLDER
from spokeshave.formats.disk import ChangedOnDisk, Stamp, beside, stamp_of
from spokeshave.formats.errors import FormatError
from spokeshave.formats.files import TABLES, text_of, write_project
from spokeshave.formats.recovery import Kept
from spokeshave.formats.tables.book import Book, read_book
from spokeshave.formats.tables.grid import Sheet
from spokeshave.formats.tables.write import write_tables
from spokeshave.model import edits
from spokeshave.model.edits import EditError
from spokeshave.model.fragments import is_starter
from spokeshave.model.project import Project
from spokeshave.reading import Reading, is_by_hand, read_elsewhere, read_file, read_path_elsewhere

FILTER = (
    "Machine files (*.spoke);;IEC text (*.st);;PLCopen XML (*.xml);;Tables (*.xlsx *.csv *.ods *.xlsm);;All files (*)"
)
SAVE_FILTER = "Machine files (*.spoke);;IEC text (*.st);;PLCopen XML (*.xml)"
TABLE_FILTER = "Tables (*.csv *.xlsx *.xlsm *.ods *.tsv);;All files (*)"


class FileWindow(QMainWindow):
    """A window on a document that has a file, or will have one."""

    document: Document
    runner: Runner
    keeper: Keeper | None
    disk_bar: DiskBar
    selection: Selection
    asks_before_closing: bool
    recent: RecentFiles
    preferences: Preferences
    stage: int
    """Which stage is in front, -1 while the start page is."""

    @property
    def sequence(self) -> SequencePage:
        raise NotImplementedError

    def say(self, text: str) -> None:
        raise NotImplementedError

    def say_fault(self, text: str) -> None:
        raise NotImplementedError

    def show_stage(self, index: int) -> None:
        raise NotImplementedError

    def new_file(self) -> None:
        if self._may_leave():
            self.document.replace(edits.new_sequence(Project(period_ms=self.preferences.period_ms)), None)
            self._came(None)

    def ask_open(self, kinds: str = "") -> None:
        """Asks for a file, of all kinds that can be read or of those a filter names, and opens it."""
        if not self._may_leave():
            return
        name, _ = QFileDialog.getOpenFileName(
            self, "Open a machine file", str(self.document.path or Path.cwd()), kinds or FILTER
        )
        if name:
            self.open_path(Path(name))

    def open_file(self, path: Path) -> None:
        """Opens a file that was chosen or dropped, when the present one may be left."""
        if self._may_leave():
            self.open_path(path)

    def open_example(self, file: str) -> None:
        """A copy of an example: it has no file of its own, so saving asks for one."""
        if self._may_leave():
            project = read_file(FOLDER / file).project
            self.document.replace(project, None)
            self.runner.reset()
            self._came(None)
            self.say(
                f"A copy of the example {project.name}. Ctrl+1 to Ctrl+6 go through the stages, F5 starts the run."
            )

    def _came(self, path: Path | None) -> None:
        """Another file is on the screen: it is among the recent ones, and the start page gives way."""
        if path is not None:
            self.recent.add(path)
        if self.stage < 0:
            self.show_stage(2)

    def open_path(self, path: Path) -> bool:
        """Opens a file, a program written by hand when it is read; a bad one is told and the present one stays."""
        try:
            if path.suffix.lower() in TABLES:
                return self._ask_table(read_book(path), alone=True)
            if path.suffix.lower() == ".xml":
                return self._read_later(path, read_path_elsewhere, path)
            if path.suffix.lower() == ".st" and is_by_hand(text := text_of(path)):
                return self._read_later(path, read_elsewhere, text)
            self.document.open(path)
        except FormatError as error:
            self.say_fault(str(error))
            return False
        self.runner.reset()
        self._came(path)
        self.say(f"Opened {path.name}")
        return True

    def _read_later(self, path: Path, work: Callable[..., Reading | str], *arguments: object) -> bool:
        """Has a file read elsewhere: what is no chart is run beside its text, which takes a while."""
        stamp, before = stamp_of(path), self.document.project

        def whole(found: Reading | str) -> None:
            self._read(found, path, stamp, before)

        self.document.in_process(f"Reads {path.name}, and runs it beside its text", whole, work, *arguments)
        return True

    def import_table(self) -> None:
        """Asks for a table and adds what it holds to the present file."""
        start = str(self.document.path or Path.cwd())
        name, _ = QFileDialog.getOpenFileName(self, "Import a table of steps", start, TABLE_FILTER)
        if name:
            try:
                self._ask_table(read_book(Path(name)), alone=False)
            except FormatError as error:
                self.say_fault(str(error))

    def show_pasted(self, sheet: Sheet) -> None:
        """A table from the clipboard, to be added to the present file."""
        path = Path("the clipboard")
        self._ask_table(Book(path, (sheet,), (sheet,)), alone=False)

    def _ask_table(self, book: Book, alone: bool) -> bool:
        """Shows what a table is taken as, and takes it in if somebody says so: `alone` in the place of the present file."""
        dialog = TableDialog(book, Project(book.path.stem) if alone else self.document.project, self)
        if dialog.exec() != QDialog.DialogCode.Accepted:
            return False
        return self.take_table(dialog, alone)

    def take_table(self, dialog: TableDialog, alone: bool) -> bool:
        """Takes in what a dialog shows. Nothing of the file it came from is written over."""
        name = dialog.book.path.name
        if alone:
            self.document.replace(dialog.taken(), None)
            self.document.saved = None
            self.document.changed.emit()
            self.runner.reset()
            self._came(dialog.book.path)
        else:
            before = self.document.project

            def change(project: Project) -> Project:
                if project is not before:
                    raise EditError("the machine file has changed meanwhile; import the table once more")
                after = dialog.taken()
                starters = [q for q in project.sequences if is_starter(q)]
                left = tuple(q for q in after.sequences if q not in starters)
                return replace(after, sequences=left)

            if not self.document.edit(f"Import {name}", change):
                return False
        self.show_stage(2)
        self.sequence.show_sequence(self.document.project.sequences[-1].name)
        self.say(f"{name} was taken in; the file stays as it is")
        return True

    def ask_compare(self) -> None:
        """Asks for another version and shows what differs from it."""
        name, _ = QFileDialog.getOpenFileName(self, "Compare with", str(self.document.path or Path.cwd()), FILTER)
        if name:
            self.compare_with(Path(name))

    def compare_with_saved(self) -> None:
        """What was edited since the file was saved: the saved one is what it would go back to."""
        if self.document.path is not None:
            self.compare_with(self.document.path)

    def compare_with(self, path: Path) -> CompareDialog | None:
        """Shows what differs from the file at `path`; a bad one is told."""
        try:
            other = read_file(path).project
        except FormatError as error:
            self.say_fault(str(error))
            return None
        dialog = CompareDialog(self.document, self.selection, other, path.name, self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.show()
        return dialog

    def ask_merge(self) -> None:
        """Asks for the version of somebody else and for the one both come from, and shows what is put together."""
        start = str(self.document.path or Path.cwd())
        theirs, _ = QFileDialog.getOpenFileName(self, "Merge: the version of somebody else", start, FILTER)
        base, _ = (
            QFileDialog.getOpenFileName(self, "Merge: the version both come from", theirs, FILTER)
            if theirs
            else ("", "")
        )
        if base:
            self.merge_with(Path(theirs), Path(base))

    def merge_with(self, theirs: Path, base: Path) -> MergeDialog | None:
        """Shows what `theirs` has changed since `base` put into the present file; a bad file is told."""
        try:
            ancestor, other = read_file(base).project, read_file(theirs).project
        except FormatError as error:
            self.say_fault(str(error))
            return None
        dialog = MergeDialog(self.document, ancestor, other, theirs.name, self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.show()
        return dialog

    def keep_mine(self) -> None:
        """The file as it is, without the findings of a merge."""
        self.document.edit("Keep mine", lambda p: replace(p, conflicts=()))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if len(event.mimeData().urls()) == 1 and event.mimeData().urls()[0].isLocalFile():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """A file that is dropped on the window is opened."""
        path = Path(event.mimeData().urls()[0].toLocalFile())
        event.acceptProposedAction()
        self.open_file(path)

    def _read(self, found: Reading | str, path: Path, stamp: Stamp | None, before: Project) -> None:
        """A program written by hand is read; what was edited since `before` is asked for."""
        if isinstance(found, str):
            self.say_fault(f"{path}: {found}")
        elif self.document.project is before or self._may_leave():
            self.document.take(found, path, stamp)
            self.runner.reset()
            self._came(path)
            self.say(f"Opened {path.name}")

    def recover(self, kept: Kept) -> bool:
        """Puts kept edits on the screen, as edits of the file they came from that are not saved yet."""
        if not self._may_leave():
            return False
        origin = Path(kept.origin) if kept.origin else None
        # With the stamp of then: a file that was saved later by somebody else is not written over unasked.
        self.document.replace(kept.project, origin, kept.stamp, kept.drafts)
        self.document.saved = None
        self.document.changed.emit()
        if self.keeper is not None:
            self.keeper.keep()
        self.runner.reset()
        self._came(None)
        for draft in kept.drafts:
            if draft.place.startswith("code "):
                self.show_stage(2)
                self.sequence.show_draft(draft.place)
        self.say(f"Recovered {kept.project.name}; save it to keep it")
        return True

    def take_over(self) -> list[str]:
        """Takes over what is typed: an open cell or field, then drafts. Gives the places of drafts that could not be."""
        typed = QApplication.focusWidget()
        if typed is not None and self.isAncestorOf(typed):
            typed.clearFocus()
            typed.setFocus()
        return self.document.drafts.flush()

    def save(self) -> bool:
        if self.document.path is None:
            return self.ask_save()
        self.take_over()  # an open cell is no edit yet
        if not self.document.dirty and not self.document.has_new_verdicts and self.document.path.exists():
            self.say(f"{self.document.path.name} is saved as it is")
            return True
        return self._save_to(self.document.path)

    def ask_save(self) -> bool:
        start = self.document.path or Path.cwd() / f"{self.document.project.name}.spoke"
        name, chosen = QFileDialog.getSaveFileName(self, "Save the machine file", str(start), SAVE_FILTER)
        if not name:
            return False
        path = Path(name)
        usual = next((f".{kind}" for kind in ("spoke", "st", "xml") if f"*.{kind}" in chosen), ".spoke")
        return self._save_to(path if path.suffix else path.with_name(path.name + usual))

    def export_table(self) -> None:
        """Asks for a name and writes the sequences as tables; the machine file stays what it is."""
        start = (self.document.path or Path.cwd() / self.document.project.name).with_suffix(".xlsx")
        name, _ = QFileDialog.getSaveFileName(
            self, "Export the sequences as tables", str(start), "Workbook (*.xlsx);;CSV (*.csv)"
        )
        if not name:
            return
        path = Path(name) if Path(name).suffix else Path(f"{name}.xlsx")
        try:
            left = write_tables(self.document.project, path)
        except FormatError as error:
            self.say_fault(str(error))
            return
        self.say(f"Wrote {path.name}" + (f"; not in it: {left}" if left else ""))

    def _save_to(self, path: Path) -> bool:
        if path.suffix.lower() in TABLES:
            self.say_fault(f"{path.name}: a table has no room for a whole machine file; use File, Export as tables")
            return False
        left = self.take_over()
        try:
            self.document.save(path)
        except ChangedOnDisk as error:
            self.disk_bar.look()
            self.say_fault(f"{error.message}; nothing was written")
            return False
        except FormatError as error:
            self.say_fault(str(error))
            return False
        self.disk_bar.look()
        self.recent.add(path)
        rest = f"; what is typed in {', '.join(left)} is not in it" if left else ""
        self.say(f"Saved {path.name}{rest}")
        return True

    def save_quietly(self) -> None:
        """Saves under the name it has, without asking for anything and without taking over what is typed."""
        if self.document.path is not None:
            try:
                self.document.save(self.document.path)
            except FormatError as error:  # also what another program has changed
                self.disk_bar.look()
                self.say_fault(f"Not saved by itself: {error}")
            else:
                self.disk_bar.look()

    def reload(self) -> None:
        """The file as another program has written it. What was edited here is kept beside it first."""
        path = self.document.path
        if path is None:
            return
        self.take_over()
        kept = ""
        if self.document.dirty:
            mine = beside(path)
            try:
                write_project(self.document.project, mine)
            except FormatError as error:
                self.say_fault(str(error))
                return
            kept = f"; your edits are in {mine.name}"
        if self.open_path(path):
            self.disk_bar.look()
            self.say(f"Reloaded {path.name}{kept}")

    def save_beside(self) -> None:
        """What is edited here under a name of its own; what another program has written stays."""
        if self.document.path is not None and self._save_to(beside(self.document.path)):
            self.disk_bar.look()

    def _may_leave(self) -> bool:
        """Asks what to do with unsaved edits."""
        if not self.asks_before_closing:
            return True
        self.take_over()
        if not self.document.dirty:
            return True
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self, "Unsaved edits", plain(f"{self.document.project.name} has edits that are not saved."),
            buttons.Save | buttons.Discard | buttons.Cancel, buttons.Save,
        )  # fmt: skip
        if answer == buttons.Discard:
            return True
        return answer == buttons.Save and self.save() and self._may_drop()

    def _may_drop(self) -> bool:
        """Asks what to do with what is typed and cannot be taken over."""
        left = [d.place for d in self.document.drafts.all()]
        if not left:
            return True
        buttons = QMessageBox.StandardButton
        text = f"What is typed in {', '.join(left)} is not taken over. Leaving loses it."
        question = QMessageBox.question(
            self, "Typed text", plain(text), buttons.Discard | buttons.Cancel, buttons.Cancel
        )
        return question == buttons.Discard
