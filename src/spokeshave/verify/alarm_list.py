"""The list of all alarms of a machine file: what raises each, what it says, and which scenario shows that it comes."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from spokeshave.language.scenario import parse_scenario
from spokeshave.model.alarm_sources import Source, sources, tells
from spokeshave.model.alarms import AlarmRule
from spokeshave.model.project import Project

HEADS = ("alarm", "raised when", "text", "class", "delay", "points at", "shown by")


@dataclass(frozen=True, slots=True)
class Listed:
    """An alarm as the list shows it. `scenarios` are those that expect it to be raised."""

    source: Source
    scenarios: tuple[str, ...]

    @property
    def rule(self) -> AlarmRule:
        """Its words, or none."""
        return self.source.rule or AlarmRule("", on=self.source.on)

    @property
    def told(self) -> bool:
        """Whether it is raised at all: a hold only where somebody has a word for it."""
        return tells(self.source)

    @property
    def cells(self) -> tuple[str, ...]:
        """What stands under each of `HEADS`."""
        r = self.rule
        delay = "" if self.source.on else r.delay
        words = (r.text or self.source.phrase) if self.told else ""
        kind = r.cls if self.told else "not told"
        return self.source.phrase, self.source.when, words, kind, delay, r.device, ", ".join(self.scenarios)


def alarm_list(project: Project) -> list[Listed]:
    """All that can raise an alarm, in the order of `sources`. A scenario shows an alarm if a row expects its name or a part of its
    text.
    """
    expected: list[tuple[str, str]] = [
        (row.note.lower(), s.name)
        for s in project.scenarios
        for row in parse_scenario(s.text).expectations
        if row.kind == "alarm" and row.note.strip()
    ]

    def shown(source: Source) -> Iterator[str]:
        said = f"{source.phrase}\n{source.rule.text if source.rule else ''}".lower()
        for note, name in expected:
            if note in said:
                yield name

    return [Listed(source, tuple(dict.fromkeys(shown(source)))) for source in sources(project)]


def as_csv(listed: list[Listed]) -> str:
    """A line an alarm, with a line of heads above."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(HEADS)
    writer.writerows(row.cells for row in listed)
    return out.getvalue()


def as_data(listed: list[Listed]) -> list[dict[str, Any]]:
    """The list as plain data."""
    return [{**dict(zip(HEADS, row.cells)), "shown by": list(row.scenarios)} for row in listed]
