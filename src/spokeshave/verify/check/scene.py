"""Rules on the scene: a shape that follows nothing there is."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.machine.scene import numbers_of
from spokeshave.model.diagnostics import Diagnostic, Place, did_you_mean
from spokeshave.model.panel import OF_NOTHING
from spokeshave.model.scene import shape_of
from spokeshave.verify.check.look import Look, warning


def of_nothing(look: Look) -> Iterator[Diagnostic]:
    """A shape that follows a device, a number or a signal that is not there, or rides on no shape."""
    project = look.project
    for s in project.scene:
        here, device = Place(item=f"scene, {s.name}"), project.device(s.follows)
        if s.follows and device is None and project.signal(s.follows) is None:
            known = [*(d.name for d in project.devices), *(v.name for v in project.signals)]
            yield warning("scene-of-nothing", here, f"there is no {s.follows} to follow",
                          did_you_mean(s.follows, known) or "choose a device or a signal in the scene")  # fmt: skip
        elif device is not None and s.number and s.number not in (known := numbers_of(device, project.period_ms)):
            yield warning("scene-of-nothing", here, f"{device.name} has no {s.number}",
                          did_you_mean(s.number, known) or f"it has {', '.join(known[:6])}")  # fmt: skip
        if s.rides and shape_of(project.scene, s.rides) is None:
            yield warning(
                "scene-of-nothing", here, f"there is no shape {s.rides} to ride on", "choose another, or none"
            )


def tile_of_nothing(look: Look) -> Iterator[Diagnostic]:
    """A tile of the operator's page that is of nothing there is."""
    project = look.project
    for t in project.panel:
        there = project.signal(t.of) or project.device(t.of) or project.sequence(t.of)
        if t.kind not in OF_NOTHING and there is None:
            known = [x.name for items in (project.signals, project.devices, project.sequences) for x in items]
            yield warning("tile-of-nothing", Place(item=f"operator's page, {t.title}"), f"there is no {t.of}",
                          did_you_mean(t.of, known) or "take it away where the page is laid out")  # fmt: skip


RULES = (of_nothing, tile_of_nothing)
