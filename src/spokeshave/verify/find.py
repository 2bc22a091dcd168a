"""Finding what is written in a machine file, and where something is used; replacing in a sequence."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from spokeshave.engine.link_sequence import transition_place
from spokeshave.language.literals import duration_ms
from spokeshave.language.references import Names, Target, references
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import edit_sequence
from spokeshave.model.project import Action, Project, Sequence, Step
from spokeshave.verify.all_texts import Text, every_text


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


@dataclass(frozen=True, slots=True)
class Found:
    """A line of a machine file in which something was found: where, what the text is there, the line, and where in it."""

    place: Place
    what: str
    line: str
    begin: int
    end: int


def find_everywhere(project: Project, wanted: str, whole: bool = False) -> list[Found]:
    """Every line of the machine file that contains `wanted`, in the order of the stages. A time is found however it is written:
    `5 s` finds `T#5s` and `5000ms` too.
    """
    if not wanted.strip():
        return []
    pattern, ms = _pattern(wanted.strip(), whole), _ms(wanted)
    out = []
    for t in every_text(project):
        for number, line in enumerate(t.text.split("\n"), 1):
            m = (
                pattern.search(line)
                if ms is None
                else next((m for m in _TIMES.finditer(line) if _ms(m[0]) == ms), None)
            )
            if m is not None:
                out.append(_found(t, number, line, m.start(), m.end()))
    return out


def used_where(project: Project, target: Target) -> list[Found]:
    """Every line in which something is meant by its name, where it is declared first: signals, steps, sequences, devices, bodies,
    blocks and what they declare, compared as the language reads names.
    """
    names, declared, out = Names(project), [], []
    for t in every_text(project):
        if t.names and _is(t.place, target):
            declared.append(_found(t, 1, t.text, 0, len(t.text)))
        if t.where is None:
            continue
        begins = [0, *(i + 1 for i, c in enumerate(t.text) if c == "\n")]
        seen: set[int] = set()
        for r in references(t.text, names, t.where):
            number = bisect_right(begins, r.start)
            if r.target == target and number not in seen:
                seen.add(number)
                first = begins[number - 1]
                line = t.text[first:].split("\n", 1)[0]
                out.append(_found(t, number, line, r.start - first, r.end - first))
    return [*declared, *out]


def targets_called(project: Project, name: str) -> list[Target]:
    """What texts can mean by a name: `Go`, `Main.Open`, or `Open` of each sequence that has such a step."""
    called, found = name.strip().lower(), []
    for t in every_text(project):
        target = target_of(project, t.place) if t.names else None
        if target is not None and called in (target.name, f"{target.owner}.{target.name}" if target.owner else ""):
            found.append(target)
    return found


def target_of(project: Project, place: Place) -> Target | None:
    """What a place is about, if texts can name it."""
    if place.step:
        return Target("step", place.step.lower(), place.sequence.lower())
    if place.kind == "body":
        return Target("body", place.item.lower(), place.sequence.lower())
    if place.kind in ("signal", "sequence", "device", "instance", "table", "routine"):
        return Target(place.kind, place.item.lower())
    return None


def _is(place: Place, target: Target) -> bool:
    owner = place.sequence.lower() if place.kind in ("step", "body") else ""
    return (place.kind, place.item.lower(), owner) == (target.kind, target.name, target.owner)


_TIMES = re.compile(r"(?:T|TIME)#[\w.]+|(?<![\w.#])\d+(?:\.\d+)?\s*(?:ms|s|min|m|h)\b", re.IGNORECASE)


def _ms(text: str) -> int | None:
    """Milliseconds, of a text that is a time with its unit."""
    if not _TIMES.fullmatch(text.strip()):
        return None
    try:
        return duration_ms(text)
    except ValueError:
        return None


def _found(t: Text, number: int, line: str, begin: int, end: int) -> Found:
    cut = len(line) - len(line.lstrip())
    place = t.place.spot(number, begin + 1) if "\n" in t.text else t.place
    return Found(place, t.what, line.strip(), max(0, begin - cut), max(0, end - cut))
