"""The application object: with the look on it, on a screen or on none."""

from __future__ import annotations

import os
from pathlib import Path

from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.collector import Collector
from spokeshave.desktop.theme import theme


def make_app(arguments: list[str] | None = None) -> QApplication:
    """The application object with the look applied; the present one if there is one."""
    app = QApplication.instance()  # the one of the first window, if it was shown
    if not isinstance(app, QApplication):
        app = QApplication(arguments or ["spokeshave"])
        app.setApplicationName("Spokeshave")
    app.setDesktopFileName("spokeshave")
    app.setWindowIcon(QIcon(str(Path(__file__).parent / "icons" / "spokeshave.svg")))
    if app.findChild(Collector) is None:
        Collector(app)
    theme.apply(app)
    return app


def make_app_without_screen() -> QApplication:
    """As `make_app`, in a process that only paints to files."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    return make_app()
