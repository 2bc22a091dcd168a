"""What a widget looks like, as far as a test can say."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

FEW = 12
"""Colours that even a blank area with a frame may have."""


def drawn(widget: QWidget) -> bool:
    """Whether a widget paints something: more colours than a blank area has. A fault while painting fails the test by itself."""
    image = widget.grab().toImage()
    wide, high = max(1, image.width() // 160), max(1, image.height() // 160)
    seen = {image.pixel(x, y) for x in range(0, image.width(), wide) for y in range(0, image.height(), high)}
    return len(seen) > FEW
