"""The first window: there at once, before anything that takes longer is loaded. Imports Qt's widgets and nothing else."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from platformdirs import user_state_path
from PySide6.QtCore import QSettings
from PySide6.QtGui import QColor, QPalette
from PySide6.QtWidgets import QApplication, QMainWindow

from spokeshave.desktop.windows import hand_over

SIZE = (1280, 800)
_shown: list[QMainWindow] = []


def opens_desktop(words: list[str]) -> bool:
    """Whether a command line opens the desktop on a display."""
    display = os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")
    return bool(display) and (not words or words[0] in ("open", "demo")) and not {"-h", "--help"} & set(words)


def kept_settings() -> QSettings:
    """Sizes, preferences and recent files, as the last window left them."""
    return QSettings(str(user_state_path("spokeshave") / "sizes.ini"), QSettings.Format.IniFormat)


def take_size(settings: QSettings) -> None:
    """Gives the program the size that is preferred: before its application object is made, and unless the desktop says one."""
    size = str(settings.value("preferences/size", "100"))
    if size.isdecimal() and 100 < int(size) <= 200:
        os.environ.setdefault("QT_SCALE_FACTOR", str(int(size) / 100))


def first_window(words: list[str] | None = None) -> tuple[QApplication, QMainWindow]:
    """The application with a window of the size and colour of the one that comes, on the screen."""
    settings = kept_settings()
    take_size(settings)
    app = QApplication.instance() or QApplication(["spokeshave", *(words or [])])
    assert isinstance(app, QApplication)
    app.setApplicationName("Spokeshave")
    window = QMainWindow()
    window.setWindowTitle("Spokeshave")
    palette = window.palette()
    palette.setColor(
        QPalette.ColorRole.Window, QColor("#22282C" if settings.value("preferences/colours") == "dark" else "#F3F1EC")
    )
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
    """Shows the first window if the command line opens the desktop; says nothing if Qt cannot be loaded yet. Where the program
    runs already and opens the file, this one ends.
    """
    words = sys.argv[1:]
    if not opens_desktop(words):
        return
    file = Path(words[1]) if len(words) == 2 and words[0] == "open" else None
    if (not words or (file is not None and file.is_file())) and hand_over(user_state_path("spokeshave"), file, False):
        sys.exit(0)
    first_window(words)
