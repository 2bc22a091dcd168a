"""What a study is asked and may assume, as lines of text, the way people write it down."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from spokeshave.engine.link import LinkError
from spokeshave.language.literals import read_value
from spokeshave.language.syntax import Problem
from spokeshave.model.project import Project, SignalClass, Type, Value
from spokeshave.model.study import StudyPlan
from spokeshave.verify.reach.invariants import broken, said
from spokeshave.verify.reach.studied import Studied, StudyError


def examples(project: Project) -> str:
    """A line of each kind, with names of the machine file as far as it has such."""

    def some(kind: SignalClass, of: Type, usual: tuple[str, str]) -> tuple[str, str]:
        own = [s.name for s in project.signals if s.cls is kind and s.type is of]
        return (own[0], own[1]) if len(own) > 1 else usual

    opened, closed = some(SignalClass.INPUT, Type.BOOL, ("GateOpened", "GateClosed"))
    first, second = some(SignalClass.OUTPUT, Type.BOOL, ("Gate", "Drive"))
    number = next((s.name for s in project.signals if s.cls is SignalClass.SETTING and s.type is Type.INT), "Goal")
    q = next((q for q in project.sequences if len(q.steps) > 1), None)
    steps = ("Main.Fill", "Main.Empty") if q is None else tuple(f"{q.name}.{s.name}" for s in q.steps[:2])
    return (
        f"assume NOT ({opened} AND {closed})\ntogether {first}, {second}\nbefore {steps[0]}, {steps[1]}\n"
        f"never {first} AND NOT {opened}\nwhile NOT {closed}: NOT {second}\nsetting {number} 1, 2"
    )


def print_plan(plan: StudyPlan) -> str:
    """The lines of a plan."""
    lines = [f"assume {text}" for text in plan.assumptions]
    lines += [f"together {a}, {b}" for a, b in plan.together]
    lines += [f"before {a}, {b}" for a, b in plan.before]
    lines += [said(text) for text in plan.never]
    lines += [f"setting {name} {', '.join(map(_shown, values))}" for name, values in plan.settings]
    return "\n".join(lines)


def _shown(value: Value) -> str:
    return str(value).upper() if isinstance(value, bool) else str(value)


def parse_plan(project: Project, text: str) -> tuple[StudyPlan, tuple[Problem, ...]]:
    """The plan of some lines, and what is wrong with them. Empty lines and comments are left out."""
    plan, problems, file = StudyPlan(), [], _file_of(project)
    for number, line in enumerate(text.splitlines(), 1):
        word, _, rest = line.strip().partition(" ")
        if not word or word.startswith("//"):
            continue
        try:
            plan = _with(file, plan, word.lower(), rest.strip())
        except (StudyError, ValueError) as error:
            problems.append(Problem(number, 1, str(error)))
    return plan, tuple(problems)


class _File:
    """A machine file that lines are about: linked when the first of them needs it, and once."""

    def __init__(self, project: Project) -> None:
        self.project = project
        self._studied: list[Studied | None] = []

    def has(self, ask: Callable[[Studied], object]) -> None:
        """Asks for something that a line speaks of. Raises `StudyError`; of a file that cannot be studied as it is now every
        line is taken as it stands, since the study tells that when it begins.
        """
        if not self._studied:
            try:
                self._studied.append(Studied(self.project))
            except (StudyError, LinkError):
                self._studied.append(None)
        studied = self._studied[0]
        if studied is not None:
            ask(studied)


_last: list[_File] = []


def _file_of(project: Project) -> _File:
    """The same one as long as the same machine file is asked about: its text is looked at with each key."""
    if not _last or _last[0].project is not project:
        _last[:] = [_File(project)]
    return _last[0]


def _with(file: _File, plan: StudyPlan, word: str, rest: str) -> StudyPlan:
    """The plan with one line more. Raises `StudyError` or `ValueError`."""
    project = file.project
    if word == "assume":
        file.has(lambda s: s.assumption(rest))
        return replace(plan, assumptions=(*plan.assumptions, rest))
    if word in ("together", "before"):
        first, _, then = (part.strip() for part in rest.partition(","))
        if not (first and then):
            raise StudyError(f"write two {'outputs' if word == 'together' else 'steps'} with a comma between them")
        if word == "together":
            file.has(lambda s: (s.output(first), s.output(then)))
            return replace(plan, together=(*plan.together, (first, then)))
        for name in (first, then):
            q = project.sequence(name.partition(".")[0])
            if q is None or q.step(name.partition(".")[2]) is None:
                raise StudyError(f"there is no step {name}; write Sequence.Step")
        return replace(plan, before=(*plan.before, (first, then)))
    if word in ("never", "while"):
        text = rest if word == "never" else f"while {rest}"
        file.has(lambda s: s.readable(broken(text), text))
        return replace(plan, never=(*plan.never, text))
    if word == "setting":
        name, _, values = rest.partition(" ")
        signal = project.signal(name)
        if signal is None:
            raise StudyError(f"there is no setting {name}")
        chosen = (signal.name, tuple(read_value(v.strip(), signal.type) for v in values.split(",")))
        file.has(lambda s: s.setting(name))
        return replace(plan, settings=(*plan.settings, chosen))
    raise StudyError(f"{word} is not known; a line begins with assume, together, before, never, while or setting")
