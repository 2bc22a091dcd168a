"""The bar above the bench: run to a condition or a time, hand drive and home, and what looks at the past."""

from __future__ import annotations

import re

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QToolButton, QWidget

from spokeshave.desktop.bench.recipe_choice import RecipeChoice
from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.theme import theme
from spokeshave.language.literals import time_ms
from spokeshave.verify.probe import missing_for_home

_TIME = re.compile(r"(?:(\d+):)?(\d+(?:\.\d+)?)\s*(s|ms|min|h)?", re.IGNORECASE)
_FOR_THE_OTHERS = 640  # pixels of the bar that what stands beside the home line needs
_UNIT_MS = {"": 1000, "s": 1000, "ms": 1, "min": 60_000, "h": 3_600_000}


def moment_ms(text: str) -> int | None:
    """A time as it is typed: `12.5`, `12.5 s`, `1:30`, `T#2m`; None if it is none.

    >>> moment_ms("1:30"), moment_ms("250 ms"), moment_ms("T#2m"), moment_ms("Drum")
    (90000, 250, 120000, None)
    """
    if text.strip()[:2].upper() == "T#":
        try:
            return max(0, time_ms(text))
        except ValueError:
            return None
    found = _TIME.fullmatch(text.strip())
    if not found:
        return None
    minutes, number, unit = found.groups()
    return round(float(number) * _UNIT_MS[(unit or "").lower()]) + int(minutes or 0) * 60_000


class BenchBar(QWidget):
    """One line. What it says of home is looked up when the run has moved on."""

    def __init__(self, document: Document, runner: Runner) -> None:
        super().__init__()
        self.runner = runner
        self.recipes = RecipeChoice(document, runner)
        self.target = QLineEdit()
        self.target.setPlaceholderText("Run to a condition or a time, then Enter: Done.X, or 1:30")
        self.target.setAccessibleName("Run to a condition or a time")
        self.target.returnPressed.connect(self.go)
        self.by_hand = QToolButton()
        self.by_hand.setText("Hand drive")
        self.by_hand.setCheckable(True)
        self.by_hand.setToolTip(
            "Holds all sequences; a click on a device turns over what drives it, interlocks in force"
        )
        self.by_hand.setAccessibleName("Hand drive")
        self.by_hand.clicked.connect(self.toggle_hand)
        self.home = TextLabel()
        self.home.setAccessibleName("Home")
        self.now = QToolButton()
        self.now.setText("Back to now")
        self.now.setToolTip("Everything shows the past at cursor A (Escape)")
        self.now.clicked.connect(lambda: runner.look_at(None))
        self.now.hide()
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 4, 10, 4)
        row.setSpacing(10)
        row.addWidget(self.by_hand)
        row.addWidget(self.home)
        row.addWidget(self.recipes)
        row.addWidget(self.target, 1)
        row.addWidget(self.now)
        runner.advanced.connect(self.refresh)
        self.refresh()

    def go(self) -> None:
        text = self.target.text().strip()
        if not text:
            return
        ms = moment_ms(text)
        if ms is not None:
            self.runner.jump_to(ms)
        else:
            self.runner.run_to_condition(text)

    def toggle_hand(self) -> None:
        session = self.runner.session
        if session is not None:
            on = session.situation.hand is None
            self.runner.do("drive", "", on)
            if not self.runner.running:
                self.runner.one_scan()

    def refresh(self) -> None:
        shown = self.runner.shown()
        past = self.runner.looked_at is not None
        if self.now.isVisibleTo(self) != past:
            self.now.setVisible(past)
        if shown is None:
            return
        program, s = shown
        on = s.hand is not None
        if self.by_hand.isChecked() != on:
            self.by_hand.setChecked(on)
        if not program.project.home.strip():
            text, colour = "", "faint"
        else:
            missing = missing_for_home(program, s)
            text = f"○ home needs {' and '.join(t.text if not t.negated else f'NOT {t.text}' for t in missing)}"
            colour = "false"
            if not missing:
                text, colour = "✓ at home", "true"
        if self.home.toolTip() != text or self.home.property("colour") != colour:
            self.home.setToolTip(plain(text))
            self.home.setProperty("colour", colour)
            room = max(330, self.width() - _FOR_THE_OTHERS)
            self.home.setText(self.home.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, room))
            self.home.setStyleSheet(f"color: {getattr(theme.now, colour)};")
