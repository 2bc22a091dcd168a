"""The six verdicts of a cell, and what decides between them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from enum import StrEnum

from spokeshave.verify.sweep.audit import harm_by_itself, unclean_by_itself
from spokeshave.verify.sweep.faults import Fault
from spokeshave.verify.sweep.reference import Reference
from spokeshave.verify.sweep.trial import Seen, Trial
from spokeshave.verify.sweep.watch import Entry


class Verdict(StrEnum):
    """From the best to the worst."""

    HARMLESS = "harmless"
    RECOVERED = "recovered"
    CAUGHT = "caught"
    SILENT = "silent"
    STUCK = "stuck"
    HAZARD = "hazard"

    @property
    def is_bad(self) -> bool:
        return self in (Verdict.SILENT, Verdict.STUCK, Verdict.HAZARD)


@dataclass(frozen=True, slots=True)
class Cell:
    """A fault in a step. Times in ms from the start of the run, -1 for what did not come."""

    fault: str
    step: str
    verdict: Verdict
    because: str
    injected_ms: int
    noticed_ms: int
    cleared_ms: int
    again_ms: int
    end_ms: int


def try_out(reference: Reference, fault: Fault, step: Entry) -> Cell:
    """Runs one cell and judges it."""
    trial = Trial(reference, fault, step, harm_by_itself(reference))
    seen = trial.run()
    if seen.unclean and seen.unclean == unclean_by_itself(reference):
        seen = replace(seen, unclean="")
    verdict, because = judge(fault, seen, str(trial.session.stopped or ""))
    period = reference.program.period_ms
    noticed = seen.pointing.k * period if seen.pointing is not None else -1
    again = seen.again * period if seen.again >= 0 else -1
    return Cell(fault.name, reference.name(step), verdict, because, seen.injected * period, noticed,
                seen.cleared * period, again, seen.end * period)  # fmt: skip


def try_in(reference: Reference, fault: Fault, steps: Iterable[Entry], known: dict[Entry, Cell]) -> Iterator[Cell]:
    """The fault in some steps. A run is simulated once for all of them in which the fault sleeps until the same one.

    `known` are cells of this fault that were tried already; new ones are added.
    """
    for step in steps:
        at = reference.later(step, fault.device, fault.failure) if fault.kind == "failure" else step
        if at not in known:
            known[at] = try_out(reference, fault, at)
        injected = reference.at[step].session.time_ms
        yield replace(known[at], step=reference.name(step), injected_ms=injected)


def judge(fault: Fault, seen: Seen, stopped: str) -> tuple[Verdict, str]:
    """What is worst decides: harm, then an alarm that points at the fault, then what came of the cycle without one.

    The loss of power tells of itself; an alarm that points elsewhere tells nothing of the fault.
    """
    if stopped:
        return Verdict.HAZARD, f"the run stops: {stopped}"
    if seen.hazard:
        return Verdict.HAZARD, seen.hazard
    right = seen.ended and not seen.astray
    if right and seen.pointing is None:
        if not seen.unclean:
            told = f", with an alarm that points elsewhere: {seen.other.text}" if seen.other is not None else ""
            return Verdict.HARMLESS, f"the cycle ends as it should{told}"
        return Verdict.STUCK if seen.again < 0 else Verdict.SILENT, seen.unclean
    told = (
        seen.pointing.text
        if seen.pointing is not None
        else "the loss of power tells of itself"
        if fault.kind == "power"
        else ""
    )
    if told:
        if seen.unclean:
            return Verdict.CAUGHT, f"{told}; {seen.unclean}"
        return Verdict.RECOVERED, told
    hint = f"; {seen.other.text}, which points elsewhere" if seen.other is not None else ", and no alarm tells of it"
    if seen.astray:
        return Verdict.SILENT, seen.astray + hint
    return Verdict.STUCK, f"{seen.stands or 'it does not go on'}{hint}"
