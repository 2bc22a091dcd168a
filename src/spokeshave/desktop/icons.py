"""The icon family: simple strokes, drawn for this program, in the colour of the theme's ink."""

from __future__ import annotations

from importlib.resources import files

from PySide6.QtCore import QByteArray, QRectF, Qt
from PySide6.QtGui import QIcon, QPainter, QPixmap, QPixmapCache
from PySide6.QtSvg import QSvgRenderer

from spokeshave.desktop.theme import theme


def icon(name: str, colour: str = "ink", size: int = 20) -> QIcon:
    """The icon `name` in a colour of the theme, with a faint form for disabled buttons."""
    result = QIcon()
    for shade, mode in ((colour, QIcon.Mode.Normal), ("hairline", QIcon.Mode.Disabled)):
        result.addPixmap(pixmap(name, shade, size), mode)
    return result


def pixmap(name: str, colour: str, size: int) -> QPixmap:
    """An icon of the program in a colour of the theme, `size` pixels wide and sharp on dense screens."""
    key = f"{name} {theme.colour(colour).name()} {size}"
    known = QPixmap()
    if QPixmapCache.find(key, known):
        return known
    svg = (files("spokeshave.desktop") / "icons" / f"{name}.svg").read_text(encoding="utf-8")
    svg = svg.replace("#1E2A32", theme.colour(colour).name())
    renderer = QSvgRenderer(QByteArray(svg.encode()))
    picture = QPixmap(size * 2, size * 2)
    picture.setDevicePixelRatio(2)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    renderer.render(painter, QRectF(0, 0, size, size))
    painter.end()
    QPixmapCache.insert(key, picture)
    return picture
