"""Hand drive: which outputs a click on a device asks for (semantics 9.5)."""

from __future__ import annotations

from spokeshave.engine.program import NOTHING, Program
from spokeshave.engine.situation import Situation
from spokeshave.machine.kinds import drives_of
from spokeshave.model.project import SignalClass, Type


def asked_by_click(program: Program, s: Situation, device: str, first_half: bool = False) -> list[tuple[str, bool]]:
    """What outputs a click turns over: the first drive of a device, or its second one in the first half of its picture.

    The other of two drives goes off. Empty for a device that no BOOL output drives, and out of hand drive.
    """
    described = program.project.device(device)
    if s.hand is None or described is None:
        return []
    outputs: list[str] = []
    for t in drives_of(described):
        signal = program.project.signal(described.wired(t.name))
        if signal is not None and signal.cls is SignalClass.OUTPUT and t.type is Type.BOOL:
            outputs.append(signal.name)
    if not outputs:
        return []
    pair = outputs[:2]
    chosen = pair[1] if first_half and len(pair) > 1 else pair[0]
    on = not is_asked(program, s, chosen)
    others = [(o, False) for o in pair if o != chosen and is_asked(program, s, o)]
    return [*others, (chosen, on)]


def is_asked(program: Program, s: Situation, output: str) -> bool:
    """Whether an output is asked for by hand."""
    slot = program.asked.get(program.slots.get(output.lower(), NOTHING), NOTHING)
    return bool((s.hand or {}).get(slot, False))


def is_blocked(program: Program, s: Situation, output: str) -> bool:
    """Whether an output is asked for and kept off, by an interlock, an opposed pair or a force."""
    final = program.slots[output.lower()]
    return bool(s.v[program.asked[final]]) and not bool(s.v[final])
