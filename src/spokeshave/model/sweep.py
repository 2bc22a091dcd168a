"""What a machine file keeps of its fault sweep: the cycle it takes, what was explained, what was accepted."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Explained:
    """Why a verdict of the sweep is as it should be. `step` is empty for every step, else `Sequence.Step`."""

    fault: str
    step: str
    verdict: str
    reason: str


@dataclass(frozen=True, slots=True)
class SweepPlan:
    """`cycle` is the scenario that is run again under every fault, `reset` one that says how the machine is reset.

    `accepted` are the rows of the matrix that was accepted: a fault, and a letter for each of `steps`; `stored` is the digest of
    rows that are not here (see `model.stored`).
    """

    cycle: str = ""
    reset: str = ""
    explained: tuple[Explained, ...] = ()
    steps: tuple[str, ...] = ()
    accepted: tuple[tuple[str, str], ...] = ()
    note: str = ""
    stored: str = ""
