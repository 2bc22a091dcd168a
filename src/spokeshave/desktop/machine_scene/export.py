"""The scene on paper: as it is when the machine begins."""

from __future__ import annotations

import math

from PySide6.QtCore import QBuffer, QIODevice, QRectF, QSize
from PySide6.QtGui import QPainter
from PySide6.QtSvg import QSvgGenerator

from spokeshave.desktop.machine_board.cards import Sight
from spokeshave.desktop.machine_scene.painting import extent, fitting, paint_scene, seen
from spokeshave.desktop.theme import theme
from spokeshave.engine.link import LinkError
from spokeshave.engine.session import Session
from spokeshave.model.project import Project

PX = 9
"""Pixels from one grid line to the next."""


def scene_svg(project: Project) -> str:
    """The scene as one SVG drawing, as it stands in a text; empty without one."""
    if not project.scene:
        return ""
    sight = None
    try:
        session = Session(project)
        session.scan()
        sight = Sight(session.program, session.situation, 0.0)
    except LinkError:  # told by the check; nothing moves then
        pass
    whole = extent(project.scene)
    room = QRectF(0, 0, math.ceil(whole.width() * PX), math.ceil(whole.height() * PX))
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    generator = QSvgGenerator()
    generator.setOutputDevice(buffer)
    generator.setSize(QSize(int(room.width()), int(room.height())))
    generator.setViewBox(room)
    generator.setTitle(f"{project.name}, scene")
    with theme.on_paper():
        painter = QPainter(generator)
        painter.setTransform(fitting(room, project.scene), True)
        paint_scene(painter, project, seen(sight, project.scene))
        painter.end()
    drawing = bytes(buffer.data().data()).decode()
    return drawing[drawing.index("<svg") :]
