"""Lists below the stages that lead to places: what they share, and the alarms of the run."""

from __future__ import annotations

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHeaderView, QMenu, QTreeWidget, QTreeWidgetItem, QWidget

from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.run_cluster import clock_text
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.engine.alarms import alarm_told
from spokeshave.model.alarm_sources import sources
from spokeshave.model.diagnostics import Place

_ROLE = Qt.ItemDataRole.UserRole


class PlaceList(QTreeWidget):
    """A flat list with a jump to the place behind each row."""

    def __init__(
        self, name: str, heads: list[str], widths: list[int], selection: Selection, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.selection = selection
        self.setAccessibleName(name)
        self.setHeaderLabels(heads)
        self.setRootIsDecorated(False)
        self.setUniformRowHeights(True)
        for i, width in enumerate(widths):
            self.setColumnWidth(i, width)
        self.header().setSectionResizeMode(len(heads) - 1, QHeaderView.ResizeMode.Stretch)
        self.setAutoScroll(False)  # a click in a wide column moved the narrow ones out of sight
        self.itemClicked.connect(self.clicked_on)

    def add(self, cells: list[str], place: Place, colour: str) -> None:
        item = QTreeWidgetItem(cells)
        item.setData(0, _ROLE, place)
        item.setForeground(0, theme.colour(colour))
        for i, text in enumerate(cells):
            item.setToolTip(i, plain(text))
        self.addTopLevelItem(item)

    def clicked_on(self, item: QTreeWidgetItem) -> None:
        self.go(item)

    def go(self, item: QTreeWidgetItem) -> None:
        place = item.data(0, _ROLE)
        if isinstance(place, Place):
            self.selection.go(place)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        item = self.currentItem()
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and item is not None:
            self.go(item)
        else:
            super().keyPressEvent(event)


class AlarmList(PlaceList):
    """Alarms of the run with their three times, newest first. A click chooses what an alarm is about and stays here, since a
    double click acknowledges; Return goes there. What is shelved stands at the end, without its colour.
    """

    def __init__(self, runner: Runner, selection: Selection) -> None:
        super().__init__(
            "Alarms", ["State", "Raised", "Acknowledged", "Cleared", "Alarm"], [110, 90, 110, 90, 400], selection
        )
        self.runner = runner
        self._shown: object = None
        runner.advanced.connect(self.refresh)
        self.itemDoubleClicked.connect(lambda item, _: self.runner.do("ack", str(item.data(1, _ROLE))))
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._menu)
        self.setToolTip("Double-click acknowledges, Return goes to what the alarm is about")
        self.refresh()

    def refresh(self) -> None:
        session = self.runner.session
        shelved = frozenset() if session is None else frozenset(session.situation.shelved)
        alarms = [] if session is None else list(session.situation.alarms.values())
        alarms.sort(key=lambda a: (a.ident in shelved, -a.raised))
        if (alarms, shelved) == self._shown:
            return
        self._shown = (alarms, shelved)
        self.clear()
        period = session.program.period_ms if session else 10
        rules = sources(session.program.project) if session else ()
        faults = {source.ident for source in rules if source.rule is not None and source.rule.cls == "fault"}
        for a in alarms:
            aside = a.ident in shelved
            seen = "✓" if a.acknowledged >= 0 else "●"
            state = "◌ shelved" if aside else f"{seen} stands" if a.cleared < 0 else "○ cleared"
            times = ["" if k < 0 else clock_text(k * period) for k in (a.raised, a.acknowledged, a.cleared)]
            told = session is not None and alarm_told(session.situation, a)
            text = f"‼ {a.text}" if a.ident in faults else a.text
            self.add([state, *times, text], a.place, "late" if told else "faint")
            self.topLevelItem(self.topLevelItemCount() - 1).setData(1, _ROLE, a.ident)  # type: ignore[union-attr]

    @property
    def chosen(self) -> str:
        """The identifier of the alarm that is chosen, or an empty text."""
        item = self.currentItem()
        return "" if item is None else str(item.data(1, _ROLE))

    def clicked_on(self, item: QTreeWidgetItem) -> None:
        place = item.data(0, _ROLE)
        if isinstance(place, Place):
            self.selection.set(place)

    def acknowledge(self) -> None:
        """The alarm that is chosen."""
        if self.chosen:
            self.runner.do("ack", self.chosen)

    def shelve(self) -> None:
        """Puts the chosen alarm aside, or takes it back."""
        if self.chosen and self.runner.session is not None:
            self.runner.do("shelve", self.chosen, self.chosen not in self.runner.session.situation.shelved)

    def _menu(self, at: QPoint) -> None:
        item = self.currentItem()
        if item is None or self.runner.session is None:
            return
        menu = QMenu(self)
        aside = self.chosen in self.runner.session.situation.shelved
        menu.addAction("&Acknowledge", self.acknowledge)
        menu.addAction("Take it &back" if aside else "&Shelve it", self.shelve)
        menu.addAction("&Go to what it is about", lambda: self.go(item))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.viewport().mapToGlobal(at))
