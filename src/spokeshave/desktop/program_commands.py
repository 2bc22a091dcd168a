"""Commands about the program itself: the manual, keys, preferences, about, the sizes it had last time, another window."""

from __future__ import annotations

import platform
from functools import partial
from importlib.metadata import PackageNotFoundError, version
from typing import TYPE_CHECKING

from PySide6.QtCore import QByteArray, QSettings, Qt, QTimer
from PySide6.QtWidgets import QApplication, QDialog, QDialogButtonBox, QMenu, QTextBrowser, QVBoxLayout, QWidget

from spokeshave import __version__
from spokeshave.desktop.found import FoundPanel
from spokeshave.desktop.manual import Manual, place_of
from spokeshave.desktop.preferences import Preferences, PreferencesDialog
from spokeshave.desktop.stages import TITLES
from spokeshave.desktop.tour import Tour
from spokeshave.verify.find import target_of

if TYPE_CHECKING:
    from spokeshave.desktop.window import MainWindow

LICENCES = (
    ("PySide6-Essentials", "LGPL-3.0, with Qt: separate libraries, which you may replace by others of the same interface"),
    ("numpy", "BSD-3-Clause"), ("lark", "MIT"), ("pydantic", "MIT"), ("typer", "MIT"), ("jinja2", "BSD-3-Clause"), ("openpyxl", "MIT"),
    ("defusedxml", "PSF-2.0"), ("platformdirs", "MIT"), ("pymodbus", "BSD-3-Clause"), ("pillow", "MIT-CMU"), ("pypdf", "BSD-3-Clause"),
    ("asyncua", "LGPL-3.0, an optional extra"),
)  # fmt: skip
"""The packages that the program is made with, and under which terms."""


ROOMY = 1500
"""Pixels of a window in which outline and manual stand beside the work."""


