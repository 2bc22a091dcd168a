"""The first window: there at once, before anything that takes longer is loaded. Imports Qt's widgets and nothing else."""

from __future__ import annotations

import os
import sys

from PySide6.QtGui import QColor, QPalette
from PySide6.QtWidgets import QApplication, QMainWindow

SIZE = (1280, 800)
_shown: list[QMainWindow] = []


def opens_desktop(words: list[str]) -> bool:
    """Whether a command line opens the desktop on a display."""
    display = os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")
    return bool(display) and (not words or words[0] in ("open", "demo")) and not {"-h", "--help"} & set(words)


def first_window(words: list[str] | None = None) -> tuple[QApplication, QMainWindow]:
    """The application with a window of the size and colour of the one that comes, on the screen."""
    app = QApplication.instance() or QApplication(["spokeshave", *(words or [])])
    assert isinstance(app, QApplication)
    app.setApplicationName("Spokeshave")
    window = QMainWindow()
    window.setWindowTitle("Spokeshave")
    palette = window.palette()
    palette.setColor(QPalette.ColorRole.Window, QColor("#F3F1EC"))
    window.setPalette(palette)  # no text: the fonts take longer than the window
    window.resize(*SIZE)
    window.show()
    app.processEvents()
    _shown.append(window)
    return app, window


def give_way() -> None:
    """The real window is there."""
    for window in _shown:
        window.close()
        window.deleteLater()
    _shown.clear()


def begin() -> None:
    """Shows the first window if the command line opens the desktop; says nothing if Qt cannot be loaded yet."""
    if opens_desktop(sys.argv[1:]):
        first_window(sys.argv[1:])
