"""Rules on the shape of charts: steps nobody reaches, steps without a way out, conditions that never change."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from itertools import combinations, islice

from spokeshave.engine.link_sequence import transition_place
from spokeshave.language import syntax as sx
from spokeshave.language.exclusive import exclude_each_other
from spokeshave.language.gaps import gap_between
from spokeshave.language.parse import parse_expression
from spokeshave.language.sub_sequences import ends_of
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import Diagnostic, Place
from spokeshave.model.project import Sequence, SignalClass, Transition, Type
from spokeshave.model.sections import sections
from spokeshave.verify.check.look import Look, single_ways, warning
from spokeshave.verify.usage import names_in


def _entered(look: Look, q: Sequence) -> set[str]:
    """Steps that the initial step, or a step that a trip goes to, leads to, by name in lower case."""
    todo = [q.initial.lower()]
    for goal in (g for t in look.project.trips if t.steps == "go to" for g in t.go_to):
        sequence, _, step = goal.lower().partition(".")
        todo += [step] if sequence == q.name.lower() else []
    found: set[str] = set()
    while todo:
        step = todo.pop()
        if step not in found:
            found.add(step)
            known = q.step(step)
            todo += [n.lower() for _, t in q.leaving(known.name) for n in t.targets] if known is not None else []
    return found


def unreachable(look: Look) -> Iterator[Diagnostic]:
    """A step to which no way leads from the initial step."""
    for q in look.project.sequences:
        shape = look.shapes[q.name]
        entered = _entered(look, q)
        for _, i in shape.roots[1:]:
            if q.steps[i].name.lower() in entered:
                continue
            yield warning(
                "step-unreachable", Place("step", q.name, q.steps[i].name),
                f"no way leads from {q.initial} to {q.steps[i].name}", "lead a transition to it, or delete it",
            )  # fmt: skip


def no_exit(look: Look) -> Iterator[Diagnostic]:
    """A step that is never left: the sequence ends there for good."""
    for q in look.project.sequences:
        ends = ends_of(q) if q.name.lower() in look.runs else ()
        if len(q.steps) < 2:
            continue
        for s in q.steps:
            if s not in ends and not any(True for _ in q.leaving(s.name)):
                yield warning(
                    "step-no-exit", Place("step", q.name, s.name), f"{s.name} has no way out",
                    "add a transition, also for what happens when nothing comes",
                )  # fmt: skip


def _tree(text: str) -> sx.Expression | None:
    try:
        return parse_expression(text)
    except TextError:
        return None


def is_otherwise(q: Sequence, index: int) -> bool:
    """Whether a way is the last of several by a priority of its own, and always open: taken where none before it is."""
    t = q.transitions[index]
    ranks = [w.priority for source in t.sources for i, w in q.leaving(source) if i != index]
    last = t.priority is not None and bool(ranks) and all(r is not None and r < t.priority for r in ranks)
    return last and t.condition.strip().upper() == "TRUE"


def _of_a_run(look: Look, q: Sequence, t: Transition) -> bool:
    """Whether a way awaits what its step runs, or is that on which a sequence that is run begins: neither needs a condition of its own."""
    steps = (q.step(n) for n in t.sources)
    runs = any(a.qualifier.runs for s in steps if s is not None for a in s.actions)
    return runs or (q.name.lower() in look.runs and q.initial in t.sources)


def constant_condition(look: Look) -> Iterator[Diagnostic]:
    """A condition without a variable is always TRUE or always FALSE."""
    for q in look.project.sequences:
        for i, t in enumerate(q.transitions):
            if _of_a_run(look, q, t):
                continue
            tree = _tree(t.condition)
            joins = (
                len(t.sources) > 1 and isinstance(tree, sx.Literal) and tree.value is True
            )  # all are there: that is enough
            if tree is not None and not joins and not any(names_in(tree)) and not is_otherwise(q, i):
                yield warning(
                    "condition-constant", transition_place(q, i), f"the condition {t.condition} never changes",
                    "write what is awaited",
                )  # fmt: skip


MOST_PAIRS = 5000
"""Pairs of ways out of one step that are compared: those of a hundred ways."""


def branches_overlap(look: Look) -> Iterator[Diagnostic]:
    """Two ways out of a step that may be open together, with nothing to say which is taken."""
    settings = {s.name.lower(): s.start for s in look.as_run.signals if s.cls is SignalClass.SETTING}
    for q in look.as_run.sequences:
        for s in q.steps:
            ways = [w for w in single_ways(q, s.name) if w[1].priority is None]
            for (i, t), (j, u) in islice(combinations(ways, 2), MOST_PAIRS):
                if not exclude_each_other(t.condition, u.condition, settings):
                    yield warning(
                        "branches-overlap", transition_place(q, j),
                        f"this way and the one {transition_place(q, i).item} can be open at the same time",
                        "give both a priority, or add the opposite of one condition to the other",
                    )  # fmt: skip


def branches_gap(look: Look) -> Iterator[Diagnostic]:
    """Ways out of a step that choose by a number, and leave numbers out between them."""
    settings = {s.name.lower(): s.start for s in look.as_run.signals if s.cls is SignalClass.SETTING}
    for q in look.as_run.sequences:
        for s in q.steps:
            ways = single_ways(q, s.name)
            gap = (
                gap_between([t.condition for _, t in ways], settings, partial(_is_whole, look)) if len(ways) > 1 else ""
            )
            if gap:
                yield warning(
                    "branches-gap", transition_place(q, ways[-1][0]), f"where {gap} no way out of {s.name} is open",
                    "let one of the ways take it, or add one that does",
                )  # fmt: skip


def _is_whole(look: Look, tree: sx.Expression) -> bool | None:
    """Whether an expression counts in whole numbers; None where a measured value or a time moves through what is left out."""
    kinds = []
    for name, _ in names_in(tree):
        found = look.as_run.signal(name)
        if found is None or found.type is Type.TIME or (found.cls is SignalClass.INPUT and found.type is Type.REAL):
            return None
        kinds.append(found.type)
    return all(k in (Type.INT, Type.DINT) for k in kinds) if kinds else None


def mixed_priorities(look: Look) -> Iterator[Diagnostic]:
    """Some ways out of a step numbered and others not: the numbered ones go first, wherever they are listed (semantics 4)."""
    for q in look.project.sequences:
        for s in q.steps:
            ways = list(q.leaving(s.name))
            numbered = [i for i, t in ways if t.priority is not None]
            others = [i for i, t in ways if t.priority is None]
            if numbered and others:
                yield warning(
                    "priorities-mixed", transition_place(q, others[0]),
                    f"other ways out of {s.name} have priorities and this one has none: it is asked last",
                    "give every way out of the step a priority",
                )  # fmt: skip


def _takes_over(hand: Sequence, other: Sequence) -> bool:
    """Whether one sequence acts only while the other is held with its outputs off, as by hand."""
    first = {t.condition.strip().lower() for t in hand.transitions if hand.initial in t.sources}
    held = {part.strip().lower() for part in other.hold_when.split(" OR ")}
    return other.hold_outputs == "drop" and len(first) == 1 and first <= held


def shared_targets(look: Look) -> Iterator[Diagnostic]:
    """Two sequences act on one target: their contributions are ORed (semantics section 5)."""
    owners: dict[str, list[Sequence]] = {}
    for q in look.project.sequences:
        for name in {a.target.lower() for s in q.steps for a in s.actions}:
            if look.project.signal(name) is not None:
                owners.setdefault(name, []).append(q)
    for name, qs in owners.items():
        if len(qs) > 1 and not (len(qs) == 2 and (_takes_over(*qs) or _takes_over(*qs[::-1]))):
            yield warning(
                "target-shared", Place("signal", item=getattr(look.project.signal(name), "name", name)),
                f"{' and '.join(q.name for q in qs)} both act on it; it is on when either asks",
                "let one sequence own it, and tell it by an internal",
            )  # fmt: skip


UNSOUND = (
    "simultaneous branches begin and end together: in the sheet, a step that waits has as Next: waits with, and the last "
    "step of the other branch"
)


def unsound(look: Look) -> Iterator[Diagnostic]:
    """A way out of a simultaneous branch, into one, or from one to another; a section that never ends."""
    for q in look.project.sequences:
        found = sections(q)
        place = Place("sequence", item=q.name)
        if found.problem:
            yield warning("section-unsound", transition_place(q, found.way), found.problem, UNSOUND)
            continue
        for t in q.transitions:
            begun = frozenset(t.targets)
            if len(t.targets) < 2 or any(begun not in {b for b, _ in found.of.get(s, ())} for s in t.targets):
                continue
            joined = any(
                len(u.sources) > 1 and all(begun in {b for b, _ in found.of.get(s, ())} for s in u.sources)
                for u in q.transitions
            )
            if not joined and not q.restart_when.strip():  # which ends them all
                yield warning(
                    "section-never-joins", place, f"the branches that begin with {' and '.join(t.targets)} never meet again",
                    "lead their last steps to one transition that waits for all",
                )  # fmt: skip


RULES = (
    unreachable,
    no_exit,
    constant_condition,
    branches_overlap,
    branches_gap,
    mixed_priorities,
    shared_targets,
    unsound,
)
