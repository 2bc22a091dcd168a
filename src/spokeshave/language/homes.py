"""Home: one expression for the machine, proposed from the home values of its signals (semantics 9.5)."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.language.literals import real_text
from spokeshave.model.edits import change_item
from spokeshave.model.project import Project, Signal, Type, Value


def proposed_home(project: Project) -> str:
    """The home expression that the signals' home values make; empty where none has one.

    >>> from spokeshave.model.project import SignalClass
    >>> up = Signal("AtTop", SignalClass.INPUT, home=True)
    >>> proposed_home(Project(signals=(up, replace(up, name="AtWax", home=False))))
    'AtTop AND NOT AtWax'
    >>> proposed_home(Project(signals=(Signal("Dose", SignalClass.INPUT, Type.REAL, home=0.00001),)))
    'Dose = 1.0e-05'
    """
    return " AND ".join(_term(s) for s in project.signals if s.home is not None)


def _term(s: Signal) -> str:
    if s.type is Type.BOOL:
        return s.name if s.home else f"NOT {s.name}"
    return f"{s.name} = {_literal(s)}"


def _literal(s: Signal) -> str:
    if s.type is Type.TIME:
        return f"T#{s.home}ms"
    return real_text(float(s.home or 0)) if s.type is Type.REAL else str(s.home)


def home_in_words(project: Project) -> str:
    """What home is, as a sentence."""
    if not project.home.strip():
        return "The machine has no home yet. Give signals a home value, or write the condition."
    if project.home != proposed_home(project):
        return f"At home while {project.home}"
    parts = []
    for s in project.signals:
        if s.home is not None:
            parts.append(
                f"{s.name} is {'on' if s.home else 'off'}" if s.type is Type.BOOL else f"{s.name} is {_literal(s)}"
            )
    return "At home while " + ", ".join(parts[:-1]) + (" and " if len(parts) > 1 else "") + parts[-1]


def set_home_value(project: Project, index: int, value: Value | None) -> Project:
    """Another home value of a signal. A home expression that says what the home values say follows them."""
    follows = project.home.strip() == proposed_home(project)
    project = change_item(project, "signals", index, home=value)
    return replace(project, home=proposed_home(project)) if follows else project
