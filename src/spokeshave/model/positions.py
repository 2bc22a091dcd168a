"""Positions of moving parts, confirmed or inferred, as readable rules at the head of the opening logic.

A *confirmed* position needs its own switch, an *inferred* one has none: then the opposite switch, the command and the
settle time have to do. Each is an internal signal that a few lines of opening logic set; the lines are made from the
rule and read back into it, so that a person may also write them by hand.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from spokeshave.model.edits import EditError, taken_names
from spokeshave.model.project import Instance, Project, Signal, SignalClass

_NAME = r"[A-Za-z_]\w*"
_RULE = re.compile(
    rf"\(\* position (?P<name>{_NAME}) \*\)\n"
    rf"(?:(?P<timer>{_NAME})\(IN := (?P<held>[^,;]+), PT := (?P<time>[^;]+)\);\n(?P=name) := (?P=timer)\.Q;"
    rf"|(?P=name) := (?P<plain>[^;]+);)\n?"
)


@dataclass(frozen=True, slots=True)
class Position:
    """`name` is TRUE once `switch` is on (confirmed), `opposite` is off and `command` is as `commanded` says, all of it
    for `settle` (a TIME or a setting; empty for at once). Names may be empty; without `switch` it is inferred.
    """

    name: str
    switch: str = ""
    opposite: str = ""
    command: str = ""
    commanded: bool = False
    settle: str = ""

    @property
    def confirmed(self) -> bool:
        return bool(self.switch)

    @property
    def condition(self) -> str:
        parts = [self.switch, f"NOT {self.opposite}" if self.opposite else ""]
        parts.append(("" if self.commanded else "NOT ") + self.command if self.command else "")
        return " AND ".join(p for p in parts if p)

    @property
    def sentence(self) -> str:
        """The rule as a person says it."""
        parts = [f"{self.switch} is on" if self.switch else "", f"{self.opposite} is off" if self.opposite else ""]
        parts.append(f"{self.command} is {'on' if self.commanded else 'off'}" if self.command else "")
        given = [p for p in parts if p]
        text = ", ".join(given[:-1]) + (" and " if len(given) > 1 else "") + given[-1] if given else "never"
        after = f" for {self.settle.removeprefix('T#')}" if self.settle else ""
        return f"{self.name} is {'confirmed' if self.confirmed else 'inferred'} while {text}{after}"

    def text(self, timer: str) -> str:
        """The lines of opening logic."""
        if not self.settle:
            return f"(* position {self.name} *)\n{self.name} := {self.condition};\n"
        return f"(* position {self.name} *)\n{timer}(IN := {self.condition}, PT := {self.settle});\n{self.name} := {timer}.Q;\n"


def positions(project: Project) -> list[Position]:
    """The positions that the opening logic has rules for, in its order."""
    outputs = {s.name.lower() for s in project.signals if s.cls is SignalClass.OUTPUT}
    found = []
    for m in _RULE.finditer(project.opening):
        position = _read(m["name"], m["held"] or m["plain"], (m["time"] or "").strip(), outputs)
        if position is not None:
            found.append(position)
    return found


def without_rules(project: Project) -> str:
    """The opening logic with the rules of positions blanked out: what was written by hand, at its lines."""
    return _RULE.sub(lambda m: re.sub(r"[^\n]", " ", m[0]), project.opening)


def _read(name: str, condition: str, settle: str, outputs: set[str]) -> Position | None:
    """A rule from its condition: terms joined by AND, each a name or NOT a name."""
    p = Position(name, settle=settle)
    for term in re.split(r"\s+AND\s+", condition.strip()):
        m = re.fullmatch(rf"(NOT )?({_NAME})", term.strip())
        if not m:
            return None
        negated, signal = bool(m[1]), m[2]
        if signal.lower() in outputs:
            p = replace(p, command=signal, commanded=not negated)
        elif negated:
            p = replace(p, opposite=signal)
        else:
            p = replace(p, switch=signal)
    return p


def put_position(project: Project, position: Position, old: str = "") -> Project:
    """Adds a position, or puts it in the place of `old`; its internal signal and its timer are made with it.

    Raises EditError where the rule says nothing or names what there is not.
    """
    for name, cls in (
        (position.switch, SignalClass.INPUT),
        (position.opposite, SignalClass.INPUT),
        (position.command, SignalClass.OUTPUT),
    ):
        signal = project.signal(name) if name else None
        if name and (signal is None or signal.cls is not cls):
            raise EditError(
                f"{name} is no {cls}; a position looks at switches that are inputs and at a command that is an output"
            )
    if not position.switch and not position.opposite:
        raise EditError("a position needs its own switch or the opposite one")
    if not re.fullmatch(_NAME, position.name):
        raise EditError(f"{position.name!r} is not a name; use letters, digits and underscores, a letter first")
    existing = project.signal(position.name)
    if (
        position.name.lower() != old.lower()
        and existing is not None
        and (
            existing.cls is not SignalClass.INTERNAL
            or any(p.name.lower() == position.name.lower() for p in positions(project))
        )
    ):
        raise EditError(f"{position.name} is already the name of something else")
    if existing is None and position.name.lower() in taken_names(project):
        raise EditError(f"{position.name} is already the name of something else")
    timer = f"{position.name}_Settled"
    text = position.text(timer)
    project = _without(project, old) if old else project
    if position.settle and not any(i.name.lower() == timer.lower() for i in project.instances):
        project = replace(project, instances=(*project.instances, Instance(timer, "TON")))
    if project.signal(position.name) is None:
        signal = Signal(
            position.name, SignalClass.INTERNAL, comment="position" if position.confirmed else "inferred position"
        )
        project = replace(project, signals=(*project.signals, signal))
    rules = list(_RULE.finditer(project.opening))
    at = rules[-1].end() if rules else 0
    return replace(project, opening=project.opening[:at] + text + project.opening[at:])


def _without(project: Project, name: str) -> Project:
    """The project without the lines and the timer of a rule; the signal stays, since others may read it."""
    for m in _RULE.finditer(project.opening):
        if m["name"].lower() == name.lower():
            instances = tuple(
                i for i in project.instances if m["timer"] is None or i.name.lower() != m["timer"].lower()
            )
            return replace(
                project, opening=project.opening[: m.start()] + project.opening[m.end() :], instances=instances
            )
    return project


def remove_position(project: Project, name: str) -> Project:
    """Takes the rule away; its signal goes too where nothing else names it in a text.

    Raises `EditError` if there is no such rule.
    """
    after = _without(project, name)
    if after is project:
        raise EditError(f"there is no position {name}")
    return after
