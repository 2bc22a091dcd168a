"""A window on the roastery for widget tests."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QApplication

from spokeshave.desktop.application import make_app
from spokeshave.desktop.document import Document
from spokeshave.desktop.window import MainWindow
from spokeshave.model.project import Project


@pytest.fixture(scope="session", autouse=True)
def qapp() -> object:
    """There for every test, whichever of them a process runs first: letters cannot be painted without it."""
    return make_app()


@pytest.fixture
def window(qtbot, roastery: Project) -> Iterator[MainWindow]:
    made = MainWindow(Document(roastery))
    made.asks_before_closing = False
    made.show()
    qtbot.waitExposed(made)
    yield made
    made.close()
    made.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
