"""Edits of alarms: another condition, other words, one more, one less."""

from __future__ import annotations

import re
from dataclasses import replace

from spokeshave.model.alarm_sources import Source
from spokeshave.model.alarms import CLASSES, AlarmRule
from spokeshave.model.edits import EditError, change_item, free_name, put_items, remove_item
from spokeshave.model.project import Project

_NAME = re.compile(r"[A-Za-z_]\w*", re.ASCII)
NOT_YET = "FALSE"
"""The condition of a new alarm: it never comes until somebody says when."""


def new_alarm(project: Project, name: str = "Alarm", condition: str = NOT_YET) -> Project:
    """One more alarm with a condition of its own, at the end; `name` gets a number if it is taken."""
    name = free_name(name, {a.name.lower() for a in project.alarms if not a.on})
    return put_items(project, "alarms", (*project.alarms, AlarmRule(name, condition)))


def change_alarm(project: Project, source: Source, **changes: str) -> Project:
    """Other words, another class, condition, delay, device or name. Of a window, trip or hold a rule is made when it gets its first
    words, and goes with its last. Scenarios that expect an alarm by its name follow a new one.

    Raises `EditError` for a class that there is not, and a name that is taken or none.
    """
    if changes.get("cls", CLASSES[0]) not in CLASSES:
        raise EditError(f"there is no class {changes['cls']}; it is one of {', '.join(CLASSES)}")
    if source.rule is None:
        if not any(text.strip() for text in changes.values()):
            return project
        return put_items(project, "alarms", (*project.alarms, replace(AlarmRule("", on=source.on), **changes)))
    index = project.alarms.index(source.rule)
    if source.on:
        changed = replace(source.rule, **changes)
        if changed == AlarmRule(changed.name, on=source.on):
            return remove_item(project, "alarms", index)
    elif (new := changes.get("name", source.rule.name)) != source.rule.name:
        others = {a.name.lower() for a in project.alarms if not a.on and a is not source.rule}
        if not _NAME.fullmatch(new):
            raise EditError(
                f"{new!r} is no name: an alarm has one, of letters, digits and underscores, by which scenarios expect it"
            )
        if new.lower() in others:
            raise EditError(f"there is an alarm {new} already")
        project = _expected_as(project, source.rule.name, new)
    return change_item(project, "alarms", index, **changes)


def remove_alarm(project: Project, source: Source) -> Project:
    """Without an alarm of its own, or without the words of a window, trip or hold, which goes on telling by itself."""
    return project if source.rule is None else remove_item(project, "alarms", project.alarms.index(source.rule))


def _expected_as(project: Project, old: str, new: str) -> Project:
    row = re.compile(rf'^(\s*(?:.*:\s*)?expect\s+(?:no\s+)?alarm\s+"){re.escape(old)}"', re.IGNORECASE | re.MULTILINE)
    scenarios = tuple(replace(s, text=row.sub(rf'\g<1>{new}"', s.text)) for s in project.scenarios)
    return project if scenarios == project.scenarios else put_items(project, "scenarios", scenarios)
