"""The roastery with one mistake each: the typical ones of sequence work, and what finds them."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.examples.planting import Mistake, condition, ways, with_action, without_action
from spokeshave.model import edits
from spokeshave.model.project import Action, Instance, Project, Qualifier, Signal, SignalClass


def _no_way_out(p: Project) -> Project:
    return ways(p, "Roast", lambda t: None if "Idle" in t.sources else t)


def _latched(p: Project) -> Project:
    return without_action(p, "Roast", "Stop", "Drum")


def _timer(p: Project) -> Project:
    p = replace(p, instances=(*p.instances, Instance("Settle", "TON")))
    return replace(p, opening=f"Settle(IN := DrumRuns AND NOT Settle.Q, PT := T#1s);\n{p.opening}")


def _name_twice(p: Project) -> Project:
    return edits.add_item(p, "signals", Signal("Gate", SignalClass.INTERNAL, comment="gate wanted"))


ROASTERY = (
    Mistake("no-way-out", "the way out of the initial step was lost", _no_way_out, code="step-no-exit"),
    Mistake(
        "pasted-condition", "the end of a dark roast was pasted from the light one and not changed",
        lambda p: condition(p, "Roast", "RoastDark", "Rest", "BeanTemp >= LightTemp"), scenario="Two dark batches",
    ),
    Mistake(
        "counter-never-reset", "the start no longer sets the batch counter back",
        lambda p: without_action(p, "Roast", "SpinUp", "ResetCount"), code="counter-never-reset",
    ),
    Mistake(
        "level-for-edge", "the start button is asked for its level: a stuck one steps the sequence again",
        lambda p: condition(p, "Roast", "Idle", "SpinUp", "StartButton AND Home"), scenario="Held start button",
    ),
    Mistake("latched-output", "the drum is stored and never released", _latched, code="stored-never-reset"),
    Mistake("timer-resets-itself", "a timer's own output takes its input away", _timer, code="timer-resets-itself"),
    Mistake(
        "left-unconfirmed", "the step that opens the gate ends by time alone, before the gate is seen open",
        lambda p: condition(p, "Roast", "Charge", "CloseGate", "Charge.T >= T#300ms"), code="confirmed-too-late",
        scenario="Light roast in order",
    ),
    Mistake(
        "both-at-once", "the charge gate is commanded in the step that opens the drop door",
        lambda p: with_action(p, "Roast", "Drop", Action(Qualifier.N, "Gate")), code="opposed-together",
    ),
    Mistake(
        "branches-together", "the light branch no longer excludes the selector on dark",
        lambda p: condition(p, "Roast", "CloseGate", "RoastLight", "GateClosed AND NOT GateOpened"), code="branches-overlap",
    ),
    Mistake("name-twice", "a second signal was given the name of the charge gate's output", _name_twice, code="name-twice"),
    Mistake(
        "time-copied", "the time of emptying was copied from cooling and is longer than the step's window",
        lambda p: condition(
            p, "Cool", "Empty", "CloseFlap", "FlapOpened AND NOT FlapClosed AND StirrerRuns AND Empty.T >= T#12s"
        ), code="time-beyond-window",
    ),
    Mistake(
        "drum-unwatched", "the cooling down no longer asks for the drum",
        lambda p: condition(p, "Roast", "CoolDown", "Stop", "CoolDown.T >= T#6s AND AirRuns"), fault="RoastDrum does not start",
    ),
    Mistake(
        "stirrer-unwatched", "the tray is emptied after the time, whether the stirrer turns or not",
        lambda p: condition(
            condition(p, "Cool", "Stir", "Empty", "Stir.T >= CoolTime"), "Cool", "Empty", "CloseFlap",
            "FlapOpened AND NOT FlapClosed AND Empty.T >= T#3s",
        ), fault="TrayStirrer does not start",
    ),
    Mistake(
        "one-switch", "the charge gate is taken for open without looking at its other switch",
        lambda p: condition(p, "Roast", "Charge", "CloseGate", "GateOpened AND Charge.T >= T#3s"),
        fault="ChargeGate retracted stuck on",
    ),
    Mistake(
        "stop-for-one", "the emergency stop was never extended to the cooling tray",
        lambda p: replace(p, trips=tuple(replace(t, scope=("Roast",)) if t.name == "Emergency" else t for t in p.trips)),
        "trip-misses-output",
    ),
    Mistake(
        "goal-of-none", "the last batch is looked for only where there is a goal: a goal of none has no last one",
        lambda p: condition(p, "Roast", "CloseDoor", "CoolDown", "DoorShut AND Batches + 1 >= BatchGoal AND BatchGoal > 0"),
        study="stuck",
    ),
)  # fmt: skip
