"""Modes of a sequence as a form: it makes signals, opening logic, permissives, a hold and a sequence that leads home, all of which
can be read and changed afterwards like any other.

Buttons are looked at by the opening logic, which runs in every scan: no hold loses their edges. A start that cannot be followed is refused,
not kept: nothing starts by itself later. Step by step, each press lets one transition through, by the permissives of the steps that are
entered; times go on while a person looks. By hand, a sequence of its own
asks for each output while its button is held, and this one is given up: it does not go on from where hands have left the machine.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from spokeshave.model.edits import EditError, taken_names
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

PAUSES = ("", "at once", "after the step")
_NAME = re.compile(r"[A-Za-z_]\w*", re.ASCII)


@dataclass(frozen=True, slots=True)
class Modes:
    """What is wanted. Empty names leave a mode out; `pause` is one of `PAUSES`, by the button `pause_button`."""

    start: str = "Start"
    continuous: str = "Continuous"
    """A selector: on, the next cycle begins by itself; off, each cycle needs its start."""
    stop: str = "LastCycle"
    """A button: the cycle that runs is the last one."""
    by_step: str = ""
    """A selector: each step waits for a press of `next_step`, also when its condition is there."""
    next_step: str = "NextStep"
    pause: str = ""
    pause_button: str = "Pause"
    outputs: str = "keep"
    """What a pause at once does with outputs: keep or drop."""
    home: str = ""
    """A button: a sequence of its own leads home, and this one begins anew."""
    hand: str = ""
    """A selector: on, this one is given up and waits, and a sequence of its own has each output of `by_hand` on while its button is held."""
    by_hand: tuple[str, ...] = ()
    """Outputs that can be on by hand, each by a button of its own (`by_hand_button`)."""

    def inputs(self) -> list[tuple[str, str]]:
        """The inputs that it asks for, with what they are."""
        found = [(self.start, "button: starts, and goes on after a pause")]
        found += [(self.continuous, "selector: cycle after cycle")] if self.continuous else []
        found += [(self.stop, "button: stops at the end of the cycle")] if self.stop else []
        if self.by_step:
            found += [(self.by_step, "selector: step by step"), (self.next_step, "button: the next step")]
        found += [(self.pause_button, "button: pause")] if self.pause else []
        found += [(self.home, "button: leads home")] if self.home else []
        found += [(self.hand, "selector: by hand")] if self.hand else []
        found += [(by_hand_button(o), f"button: {o} by hand") for o in self.by_hand if self.hand]
        return found


def by_hand_button(output: str) -> str:
    """The input that asks for an output by hand."""
    return f"{output}ByHand"


def outputs_of(project: Project, sequence: str) -> tuple[str, ...]:
    """The outputs on which a sequence acts, in listed order: what can be on by hand."""
    q = project.sequence(sequence)
    acted = {a.target.lower() for s in q.steps for a in s.actions} if q is not None else set()
    return tuple(s.name for s in project.signals if s.cls is SignalClass.OUTPUT and s.name.lower() in acted)


def head(sequence: str) -> str:
    """The line above what the form has written."""
    return f"(* modes of {sequence} *)"


def foot(sequence: str) -> str:
    """The line below it."""
    return f"(* end of modes of {sequence} *)"


def has_modes(project: Project, sequence: str) -> bool:
    """Whether the form was used on a sequence, and its logic is still there."""
    return head(sequence) in project.opening


def with_modes(project: Project, sequence: str, modes: Modes) -> Project:
    """The machine file with the modes of a sequence.

    Raises `EditError` for a sequence that has them already or cannot, and for names that mean something else.
    """
    q = project.sequence(sequence)
    if q is None:
        raise EditError(f"there is no sequence {sequence}")
    if has_modes(project, q.name):
        raise EditError(
            f"{q.name} has modes already: they stand in the opening logic, in holds and permissives, to be changed there"
        )
    if not any(True for _ in q.leaving(q.initial)):
        raise EditError(f"nothing leads on from {q.initial} yet: give the initial step its way out first")
    if modes.pause not in PAUSES:
        raise EditError(f"there is no pause {modes.pause!r}; it is one of {', '.join(p for p in PAUSES if p)}")
    if modes.hand and not modes.by_hand:
        raise EditError(f"{q.name} acts on no output that could be on by hand")
    return _Form(project, q, modes).made()


class _Form:
    def __init__(self, project: Project, q: Sequence, modes: Modes) -> None:
        self.project, self.q, self.m = project, q, modes
        self.run, self.paused, self.may = (f"{q.name}{n}" for n in ("Run", "Paused", "MayGo"))
        self.edges: list[str] = []
        self.bars = bool(modes.by_step) or modes.pause == "after the step"

    def made(self) -> Project:
        internals = [(self.run, "a cycle is asked for")]
        internals += [(self.paused, "somebody has asked for a pause")] if self.m.pause else []
        internals += [(self.may, "the next step may come")] if self.bars else []
        text = self._opening()
        edges = tuple(Instance(n, "R_TRIG") for n in self.edges)
        self._look_at_names([n for n, _ in internals] + self.edges)
        known = {s.name.lower() for s in self.project.signals}
        inputs = tuple(Signal(n, SignalClass.INPUT, comment=c) for n, c in self.m.inputs() if n.lower() not in known)
        made = tuple(Signal(n, SignalClass.INTERNAL, comment=c) for n, c in internals)
        at = next(i for i, s in enumerate(self.project.sequences) if s is self.q)
        sequences = list(self.project.sequences)
        sequences[at] = self._sequence()
        if self.m.home:
            sequences.insert(at + 1, self._way_home())
        if self.m.hand:
            sequences.insert(at + 1, self._by_hand())
        opening = self.project.opening
        return replace(
            self.project,
            signals=(*self.project.signals, *inputs, *made),
            instances=(*self.project.instances, *edges),
            opening=f"{text}{opening}" if opening.strip() else text,
            sequences=tuple(sequences),
        )

    def _look_at_names(self, new: list[str]) -> None:
        """Inputs may be there already; all else is made."""
        wanted = [n for n, _ in self.m.inputs()]
        for name in wanted:
            signal = self.project.signal(name)
            if not _NAME.fullmatch(name):
                raise EditError(f"{name!r} is not a name; use letters, digits and underscores, a letter first")
            if signal is None and name.lower() in taken_names(self.project):
                raise EditError(f"{name} is already the name of something else")
            if signal is not None and (signal.cls is not SignalClass.INPUT or signal.type != "BOOL"):
                raise EditError(f"{name} is no BOOL input; a mode is chosen by one")
        if len({n.lower() for n in wanted}) < len(wanted):
            raise EditError("each mode needs a button or selector of its own")
        new = [*new, *([self.home_name] if self.m.home else []), *([self.hand_name] if self.m.hand else [])]
        for name in new:
            if name.lower() in taken_names(self.project) or name.lower() in (n.lower() for n in wanted):
                raise EditError(f"{name} is already the name of something else; rename that first")

    @property
    def home_name(self) -> str:
        return f"{self.q.name}Home"

    @property
    def hand_name(self) -> str:
        return f"{self.q.name}Hand"

    def _edge(self, button: str) -> str:
        """The line that sees a button come; its instance is called after sequence and button."""
        name = f"{self.q.name}{button}Edge"
        if name not in self.edges:
            self.edges.append(name)
        return f"{name}(CLK := {button});\n"

    def _opening(self) -> str:
        q, m = self.q, self.m
        rest = f"{q.name}.{q.initial}.X"
        start = f"{q.name}{m.start}Edge.Q"
        ends = [f"NOT {m.continuous}"] if m.continuous else []
        if m.by_step:  # the start waits for the press that lets the first step through
            ends.append(f"(NOT {m.by_step} OR NOT {rest})" if ends else f"NOT {m.by_step} OR NOT {rest}")
        otherwise = f"ELSIF {' AND '.join(ends)} THEN"
        begins = f"IF {start} THEN {self.run} := TRUE; {otherwise} {self.run} := FALSE; END_IF;\n"
        lines = [f"{head(q.name)}\n", self._edge(m.start), begins if ends else f"{self.run} := {start};\n"]
        if m.stop:
            lines += [self._edge(m.stop), f"IF {q.name}{m.stop}Edge.Q THEN {self.run} := FALSE; END_IF;\n"]
        if m.hand:
            lines.append(f"IF {m.hand} THEN {self.run} := FALSE; END_IF;\n")
        if m.pause:
            lines += [self._edge(m.pause_button),
                      f"IF {q.name}{m.pause_button}Edge.Q AND NOT {rest} THEN {self.paused} := TRUE; END_IF;\n",
                      f"IF {start} OR {rest} THEN {self.paused} := FALSE; END_IF;\n"]  # fmt: skip
        if self.bars:
            terms = [f"NOT {self.paused}"] if m.pause == "after the step" else []
            if m.by_step:
                lines.append(self._edge(m.next_step))
                step = f"NOT {m.by_step} OR {q.name}{m.next_step}Edge.Q"
                terms.append(f"({step})" if terms else step)
            lines.append(f"{self.may} := {' AND '.join(terms)};\n")
        return "".join([*lines, f"{foot(q.name)}\n"])

    def _sequence(self) -> Sequence:
        q, m = self.q, self.m
        edge = re.compile(rf"RISING\(\s*{re.escape(m.start)}\s*\)", re.IGNORECASE)
        alone = re.compile(rf"(?<![\w.])(?<!NOT ){re.escape(m.start)}(?![\w.])", re.IGNORECASE)

        def started(condition: str) -> str:
            text = edge.sub(self.run, condition)
            text = alone.sub(self.run, text)
            if text != condition:
                return f"{_in_parentheses(text)} AND {self.run}" if _in_parentheses(text) != text.strip() else text
            return (
                self.run
                if condition.strip().upper() in ("", "TRUE")
                else f"{_in_parentheses(condition)} AND {self.run}"
            )

        ways = tuple(replace(t, condition=started(t.condition)) if q.initial in t.sources else t for t in q.transitions)
        steps = q.steps
        if self.bars:
            steps = tuple(
                replace(
                    s,
                    permissive=f"{_in_parentheses(s.permissive)} AND {self.may}" if s.permissive.strip() else self.may,
                )
                for s in steps
            )
        holds = [q.hold_when.strip()] if q.hold_when.strip() else []
        restarts = [q.restart_when.strip()] if q.restart_when.strip() else []
        outputs = q.hold_outputs
        if m.pause == "at once":
            holds, outputs = [*holds, self.paused], m.outputs
        if m.hand:  # what it had on goes off; hands have the outputs now
            holds, restarts, outputs = [*holds, m.hand], [*restarts, m.hand], "drop"
        if m.home:
            holds, restarts = [*holds, f"{self.home_name}.Back.X"], [*restarts, f"{self.home_name}.Back.X"]
        return replace(
            q, transitions=ways, steps=steps, hold_when=" OR ".join(holds), hold_outputs=outputs if holds else q.hold_outputs,
            restart_when=" OR ".join(restarts),
        )  # fmt: skip

    def _way_home(self) -> Sequence:
        """The sequence that it leads home is held and begins anew in the scan after the one in which the way begins."""
        there = self.project.home.strip() or "TRUE"
        back = Transition(("Back",), ("Rest",), there)
        return Sequence(
            self.home_name, "Rest",
            (Step("Rest", 10, comment="waits for its button"), Step("Back", 20, comment="what leads home is commanded here")),
            (Transition(("Rest",), ("Back",), f"RISING({self.m.home})"), back),
            comment=f"Leads {self.q.name} home; that is held, and begins anew.",
        )  # fmt: skip

    def _by_hand(self) -> Sequence:
        """The sequence that has each output on while its button is held; interlocks, opposed pairs and trips stay in force."""
        steps, ways, offs = [Step("Rest", 10, comment="waits for the selector")], [], []
        for n, output in enumerate(self.m.by_hand, 1):
            off, on, button = f"{output}Off", f"{output}On", by_hand_button(output)
            steps += [Step(off, 20 * n), Step(on, 20 * n + 10, (Action(Qualifier.N, output),))]
            ways += [Transition((off,), (on,), button), Transition((on,), (off,), f"NOT {button}")]
            offs.append(off)
        return Sequence(
            self.hand_name, "Rest", tuple(steps), (Transition(("Rest",), tuple(offs), self.m.hand), *ways), restart_when=f"NOT {self.m.hand}",
            comment=f"The outputs of {self.q.name} by hand, each while its button is held.",
        )  # fmt: skip


def _in_parentheses(condition: str) -> str:
    """A condition that may stand before AND."""
    return f"({condition.strip()})" if re.search(r"\b(OR|XOR)\b", condition, re.IGNORECASE) else condition.strip()
