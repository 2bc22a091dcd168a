"""The history of waiting: each stay in a step that is over, how long it was, and what kept it to the last."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QHeaderView, QTreeWidget, QTreeWidgetItem

from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.run_cluster import clock_text
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.theme import theme

REFRESH_MS = 400
MOST = 60


class WaitsList(QTreeWidget):
    """Newest first; a click asks to look at the moment the step was left. Filled when it is looked at."""

    moment_asked = Signal(float)

    def __init__(self, runner: Runner) -> None:
        super().__init__()
        self.runner = runner
        self.setAccessibleName("Waited")
        self.setHeaderLabels(["Left at", "Step", "Waited", "For"])
        self.setRootIsDecorated(False)
        self.setUniformRowHeights(True)
        for i, width in enumerate((64, 116, 66)):
            self.setColumnWidth(i, width)
        self.header().setSectionResizeMode(3, QHeaderView.ResizeMode.Stretch)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.header().setMinimumSectionSize(40)
        self._known: tuple[object, int] = (None, -1)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(REFRESH_MS)
        self._timer.timeout.connect(self.refresh)
        runner.advanced.connect(self._later)
        self.itemClicked.connect(self._go)

    def _later(self) -> None:
        if self.isVisible() and not self._timer.isActive():
            self._timer.start()

    def showEvent(self, event: object) -> None:
        self.refresh()
        super().showEvent(event)  # type: ignore[arg-type]

    def refresh(self) -> None:
        from spokeshave.verify.waited import waited

        session = self.runner.session
        if session is None or self._known == (session, session.k):
            return
        self._known = (session, session.k)
        self.clear()
        for w in waited(session, MOST):
            period = w.period_ms
            seconds = f"{(w.end - w.begin) * period / 1000:.2f} s"
            item = QTreeWidgetItem([clock_text(w.end * period), f"{w.sequence}.{w.step}", seconds, " and ".join(w.on)])
            item.setData(0, 0x100, float((w.end - 1) * period))
            item.setToolTip(3, plain(str(w)))
            item.setForeground(3, theme.colour("false"))
            self.addTopLevelItem(item)

    def _go(self, item: QTreeWidgetItem) -> None:
        self.moment_asked.emit(float(item.data(0, 0x100)))