class ProgramCommands:
    """Of one window."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self.manual: Manual | None = None
        self.tour: Tour | None = None
        self.found: FoundPanel | None = None
        self._saves = QTimer(window)
        self._saves.setSingleShot(True)
        self._saves.timeout.connect(self.save_by_itself)
        window.document.changed.connect(self._wait_to_save)

    # -- help

    def show_manual(self) -> None:
        """The manual at what has the keyboard; again at the same place it goes."""
        place = place_of(QApplication.focusWidget()) or self.window.place_in_manual
        if self.manual is None:
            self.manual = Manual()
            self.manual.left.connect(self._give_room_back)
        self._stand_beside(self.manual)
        self.manual.show_at(place)
        self.manual.line.setFocus()

    def show_tour(self) -> None:
        """A first machine in ten steps, beside the work."""
        if self.tour is None:
            self.tour = Tour(self.window.document, self.window.runner)
            self.tour.stage_asked.connect(self.window.show_stage)
            self.tour.left.connect(self._give_room_back)
        if self.window.stage < 0:
            self.window.show_stage(2)
        self._stand_beside(self.tour)

    def find(self) -> None:
        """What is found in the whole file, beside the work, ready to be typed into."""
        self._found_beside().begin()

    def show_uses(self) -> None:
        """Where what is selected is used."""
        self._found_beside().show_uses(self.window.selection.place)

    def _found_beside(self) -> FoundPanel:
        if self.found is None:
            self.found = FoundPanel(self.window.document, self.window.selection)
            self.found.left.connect(self._give_room_back)
        if self.window.stage < 0:
            self.window.show_stage(2)
        self._stand_beside(self.found)
        return self.found

    def can_show_uses(self) -> bool:
        """Whether something is selected that texts can name."""
        return target_of(self.window.document.project, self.window.selection.place) is not None

    def begin_tour(self) -> None:
        """A new file with the tour beside it."""
        self.window.new_file()
        if self.window.stage >= 0:
            self.show_tour()

    @property
    def _panels(self) -> list[QWidget]:
        return [panel for panel in (self.manual, self.tour, self.found) if panel is not None]

    def _stand_beside(self, panel: QWidget) -> None:
        """Shows a panel at the right of the work, in the place of the others."""
        for other in self._panels:
            if other is not panel:
                other.hide()
        if self.window.across.indexOf(panel) < 0:
            self.window.across.addWidget(panel)
        panel.show()
        if self.takes_room:
            self.window.outline.hide()

    @property
    def takes_room(self) -> bool:
        """Whether a panel stands in the place of the outline."""
        return any(panel.isVisible() for panel in self._panels) and self.window.width() < ROOMY

    def _give_room_back(self) -> None:
        if self.window.stage >= 0:
            self.window.show_stage(self.window.stage)
        else:
            self.window.show_start()

    def show_keys(self) -> None:
        """All commands in one table."""
        rows = "".join(
            f"<tr><td>{c.menu.split('/')[0]}</td><td><b>{c.name}</b></td><td>{c.shortcut}</td><td>{c.says}</td></tr>"
            for c in self.window.table.commands.values()
        )
        self._box("Keys and commands", f"<table cellpadding=3>{rows}</table>", 860, 640)

    def show_about(self) -> None:
        """Versions and licences."""
        made_with = "".join(f"<tr><td>{name} {version_of(name)}</td><td>{terms}</td></tr>" for name, terms in LICENCES)
        text = (
            f"<h3>Spokeshave {__version__}</h3><p>Design, simulate and prove machine sequences before the machine exists.</p>"
            f"<p>Licensed under the Apache License 2.0. Runs on Python {platform.python_version()}, with:</p>"
            f"<table cellpadding=3>{made_with}</table>"
        )
        self._box("About Spokeshave", text, 620, 520)

    def _box(self, title: str, html: str, width: int, height: int) -> None:
        box = QDialog(self.window)
        box.setWindowTitle(title)
        box.resize(min(width, self.window.width() - 80), min(height, self.window.height() - 80))
        page = QTextBrowser()
        page.setAccessibleName(title)
        page.setHtml(html)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(box.reject)
        column = QVBoxLayout(box)
        column.addWidget(page)
        column.addWidget(buttons)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    # -- preferences

    def ask_preferences(self) -> PreferencesDialog:
        """Shows them, and takes over what is chosen."""
        dialog = PreferencesDialog(self.window.preferences, self.window)
        dialog.accepted.connect(lambda: self.take(dialog.chosen))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()
        return dialog

    def take(self, chosen: Preferences) -> None:
        """Goes by other preferences from now on, and keeps them."""
        window, before = self.window, self.window.preferences
        window.preferences = chosen
        if window.settings is not None:
            chosen.write(window.settings)
        window.set_dark(chosen.dark)
        self._wait_to_save()
        if chosen.size != before.size:
            window.say(f"Everything has {chosen.size} % of its size when the program is started again")

    def _wait_to_save(self) -> None:
        if self.window.preferences.saves_ms and self.window.document.path is not None and self.window.document.dirty:
            self._saves.start(self.window.preferences.saves_ms)
        else:
            self._saves.stop()

    def save_by_itself(self) -> None:
        """Saves a file that has a name, as Save does; what is typed and not taken over stays as it is."""
        document = self.window.document
        if document.path is not None and document.saved is not document.project:
            self.window.save_quietly()

    # -- recent files

    def add_recent_menu(self) -> None:
        """The recent files in the File menu, below what opens one."""
        window, below = self.window, self.window.table.actions["file.table"]
        menu = QMenu("Recent files", window)
        menu.aboutToShow.connect(lambda: self._fill(menu))
        for place in below.associatedObjects():
            if isinstance(place, QMenu):
                place.insertMenu(below, menu)

    def _fill(self, menu: QMenu) -> None:
        menu.clear()
        for file in self.window.recent.files:
            action = menu.addAction(f"{file.path.name}    {file.folder}".replace("&", "&&"))
            action.setEnabled(file.path.exists())
            action.triggered.connect(partial(self.window.open_file, file.path))
        if menu.isEmpty():
            menu.addAction("Nothing was opened or saved yet").setEnabled(False)

    # -- how the window was

    def keep(self, settings: QSettings) -> None:
        """Keeps how the window stands, for the next start."""
        settings.setValue("window/geometry", self.window.saveGeometry())
        settings.setValue("window/stage", self.window.stage)
        settings.setValue("window/across", self.window.across.saveState())

    def restore(self, settings: QSettings) -> None:
        """Puts the window as it was left."""
        geometry, across = settings.value("window/geometry"), settings.value("window/across")
        if isinstance(geometry, QByteArray):
            self.window.restoreGeometry(geometry)
        if isinstance(across, QByteArray):
            self.window.across.restoreState(across)

    def restore_stage(self, settings: QSettings) -> None:
        """The stage that was in front when a window was closed last."""
        stage = str(settings.value("window/stage", ""))
        if stage in map(str, range(len(TITLES))):
            self.window.show_stage(int(stage))


def version_of(package: str) -> str:
    """The version of a package that is installed; empty if it is not."""
    try:
        return version(package)
    except PackageNotFoundError:
        return ""
