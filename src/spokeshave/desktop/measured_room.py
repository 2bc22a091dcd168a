"""The room that was measured last, by what it is of: for the bars in the sheet and on the board."""

from __future__ import annotations

from spokeshave.model.project import Project
from spokeshave.verify.room.limits import Limit
from spokeshave.verify.room.windows import Window
from spokeshave.verify.room.work import RoomReport

SCARCE = 0.1
"""Less room than this part of a limit is told in another colour."""


class MeasuredRoom:
    """`windows` by sequence and step, the longest time before the shortest; `limits` by device, in lower case."""

    def __init__(self, report: RoomReport) -> None:
        self.project = report.project
        self.windows: dict[tuple[str, str], list[Window]] = {}
        for w in sorted((w for w in report.windows if w.kind != "wait"), key=lambda w: w.kind):
            self.windows.setdefault((w.place.sequence.lower(), w.place.item.lower()), []).append(w)
        self.limits: dict[str, list[Limit]] = {}
        for x in report.nearest:
            if x.knob.kind == "device":
                self.limits.setdefault(x.knob.name.lower(), []).append(x)

    def of_step(self, sequence: str, step: str) -> list[Window]:
        """What was measured of the window of a step."""
        return self.windows.get((sequence.lower(), step.lower()), [])

    def of_device(self, name: str) -> list[Limit]:
        """How far a device may be slower or faster, the nearest first."""
        return self.limits.get(name.lower(), [])


def used(window: Window) -> float:
    """The part of a longest time that was used up, of a shortest the part that was more than enough; 0 to 1."""
    part = window.measured / window.limit if window.kind == "longest" else window.limit / max(1, window.measured)
    return min(1.0, max(0.0, part))


def told(window: Window) -> str:
    """In words, for who points at it."""
    limit, measured, left = (f"{x / 1000:g} s" for x in (window.limit, window.measured, window.left))
    return f"{window.kind} {limit}: {measured} measured in {window.scenario}, {left} left"


def holds(room: MeasuredRoom | None, project: Project) -> bool:
    """Whether what was measured is of a machine file that runs as this one does."""
    return room is not None and project.runs_like(room.project)
