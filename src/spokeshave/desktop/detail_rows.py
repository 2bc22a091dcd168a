"""The rows a form of the details is made of: values, each with the edit that changes it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from spokeshave.model.project import Project

Change = Callable[[Project, str], Project]
"""The machine file with another value for what a row is about, from what was typed."""


@dataclass(frozen=True, slots=True)
class Field:
    """`name` is what the edit is called. `reaches` is the field of the machine file it changes: `Signal.retain`."""

    label: str
    name: str
    change: Change
    reaches: str
    tip: str = ""


@dataclass(frozen=True, slots=True)
class Line(Field):
    """`condition` is the sequence whose names complete, `-` for those of the whole file, empty for plain text."""

    value: str = ""
    hint: str = ""
    condition: str = ""


@dataclass(frozen=True, slots=True)
class Choice(Field):
    """A value out of some."""

    value: str = ""
    choices: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Check(Field):
    """Yes or no."""

    value: bool = False


@dataclass(frozen=True, slots=True)
class Text(Field):
    """Several lines of text."""

    value: str = ""
    hint: str = ""
    lines: int = 6


@dataclass(frozen=True, slots=True)
class Button(Field):
    """Does its edit when it is pressed; the text is empty."""


@dataclass(frozen=True, slots=True)
class Note:
    """A word between fields."""

    label: str
    text: str = ""


@dataclass(frozen=True, slots=True)
class Fold:
    """The rows behind it, up to the next note, are shown when it is opened."""

    label: str


Row = Line | Choice | Check | Text | Button | Note | Fold
Rows = list[Row]
