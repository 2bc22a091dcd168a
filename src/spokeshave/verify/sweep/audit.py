"""The reference is looked at before a sweep: what it leaves undone itself is no fault's doing, and is said first."""

from __future__ import annotations

from functools import lru_cache

from spokeshave.verify.scenarios import run_scenario
from spokeshave.verify.sweep.faults import Fault
from spokeshave.verify.sweep.reference import Reference
from spokeshave.verify.sweep.trial import Trial

ENDS = ("extended", "retracted", "middle", "middle2")
"""Sensors of a linear actuator that tell that it is somewhere it can stay."""


@lru_cache(maxsize=2)
def _without_a_fault(reference: Reference) -> tuple[str, frozenset[str]]:
    """The cycle played, reset and played again as in each cell, but with no fault: what is wrong behind it, and what comes to harm."""
    trial = Trial(reference, Fault("none"), reference.steps[0])
    return trial.run().unclean, frozenset(e.text for e in trial.harms())


def unclean_by_itself(reference: Reference) -> str:
    """What is wrong behind the cycle without any fault; empty for nothing."""
    return _without_a_fault(reference)[0]


def harm_by_itself(reference: Reference) -> frozenset[str]:
    """What comes to harm without any fault."""
    return _without_a_fault(reference)[1]


def audit(reference: Reference) -> tuple[str, ...]:
    """In sentences: whether the reference passes, whether what it drives comes to its end before its step is left, and whether it can be
    repeated.
    """
    name = reference.scenario.name
    said = [*_failed(reference), *_on_their_way(reference)]
    said += [f"{name} breaks its own rule without any fault: never {r}. The rule is left out" for r in reference.breaks]
    said += [
        f"{harm} without any fault. No cell is called a hazard for that alone"
        for harm in sorted(harm_by_itself(reference))
    ]
    if not reference.returns:
        said.append(f"{name} does not end in the steps in which it begins: no cycle is played behind a fault")
    elif unclean := unclean_by_itself(reference):
        what = unclean.removeprefix("the cycle behind it is not clean: ")
        said.append(f"Without any fault the cycle does not repeat itself: {what}. No cell is called bad for that alone")
    return tuple(said)


def _failed(reference: Reference) -> list[str]:
    result = run_scenario(reference.project, reference.scenario)
    worst = result.worst
    if worst is None:
        return []
    return [f"{reference.scenario.name} does not pass: {worst.text}, {worst.because}. It is swept all the same"]


def _on_their_way(reference: Reference) -> list[str]:
    """Steps that are left, and let go of an actuator, while it is between its ends."""
    program, found = reference.program, dict[str, None]()
    for step, visits in reference.leavings.items():
        for visit, places in enumerate(visits):
            let_go = reference.lets_go(step, visit)
            for d, here in zip(reference.matters[step][visit], places):
                device = program.devices[d]
                if device.device.kind != "actuator" or d not in let_go:
                    continue
                names = [t.name for t in device.device.sensor_terminals()]
                if not any(x for name, x in zip(names, here) if name in ENDS):
                    found[f"{reference.name(step)} is left while {device.name} is on its way"] = None
    return list(found)
