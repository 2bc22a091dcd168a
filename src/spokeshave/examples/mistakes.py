"""The roastery with one mistake each: the typical ones of sequence work, and what finds them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from spokeshave.model import edits
from spokeshave.model.project import (
    Action,
    Instance,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
)


@dataclass(frozen=True, slots=True)
class Mistake:
    """`plant` puts it in; it is found by the check as `code`, by the scenario `scenario`, by the fault sweep under the fault
    `fault`, or by the reachability study with a bad answer of the kind `study`.
    """

    name: str
    what: str
    plant: Callable[[Project], Project]
    code: str = ""
    scenario: str = ""
    fault: str = ""
    study: str = ""

    @property
    def found_by(self) -> str:
        if self.fault:
            return f"the fault sweep ({self.fault})"
        if self.study:
            return f"the reachability study ({self.study})"
        return f"the check ({self.code})" if self.code else f"the scenario {self.scenario!r}"


def planted(project: Project, mistake: Mistake) -> Project:
    """The machine file with the mistake, named after it."""
    return replace(
        mistake.plant(project), name=f"{project.name}: {mistake.name}", comment=f"A planted mistake: {mistake.what}"
    )


def _ways(project: Project, sequence: str, change: Callable[[Transition], Transition | None]) -> Project:
    def edit(q: Sequence) -> Sequence:
        kept = (change(t) for t in q.transitions)
        return replace(q, transitions=tuple(t for t in kept if t is not None))

    return edits.edit_sequence(project, sequence, edit)


def _condition(project: Project, sequence: str, source: str, target: str, condition: str) -> Project:
    """Another condition on the way from one step to another."""
    return _ways(
        project,
        sequence,
        lambda t: replace(t, condition=condition) if source in t.sources and target in t.targets else t,
    )


def _step(project: Project, sequence: str, name: str, change: Callable[[Step], Step]) -> Project:
    found = project.sequence(sequence)
    step = found.step(name) if found is not None else None
    assert step is not None
    return edits.change_step(project, sequence, name, actions=change(step).actions)


def _without_action(project: Project, sequence: str, step: str, target: str) -> Project:
    return _step(
        project, sequence, step, lambda s: replace(s, actions=tuple(a for a in s.actions if a.target != target))
    )


def _with_action(project: Project, sequence: str, step: str, action: Action) -> Project:
    return _step(project, sequence, step, lambda s: replace(s, actions=(*s.actions, action)))


def _no_way_out(p: Project) -> Project:
    return _ways(p, "Roast", lambda t: None if "Idle" in t.sources else t)


def _latched(p: Project) -> Project:
    return _without_action(p, "Roast", "Stop", "Drum")


def _timer(p: Project) -> Project:
    p = replace(p, instances=(*p.instances, Instance("Settle", "TON")))
    return replace(p, opening=f"Settle(IN := DrumRuns AND NOT Settle.Q, PT := T#1s);\n{p.opening}")


def _name_twice(p: Project) -> Project:
    return edits.add_item(p, "signals", Signal("Gate", SignalClass.INTERNAL, comment="gate wanted"))


MISTAKES = (
    Mistake("no-way-out", "the way out of the initial step was lost", _no_way_out, code="step-no-exit"),
    Mistake(
        "pasted-condition", "the end of a dark roast was pasted from the light one and not changed",
        lambda p: _condition(p, "Roast", "RoastDark", "Rest", "BeanTemp >= LightTemp"), scenario="Two dark batches",
    ),
    Mistake(
        "counter-never-reset", "the start no longer sets the batch counter back",
        lambda p: _without_action(p, "Roast", "SpinUp", "ResetCount"), code="counter-never-reset",
    ),
    Mistake(
        "level-for-edge", "the start button is asked for its level: a stuck one steps the sequence again",
        lambda p: _condition(p, "Roast", "Idle", "SpinUp", "StartButton AND Home"), scenario="Held start button",
    ),
    Mistake("latched-output", "the drum is stored and never released", _latched, code="stored-never-reset"),
    Mistake("timer-resets-itself", "a timer's own output takes its input away", _timer, code="timer-resets-itself"),
    Mistake(
        "left-unconfirmed", "the step that opens the gate ends by time alone, before the gate is seen open",
        lambda p: _condition(p, "Roast", "Charge", "CloseGate", "Charge.T >= T#300ms"), scenario="Light roast in order",
    ),
    Mistake(
        "both-at-once", "the charge gate is commanded in the step that opens the drop door",
        lambda p: _with_action(p, "Roast", "Drop", Action(Qualifier.N, "Gate")), code="opposed-together",
    ),
    Mistake(
        "branches-together", "the light branch no longer excludes the selector on dark",
        lambda p: _condition(p, "Roast", "CloseGate", "RoastLight", "GateClosed AND NOT GateOpened"), code="branches-overlap",
    ),
    Mistake("name-twice", "a second signal was given the name of the charge gate's output", _name_twice, code="name-twice"),
    Mistake(
        "time-copied", "the time of emptying was copied from cooling and is longer than the step's window",
        lambda p: _condition(
            p, "Cool", "Empty", "CloseFlap", "FlapOpened AND NOT FlapClosed AND StirrerRuns AND Empty.T >= T#12s"
        ), code="time-beyond-window",
    ),
    Mistake(
        "drum-unwatched", "the cooling down no longer asks for the drum",
        lambda p: _condition(p, "Roast", "CoolDown", "Stop", "CoolDown.T >= T#6s AND AirRuns"), fault="RoastDrum does not start",
    ),
    Mistake(
        "stirrer-unwatched", "the tray is emptied after the time, whether the stirrer turns or not",
        lambda p: _condition(
            _condition(p, "Cool", "Stir", "Empty", "Stir.T >= CoolTime"), "Cool", "Empty", "CloseFlap",
            "FlapOpened AND NOT FlapClosed AND Empty.T >= T#3s",
        ), fault="TrayStirrer does not start",
    ),
    Mistake(
        "one-switch", "the charge gate is taken for open without looking at its other switch",
        lambda p: _condition(p, "Roast", "Charge", "CloseGate", "GateOpened AND Charge.T >= T#3s"),
        fault="ChargeGate retracted stuck on",
    ),
    Mistake(
        "stop-for-one", "the emergency stop was never extended to the cooling tray",
        lambda p: replace(p, trips=tuple(replace(t, scope=("Roast",)) if t.name == "Emergency" else t for t in p.trips)),
        "trip-misses-output",
    ),
    Mistake(
        "goal-of-none", "the last batch is looked for only where there is a goal: a goal of none has no last one",
        lambda p: _condition(p, "Roast", "CloseDoor", "CoolDown", "DoorShut AND Batches + 1 >= BatchGoal AND BatchGoal > 0"),
        study="stuck",
    ),
)  # fmt: skip
