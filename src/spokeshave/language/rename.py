"""Renaming: what has a name gets another, wherever a text means it (`references`), compared without case."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace

from spokeshave.language.references import HERE, Names, Target, Where, put_names
from spokeshave.language.syntax import KEYWORDS, LONGEST_NAME
from spokeshave.model.alarms import in_alarm
from spokeshave.model.diagnostics import quoted
from spokeshave.model.edits import EditError, free_name, taken_names
from spokeshave.model.flow_edits import NoRoom
from spokeshave.model.project import Project, Routine, Sequence, Trip
from spokeshave.model.study import StudyPlan

WIDE = 1_000_000
"""A spacing with room for any block."""
SCENARIO = Where(kind="scenario")
_TOKEN = re.compile(r"\(\*.*?\*\)|//[^\n]*|(?:[A-Za-z]+|[0-9]+)#[-+\w.]*|[A-Za-z_]\w*|.", re.DOTALL)
NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


STEP_WORDS = frozenset(("HOME", "HELD", "RISING", "FALLING"))
"""Words of ours that are no keywords of the standard: a step may have them, since it is known as `Sequence.Step`."""


def name_problem(name: str, step: bool = False) -> str:
    """Why `name` cannot name anything, or an empty string (IEC identifiers, semantics section 2)."""
    if len(name) > LONGEST_NAME:
        return f"{quoted(name)} is too long; names have at most {LONGEST_NAME} characters"
    if not NAME.fullmatch(name):
        return f"{name!r} is not a name; use letters, digits and underscores, a letter first"
    if step and name.upper() in STEP_WORDS:
        return ""
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


def check_new_name(project: Project, old: str, new: str) -> None:
    """Raises EditError for a name that is none, or that something else in the project has."""
    problem = name_problem(new)
    if problem:
        raise EditError(problem)
    if new.lower() != old.lower() and new.lower() in taken_names(project):
        raise EditError(f"{new} is already the name of {name_of(project, new)}")


Put = Callable[[str, Where], str]
"""Makes another text of one that stands somewhere."""


def in_sequence(sequence: Sequence, put: Put) -> Sequence:
    """As `in_all_texts`, for one sequence; targets of action blocks too."""
    here, action = Where(sequence.name), Where(sequence.name, "action")
    steps = tuple(
        replace(
            s,
            longest=put(s.longest, here),
            shortest=put(s.shortest, here),
            permissive=put(s.permissive, here),
            actions=tuple(replace(a, target=put(a.target, action), time=put(a.time, here)) for a in s.actions),
        )
        for s in sequence.steps
    )
    return replace(
        sequence,
        steps=steps,
        transitions=tuple(replace(t, condition=put(t.condition, here)) for t in sequence.transitions),
        bodies=tuple(replace(b, text=put(b.text, here)) for b in sequence.bodies),
        hold_when=put(sequence.hold_when, here),
        restart_when=put(sequence.restart_when, here),
    )


def in_all_texts(project: Project, put: Put) -> Project:
    """The project with every text that may speak of signals and steps passed through `put`."""

    def plain(text: str) -> str:
        return put(text, HERE)

    def all_of(texts: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(map(plain, texts))

    study = project.study
    return replace(
        project,
        opening=plain(project.opening),
        closing=plain(project.closing),
        reset=plain(project.reset),
        home=plain(project.home),
        sequences=tuple(in_sequence(s, put) for s in project.sequences),
        routines=tuple(replace(r, text=put(r.text, Where(r.name, "routine"))) for r in project.routines),
        interlocks=tuple(replace(i, output=plain(i.output), condition=plain(i.condition)) for i in project.interlocks),
        opposed=tuple(replace(o, first=plain(o.first), second=plain(o.second)) for o in project.opposed),
        trips=tuple(in_trip(t, plain) for t in project.trips),
        alarms=tuple(in_alarm(a, plain) for a in project.alarms),
        recipes=tuple(replace(r, values=tuple((plain(n), v) for n, v in r.values)) for r in project.recipes),
        scenarios=tuple(replace(s, text=put(s.text, SCENARIO)) for s in project.scenarios),
        requirements=tuple(
            replace(r, shown_by=tuple(_rule(n, plain) for n in r.shown_by)) for r in project.requirements
        ),
        modbus=tuple(replace(p, name=plain(p.name)) for p in project.modbus),
        scene=tuple(replace(s, follows=plain(s.follows)) if s.follows else s for s in project.scene),
        panel=tuple(replace(t, of=plain(t.of)) if t.of else t for t in project.panel),
        tolerances=tuple((plain(name), percent) for name, percent in project.tolerances),
        accepted=tuple(replace(a, lanes=tuple((plain(n), c) for n, c in a.lanes)) for a in project.accepted),
        sweep=replace(
            project.sweep,
            steps=all_of(project.sweep.steps),
            explained=tuple(replace(e, step=plain(e.step)) for e in project.sweep.explained),
        ),
        study=StudyPlan(
            all_of(study.assumptions),
            tuple((plain(a), plain(b)) for a, b in study.together),
            tuple((plain(a), plain(b)) for a, b in study.before),
            tuple((plain(name), values) for name, values in study.settings),
            all_of(study.never),
        ),
    )


def in_trip(trip: Trip, plain: Callable[[str], str]) -> Trip:
    """A trip with its condition, scope and variables passed through `plain`."""
    return replace(
        trip,
        condition=plain(trip.condition),
        scope=None if trip.scope is None else tuple(map(plain, trip.scope)),
        go_to=tuple(map(plain, trip.go_to)),
        zeroed=tuple(map(plain, trip.zeroed)),
        stays=tuple(map(plain, trip.stays)),
    )


def _rule(name: str, plain: Callable[[str], str]) -> str:
    """The name of a rule whose second word is what it guards: `interlock Burner`."""
    kind, _, guards = name.partition(" ")
    return name if kind in ("check", "trip", "alarm") else f"{kind} {plain(guards)}"


def renamed(project: Project, target: Target, new: str) -> Project:
    """Every text that means `target` with its new name, and the waivers of findings that are about it."""
    names = Names(project)

    def put(text: str, where: Where) -> str:
        return put_names(text, names, where, lambda t: new if t == target else None)

    project = in_all_texts(project, put)
    waivers = tuple(replace(w, place=_place(w.place, target, new)) for w in project.waivers)
    return project if waivers == project.waivers else replace(project, waivers=waivers)


def _place(place: str, target: Target, new: str) -> str:
    """Where a waived finding is, as `Place` says it: `signal Lifts`, `Paddle, step Up3`."""
    if target.kind == "step":
        pattern = rf"^({re.escape(target.owner)}, (?:step|action) ){re.escape(target.name)}\b"
    elif target.kind == "sequence":
        pattern = rf"^((?:sequence )?){re.escape(target.name)}\b(?=$|,)"
    else:
        pattern = rf"^((?:.*, )?(?:signal|device|interlock|action|opposed)\b.*?){re.escape(target.name)}\b"
    return re.sub(pattern, rf"\g<1>{new}", place, count=1, flags=re.IGNORECASE)


def rename_signal(project: Project, old: str, new: str) -> Project:
    """A signal under another name in its row, every text, action block, scenario and wire."""
    check_new_name(project, old, new)
    project = with_externals(renamed(project, Target("signal", old.lower()), new), old, new)
    # What marks the rule of a position is a comment, see `model.positions`.
    mark = re.compile(rf"\(\* position {re.escape(old)} \*\)", re.IGNORECASE)
    return replace(
        project,
        opening=mark.sub(f"(* position {new} *)", project.opening),
        units=tuple(
            replace(u, signals=tuple(new if s.lower() == old.lower() else s for s in u.signals)) for u in project.units
        ),
        signals=tuple(replace(s, name=new) if s.name.lower() == old.lower() else s for s in project.signals),
        devices=tuple(
            replace(d, wires=tuple((t, new if s.lower() == old.lower() else s) for t, s in d.wires))
            for d in project.devices
        ),
    )


def rename_instance(project: Project, old: str, new: str) -> Project:
    """A block instance under another name in every text."""
    check_new_name(project, old, new)
    project = renamed(project, Target("instance", old.lower()), new)
    instances = tuple(replace(i, name=new) if i.name.lower() == old.lower() else i for i in project.instances)
    return replace(with_externals(project, old, new), instances=instances)


def with_externals(project: Project, old: str, new: str) -> Project:
    """What routines name `external` under its new name."""

    def put(r: Routine) -> Routine:
        members = tuple(
            replace(m, name=new) if m.role == "external" and m.name.lower() == old.lower() else m for m in r.members
        )
        return r if members == r.members else replace(r, members=members)

    return replace(project, routines=tuple(map(put, project.routines)))


def rename_sequence(project: Project, old: str, new: str) -> Project:
    """A sequence under another name in every text, trip, plan and unit. Raises EditError for a name that is taken."""
    check_new_name(project, old, new)
    project = renamed(project, Target("sequence", old.lower()), new)
    return replace(
        project,
        sequences=tuple(replace(q, name=new) if q.name.lower() == old.lower() else q for q in project.sequences),
        units=tuple(
            replace(u, sequences=tuple(new if s.lower() == old.lower() else s for s in u.sequences))
            for u in project.units
        ),
    )


def rename_body(project: Project, sequence: str, old: str, new: str) -> Project:
    """A body under another name, with the action blocks that run it."""
    check_new_name(project, old, new)
    project = renamed(project, Target("body", old.lower(), sequence.lower()), new)

    def put(q: Sequence) -> Sequence:
        return replace(q, bodies=tuple(replace(b, name=new) if b.name.lower() == old.lower() else b for b in q.bodies))

    return replace(
        project, sequences=tuple(put(q) if q.name.lower() == sequence.lower() else q for q in project.sequences)
    )


def rename_step(project: Project, sequence: str, old: str, new: str) -> Project:
    """A step under another name, with its transitions and every text that means it: another sequence's step of the same
    name stays. Raises EditError for a name that is none or that something else in its reach has.
    """
    if problem := name_problem(new, step=True):
        raise EditError(problem)
    if new.lower() != old.lower() and (other := step_clash(project, sequence, new)):
        raise EditError(f"{new} is already the name of {other}")
    project = renamed(project, Target("step", old.lower(), sequence.lower()), new)

    def put(names: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(new if n.lower() == old.lower() else n for n in names)

    return replace(
        project,
        sequences=tuple(
            replace(
                q,
                initial=put((q.initial,))[0],
                steps=tuple(replace(s, name=new) if s.name.lower() == old.lower() else s for s in q.steps),
                transitions=tuple(replace(t, sources=put(t.sources), targets=put(t.targets)) for t in q.transitions),
            )
            if q.name.lower() == sequence.lower()
            else q
            for q in project.sequences
        ),
    )


def step_clash(project: Project, sequence: str, name: str) -> str:
    """What keeps a step of a sequence from having this name: a signal, an instance, a step or body of the sequence."""
    wanted, q = name.lower(), project.sequence(sequence)
    if project.signal(name) is not None:
        return f"the {project.signal(name).cls} {name}"  # type: ignore[union-attr]
    if any(i.name.lower() == wanted for i in project.instances):
        return f"the block {name}"
    if q is not None and q.step(name) is not None:
        return f"step {q.step(name).number} of {q.name}"  # type: ignore[union-attr]
    if q is not None and any(b.name.lower() == wanted for b in q.bodies):
        return f"a body of {q.name}"
    return ""


def name_of(project: Project, name: str) -> str:
    """What a name that is taken belongs to, for a message."""
    wanted = name.lower()
    signal, device, sequence = project.signal(name), project.device(name), project.sequence(name)
    if signal is not None:
        return f"the {signal.cls} {signal.name}"
    if device is not None:
        return f"the {device.kind} {device.name}"
    if sequence is not None:
        return f"the sequence {sequence.name}"
    if (table := project.table(name)) is not None:
        return f"the table {table.name}"
    if (routine := project.routine(name)) is not None:
        return f"the {'block' if routine.is_block else 'function'} {routine.name}"
    if instance := next((i for i in project.instances if i.name.lower() == wanted), None):
        return f"the {instance.kind} {instance.name}"
    for q in project.sequences:
        if step := q.step(name):
            return f"step {step.number} of {q.name}"
        if any(b.name.lower() == wanted for b in q.bodies):
            return f"a body of {q.name}"
    return "something else"


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

    def put(text: str, _: Where) -> str:
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
    check_new_name(project, old, new)

    def now(name: str) -> str:
        return new if name.lower() == old.lower() else name

    def fault(name: str) -> str:
        device, space, failure = name.partition(" ")
        return f"{now(device)}{space}{failure}"

    project = renamed(project, Target("device", old.lower()), new)
    plan = project.sweep
    explained = tuple(replace(e, fault=fault(e.fault)) for e in plan.explained)
    rows = tuple((fault(name), letters) for name, letters in plan.accepted)
    return replace(
        project,
        sweep=replace(plan, explained=explained, accepted=rows),
        devices=tuple(replace(d, name=new) if d.name.lower() == old.lower() else d for d in project.devices),
        connections=tuple(replace(c, source=now(c.source), target=now(c.target)) for c in project.connections),
        groups=tuple(replace(g, devices=tuple(map(now, g.devices))) for g in project.groups),
        alarms=tuple(replace(a, device=now(a.device)) for a in project.alarms),
        scene=tuple(replace(s, follows=now(s.follows)) for s in project.scene),
        panel=tuple(replace(t, of=now(t.of)) for t in project.panel),
        tolerances=tuple((now(name), percent) for name, percent in project.tolerances),
    )


def free_program_names(project: Project) -> tuple[str, str]:
    """Names for the programs of opening and closing logic that nothing else has."""
    taken = taken_names(project)
    return free_name("OpeningLogic", taken), free_name("ClosingLogic", taken)
