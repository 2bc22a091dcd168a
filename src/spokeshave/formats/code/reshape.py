"""Plain code whose states were edited: steps added or gone, ways that lead elsewhere, outputs mapped otherwise.

The text as it was written and the text as it stands are both read as a person's program (`formats.states`). What differs
between the two is done to the model; all that the text does not speak of (windows, positions, comments, devices) stays.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from spokeshave.formats.code.said import Said
from spokeshave.formats.code.write import Generated
from spokeshave.formats.errors import FormatError
from spokeshave.formats.states.choices import Choices, Lifted
from spokeshave.formats.states.find import Finder
from spokeshave.formats.states.lift import Lifter
from spokeshave.language import syntax as sx
from spokeshave.language.literals import read_value
from spokeshave.language.parse import parse_statements
from spokeshave.model.project import (
    Action,
    Body,
    Instance,
    Project,
    Qualifier,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Type,
)


def variables_of(code: Generated) -> tuple[dict[str, Signal], dict[str, Instance]]:
    """The signals and instances that code speaks of, its own too, by name in lower case."""
    kinds = {t.value for t in Type}
    signals = {s.name.lower(): s for s in code.project.signals}
    instances = {i.name.lower(): i for i in code.project.instances}
    for v in code.variables:
        if v.kind in kinds:
            initial = read_value(v.initial, Type(v.kind)) if v.initial else None
            signals[v.name.lower()] = Signal(v.name, SignalClass.INTERNAL, Type(v.kind), initial=initial)
        else:
            instances[v.name.lower()] = Instance(v.name, v.kind)
    return signals, instances


def lifted(text: str, code: Generated, line: int = 1) -> Lifted:
    """The sequences of a text of plain code. Raises `FormatError` with line and column, counted from `line`."""

    def fail(span: sx.Span, message: str, advice: str) -> FormatError:
        return FormatError(message, line=span.line + line - 1, column=span.column, advice=advice)

    signals, instances = variables_of(code)
    try:
        statements = parse_statements(text)
    except sx.TextError as error:
        p = error.problems[0]
        raise FormatError(p.message, line=p.line + line - 1, column=p.column, advice=p.advice) from None
    finder = Finder(code.name, text, signals, fail, instances)
    found = finder.find(statements)
    if not found.machines:
        raise FormatError("there is no CASE on a state in this text", line=line, advice="Restore shows the code")
    return Lifter(found, text, signals, instances, finder.constants, code.project.period_ms, Choices()).lift()


def reshaped(text: str, code: Generated, line: int = 1) -> tuple[Project, list[Said]]:
    """The model as the edited `text` of plain code has it, and what differs in words. Raises `FormatError`."""
    before, after = lifted(code.text, code), lifted(text, code, line)
    project = code.project
    said: list[Said] = []
    if len(before.sequences) != len(after.sequences):
        raise FormatError("the text has another number of sequences", line=line)
    for was, now in zip(before.sequences, after.sequences):
        q = next((x for x in project.sequences if x.name.lower() == was.name.lower()), None)
        if q is None:
            raise FormatError(f"{was.name} is no sequence of this machine file")
        old_numbers = {s.name.lower(): s.number for s in was.steps}
        if any(old_numbers.get(s.name.lower(), s.number) != s.number for s in now.steps):
            raise FormatError("a state has another number", line=line)
        new = _sequence(q, was, now, said)
        project = replace(project, sequences=tuple(new if x is q else x for x in project.sequences))
    for name in ("opening", "closing"):
        old, new_text = getattr(before, name), getattr(after, name)
        if old.split() != new_text.split():
            said.append((name, "", getattr(project, name), new_text, ""))
            project = replace(project, **{name: new_text})
    return project, said


def _sequence(q: Sequence, was: Sequence, now: Sequence, said: list[Said]) -> Sequence:
    """A sequence with what differs between two readings of its code."""
    old_steps, new_steps = ({s.number: s for s in x.steps} for x in (was, now))
    names = {s.name: s.number for s in was.steps} | {s.name: s.number for s in now.steps}
    mine = {s.number: s for s in q.steps}
    kept = {b.name.lower() for b in q.bodies}
    steps: list[Step] = []
    for number, s in new_steps.items():
        if number in mine:
            steps.append(_step(q, mine[number], old_steps.get(number), s, said))
        else:
            steps.append(s)
            said.append(("step", s.name, "", f"step {number} {s.name} is new", q.name))
    for number in old_steps.keys() - new_steps.keys():
        said.append(("step", mine[number].name, f"step {number} {mine[number].name}", "is gone", q.name))
    steps = in_place(q, steps)
    called = {s.number: s.name for s in steps}
    ways = _ways(q, was, now, names, called, said)
    bodies = {b.name.lower(): b for b in q.bodies}
    texts = {b.name.lower(): b.text for b in was.bodies}
    for b in now.bodies:
        if texts.get(b.name.lower(), "").split() != b.text.split():
            said.append(
                ("body", b.name, bodies[b.name.lower()].text if b.name.lower() in bodies else "", b.text, q.name)
            )
            bodies[b.name.lower()] = Body(bodies.get(b.name.lower(), b).name, b.text)
    used = {a.target.lower() for s in steps for a in s.actions}
    left = tuple(b for low, b in bodies.items() if low in used or (low in kept and low not in texts))
    initial = called[names[now.initial]]
    return replace(q, initial=initial, steps=tuple(steps), transitions=ways, bodies=left)


def in_place(q: Sequence, steps: list[Step]) -> list[Step]:
    """Steps in the order of the model, a new one behind the one that comes before it in the numbers."""
    order = {s.number: i for i, s in enumerate(q.steps)}
    old = sorted((s for s in steps if s.number in order), key=lambda s: order[s.number])
    for s in sorted((s for s in steps if s.number not in order), key=lambda s: s.number):
        at = max((i + 1 for i, x in enumerate(old) if x.number < s.number), default=0)
        old.insert(at, s)
    return old


def _step(q: Sequence, mine: Step, was: Step | None, now: Step, said: list[Said]) -> Step:
    """A step with the marks that came and without those that went; renamed where its comment says another name."""
    before = set(was.actions) if was is not None else set()
    gone, come = before - set(now.actions), [a for a in now.actions if a not in before]
    actions = tuple(a for a in mine.actions if _bare(a) not in {_bare(x) for x in gone}) + tuple(come)
    for a in (*gone, *come):
        word = "no longer" if a in gone else "also"
        mark = a.target if a.qualifier is Qualifier.N else f"{a.target} ({a.qualifier})"
        said.append(("step", mine.name, "" if a in come else mark, f"{mark} {word} in {mine.number}", q.name))
    name = now.name if was is not None and was.name != now.name else mine.name
    if name != mine.name:
        said.append(("step", mine.name, mine.name, f"step {mine.number} is called {name}", q.name))
    return replace(mine, name=name, actions=actions)


def _bare(a: Action) -> tuple[str, str]:
    return str(a.qualifier), a.target.lower()


def _ways(
    q: Sequence, was: Sequence, now: Sequence, names: dict[str, int], called: dict[int, str], said: list[Said]
) -> tuple[Transition, ...]:
    """Transitions: those of a step whose lines say the same stay as they are, the others are as the text has them."""
    out: list[Transition] = []
    numbers = {s.name: s.number for s in q.steps}
    old, new = (_leaving(x, names) for x in (was, now))
    for number, name in called.items():
        mine = [t for t in q.transitions if numbers[t.sources[0]] == number]
        if number in old and old[number] == new.get(number, []):
            out += [_renamed(t, numbers, called) for t in mine]
            continue
        ways = [x for x in now.transitions if names[x.sources[0]] == number]
        for i, t in enumerate(ways):
            target = called[names[t.targets[0]]]
            had = next((x for x in mine if numbers.get(x.targets[0]) == names[t.targets[0]]), None)
            label = had.name if had is not None else ""
            out.append(replace(t, sources=(name,), targets=(target,), name=label))
            entry = (names[t.targets[0]], t.condition)
            if entry not in old.get(number, []):
                at = old.get(number, [])[i : i + 1]
                before = f"{number} leads to {at[0][0]} if {at[0][1]}" if at else ""
                said.append(("step", name, before, f"{number} leads to {entry[0]} if {entry[1]}", q.name))
        for entry in old.get(number, [])[len(ways) :]:
            said.append(("step", name, f"{number} leads to {entry[0]} if {entry[1]}", "no longer", q.name))
    return tuple(out)


def _leaving(q: Sequence, names: dict[str, int]) -> dict[int, list[tuple[int, str]]]:
    out: dict[int, list[tuple[int, str]]] = {s.number: [] for s in q.steps}
    for t in q.transitions:
        out[names[t.sources[0]]].append((names[t.targets[0]], t.condition))
    return out


def _renamed(t: Transition, numbers: dict[str, int], called: dict[int, str]) -> Transition:
    def put(ends: tuple[str, ...]) -> Iterator[str]:
        return (called.get(numbers[n], n) for n in ends)

    return replace(t, sources=tuple(put(t.sources)), targets=tuple(put(t.targets)))
