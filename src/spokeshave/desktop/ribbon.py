"""The ribbon of stages in the order people work, each with a small mark of its state."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.theme import text_font, theme
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.usage import speaks_of_signals


def stage_states(document: Document, has_run: bool) -> tuple[str, ...]:
    """For each stage nothing, open or proven."""
    p, bad = document.project, [d.place.kind for d in document.findings if d.severity != "advice"]

    def state(anything: object, *kinds: str) -> str:
        return "nothing" if not anything else "open" if any(k in kinds for k in bad) else "proven"

    signals = state(p.signals, "signal")
    if signals == "proven" and not speaks_of_signals(p):
        signals = "open"  # a list alone, of which nothing speaks yet

    covered = document.coverage()
    brief = "nothing" if not covered else "proven" if all(c.state == "proven" for c in covered) else "open"
    known = document.ledger.standing
    outcomes = [known[s.name].proof.outcome for s in p.scenarios if s.name in known and known[s.name].holds]
    proof = "nothing" if not p.scenarios else "open"
    if p.scenarios and len(outcomes) == len(p.scenarios) and all(o is Outcome.PASS for o in outcomes):
        proof = "proven"
    return (
        brief,
        signals,
        state(p.sequences, "step", "transition", "action", "body", "sequence", "opening", "closing"),
        state(p.devices, "device"),
        "proven" if has_run else "nothing",
        proof,
    )


class StageButton(QAbstractButton):
    """A stage: number, name and the mark of its state; the ribbon joins them with chevrons."""

    def __init__(self, number: int, name: str) -> None:
        super().__init__()
        self.number, self.name, self.state = number, name, "nothing"
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(f"Stage {number} {name}")
        self.setToolTip(plain(f"{name}  (Ctrl+{number})"))

    def sizeHint(self) -> QSize:
        return QSize(46 + self.fontMetrics().horizontalAdvance(self.name) + 22, 36)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect())
        if self.isChecked():
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("surface"))
            painter.drawRoundedRect(box.adjusted(2, 3, -8, -3), 5, 5)
            painter.fillRect(QRectF(8, box.bottom() - 4, box.width() - 22, 2.5), theme.colour("accent"))
        painter.setFont(text_font(13, bold=self.isChecked()))
        painter.setPen(theme.colour("faint"))
        painter.drawText(QRectF(10, 0, 14, box.height()), Qt.AlignmentFlag.AlignVCenter, str(self.number))
        painter.setPen(theme.colour("accent" if self.isChecked() or self.underMouse() else "ink"))
        painter.drawText(QRectF(22, 0, box.width(), box.height()), Qt.AlignmentFlag.AlignVCenter, self.name)
        self._paint_state(painter, QPointF(box.right() - 20, box.center().y()))
        painter.setPen(QPen(theme.colour("hairline"), 1.5))
        x, y = box.right() - 4, box.center().y()
        painter.drawPolyline(QPolygonF([QPointF(x - 3, y - 7), QPointF(x + 1, y), QPointF(x - 3, y + 7)]))
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("accent"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box.adjusted(3, 4, -9, -4), 4, 4)

    def _paint_state(self, painter: QPainter, at: QPointF) -> None:
        if self.state == "proven":
            painter.setPen(QPen(theme.colour("true"), 2))
            painter.drawPolyline(QPolygonF([at + QPointF(-4, 0), at + QPointF(-1, 3), at + QPointF(4, -4)]))
        elif self.state == "open":
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("false"))
            painter.drawEllipse(at, 3.2, 3.2)
        else:
            painter.setPen(QPen(theme.colour("faint"), 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, 3.2, 3.2)


class Ribbon(QWidget):
    """Emits `chosen` with the index of a stage."""

    chosen = Signal(int)

    def __init__(self, titles: tuple[str, ...]) -> None:
        super().__init__()
        self.buttons = [StageButton(i + 1, name) for i, name in enumerate(titles)]
        row = QHBoxLayout(self)
        row.setContentsMargins(4, 0, 0, 0)
        row.setSpacing(0)
        for i, button in enumerate(self.buttons):
            button.clicked.connect(lambda _=False, i=i: self.chosen.emit(i))
            row.addWidget(button)

    def show_stage(self, index: int) -> None:
        """Which stage is in front; -1 for none."""
        for i, button in enumerate(self.buttons):
            button.setAutoExclusive(index >= 0)
            button.setChecked(i == index)

    def show_states(self, states: tuple[str, ...]) -> None:
        words = {"nothing": "nothing yet", "open": "open points", "proven": "in order"}
        for button, state in zip(self.buttons, states):
            button.state = state
            button.setToolTip(plain(f"{button.name}: {words[state]}  (Ctrl+{button.number})"))
            button.update()
