"""How each device kind is drawn from the named numbers of its `picture`. All in a box of 132 x 78."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QLinearGradient, QPainter, QPainterPath, QPen

from spokeshave.desktop.theme import text_font, theme

W = 132.0
Picture = Mapping[str, float]


def _switch(painter: QPainter, at: QPointF, on: float) -> None:
    """A position switch: a small ring, filled while it is on."""
    painter.setPen(QPen(theme.colour("true" if on else "faint"), 1.5))
    painter.setBrush(theme.colour("true" if on else "surface"))
    painter.drawEllipse(at, 4.0, 4.0)


def draw_actuator(painter: QPainter, p: Picture, parameters: Picture) -> None:
    """A slide on a rail between two switches; the pusher's arrow shows which way it is driven."""
    rail = QRectF(16, 44, W - 32, 6)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("hairline"))
    painter.drawRoundedRect(rail, 3, 3)
    x = rail.left() + p["position"] * (rail.width() - 34)
    painter.setBrush(theme.colour("active_soft" if p["driven"] else "raised"))
    painter.setPen(QPen(theme.colour("active" if p["driven"] else "ink"), 1.5))
    painter.drawRoundedRect(QRectF(x, 20, 34, 30), 4, 4)
    if p["driven"]:
        sign = 1 if p["driven"] > 0 else -1
        mid = QPointF(x + 17, 35)
        painter.drawLine(mid + QPointF(-8 * sign, 0), mid + QPointF(8 * sign, 0))
        painter.drawLine(mid + QPointF(8 * sign, 0), mid + QPointF(3 * sign, -5))
        painter.drawLine(mid + QPointF(8 * sign, 0), mid + QPointF(3 * sign, 5))
    _switch(painter, QPointF(16, 62), p["retracted"])
    _switch(painter, QPointF(W - 16, 62), p["extended"])
    painter.setFont(text_font(10))
    painter.setPen(theme.colour("faint"))
    painter.drawText(QRectF(26, 54, W - 52, 16), Qt.AlignmentFlag.AlignCenter, f"{100 * p['position']:.0f} %")


def draw_motor(painter: QPainter, p: Picture, parameters: Picture) -> None:
    """A rotor with three spokes that turns, and its feedback."""
    centre, r = QPointF(46, 38), 27.0
    painter.setPen(QPen(theme.colour("active" if p["driven"] else "ink"), 1.8))
    painter.setBrush(theme.colour("active_soft" if p["speed"] > 0 else "raised"))
    painter.drawEllipse(centre, r, r)
    for i in range(3):
        a = 2 * math.pi * (p["turns"] + i / 3)
        painter.drawLine(centre, centre + QPointF(math.cos(a) * (r - 5), math.sin(a) * (r - 5)))
    painter.setBrush(theme.colour("ink"))
    painter.drawEllipse(centre, 3.5, 3.5)
    _switch(painter, QPointF(90, 26), p["running"])
    painter.setFont(text_font(11))
    painter.setPen(theme.colour("ink"))
    painter.drawText(QRectF(99, 18, 33, 16), Qt.AlignmentFlag.AlignVCenter, "runs")
    painter.setPen(theme.colour("late" if not p["overload_ok"] else "faint"))
    text = "tripped" if not p["overload_ok"] else f"{100 * p['speed']:.0f} %"
    painter.drawText(QRectF(86, 40, 46, 16), Qt.AlignmentFlag.AlignVCenter, text)


def draw_thermal(painter: QPainter, p: Picture, parameters: Picture) -> None:
    """A column that fills with the temperature, a glow under it while it is heated."""
    low, high = parameters.get("ambient_c", 20.0), parameters.get("ambient_c", 20.0) + parameters.get("heater_k", 200.0)
    part = max(0.0, min(1.0, (p["temperature"] - low) / max(1.0, high - low)))
    tube = QRectF(20, 6, 22, 56)
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.setBrush(theme.colour("surface"))
    painter.drawRoundedRect(tube, 6, 6)
    fill = QRectF(
        tube.left() + 3, tube.bottom() - 3 - part * (tube.height() - 6), tube.width() - 6, part * (tube.height() - 6)
    )
    glow = QLinearGradient(fill.topLeft(), fill.bottomLeft())
    glow.setColorAt(0, QColor("#E69F00"))
    glow.setColorAt(1, QColor("#C8420A"))
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(glow)
    painter.drawRoundedRect(fill, 4, 4)
    if p["heating"]:
        painter.setPen(QPen(QColor("#C8420A"), 2))
        for x in (22, 31, 40):
            path = QPainterPath(QPointF(x, 76))
            path.cubicTo(x - 5, 72, x + 5, 69, x, 65)
            painter.drawPath(path)
    painter.setPen(theme.colour("ink" if p["below_high"] else "late"))
    painter.setFont(text_font(18, bold=True))
    painter.drawText(QRectF(52, 12, 80, 26), Qt.AlignmentFlag.AlignVCenter, f"{p['shown']:.1f}")
    painter.setFont(text_font(11))
    painter.setPen(theme.colour("faint"))
    state = "heating" if p["heating"] else "cooling" if p["cooling"] else "°C"
    painter.drawText(QRectF(52, 38, 80, 16), Qt.AlignmentFlag.AlignVCenter, "°C, " + state if state != "°C" else state)


