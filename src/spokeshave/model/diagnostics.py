"""Faults in a person's work, as values: where, what is wrong, what to do."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, replace
from difflib import get_close_matches
from enum import StrEnum
from functools import lru_cache


class Told(Exception):
    """The root of all errors that are told to a person: each package has one of its own beneath it."""


LONGEST_QUOTE = 60
LONGEST_MESSAGE = 300
MOST_NAMED = 12


class Severity(StrEnum):
    """How grave a finding is: an error keeps the file from running or protecting."""

    ERROR = "error"
    WARNING = "warning"
    ADVICE = "advice"


@dataclass(frozen=True, slots=True)
class Place:
    """An item of the machine file, and a spot in its text (line and column count from 1; 0 means the whole item).

    `kind` is one of signal, sequence, step, transition, action, body, opening, closing, interlock, trip, opposed,
    alarm, device, recipe, scenario, requirement, project. `index` counts transitions from 0.
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
        item, sequence = quoted(self.item), quoted(self.sequence)
        if self.kind == "transition":
            text = f"{sequence}, transition {item}"
        elif self.kind in ("step", "action", "body"):
            text = f"{sequence}, {self.kind} {item}"
        elif self.kind in ("opening", "closing"):
            text = f"{self.kind} logic"
        elif self.kind == "sequence":
            text = sequence or item
        elif self.kind == "project":
            text = item or "project"
        else:
            text = f"{self.kind} {item}"
        if self.line > 1:
            text += f", line {self.line}"
        if self.column:
            text += f", column {self.column}"
        return text


def quoted(text: object, most: int = LONGEST_QUOTE) -> str:
    """A text of a person's file as a message may quote it: on one line, at most so many characters.

    >>> quoted("Q" * 100)
    'QQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQQ...'
    """
    line = re.sub(r"\s+", " ", str(text)[: 4 * most])
    return line if len(line) <= most else f"{line[: most - 3]}..."


def several(names: Iterable[object], most: int = MOST_NAMED) -> str:
    """Names behind each other, and how many there are beside the first ones.

    >>> several(["Dip", "Drain", "Dry", "Rest"], 2)
    'Dip, Drain and 2 more'
    """
    all_of = [quoted(n) for n in names]
    more = len(all_of) - most
    return ", ".join(all_of) if more <= 0 else f"{', '.join(all_of[:most])} and {more} more"


def line_and_column(text: str, at: int) -> tuple[int, int]:
    """Where the character at an offset stands, both counted from 1.

    >>> line_and_column("one\\ntwo", 5)
    (2, 2)
    """
    return text.count("\n", 0, at) + 1, at - text.rfind("\n", 0, at)


_LONG_WORD = re.compile(rf"\S{{{LONGEST_QUOTE + 1},}}")


def clipped(message: str) -> str:
    """A message in which no word is longer than a quote may be, and that is no longer than a person reads."""
    if len(message) <= LONGEST_QUOTE:
        return message
    short = _LONG_WORD.sub(lambda m: quoted(m[0]), message[: 20 * LONGEST_MESSAGE])
    return short if len(short) <= LONGEST_MESSAGE else f"{short[: LONGEST_MESSAGE - 3]}..."


@dataclass(frozen=True, slots=True)
class Diagnostic:
    """One finding: a stable identifier, how bad, where, what is wrong, what would be right."""

    code: str
    severity: Severity
    place: Place
    message: str
    advice: str = ""
    at: str = ""
    """`file:line:column` in the text file it was read from, where that is known."""

    def __post_init__(self) -> None:
        object.__setattr__(self, "message", clipped(self.message))
        object.__setattr__(self, "advice", clipped(self.advice))

    def __str__(self) -> str:
        tail = f"; {self.advice}" if self.advice else ""
        return f"{self.at}{': ' if self.at else ''}{self.place}: {self.message}{tail}"


def errors(found: Iterable[Diagnostic]) -> list[Diagnostic]:
    """The findings of severity error."""
    return [d for d in found if d.severity is Severity.ERROR]


def did_you_mean(name: str, known: Iterable[str]) -> str:
    """A short offer of known names that are close, or an empty string.

    >>> did_you_mean("DrumRun", ["DrumRuns", "Gate"])
    'did you mean DrumRuns?'
    """
    close = _close(name.lower(), tuple(known))
    return f"did you mean {' or '.join(quoted(c) for c in close)}?" if close else ""


MOST_LOOKED_AT = 30
"""Of many known names only those that share most pairs of letters are compared letter by letter."""


@lru_cache(maxsize=2000)
def _close(name: str, known: tuple[str, ...]) -> tuple[str, ...]:
    if len(name) > 4 * LONGEST_QUOTE:
        return ()
    by_lower = {k.lower(): k for k in known}
    candidates = list(by_lower)
    if len(name) <= 4:  # may share no pair of letters with what is close
        candidates = [k for k in candidates if len(k) <= 6]
    elif len(candidates) > MOST_LOOKED_AT:
        shared = Counter(other for pair in _pairs(name) for other in _by_pair(known).get(pair, ()))
        candidates = [other for other, _ in shared.most_common(MOST_LOOKED_AT)]
    return tuple(by_lower[c] for c in get_close_matches(name, candidates, n=2, cutoff=0.6))


def _pairs(name: str) -> set[str]:
    return {name[i : i + 2] for i in range(len(name) - 1)} or {name}


@lru_cache(maxsize=16)
def _by_pair(known: tuple[str, ...]) -> dict[str, list[str]]:
    """Known names, in lower case, by the pairs of letters they hold."""
    found: dict[str, list[str]] = {}
    for k in known:
        for pair in _pairs(k.lower()):
            found.setdefault(pair, []).append(k.lower())
    return found
