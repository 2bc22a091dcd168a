"""Finding and replacing what is written in a sequence."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from spokeshave.engine.link_sequence import transition_place
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import edit_sequence
from spokeshave.model.project import Action, Project, Sequence, Step


@dataclass(frozen=True, slots=True)
class Hit:
    """An item of a sequence that has the text, and the text it stands in."""

    place: Place
    text: str


def _pattern(wanted: str, whole: bool) -> re.Pattern[str]:
    text = re.escape(wanted)
    return re.compile(rf"(?<!\w){text}(?!\w)" if whole else text, re.IGNORECASE)


def find(sequence: Sequence, wanted: str, whole: bool = False) -> list[Hit]:
    """Everything in a sequence that contains `wanted`, in the order of the sheet; `whole` looks for whole names only."""
    return list(_hits(sequence, _pattern(wanted, whole))) if wanted else []


def spots(text: str, wanted: str, whole: bool = False) -> list[tuple[int, int]]:
    """Begin and end of each place where `wanted` stands in a text."""
    return [m.span() for m in _pattern(wanted, whole).finditer(text)] if wanted else []


def _hits(q: Sequence, pattern: re.Pattern[str]) -> Iterator[Hit]:
    for s in q.steps:
        here = Place("step", q.name, s.name)
        for text in (s.name, str(s.number), s.longest, s.shortest, s.permissive, s.comment):
            if pattern.search(text):
                yield Hit(here, text)
        for a in s.actions:
            for text in (a.target, a.time):
                if pattern.search(text):
                    yield Hit(Place("action", q.name, f"{s.name} {a.target}"), text)
        for i, t in q.leaving(s.name):
            if t.sources[-1] == s.name and pattern.search(t.condition):
                yield Hit(transition_place(q, i), t.condition)
    for b in q.bodies:
        if pattern.search(b.text):
            yield Hit(Place("body", q.name, b.name), b.text)


def replace_all(
    project: Project, sequence: str, wanted: str, new: str, whole: bool = False, only: Place | None = None
) -> Project:
    """`new` for `wanted` in conditions, permissives, times, comments, action blocks and bodies, or at one place only.

    Names of steps stay: they are renamed where they stand, so that all that speaks of them follows.
    """
    pattern = _pattern(wanted, whole)

    def put(text: str) -> str:
        return pattern.sub(lambda _: new, text)

    def at(kind: str, item: str, index: int = -1) -> bool:
        return only is None or (only.kind == kind and only.item == item and only.index == index)

    def edit(q: Sequence) -> Sequence:
        steps = tuple(_step(s, put, at) for s in q.steps)
        ways = tuple(
            replace(t, condition=put(t.condition))
            if only is None or (only.kind == "transition" and only.index == i)
            else t
            for i, t in enumerate(q.transitions)
        )
        bodies = tuple(replace(b, text=put(b.text)) if at("body", b.name) else b for b in q.bodies)
        after = replace(q, steps=steps, transitions=ways, bodies=bodies)
        return q if after == q else after

    return edit_sequence(project, sequence, edit)


def _step(s: Step, put: Callable[[str], str], at: Callable[[str, str], bool]) -> Step:
    def block(a: Action) -> Action:
        return replace(a, target=put(a.target), time=put(a.time)) if at("action", f"{s.name} {a.target}") else a

    s = replace(s, actions=tuple(block(a) for a in s.actions))
    if not at("step", s.name):
        return s
    return replace(
        s, longest=put(s.longest), shortest=put(s.shortest), permissive=put(s.permissive), comment=put(s.comment)
    )