def draw_vessel(painter: QPainter, p: Picture, parameters: Picture) -> None:
    """A tank with its level; arrows where something flows, a ring at each switch."""
    tank = QRectF(18, 10, 46, 54)
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.setBrush(theme.colour("surface"))
    painter.drawRoundedRect(tank, 4, 4)
    height = p["level"] * (tank.height() - 4)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QColor("#3A86C8"))
    painter.drawRoundedRect(QRectF(tank.left() + 2, tank.bottom() - 2 - height, tank.width() - 4, height), 3, 3)
    painter.setPen(QPen(theme.colour("active"), 2))
    for flows, y in ((p["filling"], tank.top() - 8), (p["emptying"], tank.bottom() + 1)):
        if flows:
            x = tank.center().x()
            painter.drawLine(QPointF(x, y), QPointF(x, y + 9))
            painter.drawLine(QPointF(x, y + 9), QPointF(x - 4, y + 5))
            painter.drawLine(QPointF(x, y + 9), QPointF(x + 4, y + 5))
    volume = max(1e-9, parameters.get("volume_l", 100.0))
    for switch in ("low", "high"):
        part = min(1.0, parameters.get(f"{switch}_l", 0.0) / volume)
        _switch(painter, QPointF(tank.right() + 8, tank.bottom() - 2 - part * (tank.height() - 4)), p[switch])
    painter.setPen(theme.colour("ink"))
    painter.setFont(text_font(16, bold=True))
    painter.drawText(QRectF(80, 16, 52, 24), Qt.AlignmentFlag.AlignVCenter, f"{p['litres']:.1f}")
    painter.setFont(text_font(11))
    painter.setPen(theme.colour("faint"))
    painter.drawText(QRectF(80, 38, 52, 16), Qt.AlignmentFlag.AlignVCenter, "litres")


def draw_button(painter: QPainter, p: Picture, parameters: Picture) -> None:
    """A cap in a collar that goes in while it is pressed."""
    centre, pressed = QPointF(W / 2, 38), p["hand"] > 0
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.setBrush(theme.colour("hairline"))
    painter.drawEllipse(centre, 28, 28)
    painter.setBrush(theme.colour("accent" if pressed else "surface"))
    painter.drawEllipse(centre, 19 if pressed else 22, 19 if pressed else 22)
    _contact(painter, p)


def draw_emergency(painter: QPainter, p: Picture, parameters: Picture) -> None:
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
    _switch(painter, QPointF(W - 12, 66), p.get("contact", 0.0))


def draw_selector(painter: QPainter, p: Picture, parameters: Picture) -> None:
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


def draw_lamp(painter: QPainter, p: Picture, parameters: Picture) -> None:
    """A lens that shines, with rays, while lit."""
    centre, lit = QPointF(W / 2, 38), p["lit"] > 0
    painter.setPen(QPen(theme.colour("ink"), 1.5))
    painter.setBrush(QColor("#F2B705") if lit else theme.colour("raised"))
    painter.drawEllipse(centre, 19, 19)
    if lit:
        painter.setPen(QPen(QColor("#D99A00"), 2.5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        for i in range(8):
            a = i * math.pi / 4
            way = QPointF(math.cos(a), math.sin(a))
            painter.drawLine(centre + way * 24, centre + way * 31)


DRAWINGS: dict[str, Callable[[QPainter, Picture, Picture], None]] = {
    "actuator": draw_actuator,
    "motor": draw_motor,
    "thermal": draw_thermal,
    "vessel": draw_vessel,
    "button": draw_button,
    "emergency": draw_emergency,
    "selector": draw_selector,
    "lamp": draw_lamp,
}
