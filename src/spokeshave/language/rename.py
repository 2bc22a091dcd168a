"""Renaming in texts: every whole identifier outside comments, compared without case."""

from __future__ import annotations

import re
from dataclasses import replace

from spokeshave.language.syntax import KEYWORDS
from spokeshave.model.edits import EditError, free_name, taken_names
from spokeshave.model.project import Project, Sequence

_TOKEN = re.compile(r"\(\*.*?\*\)|//[^\n]*|(?:[A-Za-z]+|[0-9]+)#[-+\w.]*|[A-Za-z_]\w*|.", re.DOTALL)
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


def name_problem(name: str) -> str:
    """Why `name` cannot name anything, or an empty string (IEC identifiers, semantics section 2)."""
    if not _NAME.fullmatch(name):
        return f"{name!r} is not a name; use letters, digits and underscores, a letter first"
    if name.upper() in KEYWORDS or "__" in name or name.endswith("_"):
        why = "is a word of the language" if name.upper() in KEYWORDS else "has a doubled or trailing underscore"
        return f"{name} {why}; choose another name"
    return ""


def rename_in_text(text: str, old: str, new: str) -> str:
    """`text` with the identifier `old` replaced; comments, literals and longer names stay.

    >>> rename_in_text("Go AND NOT GoOn (* Go *)", "go", "Start")
    'Start AND NOT GoOn (* Go *)'
    """
    if old.lower() not in text.lower():
        return text
    return "".join(new if t.lower() == old.lower() else t for t in _TOKEN.findall(text))


def _checked(project: Project, old: str, new: str) -> None:
    problem = name_problem(new)
    if problem:
        raise EditError(problem)
    if new.lower() != old.lower() and new.lower() in taken_names(project):
        raise EditError(f"{new} is already the name of something else")


def _in_sequence(sequence: Sequence, old: str, new: str) -> Sequence:
    """Every text of a sequence with a name replaced; targets of action blocks too."""

    def put(text: str) -> str:
        return rename_in_text(text, old, new)

    steps = tuple(
        replace(
            s,
            longest=put(s.longest),
            shortest=put(s.shortest),
            permissive=put(s.permissive),
            actions=tuple(replace(a, target=put(a.target), time=put(a.time)) for a in s.actions),
        )
        for s in sequence.steps
    )
    return replace(
        sequence,
        steps=steps,
        transitions=tuple(replace(t, condition=put(t.condition)) for t in sequence.transitions),
        bodies=tuple(replace(b, text=put(b.text)) for b in sequence.bodies),
        hold_when=put(sequence.hold_when),
        restart_when=put(sequence.restart_when),
    )


def _everywhere(project: Project, old: str, new: str) -> Project:
    """The project with a name replaced in every text that may speak of it."""

    def put(text: str) -> str:
        return rename_in_text(text, old, new)

    return replace(
        project,
        opening=put(project.opening),
        closing=put(project.closing),
        reset=put(project.reset),
        home=put(project.home),
        sequences=tuple(_in_sequence(s, old, new) for s in project.sequences),
        interlocks=tuple(replace(i, output=put(i.output), condition=put(i.condition)) for i in project.interlocks),
        opposed=tuple(replace(o, first=put(o.first), second=put(o.second)) for o in project.opposed),
        trips=tuple(
            replace(
                t,
                condition=put(t.condition),
                scope=tuple(put(s) for s in t.scope),
                go_to=tuple(put(g) for g in t.go_to),
                zeroed=tuple(put(z) for z in t.zeroed),
            )
            for t in project.trips
        ),
        scenarios=tuple(replace(s, text=put(s.text)) for s in project.scenarios),
    )


def rename_signal(project: Project, old: str, new: str) -> Project:
    """A signal under another name in its row, every text, action block, scenario and wire."""
    _checked(project, old, new)
    project = _everywhere(project, old, new)
    return replace(
        project,
        signals=tuple(replace(s, name=new) if s.name.lower() == old.lower() else s for s in project.signals),
        devices=tuple(
            replace(d, wires=tuple((t, new if s.lower() == old.lower() else s) for t, s in d.wires))
            for d in project.devices
        ),
    )


def rename_step(project: Project, sequence: str, old: str, new: str) -> Project:
    """A step under another name, with its transitions and every text that reads its `.X` or `.T`."""
    _checked(project, old, new)
    project = _everywhere(project, old, new)

    def put(names: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(new if n == old else n for n in names)

    return replace(
        project,
        sequences=tuple(
            replace(
                q,
                initial=new if q.initial == old else q.initial,
                steps=tuple(replace(s, name=new) if s.name == old else s for s in q.steps),
                transitions=tuple(replace(t, sources=put(t.sources), targets=put(t.targets)) for t in q.transitions),
            )
            if q.name.lower() == sequence.lower()
            else q
            for q in project.sequences
        ),
    )


def rename_device(project: Project, old: str, new: str) -> Project:
    """A device under another name; scenarios follow."""
    _checked(project, old, new)
    return replace(
        project,
        devices=tuple(replace(d, name=new) if d.name.lower() == old.lower() else d for d in project.devices),
        scenarios=tuple(replace(s, text=rename_in_text(s.text, old, new)) for s in project.scenarios),
    )


def free_program_names(project: Project) -> tuple[str, str]:
    """Names for the programs of opening and closing logic that nothing else has."""
    taken = taken_names(project)
    return free_name("OpeningLogic", taken), free_name("ClosingLogic", taken)
