"""The table of commands: menus, toolbar buttons, the palette and the help page are all made from it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMainWindow, QMenu

from spokeshave.desktop.icons import icon
from spokeshave.desktop.plain_text import plain


@dataclass(frozen=True)
class Command:
    """One thing a person can ask for. `enabled` is asked whenever something changed."""

    ident: str
    name: str
    menu: str
    shortcut: str
    run: Callable[[], object]
    icon: str = ""
    enabled: Callable[[], bool] = lambda: True
    says: str = ""
    """What it does, for the tool tip and the help page; the name where empty."""


def _with_key(title: str, others: dict[str, QMenu]) -> str:
    """A title of a menu with `&` before the first letter that no other one has for its key."""
    taken = {m.title()[m.title().index("&") + 1].lower() for m in others.values()}
    at = next((i for i, letter in enumerate(title) if letter.lower() not in taken), -1)
    return f"{title[:at]}&{title[at:]}" if at >= 0 else title


class CommandTable:
    """All commands with their actions, by identifier."""

    def __init__(self, window: QMainWindow, commands: list[Command]) -> None:
        self.commands = {c.ident: c for c in commands}
        self.actions: dict[str, QAction] = {}
        for c in commands:
            action = QAction(c.name, window)
            if c.icon:
                action.setIcon(icon(c.icon))
            if c.shortcut:
                action.setShortcut(QKeySequence(c.shortcut))
            keys = f"  ({c.shortcut})" if c.shortcut else ""
            action.setToolTip(plain(f"{c.says or c.name}{keys}"))
            action.triggered.connect(lambda _=False, c=c: c.run())
            window.addAction(action)
            self.actions[c.ident] = action

    def fill_menus(self, window: QMainWindow) -> None:
        """One menu for each first word of the table's column, in its order; `-` before a name makes a line."""
        menus: dict[str, QMenu] = {}
        for c in self.commands.values():
            title, _, group = c.menu.partition("/")
            if title not in menus:
                menus[title] = window.menuBar().addMenu(_with_key(title, menus))
            if group == "-":
                menus[title].addSeparator()
            menus[title].addAction(self.actions[c.ident])

    def refresh(self) -> None:
        """Asks every command whether it is possible now."""
        for ident, c in self.commands.items():
            self.actions[ident].setEnabled(c.enabled())

    def refresh_icons(self) -> None:
        for ident, c in self.commands.items():
            if c.icon:
                self.actions[ident].setIcon(icon(c.icon))
