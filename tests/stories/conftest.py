"""A real window for the stories, active on a screen or a virtual one."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator

import pytest
from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.application import make_app
from spokeshave.desktop.document import Document
from spokeshave.desktop.window import MainWindow


@pytest.fixture(scope="session")
def qapp() -> object:
    return make_app()


@pytest.fixture
def opened(qtbot) -> Iterator[Callable[[Document], MainWindow]]:
    """Opens a window on a document and waits until it is active."""
    assert os.environ.get("DISPLAY"), "the stories need a display or Xvfb"
    windows: list[MainWindow] = []

    def make(document: Document) -> MainWindow:
        window = MainWindow(document)
        window.asks_before_closing = False
        with qtbot.waitActive(window, timeout=10_000):
            window.show()
            window.activateWindow()
        assert QApplication.platformName() == "xcb"
        windows.append(window)
        return window

    yield make
    for window in windows:
        window.close()
        window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
