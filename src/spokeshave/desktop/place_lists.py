"""Lists below the stages that lead to places: what they share, and the alarms of the run."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem, QWidget

from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.run_cluster import clock_text
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
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
    double click acknowledges; Return goes there.
    """

    def __init__(self, runner: Runner, selection: Selection) -> None:
        super().__init__(
            "Alarms", ["State", "Raised", "Acknowledged", "Cleared", "Alarm"], [110, 90, 110, 90, 400], selection
        )
        self.runner = runner
        self._shown: object = None
        runner.advanced.connect(self.refresh)
        self.itemDoubleClicked.connect(self._acknowledge)
        self.setToolTip("Double-click acknowledges, Return goes to what the alarm is about")
        self.refresh()

    def refresh(self) -> None:
        session = self.runner.session
        alarms = [] if session is None else sorted(session.situation.alarms.values(), key=lambda a: -a.raised)
        if alarms == self._shown:
            return
        self._shown = alarms
        self.clear()
        period = session.program.period_ms if session else 10
        for a in alarms:
            state = "● stands" if a.cleared < 0 else "○ cleared"
            times = ["" if k < 0 else clock_text(k * period) for k in (a.raised, a.acknowledged, a.cleared)]
            self.add([state, *times, a.text], a.place, "late" if a.cleared < 0 else "faint")
            self.topLevelItem(self.topLevelItemCount() - 1).setData(1, _ROLE, a.ident)  # type: ignore[union-attr]

    def clicked_on(self, item: QTreeWidgetItem) -> None:
        place = item.data(0, _ROLE)
        if isinstance(place, Place):
            self.selection.set(place)

    def _acknowledge(self, item: QTreeWidgetItem) -> None:
        self.runner.do("ack", str(item.data(1, _ROLE)))
