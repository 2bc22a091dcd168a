"""What is in circles is looked for in the thread of the windows alone.

Python collects in whichever thread happens to allocate, and a process pool has threads of its own that read large results.
A window's parts that came to be collected there would be taken down in a thread that is not theirs: the program ends.
"""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

LOOK_MS = 100
GROWN = 1.25
"""All is looked through when so many times more is kept than after the last time, as Python itself does."""


class Collector(QObject):
    """Collects by the thresholds that are set, between the events of the thread it is made in."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        self._kept, self._patience = len(gc.get_objects(2)), 1
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self.look)
        self._timer.start()

    def look(self) -> None:
        """Collects the oldest generation whose threshold is passed, with all younger ones."""
        counts, thresholds = gc.get_count(), gc.get_threshold()
        if counts[2] > thresholds[2] * self._patience:
            if len(gc.get_objects(2)) > GROWN * self._kept:
                gc.collect()
                self._kept, self._patience = len(gc.get_objects(2)), 1
            else:
                self._patience += 1
        elif counts[1] > thresholds[1]:
            gc.collect(1)
        elif counts[0] > thresholds[0]:
            gc.collect(0)
