"""What is done to a running machine file from outside, each at its time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Stimulus:
    """Something done at `time_ms`, applied in phase 1 of the first scan with `t >= time_ms`.

    | do       | target | value                                        |
    |----------|--------|----------------------------------------------|
    | set      | signal | its new value (inputs and settings)           |
    | hand     | device | where the operator puts it (1 pressed, 0 not) |
    | fail     | device | name of the failure to inject                 |
    | heal     | device | name of the failure to clear                  |
    | force    | signal | the value an input or output is forced to     |
    | unforce  | signal | -                                             |
    | power    | -      | a power cycle                                 |
    | drive    | -      | TRUE begins hand drive, FALSE ends it         |
    | ask      | output | what it is asked for in hand drive            |
    | ack      | alarm  | acknowledges one alarm, or all without target |
    | shelve   | alarm  | TRUE puts it aside, FALSE takes it back       |
    """

    time_ms: int
    do: str
    target: str = ""
    value: Any = None


def in_time(stimuli: list[Stimulus]) -> list[Stimulus]:
    """Stably sorted by time."""
    return sorted(stimuli, key=lambda s: s.time_ms)
