"""Paints the scene: every shape as what it follows is now. One unit is a grid line."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import lru_cache

from PySide6.QtCore import QByteArray, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QTransform
from PySide6.QtSvg import QSvgRenderer

from spokeshave.desktop.machine_board.cards import Sight, device_picture
from spokeshave.desktop.theme import text_font, theme
from spokeshave.model.project import Project
from spokeshave.model.scene import Shape, carriers, part_of

_TINTS = {"wood": "#C79B62", "water": "#5BA7D6", "heat": "#D9631E", "light": "#F2C230", "green": "#17936B", "red": "#C5431B",
          "blue": "#2C6FB0"}  # fmt: skip
"""Colours that are the same in both themes."""
_THEMED = {"metal": "raised", "ink": "ink", "paper": "surface"}
MARGIN = 2
ITEM_HIGH = 0.8


@dataclass(frozen=True, slots=True)
class Seen:
    """What a shape shows now: its number, whether what it follows is driven, and whether something is wrong with it."""

    value: float = 0.0
    driven: bool = False
    troubled: bool = False
    items: tuple[float, ...] = ()
    item: float = 0.1


STILL = Seen()


def colour_of(name: str) -> QColor:
    """A colour of the scene."""
    return QColor(_TINTS[name]) if name in _TINTS else theme.colour(_THEMED.get(name, "raised"))


def seen(sight: Sight | None, scene: Iterable[Shape]) -> dict[str, Seen]:
    """What every shape shows, by its name; all stand still without a run."""
    found: dict[str, Seen] = {}
    if sight is None:
        return found
    program, s = sight.program, sight.situation
    places = {d.name.lower(): i for i, d in enumerate(program.devices)}
    pictures: dict[int, Mapping[str, float]] = {}
    for shape in scene:
        index = places.get(shape.follows.lower(), -1)
        if index >= 0:
            if index not in pictures:
                pictures[index] = device_picture(sight, index)
            picture = pictures[index]
            number = shape.number or program.devices[index].device.main
            value = picture.get(number, picture.get("<" + number, picture.get(">" + number, 0.0)))
            items = tuple(x for n, x in picture.items() if n.startswith("item") and n != "item")
            harmed = bool(s.dev_failed[index]) or any(i == index for i, _ in s.hazards)
            found[shape.name] = Seen(value, bool(picture.get("driven")), harmed, items, picture.get("item", 0.1))
        elif (slot := program.slots.get(shape.follows.lower(), -1)) >= 0 and shape.follows:
            found[shape.name] = Seen(float(s.v[slot]), bool(s.v[slot]), False)
    return found


def moved(shape: Shape, now: Seen) -> QTransform:
    """How a shape is moved or turned by what it follows."""
    change = QTransform()
    if shape.act == "moves":
        part = part_of(shape, now.value)
        change.translate(shape.by[0] * part, shape.by[1] * part)
    elif shape.act == "turns":
        span = shape.high - shape.low
        at = hinge(shape)
        change.translate(at.x(), at.y())
        change.rotate(shape.by[0] * ((now.value - shape.low) / span if span else 0.0))
        change.translate(-at.x(), -at.y())
    return change


def transform_of(scene: tuple[Shape, ...], shape: Shape, now: Mapping[str, Seen]) -> QTransform:
    """Where a shape is, with all it rides on."""
    change = moved(shape, now.get(shape.name, STILL))
    for under in carriers(scene, shape):
        change *= moved(under, now.get(under.name, STILL))
    return change


def box_of(shape: Shape) -> QRectF:
    """The room of a shape where it stands."""
    return QRectF(shape.at[0], shape.at[1], shape.size[0], shape.size[1])


def hinge(shape: Shape) -> QPointF:
    """What a shape turns about."""
    box = box_of(shape)
    x = {"left": box.left(), "right": box.right()}.get(shape.hinge, box.center().x())
    y = {"top": box.top(), "bottom": box.bottom()}.get(shape.hinge, box.center().y())
    return QPointF(x, y)


@lru_cache(maxsize=16)
def extent(scene: tuple[Shape, ...]) -> QRectF:
    """What all shapes need, wherever they move to. Asked for again and again, so it is kept."""
    whole = QRectF()
    for full in (0.0, 1.0):
        ends = {s.name: Seen(s.low + full * (s.high - s.low)) for s in scene if s.act in ("moves", "turns")}
        for shape in scene:
            whole = whole.united(transform_of(scene, shape, ends).mapRect(box_of(shape)))
    return whole.adjusted(-MARGIN, -MARGIN, MARGIN, MARGIN)


def fitting(room: QRectF, scene: tuple[Shape, ...]) -> QTransform:
    """From grid lines to the pixels of a room: all of it, in the middle."""
    whole = extent(scene)
    scale = min(room.width() / max(1.0, whole.width()), room.height() / max(1.0, whole.height()))
    change = QTransform()
    change.translate(room.center().x(), room.center().y())
    change.scale(scale, scale)
    change.translate(-whole.center().x(), -whole.center().y())
    return change


def paint_scene(painter: QPainter, project: Project, now: Mapping[str, Seen]) -> None:
    """All shapes, those behind first. One unit of the painter is a grid line."""
    for shape in project.scene:
        painter.save()
        painter.setTransform(transform_of(project.scene, shape, now) * painter.transform())
        _paint(painter, project, shape, now.get(shape.name, STILL))
        painter.restore()


def _paint(painter: QPainter, project: Project, shape: Shape, now: Seen) -> None:
    box, colour = box_of(shape), colour_of(shape.colour)
    if shape.kind == "part":
        renderer = _drawing(project.svg)
        if renderer is not None and renderer.elementExists(shape.text):
            renderer.render(painter, shape.text, box)
            return
    if shape.act == "carries":
        _items(painter, shape, box, colour, now)
        return
    if shape.kind == "text" or shape.act == "shows":
        text = f"{_number(now.value)} {shape.text}".strip() if shape.act == "shows" else shape.text
        _text(painter, box, text, colour if shape.kind == "text" else theme.colour("ink"))
        return
    edge = "late" if now.troubled else "active" if now.driven else "ink"
    pen = QPen(theme.colour(edge), 0.34 if now.driven or now.troubled else 0.16)
    lit = shape.act != "lights" or part_of(shape, now.value) >= 0.5
    painter.setPen(pen if shape.kind != "line" else Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("surface") if shape.act == "fills" or not lit else colour)
    _outline(painter, shape, box)
    if shape.act == "fills":
        part = part_of(shape, now.value)
        inner = box.adjusted(0.3, 0.3, -0.3, -0.3)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colour)
        full = QRectF(inner.left(), inner.bottom() - inner.height() * part, inner.width(), inner.height() * part)
        if shape.hinge == "left":
            full = QRectF(inner.left(), inner.top(), inner.width() * part, inner.height())
        elif shape.hinge == "right":
            full = QRectF(inner.right() - inner.width() * part, inner.top(), inner.width() * part, inner.height())
        painter.drawRect(full)
    if now.troubled:
        _text(painter, QRectF(box.right() - 1.6, box.top() - 1.2, 2.4, 2.4), "⚠", theme.colour("late"))
    if shape.text and shape.kind != "part":
        lines = min(2.2, box.height() * 0.5)
        dark = shape.colour in ("ink", "blue", "red", "green") and shape.act != "fills" and lit
        place = QRectF(box.left(), box.center().y() - lines / 2, box.width(), lines)
        _text(painter, place, shape.text, theme.colour("surface" if dark else "ink"))


def _outline(painter: QPainter, shape: Shape, box: QRectF) -> None:
    if shape.kind == "round":
        painter.drawEllipse(box)
    elif shape.kind == "line":
        painter.drawRect(box)
    else:
        painter.drawRoundedRect(box, 0.5, 0.5)


def _items(painter: QPainter, shape: Shape, box: QRectF, colour: QColor, now: Seen) -> None:
    """What lies on a belt, each where it is; they run from left to right, or from the hinge."""
    painter.setPen(QPen(theme.colour("ink"), 0.16))
    painter.setBrush(colour)
    upright = shape.hinge in ("top", "bottom")
    length = box.height() if upright else box.width()
    long = max(0.6, now.item * length)
    for x in now.items:
        at = (1 - x if shape.hinge in ("right", "bottom") else x) * length - long / 2
        if upright:
            painter.drawRect(QRectF(box.left(), box.top() + at, box.width() * ITEM_HIGH, long))
        else:
            painter.drawRect(
                QRectF(box.left() + at, box.bottom() - box.height() * ITEM_HIGH, long, box.height() * ITEM_HIGH)
            )


def _number(value: float) -> str:
    return f"{value:.0f}" if abs(value) >= 100 or value == int(value) else f"{value:.1f}"


def _text(painter: QPainter, box: QRectF, text: str, colour: QColor) -> None:
    """A text as high as its box; drawn large and made small, since letters have whole sizes."""
    if not text:
        return
    painter.save()
    large = 40.0 / max(0.1, box.height() * 0.8)
    painter.translate(box.center())
    painter.scale(1 / large, 1 / large)
    painter.setFont(text_font(40, bold=True))
    painter.setPen(colour)
    width = painter.fontMetrics().horizontalAdvance(text)
    if width > box.width() * large:
        painter.scale(box.width() * large / width, box.width() * large / width)
    painter.drawText(QRectF(-width, -40, 2 * width, 80), Qt.AlignmentFlag.AlignCenter, text)
    painter.restore()


@lru_cache(maxsize=4)
def _drawing(svg: str) -> QSvgRenderer | None:
    """The drawing whose parts are named; None for none, and for a text that is no drawing."""
    if not svg.strip():
        return None
    renderer = QSvgRenderer(QByteArray(svg.encode()))
    return renderer if renderer.isValid() else None
