"""How an operator's things are drawn, and the table of all drawings. All in a box of 132 x 78."""

from __future__ import annotations

import math
from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from spokeshave.desktop.machine_board.drawings import (
    Names,
    Picture,
    W,
    draw_actuator,
    draw_axis,
    draw_belt,
    draw_motor,
    draw_switch,
    draw_thermal,
    draw_turntable,
    draw_vessel,
)
from spokeshave.desktop.theme import text_font, theme


def draw_button(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A cap in a collar that goes in while it is pressed."""
    centre, pressed = QPointF(W / 2, 38), p["hand"] > 0
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.setBrush(theme.colour("hairline"))
    painter.drawEllipse(centre, 28, 28)
    painter.setBrush(theme.colour("accent" if pressed else "surface"))
    painter.drawEllipse(centre, 19 if pressed else 22, 19 if pressed else 22)
    _contact(painter, p)


def draw_emergency(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A large head with a cross bar; stays in until it is pulled."""
    centre, pressed = QPointF(W / 2, 38), p["hand"] > 0
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.setBrush(QColor("#F0C808"))
    painter.drawRoundedRect(QRectF(W / 2 - 33, 5, 66, 66), 6, 6)
    painter.setBrush(QColor("#A31621" if pressed else "#D7263D"))
    r = 22 if pressed else 27
    painter.drawEllipse(centre, r, r)
    painter.setPen(QPen(QColor("#FFFFFF"), 3))
    if pressed:
        painter.drawLine(centre + QPointF(-9, -9), centre + QPointF(9, 9))
        painter.drawLine(centre + QPointF(-9, 9), centre + QPointF(9, -9))
    _contact(painter, p)


def _contact(painter: QPainter, p: Picture) -> None:
    draw_switch(painter, QPointF(W - 12, 66), p.get("contact", 0.0))


def draw_selector(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A knob that points to its position."""
    count = int(max(2, min(4, parameters.get("positions", 2))))
    centre = QPointF(W / 2, 42)
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.setBrush(theme.colour("raised"))
    painter.drawEllipse(centre, 24, 24)
    painter.setFont(text_font(11))
    for i in range(count):
        a = math.radians(-90 + (i - (count - 1) / 2) * 50)
        here = int(p["hand"]) == i
        painter.setPen(theme.colour("accent" if here else "faint"))
        at = centre + QPointF(math.cos(a) * 34, math.sin(a) * 34)
        painter.drawText(QRectF(at.x() - 8, at.y() - 8, 16, 16), Qt.AlignmentFlag.AlignCenter, str(i))
        if here:
            painter.setPen(QPen(theme.colour("accent"), 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            painter.drawLine(centre, centre + QPointF(math.cos(a) * 18, math.sin(a) * 18))


_LENSES = {0: "#F4F4F0", 1: "#2FA36B", 2: "#F2B705", 3: "#D7263D", 4: "#2F7FC1"}


def draw_lamp(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A lens that shines, with rays, while lit."""
    centre, lit = QPointF(W / 2, 38), p["lit"] > 0
    lens = QColor(_LENSES.get(int(parameters.get("colour", 2)), "#F2B705"))
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.setBrush(lens if lit else theme.colour("raised"))
    painter.drawEllipse(centre, 19, 19)
    if not lit:
        painter.setPen(QPen(lens, 3))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(centre, 15, 15)
    if lit:
        painter.setPen(QPen(lens.darker(120), 2.5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        for i in range(8):
            a = i * math.pi / 4
            way = QPointF(math.cos(a), math.sin(a))
            painter.drawLine(centre + way * 24, centre + way * 31)


def draw_horn(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A funnel, with waves before it while it sounds."""
    painter.setPen(QPen(theme.colour("late" if p["lit"] else "ink"), 1.8))
    painter.setBrush(theme.colour("raised"))
    painter.drawPolygon(
        [QPointF(36, 32), QPointF(48, 32), QPointF(68, 18), QPointF(68, 60), QPointF(48, 46), QPointF(36, 46)]
    )
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for i in range(3 if p["lit"] else 0):
        painter.drawArc(QRectF(66 - 8 * i, 31 - 8 * i, 16 + 16 * i, 16 + 16 * i), -45 * 16, 90 * 16)


def draw_display(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A number in a window."""
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.setBrush(QColor("#16323A"))
    painter.drawRoundedRect(QRectF(16, 20, W - 32, 36), 4, 4)
    if not p["dark"]:
        painter.setFont(text_font(19, bold=True))
        painter.setPen(QColor("#BFE9E4"))
        text = f"{p['value']:.{max(0, min(6, int(parameters.get('decimals', 1))))}f}"
        painter.drawText(QRectF(20, 20, W - 40, 36), Qt.AlignmentFlag.AlignCenter, text)


def draw_setpoint(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A slider between its limits with its number; the wheel and a press on the rail turn it."""
    low, high = parameters.get("least", 0.0), parameters.get("most", 100.0)
    part = 0.0 if high <= low else max(0.0, min(1.0, (p["hand"] - low) / (high - low)))
    painter.setPen(QPen(theme.colour("hairline"), 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
    painter.drawLine(QPointF(18, 50), QPointF(W - 18, 50))
    painter.setPen(QPen(theme.colour("accent"), 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
    x = 18 + part * (W - 36)
    painter.drawLine(QPointF(18, 50), QPointF(x, 50))
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.setBrush(theme.colour("surface"))
    painter.drawEllipse(QPointF(x, 50), 8, 8)
    painter.setFont(text_font(16, bold=True))
    painter.drawText(QRectF(10, 12, W - 20, 24), Qt.AlignmentFlag.AlignCenter, f"{p['hand']:g}")
    painter.setFont(text_font(9))
    painter.setPen(theme.colour("faint"))
    painter.drawText(QRectF(12, 60, 50, 14), Qt.AlignmentFlag.AlignLeft, f"{low:g}")
    painter.drawText(QRectF(W - 62, 60, 50, 14), Qt.AlignmentFlag.AlignRight, f"{high:g}")


def draw_follower(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """Asked for at the left, shown at the right, with the delay between them."""
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.drawLine(QPointF(36, 38), QPointF(W - 36, 38))
    for x, on in ((28.0, p["wanted"]), (W - 28, p["shows"])):
        painter.setPen(QPen(theme.colour("ink"), 1.5))
        painter.setBrush(theme.colour("active" if on else "surface"))
        painter.drawEllipse(QPointF(x, 38), 9, 9)
    painter.setPen(QPen(theme.colour("faint"), 1.4))
    painter.setBrush(theme.colour("surface"))
    painter.drawEllipse(QPointF(W / 2, 38), 11, 11)
    painter.drawLine(QPointF(W / 2, 38), QPointF(W / 2, 31))
    painter.drawLine(QPointF(W / 2, 38), QPointF(W / 2 + 5, 40))


def draw_own(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """What it is given at the left, what it gives at the right, with their values."""
    painter.setPen(QPen(theme.colour("ink"), 1.2))
    painter.setBrush(theme.colour("raised"))
    painter.drawRoundedRect(QRectF(8, 4, W - 16, 70), 4, 4)
    painter.setFont(text_font(10))
    shown = sorted(n for n in p if n[:1] in "<>")
    for i, name in enumerate(shown[:5]):
        painter.setPen(theme.colour("active" if name[0] == "<" else "true"))
        text = f"{'→' if name[0] == '<' else '←'} {name[1:]}"
        box = QRectF(14, 7 + 13 * i, W - 28, 13)
        painter.drawText(
            box, Qt.AlignmentFlag.AlignLeft, painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, 70)
        )
        painter.setPen(theme.colour("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignRight, f"{p[name]:g}")


DRAWINGS: dict[str, Callable[[QPainter, Picture, Picture, Names], None]] = {
    "actuator": draw_actuator, "motor": draw_motor, "axis": draw_axis, "vessel": draw_vessel, "thermal": draw_thermal,
    "belt": draw_belt, "turntable": draw_turntable, "button": draw_button, "selector": draw_selector,
    "emergency": draw_emergency, "setpoint": draw_setpoint, "lamp": draw_lamp, "horn": draw_horn,
    "display": draw_display, "follower": draw_follower, "own": draw_own,
}  # fmt: skip
