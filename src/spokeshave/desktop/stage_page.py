"""What the window asks of the page of a stage, whichever it is."""

from __future__ import annotations

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QWidget

from spokeshave.model.diagnostics import Place


class StagePage(QWidget):
    """The page of a stage. It is made when it is first looked at, so it shows things as they are then."""

    def first(self) -> QWidget | None:
        """What gets the keyboard when the stage comes to the front."""
        return None

    def go_to(self, place: Place) -> None:
        """Brings an item into view, if the stage shows such."""

    def recolour(self) -> None:
        """After a change between light and dark: what was painted ahead is painted again."""

    def leave(self, settings: QSettings | None) -> None:
        """The window closes: work ends, sizes are kept if there is a place for them."""
