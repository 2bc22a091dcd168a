"""What stands on the board, drawn in grid units of one scale: frames of groups, lines between devices, labels, devices."""

from __future__ import annotations

from typing import NamedTuple

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPainterPath, QPen

from spokeshave.desktop.machine_board.drawings import W
from spokeshave.desktop.machine_board.operator_drawings import DRAWINGS
from spokeshave.desktop.theme import text_font, theme
from spokeshave.engine.by_hand import is_asked, is_blocked
from spokeshave.engine.link import LinkError
from spokeshave.engine.program import Program
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation
from spokeshave.machine.kinds import terminals_of
from spokeshave.machine.wiring import words_of
from spokeshave.model.answers import Answers
from spokeshave.model.project import Connection, Device, Group, Project

CELL_W, CELL_H = 138, 112
MARGIN = 12
GAP = 12
_UP, _SCALE = 23, 0.94


class Sight(NamedTuple):
    """The program and situation the board shows, and how much of the next scan has passed."""

    program: Program
    situation: Situation
    part: float


def _at_rest(p: Project) -> Sight | None:
    try:
        session = Session(Project(period_ms=p.period_ms, signals=p.signals, devices=p.devices))
    except LinkError:
        return None
    return Sight(session.program, session.situation, 0.0)


at_rest = Answers(_at_rest, most=2)
"""The devices as they stand before anything runs, for a machine file whose logic cannot run yet; None where they cannot either."""


def cell(at: tuple[int, int]) -> QRectF:
    """The room of a cell of the board, in pixels."""
    return QRectF(MARGIN + at[0] * CELL_W, MARGIN + at[1] * CELL_H, CELL_W - GAP, CELL_H - GAP)


def extent(project: Project) -> tuple[float, float]:
    """Width and height that everything needs."""
    places = [d.at for d in project.devices] + [label.at for label in project.labels]
    columns = max((x for x, _ in places), default=0) + 1
    rows = max((y for _, y in places), default=0) + 1
    return columns * CELL_W + 2 * MARGIN - GAP, rows * CELL_H + 2 * MARGIN - GAP


def short_names(d: Device) -> dict[str, str]:
    """The names of a device's signals without the words they share with it and each other: `Closed` of `DropClosed`."""
    wired = {t: s for t, s in d.wires if s}
    mine = words_of(d.name)
    out = {}
    for terminal, signal in wired.items():
        words = words_of(signal)
        rest = [w for w in words if not any(w[:4] == m[:4] for m in mine)] or words
        out[terminal] = "".join(w.capitalize() for w in rest)
    return out


def group_frame(project: Project, g: Group) -> QRectF:
    """The frame around a group's devices; null without any."""
    boxes = [cell(d.at) for d in project.devices if d.name in g.devices]
    whole = QRectF()
    for b in boxes:
        whole = b if whole.isNull() else whole.united(b)
    return whole.adjusted(-5, -11, 5, 5) if boxes else whole


def group_at(project: Project, at: QPointF) -> int:
    """The group whose name is at a place; -1 for none."""
    frames = [group_frame(project, g) for g in project.groups]
    return next((i for i, f in enumerate(frames) if f.adjusted(0, 0, 0, 13 - f.height()).contains(at)), -1)


def paint_groups(painter: QPainter, project: Project) -> None:
    """A tinted frame behind the devices of each group, with its name in the gap above."""
    for g in project.groups:
        frame = group_frame(project, g)
        if frame.isNull():
            continue
        painter.setPen(QPen(theme.colour("hairline"), 1))
        painter.setBrush(theme.colour("raised"))
        painter.drawRoundedRect(frame, 6, 6)
        painter.setFont(text_font(9, bold=True))
        painter.setPen(theme.colour("faint"))
        painter.drawText(
            QRectF(frame.left() + 8, frame.top(), frame.width() - 16, 11), Qt.AlignmentFlag.AlignVCenter, g.name
        )


