"""Pictures of the bench: a snapshot as PNG, and a run of the board as an animated picture."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QBuffer, QIODevice, QTimer
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import QWidget

from spokeshave.formats.disk import write_bytes_atomically
from spokeshave.verify.progress import look

if TYPE_CHECKING:
    from spokeshave.desktop.bench.timing_diagram import TimingStrip

FRAME_MS = 100
MOST_FRAMES = 900


def png_bytes(picture: QPixmap | QImage) -> bytes:
    """A picture as PNG."""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image = picture.toImage() if isinstance(picture, QPixmap) else picture
    image.save(buffer, "PNG")  # type: ignore[call-overload]
    return bytes(buffer.data().data())


def snapshot_csv(strip: TimingStrip) -> str:
    """The lanes in view as text: one row for each scan in which one of them changes."""
    from spokeshave.verify.lanes import snapshot

    session = strip.runner.session
    if session is None or not session.trace.scan_count:
        return ""
    trace = session.trace
    names: list[str] = []
    for lane in strip.lanes(session):
        if lane.kind in ("bool", "number"):
            names.append(lane.name)
        elif lane.kind == "steps":
            names += [r.name for r in trace.recorded if r.kind == "step" and r.name.startswith(f"{lane.name}.")]
    first = max(0, int(strip.start_ms // trace.period_ms))
    last = min(trace.scan_count - 1, int((strip.start_ms + strip.span_ms) // trace.period_ms))
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows(snapshot(trace, names, first, last))
    return text.getvalue()


def save_snapshot(strip: TimingStrip, path: Path) -> None:
    """Writes what is in view, as a picture or as CSV by the ending. Raises `FormatError`."""
    data = snapshot_csv(strip).encode() if path.suffix.lower() == ".csv" else png_bytes(strip.grab())
    write_bytes_atomically(data, path)


class BoardFilm:
    """Takes a picture of what is looked at ten times a second while it is on; `gif_of` makes one animated picture of them."""

    def __init__(self, parent: QWidget, watched: Callable[[], QWidget]) -> None:
        self.watched = watched
        self.frames: list[bytes] = []
        """As PNG: a minute of the board is not held as pixels."""
        self._timer = QTimer(parent)
        self._timer.setInterval(FRAME_MS)
        self._timer.timeout.connect(self.take)

    @property
    def on(self) -> bool:
        return self._timer.isActive()

    def start(self) -> None:
        self.frames = []
        self.widget = self.watched()
        """One and the same from beginning to end: pictures of one size."""
        self.take()
        self._timer.start()

    def stop(self) -> None:
        self._timer.stop()

    def take(self) -> None:
        self.frames.append(png_bytes(self.widget.grab()))
        if len(self.frames) >= MOST_FRAMES:
            self.stop()


def gif_of(frames: list[bytes]) -> bytes:
    """Pictures as one GIF that plays for ever; empty without any. It can be made in a process of the proof."""
    from PIL import Image

    pictures = []
    for n, data in enumerate(frames):
        look(n / len(frames))
        pictures.append(Image.open(io.BytesIO(data)).convert("RGB").quantize(128))
    if not pictures:
        return b""
    out = io.BytesIO()
    pictures[0].save(out, "GIF", save_all=True, append_images=pictures[1:], duration=FRAME_MS, loop=0, optimize=False)
    return out.getvalue()
