"""Windows for tests, whose sizes, preferences and recent files are kept in one place; they are gone when the test is."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QAbstractItemView, QApplication, QComboBox, QLineEdit

from spokeshave.desktop.document import Document
from spokeshave.desktop.theme import theme
from spokeshave.desktop.window import MainWindow
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Project


@contextmanager
def windows_with(settings: QSettings) -> Iterator[Callable[[], MainWindow]]:
    """Gives what opens one more window, on a new file; the colours are light again behind it."""
    made: list[MainWindow] = []

    def window() -> MainWindow:
        one = MainWindow(Document(new_sequence(Project())), None, settings)
        one.asks_before_closing = False
        one.show()
        made.append(one)
        return one

    yield window
    for one in made:
        one.close()
        one.deleteLater()
    if theme.dark:
        theme.apply(QApplication.instance(), False)


def cell_line(view: QAbstractItemView) -> QLineEdit | None:
    """The line of the cell that is typed in."""
    found = view.indexWidget(view.currentIndex())
    return found.lineEdit() if isinstance(found, QComboBox) else found
