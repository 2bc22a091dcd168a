"""Starts the desktop."""

from __future__ import annotations

import gc
import sys
from functools import partial
from pathlib import Path
from types import TracebackType

from platformdirs import user_state_path
from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication

from spokeshave import COLLECT
from spokeshave.desktop.application import make_app
from spokeshave.desktop.document import Document
from spokeshave.desktop.first import give_way
from spokeshave.desktop.window import MainWindow
from spokeshave.formats.files import TABLES, text_of
from spokeshave.formats.recovery import Recovery
from spokeshave.last_resort import told_as_ours
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project
from spokeshave.reading import is_by_hand, read_project


def settle() -> None:
    """What was made so far stays: later collections need not look through it, which would be felt in large files."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(*COLLECT)


def _stay_open(
    window: MainWindow, kind: type[BaseException], error: BaseException, trace: TracebackType | None
) -> None:
    """The last resort: what nobody expected is told, its details are written down, and the document stays as it is."""
    if issubclass(kind, KeyboardInterrupt):
        QApplication.exit(130)
        return
    window.runner.pause()
    window.say_fault(told_as_ours(error.with_traceback(trace), window.document.path))


def run_desktop(file: Path | None, copy: bool = False) -> int:
    """Opens the window and runs until it is closed. A copy of an example has no file yet, so saving asks for one."""
    app = make_app(sys.argv)
    kind = file.suffix.lower() if file is not None else ""
    later = file is not None and (kind in TABLES or (kind == ".st" and is_by_hand(text_of(file))))
    project = read_project(file) if file is not None and not later else new_sequence(Project())
    document = Document(project, None if copy or later else file)
    if copy or later or file is None:
        document.saved = project
    place = user_state_path("spokeshave")
    settings = QSettings(str(place / "sizes.ini"), QSettings.Format.IniFormat)
    window = MainWindow(document, Recovery(place / "kept"), settings)
    sys.excepthook = partial(_stay_open, window)
    window.show()
    give_way()
    settle()
    if later and file is not None:
        QTimer.singleShot(0, partial(window.open_path, file))
    QTimer.singleShot(
        0, lambda: window.say("F5 starts the run. Ctrl+1 to Ctrl+6 go through the stages, Ctrl+K finds anything.")
    )
    return app.exec()
