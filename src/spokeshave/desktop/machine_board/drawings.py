"""How what moves is drawn from the named numbers of its `picture`. All in a box of 132 x 78."""

from __future__ import annotations

import math
from collections.abc import Mapping

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QLinearGradient, QPainter, QPainterPath, QPen

from spokeshave.desktop.theme import text_font, theme

W = 132.0
Picture = Mapping[str, float]
Names = Mapping[str, str]
"""Short names of the signals at a device's terminals."""


def draw_switch(painter: QPainter, at: QPointF, on: float) -> None:
    """A position switch: a small ring, filled while it is on."""
    painter.setPen(QPen(theme.colour("true" if on else "faint"), 1.5))
    painter.setBrush(theme.colour("true" if on else "surface"))
    painter.drawEllipse(at, 4.0, 4.0)


def _text(painter: QPainter, box: QRectF, text: str, size: int = 10, colour: str = "faint",
          align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignHCenter, bold: bool = False) -> None:  # fmt: skip
    """A text that is cut where its box ends."""
    painter.setFont(text_font(size, bold=bold))
    painter.setPen(theme.colour(colour))
    short = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(box.width()))
    painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | align, short)


def _named_switch(painter: QPainter, at: QPointF, on: float, name: str, right: bool) -> None:
    """A switch with the name of its signal, so that two that are exchanged are seen at once."""
    draw_switch(painter, at, on)
    box = QRectF(at.x() - 55, at.y() - 7, 48, 14) if right else QRectF(at.x() + 7, at.y() - 7, 48, 14)
    align = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
    _text(painter, box, name, 9, "ink" if on else "faint", align)


def draw_actuator(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A slide on a rail between two switches; the pusher's arrow shows which way it is driven."""
    rail = QRectF(16, 40, W - 32, 6)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("hairline"))
    painter.drawRoundedRect(rail, 3, 3)
    x = rail.left() + p["position"] * (rail.width() - 34)
    painter.setBrush(theme.colour("active_soft" if p["driven"] else "raised"))
    painter.setPen(QPen(theme.colour("active" if p["driven"] else "ink"), 1.5))
    painter.drawRoundedRect(QRectF(x, 16, 34, 30), 4, 4)
    if p["driven"]:
        sign = 1 if p["driven"] > 0 else -1
        mid = QPointF(x + 17, 31)
        painter.drawLine(mid + QPointF(-8 * sign, 0), mid + QPointF(8 * sign, 0))
        painter.drawLine(mid + QPointF(8 * sign, 0), mid + QPointF(3 * sign, -5))
        painter.drawLine(mid + QPointF(8 * sign, 0), mid + QPointF(3 * sign, 5))
    for terminal in ("middle", "middle2"):
        if terminal in names:
            at = parameters.get(f"{terminal}_at", 0.5)
            draw_switch(painter, QPointF(rail.left() + 17 + at * (rail.width() - 34), 54), p[terminal])
    if "retracted" in names:
        _named_switch(painter, QPointF(16, 66), p["retracted"], names["retracted"], False)
    if "extended" in names:
        _named_switch(painter, QPointF(W - 16, 66), p["extended"], names["extended"], True)
    if not names.keys() & {"extended", "retracted"}:
        _text(painter, QRectF(26, 58, W - 52, 16), f"{100 * p['position']:.0f} %")


