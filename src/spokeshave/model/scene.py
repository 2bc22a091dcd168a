"""The machine as it is drawn: simple shapes on a grid, each with what it follows and how it shows it.

Not here: colours on a screen and pixels; a shape is as large as its number of grid lines.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from spokeshave.model.diagnostics import Told

if TYPE_CHECKING:
    from spokeshave.model.project import Project

KINDS = ("box", "round", "line", "text", "part")
"""What a shape is; a part is one of the SVG, by its name."""
ACTS = ("stands", "moves", "turns", "fills", "lights", "shows", "carries")
"""How a shape shows what it follows."""
HINGES = ("centre", "left", "right", "top", "bottom")
"""What a shape turns about."""
COLOURS = ("metal", "wood", "water", "heat", "light", "green", "red", "blue", "ink", "paper")
WIDE, HIGH = 160, 100
"""Grid lines of a scene."""
DEEPEST = 8
"""So many shapes ride on each other at most."""


class SceneError(Told, ValueError):
    """A shape that cannot be as it is asked for."""


@dataclass(frozen=True, slots=True)
class Shape:
    """A shape of the scene. `at` and `size` are in grid lines; `rides` names a shape that takes it along."""

    name: str
    kind: str = "box"
    at: tuple[int, int] = (0, 0)
    size: tuple[int, int] = (12, 8)
    colour: str = "metal"
    text: str = ""
    """What is written on it; of a part, its name in the SVG."""
    follows: str = ""
    """A device or a signal; nothing stands still."""
    number: str = ""
    """Which of a device's numbers; its main one without a name."""
    act: str = "stands"
    by: tuple[int, int] = (0, 0)
    """How far it moves at `high`, in grid lines; or how many degrees it turns, in the first."""
    hinge: str = "centre"
    low: float = 0.0
    high: float = 1.0
    rides: str = ""


def shape_of(scene: Sequence[Shape], name: str) -> Shape | None:
    """The shape of a name, in whatever case."""
    return next((s for s in scene if s.name.lower() == name.lower()), None)


def carriers(scene: Sequence[Shape], shape: Shape) -> list[Shape]:
    """What a shape rides on, the nearest first; a ring ends where it began."""
    found: list[Shape] = []
    while shape.rides and len(found) < DEEPEST:
        under = shape_of(scene, shape.rides)
        if under is None or under in found:
            break
        found.append(under)
        shape = under
    return found


def part_of(shape: Shape, value: float) -> float:
    """How far a number is between `low` and `high`, 0 to 1.

    >>> part_of(Shape("Bath", low=20.0, high=80.0), 50.0), part_of(Shape("Bath", low=1.0, high=0.0), 0.25)
    (0.5, 0.75)
    """
    span = shape.high - shape.low
    return max(0.0, min(1.0, (value - shape.low) / span)) if span else float(value >= shape.high)


def free_shape_name(scene: Sequence[Shape], base: str) -> str:
    """A name that no shape has: `Gate`, `Gate 2`, ..."""
    taken = {s.name.lower() for s in scene}
    return next(n for n in (base, *(f"{base} {i}" for i in range(2, len(taken) + 3))) if n.lower() not in taken)


def add_shapes(project: Project, shapes: Sequence[Shape]) -> Project:
    """The file with more shapes, in front of the others; a name that is taken gets a number."""
    scene = list(project.scene)
    names: dict[str, str] = {}
    for s in shapes:
        name = free_shape_name(scene, s.name)
        names[s.name] = name
        scene.append(replace(s, name=name, rides=names.get(s.rides, s.rides)))
    return replace(project, scene=tuple(scene))


def change_shape(project: Project, name: str, /, **changes: object) -> Project:
    """The file with a shape that is otherwise. Raises `SceneError` for a name that is taken, a ring of shapes that ride on each other,
    and a size that is none.
    """
    old = shape_of(project.scene, name)
    if old is None:
        raise SceneError(f"there is no shape {name}")
    new = replace(old, **changes)  # type: ignore[arg-type]
    other = shape_of(project.scene, new.name)
    if not new.name.strip() or (other is not None and other is not old):
        raise SceneError(f"there is a shape {new.name} already" if new.name.strip() else "a shape needs a name")
    if min(new.size) < 1 or max(new.size) > 2 * WIDE:
        raise SceneError(f"a shape is 1 to {2 * WIDE} grid lines wide and high")
    scene = tuple(new if s is old else replace(s, rides=new.name) if _rides(s, old) else s for s in project.scene)
    if new.rides and new.name.lower() in {c.name.lower() for c in carriers(scene, new)}:
        raise SceneError(f"{new.name} cannot ride on {new.rides}, which rides on it")
    return replace(project, scene=scene)


def remove_shapes(project: Project, names: Sequence[str]) -> Project:
    """The file without shapes; what rode on them stands still."""
    gone = {n.lower() for n in names}
    kept = (s for s in project.scene if s.name.lower() not in gone)
    return replace(project, scene=tuple(replace(s, rides="") if s.rides.lower() in gone else s for s in kept))


def raise_shape(project: Project, name: str, forward: bool) -> Project:
    """A shape before all others, or behind them."""
    shape = shape_of(project.scene, name)
    rest = tuple(s for s in project.scene if s is not shape)
    if shape is None:
        return project
    return replace(project, scene=(*rest, shape) if forward else (shape, *rest))


def _rides(shape: Shape, on: Shape) -> bool:
    return bool(shape.rides) and shape.rides.lower() == on.name.lower()