def route(a: QRectF, b: QRectF) -> QPainterPath:
    """From the side of one cell to the facing side of another, with one bend at most."""
    path = QPainterPath()
    dx, dy = b.center().x() - a.center().x(), b.center().y() - a.center().y()
    if abs(dy) < 1:
        start = QPointF(a.right() if dx > 0 else a.left(), a.center().y())
        path.moveTo(start)
        path.lineTo(b.left() if dx > 0 else b.right(), start.y())
    elif abs(dx) < 1:
        path.moveTo(a.center().x(), a.bottom() if dy > 0 else a.top())
        path.lineTo(a.center().x(), b.top() if dy > 0 else b.bottom())
    else:
        y = a.center().y() + 14
        path.moveTo(a.right() if dx > 0 else a.left(), y)
        path.lineTo(b.center().x(), y)
        path.lineTo(b.center().x(), b.top() if dy > 0 else b.bottom())
    return path


def paint_connection(painter: QPainter, project: Project, c: Connection, sight: Sight | None) -> None:
    """A pipe is a hollow line, a shaft a line with a broken one in it, a belt's end an arrow."""
    ends = [project.device(n) for n in (c.source, c.target)]
    if ends[0] is None or ends[1] is None or ends[0] is ends[1]:
        return
    path = route(cell(ends[0].at), cell(ends[1].at))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    ink, inner = theme.colour("faint"), theme.colour("surface")
    if sight is not None and c.gives:
        slot = sight.program.machine.get(f"{c.source}.{c.gives}".lower(), -1)
        if slot >= 0 and sight.situation.v[slot] is True:
            inner = theme.colour("active")
    join = Qt.PenJoinStyle.RoundJoin
    flat = Qt.PenCapStyle.FlatCap
    if c.kind == "pipe":
        painter.setPen(QPen(ink, 7, Qt.PenStyle.SolidLine, flat, join))
        painter.drawPath(path)
        painter.setPen(QPen(inner, 4.5, Qt.PenStyle.SolidLine, flat, join))
        painter.drawPath(path)
    elif c.kind == "shaft":
        painter.setPen(QPen(ink, 5, Qt.PenStyle.SolidLine, flat, join))
        painter.drawPath(path)
        painter.setPen(QPen(inner, 1.4, Qt.PenStyle.DashLine, flat, join))
        painter.drawPath(path)
    else:
        painter.setPen(QPen(ink, 2.5, Qt.PenStyle.SolidLine, flat, join))
        painter.drawPath(path)
    if c.gives or c.kind == "belt end":
        end, angle = path.pointAtPercent(1.0), path.angleAtPercent(1.0)
        painter.save()
        painter.translate(end)
        painter.rotate(-angle)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(ink)
        painter.drawPolygon([QPointF(0, 0), QPointF(-9, -6), QPointF(-9, 6)])
        painter.restore()


def paint_label(painter: QPainter, at: tuple[int, int], text: str, chosen: bool) -> None:
    """Paints a label of the board in its cell and the one beside it."""
    box = cell(at)
    painter.setFont(text_font(15, bold=True))
    painter.setPen(theme.colour("accent" if chosen else "ink"))
    painter.drawText(box.adjusted(4, 2, CELL_W, -2), Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap, text)


def device_picture(sight: Sight, index: int) -> dict[str, float]:
    """The named numbers of a device; between two scans in proportion, so that slow movements are smooth."""
    device, s = sight.program.devices[index].device, sight.situation
    state = s.dev_state[index]
    k = max(0, s.k - 1, int(state[0]))
    now = device.picture(state, k)
    described = sight.program.project.devices[index]
    if described.kind == "own":
        for t in terminals_of(described):
            slot = sight.program.machine.get(f"{described.name}.{t.name}".lower(), -1)
            if slot >= 0:
                now[("<" if t.drive else ">") + t.name] = float(s.v[slot])
    if not sight.part or now.keys() != (then := device.picture(state, k + 1)).keys():
        return now
    return {n: x + (then[n] - x) * sight.part for n, x in now.items()}


