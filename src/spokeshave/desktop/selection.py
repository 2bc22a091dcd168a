"""What is selected, shared by all views: switching a face or a stage keeps the place."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from spokeshave.model.diagnostics import Place


class Selection(QObject):
    """The selected item as a `Place`, and all selected steps where there are several.

    `changed` tells views, `asked` also asks the window to go there, `uses_asked` to list where the item is used.
    """

    changed = Signal()
    asked = Signal()
    uses_asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.place = Place()
        self.steps: tuple[str, ...] = ()
        """Names of the selected steps of `place.sequence`, in listed order; empty unless there are several."""

    def set(self, place: Place, steps: tuple[str, ...] = ()) -> None:
        steps = steps if len(steps) > 1 else ()
        if place != self.place or steps != self.steps:
            self.place, self.steps = place, steps
            self.changed.emit()

    def go_to(self, kind: str, item: str) -> None:
        """`go` to a signal, device, scenario or requirement by its name."""
        self.go(Place(kind, item=item))

    def ask_uses(self, place: Place) -> None:
        """Selects an item and asks where it is used."""
        self.set(place)
        self.uses_asked.emit()

    def go(self, place: Place) -> None:
        """Selects an item and brings its stage to the front."""
        self.set(place)
        self.asked.emit()
