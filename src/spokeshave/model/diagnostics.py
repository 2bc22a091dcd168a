"""Faults in a person's work, as values: where, what is wrong, what to do."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from difflib import get_close_matches
from enum import StrEnum


class Severity(StrEnum):
    ERROR = "error"
    WARNING = "warning"
    ADVICE = "advice"


@dataclass(frozen=True, slots=True)
class Place:
    """An item of the machine file, and a spot in its text (line and column count from 1; 0 means the whole item).

    `kind` is one of signal, sequence, step, transition, action, body, opening, closing, interlock, trip, opposed,
    device, scenario, requirement, project. `index` counts transitions from 0.
    """

    kind: str = "project"
    sequence: str = ""
    item: str = ""
    index: int = -1
    line: int = 0
    column: int = 0

    def spot(self, line: int, column: int) -> Place:
        return replace(self, line=line, column=column)

    @property
    def step(self) -> str:
        """The step that a place of kind step or action is about, or an empty string."""
        return self.item.split()[0] if self.kind in ("step", "action") and self.item.strip() else ""

    def __str__(self) -> str:
        if self.kind == "transition":
            text = f"{self.sequence}, transition {self.item}"
        elif self.kind in ("step", "action", "body"):
            text = f"{self.sequence}, {self.kind} {self.item}"
        elif self.kind in ("opening", "closing"):
            text = f"{self.kind} logic"
        elif self.kind == "sequence":
            text = self.sequence or self.item
        elif self.kind == "project":
            text = self.item or "project"
        else:
            text = f"{self.kind} {self.item}"
        if self.line > 1:
            text += f", line {self.line}"
        if self.column:
            text += f", column {self.column}"
        return text


@dataclass(frozen=True, slots=True)
class Diagnostic:
    """One finding: a stable identifier, how bad, where, what is wrong, what would be right."""

    code: str
    severity: Severity
    place: Place
    message: str
    advice: str = ""

    def __str__(self) -> str:
        tail = f"; {self.advice}" if self.advice else ""
        return f"{self.place}: {self.message}{tail}"


def errors(found: Iterable[Diagnostic]) -> list[Diagnostic]:
    return [d for d in found if d.severity is Severity.ERROR]


def did_you_mean(name: str, known: Iterable[str]) -> str:
    """A short offer of known names that are close, or an empty string.

    >>> did_you_mean("DrumRun", ["DrumRuns", "Gate"])
    'did you mean DrumRuns?'
    """
    by_lower = {k.lower(): k for k in known}
    close = get_close_matches(name.lower(), list(by_lower), n=2, cutoff=0.6)
    return f"did you mean {' or '.join(by_lower[c] for c in close)}?" if close else ""
