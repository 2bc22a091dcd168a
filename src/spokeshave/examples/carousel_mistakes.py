"""The candle carousel with one mistake each."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.examples.planting import Mistake, condition
from spokeshave.model import edits
from spokeshave.model.project import Body, Project


def _body(p: Project, name: str, text: str) -> Project:
    bodies = tuple(Body(name, text) if b.name == name else b for b in p.sequences[0].bodies)
    return edits.change_sequence(p, "Dipping", bodies=bodies)


CAROUSEL = (
    Mistake("turns-too-early", "the carousel may turn as soon as the arm has left the wax",
            lambda p: replace(p, interlocks=tuple(replace(i, condition="NOT ArmDown") if i.output == "Advance" else i
                                                  for i in p.interlocks)), scenario="The arm sinks"),
    Mistake("one-round-less", "the last round is taken for done before it has begun",
            lambda p: condition(p, "Dipping", "Next", "Cool", "Frame >= Frames AND Round < Rounds - 1"),
            scenario="Two frames, three rounds"),
    Mistake("frames-not-counted-anew", "a new round goes on counting the frames of the one before",
            lambda p: _body(p, "NextRound", "Round := Round + 1;"), scenario="Two frames, three rounds"),
    Mistake("pause-in-the-wax", "a pause holds the arm wherever it is, with a candle in the wax too",
            lambda p: edits.change_sequence(p, "Dipping", hold_when="PauseAsked"), scenario="Pause with a candle in the wax"),
    Mistake("row-of-the-first", "every dip lasts as long as the first one: the row of the plan was not changed",
            lambda p: condition(p, "Dipping", "Dip", "Raise", "Dip.T >= Plan[1].Dip"), scenario="Two frames, three rounds"),
    Mistake("one-switch-of-the-turn", "the carousel is taken to have turned without being seen to leave its place",
            lambda p: condition(p, "Dipping", "Turn", "Arrive", "Turn.T >= T#100ms"), scenario="The carousel does not turn"),
)  # fmt: skip
