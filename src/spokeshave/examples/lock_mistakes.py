"""The canal lock with one mistake each."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.examples.planting import Mistake, condition
from spokeshave.model import edits
from spokeshave.model.project import Project


def _locked(p: Project, output: str, condition: str) -> Project:
    return replace(
        p, interlocks=tuple(replace(i, condition=condition) if i.output == output else i for i in p.interlocks)
    )


LOCK = (
    Mistake("one-leaf-locks", "the lower sluice looks at one leaf of the upper gate, and not at both",
            lambda p: _locked(p, "Drain", "UpRightShut"), scenario="Both gates"),
    Mistake("leaf-exchanged", "the right leaf of the lower gate is taken for open by the switch of the left one",
            lambda p: condition(p, "Lock", "LowOpensR", "LowOpenR", "LowLeftOpen"), scenario="A boat goes up"),
    Mistake("call-kept", "the call from below is kept for ever, so that the lock goes round for nobody",
            lambda p: replace(p, opening=p.opening.replace("IF Lock.ComeInLow.X THEN UpAsked := FALSE; END_IF;", "")),
            code="set-never-cleared"),
    Mistake("goes-on-by-itself", "after a stop and a reset the leaves move before the keeper says so",
            lambda p: edits.change_sequence(p, "Lock", hold_when=""), scenario="Emergency stop"),
    Mistake("not-calm", "the gate opens as soon as the level switch closes, and not when the water is calm",
            lambda p: replace(p, opening=p.opening.replace("HELD(LevelHigh, Calm)", "LevelHigh")), scenario="A boat goes up"),
    Mistake("sluice-forgotten", "the emergency stop was wired to the leaves only: the trip was never given the sequence",
            lambda p: replace(p, trips=tuple(replace(t, scope=()) if t.name == "Emergency" else t for t in p.trips)),
            code="trip-no-scope"),
)  # fmt: skip
