"""The run cluster, in every stage: start, pause, scan, back, next step, reset, speed, clock."""

from __future__ import annotations

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QToolButton, QWidget

from spokeshave.desktop.icons import icon
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.runner import REAL_TIME, SPEEDS, Runner
from spokeshave.desktop.theme import text_font, theme


def clock_text(ms: int) -> str:
    """A time as minutes, seconds and hundredths."""
    return f"{ms // 60_000:02}:{ms // 1000 % 60:02}.{ms % 1000 // 10:02}"


class RunCluster(QWidget):
    """Start, pause, back and on, speed and time of the run, at the upper right."""

    def __init__(self, runner: Runner, actions: dict[str, QAction]) -> None:
        super().__init__()
        self.runner = runner
        self.start_action = actions["run.start"]
        row = QHBoxLayout(self)
        row.setContentsMargins(4, 0, 8, 0)
        row.setSpacing(2)
        for ident in ("run.reset", "run.back", "run.start", "run.scan", "run.nextstep"):
            button = QToolButton()
            button.setDefaultAction(actions[ident])
            button.setObjectName(ident)
            button.setAccessibleName(actions[ident].text())
            row.addWidget(button)
        self.speed = QComboBox()
        self.speed.setAccessibleName("Speed of the run")
        for name, _ in SPEEDS:
            self.speed.addItem(name)
        self.speed.setCurrentIndex(REAL_TIME)
        self.speed.currentIndexChanged.connect(lambda i: runner.set_speed(SPEEDS[i][1]))
        row.addWidget(self.speed)
        self.clock = TextLabel()
        self.clock.setFont(text_font(15, bold=True))
        self.clock.setMinimumWidth(82)
        self.clock.setAccessibleName("Clock of the run")
        row.addSpacing(6)
        row.addWidget(self.clock)
        runner.advanced.connect(self.refresh)
        runner.running_changed.connect(self.refresh_state)
        self.refresh()

    def refresh(self) -> None:
        session = self.runner.session
        past = self.runner.looked_at is not None
        self.clock.setText(("◂ " if past else "") + clock_text(self.runner.shown_ms))
        self.clock.setStyleSheet(f"color: {theme.now.forced};" if past else "")
        if session is not None:
            scan = f"scan {self.runner.looked_at} of {session.k}, looked at" if past else f"scan {session.k}"
            self.clock.setToolTip(plain(f"{scan}, period {session.program.period_ms} ms"))

    def refresh_state(self) -> None:
        running = self.runner.running
        self.start_action.setIcon(icon("pause" if running else "start", "accent"))
        self.start_action.setText("Pause" if running else "Start")