def looks(sight: Sight, index: int) -> object:
    """Everything the card of a device shows: if it is the same, the card is."""
    s, program = sight.situation, sight.program
    described = program.project.devices[index]
    slots = {program.slots.get(name.lower(), -1) for _, name in described.wires}
    held = slots & s.forces.keys(), slots & s.taken
    return (
        device_picture(sight, index),
        blocked(sight, described),
        s.dev_failed[index],
        [t for i, t in s.hazards if i == index],
        held,
    )


def blocked(sight: Sight, d: Device) -> list[str]:
    """In hand drive, the outputs of a device that are asked for and kept off."""
    if sight.situation.hand is None:
        return []
    outputs = [s for _, s in d.wires if is_asked(sight.program, sight.situation, s)]
    return [f"⊘ {o} is blocked" for o in outputs if is_blocked(sight.program, sight.situation, o)]


def flows(sight: Sight | None) -> object:
    """What the lines between devices show."""
    return None if sight is None else [sight.situation.v[slot] is True for slot in sight.program.machine.values()]


def paint_device(
    painter: QPainter, d: Device, box: QRectF, chosen: bool, picked: bool, sight: Sight | None, index: int
) -> None:
    """A card with the device's name, its picture, and what is wrong with it or forced. `index` is its place in the program that
    runs, -1 if it is not in it.
    """
    failed: frozenset[str] = sight.situation.dev_failed[index] if sight is not None and index >= 0 else frozenset()
    harmed = [t for i, t in sight.situation.hazards if i == index] if sight is not None and index >= 0 else []
    barred = blocked(sight, d) if sight is not None and index >= 0 else []
    troubled = bool(failed or harmed or barred)
    painter.setBrush(theme.colour("surface"))
    edge = "accent" if chosen or picked else "late" if troubled else "hairline"
    painter.setPen(QPen(theme.colour(edge), 1.8 if chosen or picked or troubled else 1))
    painter.drawRoundedRect(box, 6, 6)
    if picked:
        painter.setPen(QPen(theme.colour("accent"), 1, Qt.PenStyle.DashLine))
        painter.drawRoundedRect(box.adjusted(3, 3, -3, -3), 4, 4)
    room = box.width() - 16
    if sight is not None and index >= 0:
        room -= _paint_held(painter, d, box, sight)
    painter.setFont(text_font(12, bold=True))
    painter.setPen(theme.colour("ink"))
    title = painter.fontMetrics().elidedText(d.name, Qt.TextElideMode.ElideRight, int(room))
    painter.drawText(QRectF(box.left() + 8, box.top() + 4, room, 18), Qt.AlignmentFlag.AlignVCenter, title)
    if sight is None or index < 0:
        return
    if troubled:
        painter.setPen(theme.colour("late"))
        painter.setFont(text_font(10, bold=True))
        text = ", ".join([f"⚠ {t}" for t in sorted(harmed)] + [f"✕ {f}" for f in sorted(failed)] + barred)
        short = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(box.width() - 12))
        place = QRectF(box.left() + 7, box.bottom() - 14, box.width() - 12, 13)
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, short)
    painter.save()
    painter.translate(box.left() + (box.width() - W * _SCALE) / 2, box.top() + _UP)
    painter.scale(_SCALE, _SCALE * (0.88 if troubled else 1.0))
    device = sight.program.devices[index].device
    DRAWINGS[d.kind](painter, device_picture(sight, index), device.value, short_names(d))
    painter.restore()


def _paint_held(painter: QPainter, d: Device, box: QRectF, sight: Sight) -> float:
    """A pin where a signal of the device is forced or set by somebody in its place; how much room that takes."""
    slots = {sight.program.slots.get(s.lower(), -1) for _, s in d.wires}
    forced, taken = bool(slots & sight.situation.forces.keys()), bool(slots & sight.situation.taken)
    if not (forced or taken):
        return 0.0
    painter.setPen(theme.colour("forced"))
    painter.setFont(text_font(9, bold=True))
    text = "● forced" if forced else "● set"
    width = painter.fontMetrics().horizontalAdvance(text)
    place = QRectF(box.right() - width - 6, box.top() + 4, width, 18)
    painter.drawText(place, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, text)
    return float(width)
