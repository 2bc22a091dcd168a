"""The operator's page as it is laid out: tiles on a grid, each with what it shows or lets an operator do.

Not here: pixels; a tile is as large as its number of fields of the grid, and the grid is as large as the screen.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from spokeshave.model.diagnostics import Told

if TYPE_CHECKING:
    from spokeshave.model.project import Project

KINDS = ("value", "setting", "button", "selector", "lamp", "recipes", "sequence", "alarms", "scene", "text")
"""What a tile is."""
WIDE, HIGH = 12, 10
"""Fields of the grid."""
SIZES = {
    "sequence": (6, 2),
    "alarms": (6, 3),
    "scene": (6, 5),
    "recipes": (4, 1),
    "text": (4, 1),
    "setting": (3, 2),
    "selector": (3, 2),
    "value": (3, 2),
}
"""How large a new tile of a kind is; others are two by two."""
OF_NOTHING = frozenset(("recipes", "alarms", "scene", "text"))
"""Kinds that are of nothing in particular."""


class PanelError(Told, ValueError):
    """A tile that cannot be as it is asked for."""


@dataclass(frozen=True, slots=True)
class Tile:
    """A tile. `of` names a signal, a device or a sequence; `text` stands in the place of its name. `step` is by how much a press changes a
    setting: a number, or seconds.
    """

    name: str
    kind: str
    of: str = ""
    at: tuple[int, int] = (0, 0)
    size: tuple[int, int] = (2, 2)
    text: str = ""
    step: float = 1.0

    @property
    def title(self) -> str:
        return self.text or self.of or self.kind.capitalize()

    def covers(self, other: Tile) -> bool:
        """Whether two tiles have a field in common."""
        apart = (self.at[i] + self.size[i] <= other.at[i] or other.at[i] + other.size[i] <= self.at[i] for i in (0, 1))
        return not any(apart)


def fits(tile: Tile, others: tuple[Tile, ...]) -> bool:
    """Whether a tile lies on the grid and on no other."""
    inside = all(tile.at[i] >= 0 and tile.size[i] >= 1 and tile.at[i] + tile.size[i] <= (WIDE, HIGH)[i] for i in (0, 1))
    return inside and not any(tile.covers(o) for o in others if o.name != tile.name)


def room_for(tile: Tile, others: tuple[Tile, ...]) -> Tile | None:
    """The tile at the first free place, row by row; smaller where there is none for all of it; None on a full page."""
    for w, h in ((tile.size), (max(2, tile.size[0] // 2), max(1, tile.size[1] // 2)), (1, 1)):
        for y in range(HIGH - h + 1):
            for x in range(WIDE - w + 1):
                placed = replace(tile, at=(x, y), size=(w, h))
                if fits(placed, others):
                    return placed
    return None


def with_tile(project: Project, kind: str, of: str = "", text: str = "") -> Project:
    """The machine file with one tile more, at the first free place. Raises `PanelError` on a full page."""
    taken = {t.name.lower() for t in project.panel}
    stem = of or kind
    name = next(n for n in (stem, *(f"{stem} {i}" for i in range(2, WIDE * HIGH + 2))) if n.lower() not in taken)
    placed = room_for(Tile(name, kind, of, size=SIZES.get(kind, (2, 2)), text=text), project.panel)
    if placed is None:
        raise PanelError("the page is full: make a tile smaller, or take one away")
    return replace(project, panel=(*project.panel, placed))


def put_tile(project: Project, tile: Tile) -> Project:
    """A tile as it is now, by its name. Raises `PanelError` for one that would lie on another, or beside the grid."""
    if not fits(tile, project.panel):
        raise PanelError(f"{tile.title} would lie on another, or beside the page")
    return replace(project, panel=tuple(tile if t.name == tile.name else t for t in project.panel))


def without_tile(project: Project, name: str) -> Project:
    """The page without a tile."""
    return replace(project, panel=tuple(t for t in project.panel if t.name != name))


def offered(project: Project) -> Iterator[tuple[str, str]]:
    """What can be on the page, as kinds and names: what an operator looks for first comes first."""
    yield from (("sequence", q.name) for q in project.sequences)
    yield "alarms", ""
    for d in project.devices:
        if d.kind in ("button", "emergency"):
            yield "button", d.name
        elif d.kind in ("selector", "setpoint"):
            yield "selector", d.name
    given = {s.lower() for d in project.devices for _, s in d.wires}
    for s in project.signals:
        if str(s.cls) == "input" and s.name.lower() not in given and str(s.type) == "BOOL":
            yield "button", s.name
    yield from (("setting", s.name) for s in project.signals if str(s.cls) == "setting")
    yield from (("value", s.name) for s in project.signals if str(s.cls) != "setting" and str(s.type) != "BOOL")
    yield from (
        ("lamp", s.name)
        for s in project.signals
        if str(s.cls) in ("output", "input", "internal") and str(s.type) == "BOOL"
    )
    if project.recipes:
        yield "recipes", ""
    if project.scene:
        yield "scene", ""
    yield "text", ""


def drafted(project: Project) -> Project:
    """A first page: sequences, alarms, the scene, buttons, selectors, settings and numbers, as far as there is room; no lamps."""
    project = replace(project, panel=())
    wanted = [(kind, of) for kind, of in offered(project) if kind not in ("lamp", "text")]
    first = ("sequence", "alarms", "scene", "recipes")
    wanted.sort(key=lambda x: first.index(x[0]) if x[0] in first else len(first))
    for kind, of in wanted:
        size = SIZES.get(kind, (2, 2))
        if sum(t.size[0] * t.size[1] for t in project.panel) + size[0] * size[1] > WIDE * HIGH:
            continue
        try:
            grown = with_tile(project, kind, of)
        except PanelError:
            break
        if grown.panel[-1].size == size:
            project = grown
    return project
