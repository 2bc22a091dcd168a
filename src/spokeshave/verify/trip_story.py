"""What a trip's effects look like in time: a small machine of its own, run by the engine, and what came of it.

Nothing is drawn from rules of thumb: the picture is the trace of a run in which the cause comes, goes and is reset.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.project import (
    Action,
    Body,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
)

CAME_MS, GONE_MS, RESET_MS, END_MS = 2500, 3500, 4500, 6500
_PERIOD_MS = 50


@dataclass(frozen=True, slots=True)
class StoryLane:
    """A lane: its name and its values at the end of each scan, shape (scans,). BOOL, or numbers."""

    name: str
    values: tuple[float, ...]
    number: bool = False


def trip_story(trip: Trip) -> tuple[list[StoryLane], int]:
    """The lanes of a run in which a trip like this comes at `CAME_MS`, and the scan period in ms.

    The sequence rests, works from 0.5 s on with an output of the step and a stored one, counts a part, and would be done
    after 4 s of work.
    """
    out, var = SignalClass.OUTPUT, SignalClass.INTERNAL
    steps = (
        Step("Rest", 10),
        Step("Work", 20, (Action(Qualifier.N, "Step_output"), Action(Qualifier.S, "Stored_output"), Action(Qualifier.P1, "Count"))),
        Step("Away", 30, (Action(Qualifier.R, "Stored_output"),)),
    )  # fmt: skip
    ways = (
        Transition(("Rest",), ("Work",), "Rest.T >= T#500ms"),
        Transition(("Work",), ("Away",), "Work.T >= T#4s"),
        Transition(("Away",), ("Rest",), "Away.T >= T#1s"),
    )
    story = replace(
        trip, name="Trip", rank=1, condition="Cause", scope=("Line",), zeroed=("Number",) if trip.zeroed else (),
        go_to=("Line.Away",) if trip.steps == "go to" else (),
    )  # fmt: skip
    project = Project(
        "Story", _PERIOD_MS, signals=(
            Signal("Cause", SignalClass.INPUT), Signal("Reset", SignalClass.INPUT),
            Signal("Step_output", out), Signal("Stored_output", out), Signal("Number", var, Type.INT),
        ),
        sequences=(Sequence("Line", "Rest", steps, ways, (Body("Count", "Number := Number + 1;"),)),),
        trips=(story,), reset="Reset",
    )  # fmt: skip
    rows = [
        (CAME_MS, "Cause", True),
        (GONE_MS, "Cause", False),
        (RESET_MS, "Reset", True),
        (RESET_MS + 300, "Reset", False),
    ]
    session = Session(project, [Stimulus(t, "set", name, value) for t, name, value in rows])
    program, s = session.program, session.situation
    line = program.sequences[0]
    slots = {n: program.slots[n.lower()] for n in ("Cause", "Reset", "Step_output", "Stored_output", "Number")}
    seen: dict[str, list[float]] = {n: [] for n in ("Cause", "Trip", "Reset", *(x.name for x in steps), "Step time",
                                                   "Step_output", "Stored_output", "Number")}  # fmt: skip
    while session.time_ms < END_MS:
        session.scan()
        s = session.situation
        for name, slot in slots.items():
            seen[name].append(float(s.v[slot]))
        seen["Trip"].append(float(s.trip_on[0]))
        for step in line.steps:
            seen[step.name].append(float(s.v[step.x]))
        seen["Step time"].append(float(sum(s.v[x.t] for x in line.steps if s.v[x.x])))
    if not trip.zeroed:
        del seen["Number"]
    if not trip.latching:
        del seen["Reset"]
    return [StoryLane(n.replace("_", " "), tuple(v), n in ("Step time", "Number")) for n, v in seen.items()], _PERIOD_MS
