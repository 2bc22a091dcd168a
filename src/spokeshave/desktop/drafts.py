"""What is typed and not yet taken over. It belongs to the document, so that no widget that goes takes it along.

A draft knows what it is a draft of (`opening`, `closing`, `study`, `scenario Name`, `code Sequence/Choice`), the text it
began from and the text now. Saving and running ask the widgets to take their drafts over; what cannot be taken stays.
"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from spokeshave.formats.recovery import Draft

Apply = Callable[[], object]


class Drafts(QObject):
    """Texts that are typed and not taken over, by what they are of; they belong to the document."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._kept: dict[str, Draft] = {}
        self._apply: dict[str, Apply] = {}

    def __bool__(self) -> bool:
        return bool(self._kept)

    def all(self) -> list[Draft]:
        return list(self._kept.values())

    def of(self, place: str) -> Draft | None:
        return self._kept.get(place)

    def put(self, place: str, base: str, text: str, apply: Apply | None = None) -> None:
        """A text as it is typed now, where the file says `base`; what it began from is known if it has begun already."""
        old = self._kept.get(place)
        if apply is not None:
            self._apply[place] = apply
        if text == base:
            self.drop(place)
            return
        base = old.base if old is not None else base
        if old is None or old.text != text:
            self._kept[place] = Draft(place, base, text)
            self.changed.emit()

    def drop(self, place: str) -> None:
        """The text was taken over, or given up."""
        if self._kept.pop(place, None) is not None:
            self.changed.emit()

    def rename(self, old: str, new: str) -> None:
        """What the draft is of has another name now."""
        draft = self._kept.pop(old, None)
        if draft is not None:
            self._kept[new] = Draft(new, draft.base, draft.text)
            self.changed.emit()

    def take(self, drafts: tuple[Draft, ...]) -> None:
        """Drafts that were kept by an earlier run, or none for another file."""
        self._kept = {d.place: d for d in drafts}
        self._apply = {}
        self.changed.emit()

    def flush(self) -> list[str]:
        """Asks for each draft to be taken over; gives the places of those that could not be."""
        for place in list(self._kept):
            if place in self._apply and not place.startswith("code "):
                self._apply[place]()
        return list(self._kept)