def draw_motor(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A rotor with three spokes that turns, and its feedback."""
    centre, r = QPointF(40, 38), 27.0
    painter.setPen(QPen(theme.colour("active" if p["driven"] else "ink"), 1.8))
    painter.setBrush(theme.colour("active_soft" if p["speed"] else "raised"))
    painter.drawEllipse(centre, r, r)
    for i in range(3):
        a = 2 * math.pi * (p["turns"] + i / 3)
        painter.drawLine(centre, centre + QPointF(math.cos(a) * (r - 5), math.sin(a) * (r - 5)))
    painter.setBrush(theme.colour("ink"))
    painter.drawEllipse(centre, 3.5, 3.5)
    left = Qt.AlignmentFlag.AlignLeft
    if "running" in names:
        draw_switch(painter, QPointF(80, 26), p["running"])
        _text(painter, QRectF(88, 18, 46, 16), names["running"], 10, "ink", left)
    tripped = not p["overload_ok"]
    text = "tripped" if tripped else f"{100 * p['speed']:.0f} %"
    _text(painter, QRectF(76, 40, 56, 16), text, 11, "late" if tripped else "faint", left)


def draw_thermal(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
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


def draw_vessel(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
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
    for switch in (s for s in ("low", "middle", "high") if s in names):
        part = min(1.0, parameters.get(f"{switch}_l", 0.0) / volume)
        draw_switch(painter, QPointF(tank.right() + 8, tank.bottom() - 2 - part * (tank.height() - 4)), p[switch])
    painter.setPen(theme.colour("ink"))
    painter.setFont(text_font(16, bold=True))
    painter.drawText(QRectF(80, 16, 52, 24), Qt.AlignmentFlag.AlignVCenter, f"{p['litres']:.1f}")
    painter.setFont(text_font(11))
    painter.setPen(theme.colour("faint"))
    painter.drawText(QRectF(80, 38, 52, 16), Qt.AlignmentFlag.AlignVCenter, "litres")
    if p["spills"]:
        painter.setPen(QPen(theme.colour("late"), 2.5))
        for x in (tank.left() - 3, tank.right() + 3):
            painter.drawLine(QPointF(x, tank.top() + 2), QPointF(x, tank.top() + 22))


def draw_axis(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A carriage on a screw, a flag where it is sent to, a mark at home."""
    low, high = 14.0, W - 14.0

    def at(part: float) -> float:
        return low + 10 + part * (high - low - 20)

    painter.setPen(QPen(theme.colour("hairline"), 5))
    painter.drawLine(QPointF(low, 38), QPointF(high, 38))
    painter.setPen(QPen(theme.colour("faint"), 1))
    for i in range(12):
        x = low + 4 + i * (high - low - 8) / 11
        painter.drawLine(QPointF(x - 2, 41), QPointF(x + 2, 35))
    painter.setPen(QPen(theme.colour("active" if p["moving"] else "ink"), 1.5))
    painter.setBrush(theme.colour("active_soft" if p["moving"] else "raised"))
    painter.drawRoundedRect(QRectF(at(p["place"]) - 10, 24, 20, 24), 3, 3)
    if p["target"] >= 0:
        x = at(p["target"])
        painter.setPen(QPen(theme.colour("true" if p["at_target"] else "false"), 1.6))
        painter.drawLine(QPointF(x, 8), QPointF(x, 22))
        painter.drawLine(QPointF(x, 8), QPointF(x + 7, 11))
        painter.drawLine(QPointF(x + 7, 11), QPointF(x, 14))
    for terminal, where in (("end_low", 0.0), ("home", p["home_at"]), ("end_high", 1.0)):
        if terminal in names:
            draw_switch(painter, QPointF(at(where), 56), p[terminal])
    _text(painter, QRectF(20, 62, W - 40, 16), f"{p['shown']:g} mm", 11, "ink")


def draw_belt(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """Rollers, items that travel, eyes below that see them, a gate across."""
    left, right, y = 10.0, W - 10.0, 40.0
    length = right - left
    painter.setPen(QPen(theme.colour("active" if p["driven"] else "ink"), 1.5))
    painter.setBrush(theme.colour("raised"))
    painter.drawRoundedRect(QRectF(left - 5, y, length + 10, 12), 6, 6)
    angle = p["moved"] * 12
    for x in (left + 1, right - 1):
        painter.drawEllipse(QPointF(x, y + 6), 4, 4)
        painter.drawLine(QPointF(x, y + 6), QPointF(x + 4 * math.cos(angle), y + 6 + 4 * math.sin(angle)))
    size = max(4.0, p["item"] * length)
    painter.setPen(QPen(theme.colour("ink"), 1.2))
    painter.setBrush(QColor("#C79A55"))
    i = 0
    while f"item{i}" in p:
        x = left + p[f"item{i}"] * length
        painter.drawRect(QRectF(x - size, y - 16, size, 15))
        i += 1
    total = max(1e-9, parameters.get("length_m", 1.0))
    if p["gate"] >= 0:
        x = left + parameters.get("gate_m", 0.0) / total * length
        painter.setPen(QPen(theme.colour("true" if p["gate"] else "false"), 3))
        top = y - 34 if p["gate"] else y - 20
        painter.drawLine(QPointF(x, top), QPointF(x, top + 18))
    for eye in ("eye1", "eye2", "eye3", "eye4"):
        if eye in names:
            draw_switch(
                painter, QPointF(left + min(1.0, parameters.get(f"{eye}_m", 0.0) / total) * length, y + 20), p[eye]
            )
    _text(painter, QRectF(14, 64, W - 28, 14), f"{int(p['count'])} on, {int(p['off'])} off")


def draw_turntable(painter: QPainter, p: Picture, parameters: Picture, names: Names) -> None:
    """A disc with its stations that turns under a fixed mark."""
    centre, r = QPointF(44, 40), 30.0
    stations = max(2, int(p["stations"]))
    painter.setPen(QPen(theme.colour("active" if not p["in_position"] else "ink"), 1.6))
    painter.setBrush(theme.colour("raised"))
    painter.drawEllipse(centre, r, r)
    for i in range(min(stations, 24)):
        a = 2 * math.pi * (i / stations - p["angle"]) - math.pi / 2
        at = centre + QPointF(math.cos(a) * (r - 8), math.sin(a) * (r - 8))
        painter.setBrush(theme.colour("accent" if i == 0 else "surface"))
        painter.drawEllipse(at, 4.5, 4.5)
    painter.setBrush(theme.colour("late" if p["missed"] else "ink"))
    painter.drawPolygon([QPointF(40, 2), QPointF(48, 2), QPointF(44, 10)])
    _text(painter, QRectF(82, 20, 46, 24), f"{int(p['station'])}", 18, "ink", Qt.AlignmentFlag.AlignLeft, bold=True)
    _text(painter, QRectF(82, 42, 46, 16), f"of {stations}", 11, "faint", Qt.AlignmentFlag.AlignLeft)
    if "in_position" in names:
        draw_switch(painter, QPointF(88, 66), p["in_position"])
