"""Where the items and texts of a machine file stand in the IEC text it was read from."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from spokeshave.model.diagnostics import Diagnostic, Place

Key = tuple[str, str, str, int]
Spot = tuple[int, int]
"""Line and column, from 1."""


@dataclass
class Origins:
    """For each item, from which line of its text on it stands where in the file."""

    found: dict[Key, list[tuple[int, Spot, int]]] = field(default_factory=dict)

    def add(self, kind: str, sequence: str, item: str, index: int, at: Spot, lines: int = 0, left: int = 0) -> None:
        """An item begins at `at`; of a text put together from several, this part `lines` lines down. Its lines stand `left`
        columns further to the left than in the file.
        """
        self.found.setdefault((kind, sequence.lower(), item.lower(), index), []).append((lines, at, left))

    def spot(self, place: Place) -> Spot | None:
        """Line and column in the file of a place in the model, or None."""
        item = "" if place.kind == "transition" else place.item
        parts = self.found.get((place.kind, place.sequence.lower(), item.lower(), place.index))
        if not parts:
            return None
        line, column = max(1, place.line), max(1, place.column)
        lines, (first_line, first_column), left = next(p for p in reversed(parts) if p[0] < line or p is parts[0])
        down = line - 1 - lines
        return first_line + down, column + (first_column - 1 if down == 0 else left)


def in_file(d: Diagnostic, origins: Origins, file: str) -> Diagnostic:
    """The finding with the place it has in the file, where that is known, before its place in the model."""
    spot = origins.spot(d.place)
    return d if spot is None else replace(d, at=f"{file}:{spot[0]}:{spot[1]}")
