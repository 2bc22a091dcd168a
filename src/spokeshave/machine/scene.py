"""What a device gives a shape of the scene to follow, and a first drawing of a machine from its devices."""

from __future__ import annotations

from spokeshave.machine.kinds import KINDS, build
from spokeshave.model.project import Device, Project
from spokeshave.model.scene import Shape

STEP = (18, 15)
"""Grid lines of a cell of the board in the first drawing."""


def numbers_of(device: Device, period_ms: int) -> list[str]:
    """The numbers of a device that a shape can follow, the main one first; terminals of an own device have their names."""
    if device.kind == "own":
        return [d.name for d in device.declared if d.role in ("input", "output")]
    if device.kind not in KINDS:
        return []
    try:
        built = build(device, period_ms)
    except ValueError:  # told by the check
        return []
    names = [n for n in built.picture(built.start(), 0) if n != "item"]
    return sorted(names, key=lambda n: n != built.main)


def first_drawing(project: Project) -> list[Shape]:
    """A shape or two for each device, where it stands on the board; to be moved and changed."""
    shapes: list[Shape] = []
    for d in project.devices:
        x, y = 2 + d.at[0] * STEP[0], 2 + d.at[1] * STEP[1]
        shapes += _of(d, x, y)
    return shapes


def _of(d: Device, x: int, y: int) -> list[Shape]:
    """The shapes of one device, in a cell of 16 by 13 grid lines."""
    name, to = d.name, dict(d.parameters)
    match d.kind:
        case "actuator":
            return [Shape(f"{name} rail", "line", (x, y + 6), (16, 1), "ink"),
                    Shape(name, "box", (x, y + 3), (6, 6), "metal", "", name, act="moves", by=(10, 0)),
                    Shape(f"{name} name", "text", (x, y + 10), (16, 2), "ink", name)]  # fmt: skip
        case "motor":
            wheel = Shape(name, "round", (x + 3, y + 1), (10, 10), "metal", "", name, act="turns", by=(360, 0))
            spoke = Shape(f"{name} spoke", "line", (x + 7, y + 2), (1, 8), "ink", rides=name)
            return [wheel, spoke, Shape(f"{name} name", "text", (x, y + 11), (16, 2), "ink", name)]
        case "vessel":
            return [Shape(name, "box", (x + 2, y), (12, 11), "water", name, name, act="fills")]
        case "thermal":
            low = float(to.get("ambient_c", 20.0))
            heat = Shape(name, "box", (x + 2, y), (12, 8), "heat", name, name, act="fills", low=low,
                         high=low + float(to.get("heater_k", 200.0)))  # fmt: skip
            return [heat, Shape(f"{name} degrees", "text", (x + 2, y + 9), (12, 3), "ink", "°C", name, act="shows")]
        case "belt":
            bed = Shape(name, "box", (x, y + 6), (16, 2), "ink", "", name)
            lying = Shape(f"{name} items", "box", (x, y + 2), (16, 4), "wood", "", name, act="carries")
            return [bed, lying, Shape(f"{name} name", "text", (x, y + 9), (16, 2), "ink", name)]
        case "turntable":
            plate = Shape(name, "round", (x + 3, y), (10, 10), "wood", "", name, act="turns", by=(360, 0))
            mark = Shape(f"{name} mark", "box", (x + 7, y + 1), (2, 3), "ink", rides=name)
            return [plate, mark, Shape(f"{name} name", "text", (x, y + 11), (16, 2), "ink", name)]
        case "axis":
            return [Shape(f"{name} rail", "line", (x, y + 7), (16, 1), "ink"),
                    Shape(name, "box", (x, y + 4), (4, 5), "blue", "", name, act="moves", by=(12, 0)),
                    Shape(f"{name} name", "text", (x, y + 10), (16, 2), "ink", name)]  # fmt: skip
        case "lamp" | "horn":
            colour = ("light", "green", "light", "red", "blue")[int(to.get("colour", 2)) % 5]
            return [Shape(name, "round", (x + 5, y + 2), (6, 6), colour, "", name, act="lights"),
                    Shape(f"{name} name", "text", (x, y + 9), (16, 2), "ink", name)]  # fmt: skip
        case "display":
            return [Shape(name, "text", (x, y + 3), (16, 4), "ink", "", name, act="shows")]
        case "button" | "emergency" | "selector" | "setpoint" | "follower":
            return []  # what hands do is on the board
    return [Shape(name, "box", (x + 2, y + 2), (12, 8), "metal", name)]
