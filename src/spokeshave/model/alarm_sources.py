"""What in a machine file can raise an alarm, with the words that somebody gave it (semantics 9.6)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from spokeshave.model.alarms import AlarmRule, ident_of, phrase_of
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project


@dataclass(frozen=True, slots=True)
class Source:
    """Something that can raise an alarm. `ident` is what the log calls it, `phrase` what a scenario expects, `when` says when it
    comes; `rule` has its words, if somebody gave any.
    """

    ident: str
    phrase: str
    when: str
    place: Place
    on: str = ""
    rule: AlarmRule | None = None


def sources(project: Project) -> Iterator[Source]:
    """All that can raise an alarm: windows and the hold of each sequence, trips, then alarms of their own, as they are listed."""
    rules = {r.key: r for r in reversed(project.alarms) if r.on}

    def of(on: str, when: str, place: Place) -> Source:
        ident = ident_of(AlarmRule("", on=on))
        return Source(ident, phrase_of(ident), when, place, on, rules.get(on.lower()))

    for q in project.sequences:
        for s in q.steps:
            if s.longest.strip():
                yield of(f"late {q.name}.{s.name}", f"longer than {s.longest.strip()}", Place("step", q.name, s.name))
        late = next((s.name for s in q.steps if s.response == "hold" and s.longest.strip()), "")
        if q.hold_when.strip() or late:
            when = " ".join(q.hold_when.split()) or f"{late} is late"
            yield of(f"hold {q.name}", when, Place("sequence", item=q.name))
    for t in project.trips:
        yield of(f"trip {t.name}", " ".join(t.condition.split()), Place("trip", item=t.name))
    for r in project.alarms:
        if not r.on:
            when = " ".join(r.condition.split()) + (f", for {r.delay.strip()}" if r.delay.strip() else "")
            yield Source(ident_of(r), r.name, when, Place("alarm", item=r.name), "", r)


def tells(source: Source) -> bool:
    """Whether an alarm is raised at all: a hold tells only where somebody gave it words."""
    return source.rule is not None or not source.on.startswith("hold ")
