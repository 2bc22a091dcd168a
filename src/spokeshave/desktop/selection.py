"""What is selected, shared by all views: switching a face or a stage keeps the place."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from spokeshave.model.diagnostics import Place


class Selection(QObject):
    """The selected item as a `Place`; `changed` tells views, `asked` also asks the window to go there."""

    changed = Signal()
    asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.place = Place()

    def set(self, place: Place) -> None:
        if place != self.place:
            self.place = place
            self.changed.emit()

    def go(self, place: Place) -> None:
        """Selects an item and brings its stage to the front."""
        self.set(place)
        self.asked.emit()
