"""Sequences that steps run: what a mark `RUN Wash` means, said in conditions, holds and trips (semantics section 12).

A machine file with such marks is written out before it is linked, studied or written as code: nobody behind that knows the mark, and what
it does is what any chart can do. A sequence that is run comes to its end in a step without a way out.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace

from spokeshave.language.literals import time_text
from spokeshave.model.answers import Answers
from spokeshave.model.diagnostics import Diagnostic, Place, Severity, did_you_mean, quoted
from spokeshave.model.edits import (
    EditError,
    edit_sequence,
    free_name,
    put_action,
    read_block,
    read_marks,
    set_mark,
    with_body_for,
)
from spokeshave.model.flow_edits import change_transition
from spokeshave.model.project import Action, Project, Qualifier, Sequence, Step, Transition, Trip

_WORDS = re.compile(r"\(\*.*?\*\)|//[^\n]*|[A-Za-z_][\w.]*|.", re.DOTALL)
_OR = re.compile(r"\b(OR|XOR)\b", re.IGNORECASE)
_ALWAYS = ("", "TRUE")
DEEPEST = 16
"""So many sequences run each other in a row at most: what holds the first holds the last."""


@dataclass(frozen=True, slots=True)
class Call:
    """A step that runs a sequence."""

    sequence: str
    step: str

    @property
    def active(self) -> str:
        return f"{self.sequence}.{self.step}.X"


def runs_of(project: Project) -> dict[str, tuple[Call, ...]]:
    """The steps that run each sequence, by its name in lower case; a mark on something else is left out."""
    found: dict[str, list[Call]] = {}
    for q in project.sequences:
        for s in q.steps:
            for a in s.actions:
                if a.qualifier.runs and project.sequence(a.target) is not None:
                    found.setdefault(a.target.lower(), []).append(Call(q.name, s.name))
    return {name: tuple(calls) for name, calls in found.items()}


def runs_any(project: Project) -> bool:
    """Whether any step runs a sequence, or would."""
    return any(a.qualifier.runs for q in project.sequences for s in q.steps for a in s.actions)


def ends_of(q: Sequence) -> tuple[Step, ...]:
    """The steps in which a sequence that is run comes to its end: those without a way out."""
    return tuple(s for s in q.steps if s.name != q.initial and not any(True for _ in q.leaving(s.name)))


def end_of(q: Sequence) -> str:
    """The condition under which it has come to its end."""
    return " OR ".join(f"{q.name}.{s.name}.X" for s in ends_of(q))


def awaits_end(q: Sequence, step: str) -> Iterator[tuple[int, Transition]]:
    """The ways out of a step that open at the end of what it runs: those without a condition of their own."""
    return ((i, t) for i, t in q.leaving(step) if t.condition.strip().upper() in _ALWAYS)


def run_problems(project: Project) -> list[Diagnostic]:
    """Marks that run nothing, or what cannot be run."""
    return list(_problems(project)) if runs_any(project) else []


def _problems(project: Project) -> Iterator[Diagnostic]:
    calls, above = runs_of(project), _Above(project)
    for q in project.sequences:
        for s in q.steps:
            for a in s.actions:
                if not a.qualifier.runs:
                    continue
                place = Place("action", q.name, f"{s.name} {a.target}")
                other = project.sequence(a.target)
                if other is None:
                    known = [x.name for x in project.sequences if x is not q]
                    yield _error(
                        "run-nothing", place, f"there is no sequence {quoted(a.target)}", did_you_mean(a.target, known)
                    )
                elif above.runs(other, q):
                    message = f"{q.name} runs {other.name}, which would run {q.name}"
                    yield _error("run-circle", place, message, "take one of them away")
                elif above.deep(q):
                    message = f"{other.name} is run through more than {DEEPEST} sequences"
                    yield _error("run-circle", place, message, "let fewer sequences run each other")
    for name, callers in calls.items():
        called = project.sequence(name)
        if called is not None and not ends_of(called) and any(c.sequence != called.name for c in callers):
            yield _error(
                "run-no-end",
                Place("sequence", item=called.name),
                f"{called.name} is run and never comes to its end",
                "lead it to a step without a way out",
            )


class _Above:
    """Which sequences run another one, by whatever way, up to `DEEPEST` of them in a row."""

    def __init__(self, project: Project) -> None:
        self.callers: dict[str, set[str]] = {}
        for name, calls in runs_of(project).items():
            self.callers[name] = {c.sequence.lower() for c in calls}
        self._found: dict[str, tuple[set[str], bool]] = {}

    def _of(self, name: str) -> tuple[set[str], bool]:
        if name not in self._found:
            found: set[str] = set()
            level = self.callers.get(name, set())
            for _ in range(DEEPEST):
                found |= level
                level = {c for n in level for c in self.callers.get(n, ())} - found
            self._found[name] = found, bool(level)
        return self._found[name]

    def runs(self, one: Sequence, other: Sequence) -> bool:
        """Whether one sequence is the other, or runs it."""
        return one.name.lower() == other.name.lower() or one.name.lower() in self._of(other.name.lower())[0]

    def deep(self, q: Sequence) -> bool:
        """Whether more sequences run each other in a row than may, with this one as the last."""
        return self._of(q.name.lower())[1]


def _error(code: str, place: Place, message: str, advice: str) -> Diagnostic:
    return Diagnostic(code, Severity.ERROR, place, message, advice)


def written_out(project: Project) -> Project:
    """The machine file in which no step runs a sequence any more, and everything happens as if it did. The file itself where no step
    does, and where a mark is wrong (`run_problems`).
    """
    return _known(project) if runs_any(project) else project


def without_runs(project: Project) -> Project:
    """The machine file with these marks taken out, and nothing in their place."""
    return replace(project, sequences=tuple(_calling(q, None) for q in project.sequences))


def _write_out(project: Project) -> Project:
    if run_problems(project):
        return project
    calls = runs_of(project)
    done = {q.name.lower(): end_of(q) for q in project.sequences if q.name.lower() in calls}
    sequences = {q.name.lower(): _calling(q, done) for q in project.sequences}
    for name in _callers_first(project):
        if name in calls:
            sequences[name] = _called(sequences[name], calls[name], sequences, project.period_ms)
    return replace(
        project,
        sequences=tuple(sequences[q.name.lower()] for q in project.sequences),
        trips=tuple(_trip(t, calls, sequences) for t in project.trips),
    )


_known = Answers(_write_out, most=4)


def _callers_first(project: Project) -> list[str]:
    """Names of sequences in lower case, those that run others before those."""
    above, left = _Above(project), [q.name.lower() for q in project.sequences]
    out: dict[str, None] = {}
    while left:
        ready = [n for n in left if all(c in out for c in above.callers.get(n, ()))]
        out |= dict.fromkeys(ready)
        left = [n for n in left if n not in out]
    return list(out)


def _called(q: Sequence, calls: tuple[Call, ...], sequences: dict[str, Sequence], period_ms: int) -> Sequence:
    """Begins while a step runs it, begins anew when none does any longer, stands while the sequence of that step is held."""
    active = _active(calls)
    lasts = " OR ".join(f"{c.active} AND {c.sequence}.{c.step}.T > {time_text(period_ms)}" for c in calls)
    callers = [sequences[c.sequence.lower()] for c in {c.sequence.lower(): c for c in calls}.values()]
    holds = [q.hold_when.strip()] if q.hold_when.strip() else []
    holds += [_in_full(c.hold_when.strip(), c) for c in callers if c.hold_when.strip()]
    return replace(
        q,
        transitions=tuple(
            replace(t, condition=_and(t.condition, active)) if q.initial in t.sources else t for t in q.transitions
        ),
        restart_when=_or([q.restart_when.strip(), f"NOT ({lasts})"]),
        hold_when=_or(holds),
        hold_outputs=q.hold_outputs if q.hold_when.strip() or not holds else callers[0].hold_outputs,
        retain=q.retain and all(c.retain for c in callers),
    )


def _active(calls: tuple[Call, ...]) -> str:
    """When one of these steps runs its sequence."""
    return " OR ".join(c.active for c in calls)


def _calling(q: Sequence, done: dict[str, str] | None) -> Sequence:
    """Without the marks; ways out without a condition of their own await the end of what their step runs, where the ends are known."""
    awaited: dict[int, str] = {}
    for s in q.steps if done is not None else ():
        assert done is not None
        ends = [done[a.target.lower()] for a in s.actions if a.qualifier.runs]
        for i, _ in awaits_end(q, s.name) if ends else ():
            parts = [f"({e})" if _OR.search(e) and len(ends) > 1 else e for e in ends]
            awaited[i] = " AND ".join([*([awaited[i]] if i in awaited else []), *parts])
    if not any(a.qualifier.runs for s in q.steps for a in s.actions):
        return q
    return replace(
        q,
        steps=tuple(replace(s, actions=tuple(a for a in s.actions if not a.qualifier.runs)) for s in q.steps),
        transitions=tuple(replace(t, condition=awaited.get(i, t.condition)) for i, t in enumerate(q.transitions)),
    )


def _trip(t: Trip, calls: dict[str, tuple[Call, ...]], sequences: dict[str, Sequence]) -> Trip:
    """A trip that acts on a sequence acts on what that runs: where it goes to a step, that goes to its initial step."""
    if t.scope is None and t.steps != "go to":
        return t
    scope, goals = list(t.scope or ()), list(t.go_to)
    known = {n.lower() for n in scope}
    gone = {g.partition(".")[0].lower() for g in goals}
    more = True
    while more:
        more = False
        for name, callers in calls.items():
            q = sequences[name]
            if t.scope is not None and name not in known and any(c.sequence.lower() in known for c in callers):
                scope.append(q.name)
                known.add(name)
                more = True
            if t.steps == "go to" and name not in gone and any(c.sequence.lower() in gone for c in callers):
                goals.append(f"{q.name}.{q.initial}")
                gone.add(name)
                more = True
    return replace(t, scope=None if t.scope is None else tuple(scope), go_to=tuple(goals))


def _and(condition: str, more: str) -> str:
    more = f"({more})" if _OR.search(more) else more
    if condition.strip().upper() in _ALWAYS:
        return more.removeprefix("(").removesuffix(")") if more.startswith("(") else more
    return f"({condition}\n) AND {more}" if "//" in condition else f"({condition}) AND {more}"


def _or(parts: list[str]) -> str:
    kept = [p for p in parts if p]
    return " OR ".join(
        f"({p}\n)" if "//" in p else f"({p})" if len(kept) > 1 and not p.startswith("NOT (") else p for p in kept
    )


def _in_full(text: str, q: Sequence) -> str:
    """A text of one sequence as another one has to write it: its steps with its name before them."""

    def word(w: str) -> str:
        first, dot, _ = w.partition(".")
        return f"{q.name}.{w}" if dot and q.step(first) is not None else w

    return "".join(map(word, _WORDS.findall(text)))


def taken_back(after: Project, before: Project) -> Project:
    """A machine file that was edited as it is written out, with the marks of `before` again where what they mean still stands as it did;
    else as it is.
    """
    if not runs_any(before):
        return after
    plain = written_out(before)
    kept = {q.name.lower(): q for q in before.sequences}
    same = {q.name.lower(): q for q in plain.sequences}
    active = {name: _active(calls) for name, calls in runs_of(before).items()}
    sequences = tuple(
        _back(q, kept[q.name.lower()], same[q.name.lower()], active.get(q.name.lower(), ""))
        if q.name.lower() in kept
        else q
        for q in after.sequences
    )
    trips = {(t.name, t.scope, t.go_to): o for t, o in zip(plain.trips, before.trips)}
    back = replace(
        after,
        sequences=sequences,
        trips=tuple(
            replace(t, scope=o.scope, go_to=o.go_to) if (o := trips.get((t.name, t.scope, t.go_to))) else t
            for t in after.trips
        ),
    )
    return back if written_out(back) == after else after


def _back(now: Sequence, mine: Sequence, plain: Sequence, active: str) -> Sequence:
    """One sequence with its marks, and without what they had put into its texts; `active` is when a step runs it."""
    steps = []
    for s in now.steps:
        old = mine.step(s.name)
        runs = [a for a in old.actions if a.qualifier.runs] if old is not None else []
        steps.append(_with_runs(s, old, runs) if old is not None and runs else s)
    said = {w.condition: t.condition for t, w in zip(mine.transitions, plain.transitions) if t.condition != w.condition}
    tail = _and("-", active).removeprefix("(-)") if active else ""

    def condition(t: Transition) -> str:
        if t.condition in said:
            return said[t.condition]
        short = t.condition.removesuffix(tail)
        ours = bool(tail) and now.initial in t.sources and short.startswith("(") and short.endswith(")")
        return short[1:-1].removesuffix("\n") if ours and short != t.condition else t.condition

    return replace(
        now,
        steps=tuple(steps),
        transitions=tuple(replace(t, condition=condition(t)) for t in now.transitions),
        hold_when=mine.hold_when if now.hold_when == plain.hold_when else now.hold_when,
        hold_outputs=mine.hold_outputs if now.hold_outputs == plain.hold_outputs else now.hold_outputs,
        restart_when=mine.restart_when if now.restart_when == plain.restart_when else now.restart_when,
        retain=mine.retain if now.retain == plain.retain else now.retain,
    )


def _with_runs(now: Step, old: Step, runs: list[Action]) -> Step:
    """The marks where they stood, if the others are as they were; else behind them."""
    if tuple(a for a in old.actions if not a.qualifier.runs) == now.actions:
        return replace(now, actions=old.actions)
    return replace(now, actions=(*now.actions, *runs))


def with_end(project: Project, sequence: str) -> Project:
    """A sequence that goes round and round, with a step without a way out in which it ends instead: what led to its initial step leads
    there.

    Raises `EditError` for a sequence of which nothing leads back to its initial step.
    """

    def edit(q: Sequence) -> Sequence:
        back = [t for t in q.transitions if q.initial in t.targets]
        if not back:
            raise EditError(f"nothing of {q.name} leads back to {q.initial}; give it a step without a way out")
        end = Step(free_name("Done", {s.name.lower() for s in q.steps} | {q.name.lower()}), max(s.number for s in q.steps) + 10,
                   comment="its end: whoever runs it goes on")  # fmt: skip
        turned = tuple(
            replace(t, targets=tuple(end.name if n == q.initial else n for n in t.targets)) for t in q.transitions
        )
        return replace(q, steps=(*q.steps, end), transitions=turned)

    return edit_sequence(project, sequence, edit)


def with_target_for(project: Project, sequence: str, step: str, action: Action) -> Project:
    """A file in which an action block of a step can act on its target: a name that nothing has is a new body's; a sequence that is run
    and goes round and round is given an end, and ways out of the step without a condition of their own say that they await it.

    Raises `EditError` for a target on which it cannot act.
    """
    if not action.qualifier.runs:
        return with_body_for(project, sequence, action.target)
    called, own = project.sequence(action.target), project.sequence(sequence)
    if called is None or own is None:
        others = ", ".join(q.name for q in project.sequences if q.name.lower() != sequence.lower())
        raise EditError(f"there is no sequence {action.target} to run" + (f"; there is {others}" if others else ""))
    if _Above(project).runs(called, own):
        raise EditError(f"{called.name} cannot be run here: it is, or runs, {own.name}")
    if not ends_of(called):
        project = with_end(project, called.name)
        called = next(q for q in project.sequences if q.name == called.name)
    for i, _ in awaits_end(own, step):
        project = change_transition(project, own.name, i, condition=end_of(called))
    return project


def put_block(project: Project, sequence: str, step: str, index: int, text: str) -> Project:
    """An action block as it is typed, in the place of the one at `index`, behind the last, or of nothing for an empty text; its target as in
    `with_target_for`. Raises `EditError`.
    """
    action = read_block(text)
    if action is not None:
        project = with_target_for(project, sequence, step, action)
    return put_action(project, sequence, step, index, action)


def run_in(project: Project, sequence: str, step: str, other: str) -> Project:
    """The machine file in which a step runs another sequence. Raises `EditError` as `with_target_for`, and where it does already."""
    action = Action(Qualifier.RUN, getattr(project.sequence(other), "name", other))
    project = with_target_for(project, sequence, step, action)
    q = project.sequence(sequence)
    s = None if q is None else q.step(step)
    if s is None:
        raise EditError(f"there is no step {step} in {sequence}")
    if action in s.actions:
        raise EditError(f"{step} runs {action.target} already")
    return put_action(project, sequence, step, len(s.actions), action)


def set_marks(project: Project, sequence: str, step: str, target: str, text: str) -> Project:
    """The machine file with what is typed into a cell of the sheet (`edits.read_marks`); in the column of a sequence any mark runs it.

    Raises `EditError` for what cannot stand there.
    """
    marks = read_marks(text, target)
    own, other = project.sequence(sequence), project.sequence(target)
    acts = project.signal(target) is not None or (
        own is not None and any(b.name.lower() == target.lower() for b in own.bodies)
    )
    if acts or other is None:
        if any(a.qualifier.runs for a in marks):
            raise EditError(f"{target} is no sequence; RUN runs one")
        return set_mark(project, sequence, step, target, marks)
    if any(a.qualifier not in (Qualifier.RUN, Qualifier.N) for a in marks):
        raise EditError(f"{target} is a sequence; a step can RUN it")
    bare = set_mark(project, sequence, step, target, ())
    return run_in(bare, sequence, step, other.name) if marks else bare
