"""Starts the desktop."""

from __future__ import annotations

import gc
import sys
from functools import partial
from pathlib import Path
from types import TracebackType

from platformdirs import user_state_path
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication

from spokeshave import COLLECT
from spokeshave.desktop.application import make_app
from spokeshave.desktop.document import Document
from spokeshave.desktop.first_window import give_way, kept_settings, take_size
from spokeshave.desktop.preferences import Preferences
from spokeshave.desktop.theme import theme
from spokeshave.desktop.window import MainWindow
from spokeshave.desktop.windows import Doorkeeper, hand_over
from spokeshave.formats.errors import FormatError
from spokeshave.formats.files import TABLES, text_of
from spokeshave.formats.recovery import Recovery
from spokeshave.last_resort import told_as_ours
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project
from spokeshave.reading import is_by_hand, read_project

HINT = "F5 starts the run. Ctrl+1 to Ctrl+6 go through the stages, Ctrl+K finds anything, F1 is the manual."


def settle() -> None:
    """What was made so far stays: later collections need not look through it, which would be felt in large files."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(*COLLECT)


class Windows:
    """The windows that are open; the last one that closes ends the program."""

    def __init__(self) -> None:
        self.open: list[MainWindow] = []

    def new(self, file: Path | None, copy: bool = False) -> MainWindow:
        """A window on a file, or on the start page. A copy of an example has no file yet, so saving asks for one.

        A table, and a program written by hand, are read when the window is there. Raises `FormatError`.
        """
        kind = file.suffix.lower() if file is not None else ""
        later = file is not None and (kind in TABLES or (kind == ".st" and is_by_hand(text_of(file))))
        settings = kept_settings()
        project = (
            read_project(file)
            if file is not None and not later
            else new_sequence(Project(period_ms=Preferences.read(settings).period_ms))
        )
        document = Document(project, None if copy or later else file)
        if copy or later or file is None:
            document.saved = project
        window = MainWindow(document, Recovery(user_state_path("spokeshave") / "kept"), settings)
        window.open_beside = self.open_beside
        window.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        window.destroyed.connect(partial(self._gone, window))
        self.open.append(window)
        if file is None or later:  # what is read comes in its place; where it is refused, something else can be opened
            window.show_start()
        elif not copy and not later:
            window.recent.add(file)
            window.program.restore_stage(settings)
        window.show()
        if later and file is not None:
            QTimer.singleShot(0, partial(window.open_path, file))
        return window

    def open_beside(self, file: Path | None, copy: bool = False) -> None:
        """One more window, in front; the one that has the file already comes to the front. A bad file is told in the one in front."""
        there = [
            w
            for w in self.open
            if file is not None and not copy and w.document.path is not None and w.document.path.absolute() == file
        ]
        try:
            window = there[0] if there else self.new(file, copy)
        except (FormatError, OSError) as error:
            if self.open:
                self.open[-1].say_fault(str(error))
                self.open[-1].activateWindow()
            return
        window.raise_()
        window.activateWindow()

    def _gone(self, window: MainWindow, *_: object) -> None:
        if window in self.open:
            self.open.remove(window)

    def front(self) -> MainWindow | None:
        """The window that somebody works in, else the one that was opened last."""
        active = QApplication.activeWindow()
        return active if isinstance(active, MainWindow) else self.open[-1] if self.open else None

    def follow_colours(self) -> None:
        """The colours of the desktop have changed: who prefers those gets them."""
        for window in self.open:
            if window.preferences.colours == "system":
                window.set_dark(window.preferences.dark)


def _stay_open(windows: Windows, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
    """The last resort: what nobody expected is told, its details are written down, and the document stays as it is."""
    window = windows.front()
    if issubclass(kind, KeyboardInterrupt) or window is None:
        QApplication.exit(130)
        return
    window.runner.pause()
    window.say_fault(told_as_ours(error.with_traceback(trace), window.document.path))


def run_desktop(file: Path | None, copy: bool = False) -> int:
    """Opens a window and runs until all are closed. Where a program of the same person runs already, it opens the window instead."""
    state = user_state_path("spokeshave")
    settings = kept_settings()
    take_size(settings)
    app = make_app(sys.argv)
    if hand_over(state, file, copy):
        give_way()
        return 0
    theme.apply(app, Preferences.read(settings).dark)
    windows = Windows()
    window = windows.new(file, copy)
    sys.excepthook = partial(_stay_open, windows)
    doorkeeper = Doorkeeper(state, windows.open_beside)
    QGuiApplication.styleHints().colorSchemeChanged.connect(windows.follow_colours)
    give_way()
    settle()
    QTimer.singleShot(0, partial(window.say, HINT))
    ended = app.exec()
    doorkeeper.server.close()
    return ended
