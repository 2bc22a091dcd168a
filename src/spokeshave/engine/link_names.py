"""Names of a machine file: each once and legal, steps numbered once, transitions between known steps (semantics 2, 4)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

from spokeshave.engine.link_declared import check_declared
from spokeshave.engine.link_sequence import step_numbers, transition_place
from spokeshave.language.literals import value_problem
from spokeshave.language.rename import NAME, name_problem
from spokeshave.language.syntax import LONGEST_NAME
from spokeshave.model.diagnostics import Place, did_you_mean
from spokeshave.model.project import Project, Sequence

Note = Callable[..., None]
"""note(code, place, message, advice)."""


def check_names(project: Project, note: Note) -> None:
    """Each name once in the project, and each a legal one (semantics section 2)."""
    if not 1 <= project.period_ms <= 1000:
        note("period", Place(), f"a period of {project.period_ms} ms", "1 to 1000 ms are possible")
    named = [(s.name, Place("signal", item=s.name)) for s in project.signals]
    named += [(q.name, Place("sequence", item=q.name)) for q in project.sequences]
    named += [(d.name, Place("device", item=d.name)) for d in project.devices]
    for instance in project.instances:
        place = Place("instance", item=instance.name)
        named.append((instance.name, place))
    named += check_declared(project, note)
    count = Counter(n.lower() for n, _ in named)
    said: set[str] = set()
    for name, place in named:
        problem = name_problem(name)
        if problem:
            note("name", place, problem)
        elif count[name.lower()] > 1 and name.lower() not in said:
            said.add(name.lower())
            note("name-twice", place, f"{name} names {count[name.lower()]} things", "give each its own name")
    for q in project.sequences:
        _check_steps(project, q, note)
    for s in project.signals:
        for what, value in (("initial", s.initial), ("home", s.home)):
            if value is not None and (problem := value_problem(value, s.type)):
                note("initial", Place("signal", item=s.name), f"its {what} value: {problem}")
    known: set[str] = set()
    known_alarms: set[str] = set()
    for t in project.trips:
        place = Place("trip", item=t.name)
        if len(t.name) > LONGEST_NAME or not NAME.fullmatch(t.name):
            note("name", place, name_problem(t.name))
        elif t.name.lower() in known:
            note("name-twice", place, f"there are two trips {t.name}", "give each its own name")
        known.add(t.name.lower())
    for a in project.alarms:
        place = Place("alarm", item=a.on or a.name)
        if not a.on and (len(a.name) > LONGEST_NAME or not NAME.fullmatch(a.name)):
            note("name", place, name_problem(a.name))
        elif a.key in known_alarms:
            note("name-twice", place, f"there are two alarms {a.on or a.name}", "keep one of them")
        known_alarms.add(a.key)


def _check_steps(project: Project, q: Sequence, note: Note) -> None:
    seen: set[str] = set()
    numbers: set[int] = set()
    for step in q.steps:
        place = Place("step", q.name, step.name)
        problem = name_problem(step.name, step=True)
        if problem:
            note("name", place, problem)
        if step.name.lower() in seen:
            note("name-twice", place, f"{q.name} has two steps {step.name}", "give each its own name")
        if step.number in numbers:
            note("number-twice", place, f"{q.name} has two steps with number {step.number}")
        if project.signal(step.name) is not None:
            note("name-clash", place, f"{step.name} is a signal too", "rename one of them")
        seen.add(step.name.lower())
        numbers.add(step.number)
    if q.step(q.initial) is None:
        note("initial-step", Place("sequence", item=q.name), f"{q.initial} is not one of its steps",
                  "choose an initial step")  # fmt: skip
    for body in q.bodies:
        if problem := name_problem(body.name):
            note("name", Place("body", q.name, body.name), problem)
    numbered = step_numbers(q)
    for i, t in enumerate(q.transitions):
        for name in (*t.sources, *t.targets):
            if name.lower() not in seen:
                offer = did_you_mean(name, (s.name for s in q.steps))
                note("unknown-step", transition_place(q, i, numbered), f"there is no step {name} in {q.name}", offer)
        if not t.sources or not t.targets:
            note("transition-ends", transition_place(q, i, numbered), "a transition needs steps on both sides")
        for names in (t.sources, t.targets):
            if len(set(names)) < len(names):
                note("transition-ends", transition_place(q, i, numbered), "the same step stands twice on one side")
