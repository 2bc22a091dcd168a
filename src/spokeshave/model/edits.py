"""Edits: functions from one machine file to the next. An edit that would break the chart raises `EditError`."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from typing import Any, TypeVar

from spokeshave.model import ModelError
from spokeshave.model.project import (
    Action,
    Body,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Type,
)

T = TypeVar("T")


class EditError(ModelError):
    """The edit is not legal here; the text says why and what to do instead."""


def replaced(items: tuple[T, ...], index: int, item: T) -> tuple[T, ...]:
    """`items` with the one at `index` exchanged."""
    return (*items[:index], item, *items[index + 1 :])


def inserted(items: tuple[T, ...], index: int, item: T) -> tuple[T, ...]:
    """`items` with one more at `index`."""
    return (*items[:index], item, *items[index:])


def removed(items: tuple[T, ...], index: int) -> tuple[T, ...]:
    """`items` without the one at `index`."""
    return (*items[:index], *items[index + 1 :])


def _with(project: Project, field: str, items: tuple[Any, ...]) -> Project:
    changes: dict[str, Any] = {field: items}
    return replace(project, **changes)


def change_item(project: Project, field: str, index: int, **changes: Any) -> Project:
    """One item of a listed field (`requirements`, `signals`, `devices`, ...) with other values."""
    items = getattr(project, field)
    item = replace(items[index], **changes)
    return project if item == items[index] else _with(project, field, replaced(items, index, item))


def add_item(project: Project, field: str, item: object, at: int | None = None) -> Project:
    """One more item in a listed field, at the end unless `at` says where."""
    items = getattr(project, field)
    return _with(project, field, inserted(items, len(items) if at is None else at, item))


def put_items(project: Project, field: str, items: tuple[Any, ...]) -> Project:
    """A whole listed field exchanged."""
    return project if items == getattr(project, field) else _with(project, field, items)


def remove_item(project: Project, field: str, index: int) -> Project:
    """A listed field without the item at `index`."""
    return _with(project, field, removed(getattr(project, field), index))


def free_name(stem: str, taken: set[str]) -> str:
    """`stem`, or `stem2`, `stem3` ... that is not in `taken` (lower case).

    >>> free_name("Step", {"step", "step2"})
    'Step3'
    """
    if stem.lower() not in taken:
        return stem
    n = 2
    while f"{stem}{n}".lower() in taken:
        n += 1
    return f"{stem}{n}"


def taken_names(project: Project) -> set[str]:
    """Every name of the project in lower case: signals, sequences, devices, steps, bodies (semantics section 2)."""
    named = (project.signals, project.devices, project.instances, project.tables, project.routines)
    names = {x.name for items in named for x in items}
    for sequence in project.sequences:
        names |= {sequence.name, *(s.name for s in sequence.steps), *(b.name for b in sequence.bodies)}
    return {n.lower() for n in names}


def usual_type(cls: SignalClass) -> Type:
    """The type of a signal of which nothing but the class is known."""
    return Type.TIME if cls is SignalClass.SETTING else Type.BOOL


def new_signal(project: Project, cls: SignalClass, at: int | None = None) -> Project:
    """A new signal with a free name and the usual type of its class."""
    stem = {"input": "In", "output": "Out", "internal": "Flag", "setting": "Setting"}[cls.value]
    signal = Signal(free_name(f"{stem}1", taken_names(project)), cls, usual_type(cls))
    return add_item(project, "signals", signal, at)


def _sequence(project: Project, name: str) -> tuple[int, Sequence]:
    for i, sequence in enumerate(project.sequences):
        if sequence.name.lower() == name.lower():
            return i, sequence
    raise EditError(f"there is no sequence {name}")


def edit_sequence(project: Project, name: str, edit: Callable[[Sequence], Sequence]) -> Project:
    """The project with one sequence passed through `edit`."""
    i, sequence = _sequence(project, name)
    after = edit(sequence)
    return project if after is sequence else replace(project, sequences=replaced(project.sequences, i, after))


def change_sequence(project: Project, name: str, **changes: Any) -> Project:
    """Other fields of a sequence, such as what holds it."""
    return edit_sequence(project, name, lambda q: replace(q, **changes))


def step_index(sequence: Sequence, name: str) -> int:
    """The index of a step by its name, in any case of letters. Raises `EditError` if there is none."""
    for i, step in enumerate(sequence.steps):
        if step.name.lower() == name.lower():
            return i
    raise EditError(f"{sequence.name} has no step {name}")


def change_step(project: Project, sequence: str, step: str, **changes: Any) -> Project:
    """A step with other values; renaming is done where references can follow, not here."""

    def edit(seq: Sequence) -> Sequence:
        at = step_index(seq, step)
        after = replace(seq.steps[at], **changes)
        if after == seq.steps[at]:
            return seq
        if any(s.number == after.number for i, s in enumerate(seq.steps) if i != at):
            raise EditError(f"number {after.number} is taken by another step of {seq.name}")
        return replace(seq, steps=replaced(seq.steps, at, after))

    return edit_sequence(project, sequence, edit)


_LONGEST_FIRST = "|".join(sorted(Qualifier, key=len, reverse=True))
_MARK = re.compile(
    rf"^\s*(?:([xX])|({_LONGEST_FIRST})(?:(?:\s*,?\s+|\s*,\s*|(?=\d))(\d[\d.,]*\s*[a-z]*|\S+))?)\s*$", re.IGNORECASE
)
_TYPED = re.compile(r"(\d+(?:[.,]\d+)?)\s*(ms|s|sec|sek|min|m|h|d)?", re.IGNORECASE)
_UNITS = {"": "s", "sec": "s", "sek": "s", "min": "m"}


def typed_time(text: str) -> str:
    """A time as people type it, as a literal; a number alone is seconds. What is none stays as it is.

    >>> typed_time("12"), typed_time("1,5 s"), typed_time("2 min"), typed_time("1m30s"), typed_time("Limit")
    ('T#12s', 'T#1.5s', 'T#2m', 'T#1m30s', 'Limit')
    """
    text = text.strip()
    found = _TYPED.fullmatch(text)
    if found is None:
        return f"T#{text}" if text[:1].isdigit() else text
    unit = (found[2] or "").lower()
    return f"T#{found[1].replace(',', '.')}{_UNITS.get(unit, unit)}"


def read_mark(text: str, target: str) -> Action | None:
    """An action block from what is typed into a cell: `X` or `N`, `S`, `R`, `L 2s`, `D T#500ms`; empty for none.

    >>> read_mark("L 2s", "Drive")
    Action(qualifier=<Qualifier.L: 'L'>, target='Drive', time='T#2s')

    Raises `EditError` for a text that is no mark.
    """
    if not text.strip():
        return None
    found = _MARK.match(text)
    if not found:
        raise EditError(f"{text.strip()!r} is not a mark; type X, a qualifier such as S or R, or one with a time: L 2s")
    qualifier = Qualifier(found[2].upper()) if found[2] else Qualifier.N
    time = typed_time(found[3] or "")
    if qualifier.timed and not time:
        raise EditError(f"{qualifier} needs a time, for example {qualifier} 2s")
    if time and not qualifier.timed:
        timed = [str(q) for q in Qualifier if q.timed]
        raise EditError(f"{qualifier} takes no time; only {', '.join(timed[:-1])} and {timed[-1]} do")
    return Action(qualifier, target, time)


def read_marks(text: str, target: str) -> tuple[Action, ...]:
    """As `read_mark`, for several marks joined by ` / `.

    >>> [str(a.qualifier) for a in read_marks("S / D 2s", "Drive")]
    ['S', 'D']
    """
    found = (read_mark(part, target) for part in text.split("/"))
    return tuple(a for a in found if a is not None)


def read_block(text: str) -> Action | None:
    """An action block as it is written on a chart: `Drive`, `S Drive`, `L 2s Drive`; empty for none.

    >>> read_block("L 2s Drive")
    Action(qualifier=<Qualifier.L: 'L'>, target='Drive', time='T#2s')
    """
    words = text.replace(",", " ").split()
    if not words:
        return None
    return read_mark(" ".join(words[:-1]) or "N", words[-1])


def put_action(project: Project, sequence: str, step: str, index: int, action: Action | None) -> Project:
    """Exchanges, adds (behind the last) or takes away the action block at `index`."""

    def edit(seq: Sequence) -> Sequence:
        at = step_index(seq, step)
        old = seq.steps[at].actions
        new = (*old[:index], *([action] if action else []), *old[index + 1 :])
        return seq if new == old else replace(seq, steps=replaced(seq.steps, at, replace(seq.steps[at], actions=new)))

    return edit_sequence(project, sequence, edit)


def with_body_for(project: Project, sequence: str, target: str) -> Project:
    """A file in which an action block can act on `target`: a name that nothing has is a new, empty body's.

    Raises `EditError` for a name that cannot name a body.
    """
    q = _sequence(project, sequence)[1]
    if project.signal(target) is not None or any(b.name.lower() == target.lower() for b in q.bodies):
        return project
    if target.lower() in taken_names(project):
        raise EditError(
            f"{target} is the name of something else; an action block acts on outputs, internals and bodies"
        )
    return edit_sequence(project, sequence, lambda x: replace(x, bodies=(*x.bodies, Body(target, ""))))


def read_window(text: str) -> dict[str, str]:
    """A time window as typed: `6s` the longest time, `1s to 6s` both, `at least 1s`; names of settings too.

    >>> read_window("1s to Limit"), read_window("12")
    ({'shortest': 'T#1s', 'longest': 'Limit'}, {'shortest': '', 'longest': 'T#12s'})
    """

    def time(part: str) -> str:
        found = typed_time(part)
        if found and not re.fullmatch(r"(?i)T#[\d._]+(ms|s|m|h|d)([\d._]+(ms|s|m|h))*|[A-Za-z_]\w*", found):
            raise EditError(f"{part.strip()!r} is not a time; type for example 6s, 1s to 6s, or the name of a setting")
        return found

    text = text.strip()
    if text.lower().startswith("at least "):
        return {"shortest": time(text[9:]), "longest": ""}
    low, to, high = re.sub(r"(?i)^at most ", "", text).partition(" to ")
    return {"shortest": time(low), "longest": time(high)} if to else {"shortest": "", "longest": time(low)}


def set_mark(project: Project, sequence: str, step: str, target: str, marks: tuple[Action, ...]) -> Project:
    """Gives a step the action blocks `marks` on `target` in place of those it has; none takes them away."""

    def edit(seq: Sequence) -> Sequence:
        at = step_index(seq, step)
        blocks = [a for a in seq.steps[at].actions if a.target.lower() != target.lower()]
        blocks += marks
        after = replace(seq.steps[at], actions=tuple(blocks))
        return seq if after == seq.steps[at] else replace(seq, steps=replaced(seq.steps, at, after))

    return edit_sequence(project, sequence, edit)


def new_sequence(project: Project, stem: str = "Sequence") -> Project:
    """A sequence with an initial step and one more, ready to be filled."""
    taken = taken_names(project)
    name = free_name(stem, taken)
    first = free_name("Waiting", taken)
    second = free_name("Working", taken)
    steps = (Step(first, 10), Step(second, 20))
    transitions = (
        Transition((first,), (second,), "FALSE"),
        Transition((second,), (first,), f"{second}.T >= T#1s"),
    )
    return add_item(project, "sequences", Sequence(name, first, steps, transitions))
