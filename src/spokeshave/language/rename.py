"""Renaming in texts: every whole identifier outside comments, compared without case."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace

from spokeshave.language.syntax import KEYWORDS
from spokeshave.model.edits import EditError, free_name, taken_names
from spokeshave.model.flow_edits import NoRoom
from spokeshave.model.project import Project, Sequence
from spokeshave.model.study import StudyPlan

WIDE = 1_000_000
"""A spacing with room for any block."""
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
    return rename_many(text, {old.lower(): new}) if old.lower() in text.lower() else text


def rename_many(text: str, names: Mapping[str, str]) -> str:
    """As `rename_in_text` for several names at once, given in lower case: a new name is never taken for an old one."""
    return "".join(names.get(t.lower(), t) for t in _TOKEN.findall(text)) if text else text


def _checked(project: Project, old: str, new: str) -> None:
    problem = name_problem(new)
    if problem:
        raise EditError(problem)
    if new.lower() != old.lower() and new.lower() in taken_names(project):
        raise EditError(f"{new} is already the name of something else")


def in_sequence(sequence: Sequence, put: Callable[[str], str]) -> Sequence:
    """As `in_all_texts`, for one sequence; targets of action blocks too."""
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


def in_all_texts(project: Project, put: Callable[[str], str]) -> Project:
    """The project with every text that may speak of signals and steps passed through `put`."""
    return replace(
        project,
        opening=put(project.opening),
        closing=put(project.closing),
        reset=put(project.reset),
        home=put(project.home),
        sequences=tuple(in_sequence(s, put) for s in project.sequences),
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
        requirements=tuple(replace(r, shown_by=tuple(_rule(n, put) for n in r.shown_by)) for r in project.requirements),
        accepted=tuple(replace(a, lanes=tuple((put(n), c) for n, c in a.lanes)) for a in project.accepted),
        sweep=replace(
            project.sweep,
            steps=tuple(map(put, project.sweep.steps)),
            explained=tuple(replace(e, step=put(e.step)) for e in project.sweep.explained),
        ),
        study=StudyPlan(
            tuple(map(put, project.study.assumptions)),
            tuple((put(a), put(b)) for a, b in project.study.together),
            tuple((put(a), put(b)) for a, b in project.study.before),
            tuple((put(name), values) for name, values in project.study.settings),
        ),
    )


def _rule(name: str, put: Callable[[str], str]) -> str:
    """The name of a rule whose second word is what it guards: `interlock Burner`."""
    kind, _, guards = name.partition(" ")
    return name if kind == "check" else f"{kind} {put(guards)}"


def rename_signal(project: Project, old: str, new: str) -> Project:
    """A signal under another name in its row, every text, action block, scenario and wire."""
    _checked(project, old, new)
    project = in_all_texts(project, lambda text: rename_in_text(text, old, new))
    return replace(
        project,
        units=tuple(
            replace(u, signals=tuple(new if s.lower() == old.lower() else s for s in u.signals)) for u in project.units
        ),
        signals=tuple(replace(s, name=new) if s.name.lower() == old.lower() else s for s in project.signals),
        devices=tuple(
            replace(d, wires=tuple((t, new if s.lower() == old.lower() else s) for t, s in d.wires))
            for d in project.devices
        ),
    )


def rename_step(project: Project, sequence: str, old: str, new: str) -> Project:
    """A step under another name, with its transitions and every text that reads its `.X` or `.T`."""
    _checked(project, old, new)
    project = in_all_texts(project, lambda text: rename_in_text(text, old, new))

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


def renumber(project: Project, sequence: str, spacing: int = 10) -> Project:
    """Steps numbered `spacing`, twice `spacing` ... in listed order; comparisons with `Sequence.State` follow.

    Raises EditError for a spacing below 1.
    """
    seq = project.sequence(sequence)
    if seq is None:
        raise EditError(f"there is no sequence {sequence}")
    if spacing < 1:
        raise EditError(f"the spacing is {spacing}; it is a whole number from 1, for example 10")
    numbers = {s.number: (i + 1) * spacing for i, s in enumerate(seq.steps)}
    if all(a == b for a, b in numbers.items()):
        return project
    state = re.compile(
        rf"\b({re.escape(seq.name)}\s*\.\s*State\s*(?:=|<>|<=|>=|<|>)\s*)(\d+)\b|\b(\d+)(\s*(?:=|<>|<=|>=|<|>)\s*{re.escape(seq.name)}\s*\.\s*State)\b",
        re.IGNORECASE,
    )

    def put(text: str) -> str:
        def other(found: re.Match[str]) -> str:
            if found[1]:
                return f"{found[1]}{numbers.get(int(found[2]), int(found[2]))}"
            return f"{numbers.get(int(found[3]), int(found[3]))}{found[4]}"

        return state.sub(other, text) if "state" in text.lower() else text

    steps = tuple(replace(s, number=numbers[s.number]) for s in seq.steps)
    sequences = tuple(replace(q, steps=steps) if q is seq else q for q in project.sequences)
    return in_all_texts(replace(project, sequences=sequences), put)


def with_room(project: Project, sequence: str, edit: Callable[[Project], Project]) -> Project:
    """`edit` of the project; where it finds no number left in between, the steps are renumbered in tens first.

    Where tens leave too little room, as for a long block, they are numbered in tens afterwards.
    """
    try:
        return edit(project)
    except NoRoom:
        pass
    try:
        return edit(renumber(project, sequence))
    except NoRoom:
        return renumber(edit(renumber(project, sequence, WIDE)), sequence)


def rename_device(project: Project, old: str, new: str) -> Project:
    """A device under another name; connections, groups, scenarios and what is kept of the fault sweep follow."""
    _checked(project, old, new)

    def now(name: str) -> str:
        return new if name.lower() == old.lower() else name

    def fault(name: str) -> str:
        device, space, failure = name.partition(" ")
        return f"{now(device)}{space}{failure}"

    plan = project.sweep
    explained = tuple(replace(e, fault=fault(e.fault)) for e in plan.explained)
    rows = tuple((fault(name), letters) for name, letters in plan.accepted)
    return replace(
        project,
        sweep=replace(plan, explained=explained, accepted=rows),
        devices=tuple(replace(d, name=new) if d.name.lower() == old.lower() else d for d in project.devices),
        connections=tuple(replace(c, source=now(c.source), target=now(c.target)) for c in project.connections),
        groups=tuple(replace(g, devices=tuple(map(now, g.devices))) for g in project.groups),
        scenarios=tuple(replace(s, text=rename_in_text(s.text, old, new)) for s in project.scenarios),
    )


def free_program_names(project: Project) -> tuple[str, str]:
    """Names for the programs of opening and closing logic that nothing else has."""
    taken = taken_names(project)
    return free_name("OpeningLogic", taken), free_name("ClosingLogic", taken)
