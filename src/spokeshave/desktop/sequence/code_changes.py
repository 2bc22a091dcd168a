"""What an edited code text would change in the machine file, for a person to read before it is taken over."""

from __future__ import annotations

import re
from dataclasses import dataclass

from spokeshave.engine.link import link_problems
from spokeshave.engine.link_sequence import transition_place
from spokeshave.engine.text_faults import condition_problems, statement_problems
from spokeshave.formats.code.as_run import as_project
from spokeshave.formats.code.mistakes import mistakes
from spokeshave.formats.code.read import Change, read_code
from spokeshave.formats.code.write import generate
from spokeshave.formats.errors import FormatError
from spokeshave.language.syntax import Problem
from spokeshave.model.diagnostics import Place, errors
from spokeshave.model.project import Project


@dataclass(frozen=True, slots=True)
class Difference:
    """One text of the machine file as it is and as the code has it."""

    place: Place
    old: str
    new: str


@dataclass(frozen=True, slots=True)
class Looked:
    """What an edited text is: faults that keep it from being taken over, what is probably not meant, and without faults what it changes."""

    wrong: list[Problem]
    doubts: list[Problem]
    pending: tuple[Project, list[Difference]] | None = None


def looked_at(text: str, project: Project, style: str, typed: bool = True) -> Looked:
    """Looks at a text of code; at all of its mistakes at once where it was `typed`, and is in the plain style."""
    faults: list[Problem] = []
    doubts: list[Problem] = []
    names: list[Problem] = []
    if typed and style == "plain" and not errors(link_problems(project)):
        code = generate(project, style, apart=False)  # all of it in one text, as the face shows it
        faults, doubts = mistakes(text, code)
        told = {p.start for p in faults}
        clocks = {
            f"there is no {at}T" for at in getattr(code.maker, "at", {}).values()
        }  # those that come when they are used
        names = [
            p for p in statement_problems(as_project(code), None, text)
            if p.start not in told and p.message not in clocks and not _of_thread(p.message, project)
        ]  # fmt: skip
    if faults:
        return Looked(sorted(faults + names, key=lambda p: (p.line, p.column)), doubts)
    try:
        return Looked([], doubts, differences(text, project, style))  # helpers that are new come with what uses them
    except FormatError as error:
        problem = Problem(error.line, error.column, error.message, error.advice)
        return Looked(sorted(names, key=lambda p: (p.line, p.column)) or [problem], doubts)


def _of_thread(message: str, project: Project) -> bool:
    """Whether a name that is missing is that of a thread which the text opens: `Gate2`, `Gate2Was`."""
    names = "|".join(re.escape(q.name) for q in project.sequences)
    return re.fullmatch(rf"there is no ({names})([2-9]|[1-9]\d)?(Was)?", message, re.IGNORECASE) is not None


def differences(text: str, project: Project, style: str) -> tuple[Project, list[Difference]]:
    """The machine file as the statements of generated code have it, and what differs. Raises `FormatError`."""
    if bad := errors(link_problems(project)):
        raise FormatError(f"the machine file cannot run yet, so it has no code: {bad[0]}", advice="mend that first")
    after, changes = read_code(text, 0, len(text), project, style)
    if any(c.of[0] == "said" for c in changes):
        if bad := errors(link_problems(after)):
            raise FormatError(bad[0].message, line=_line_of(text, bad[0].message), advice=str(bad[0].place))
        return after, [
            Difference(Place(str(c.of[1]), str(c.of[3]) or project.sequences[0].name, str(c.of[2])), c.old, c.new)
            for c in changes
        ]
    for c in changes:
        own = after.sequence(str(c.of[1])) if c.of[0] in ("condition", "body", "hold") else None
        problems = (statement_problems if c.statements else condition_problems)(after, own, c.new)
        if problems:
            p = problems[0]
            column = p.column + (c.column - 1 if p.line == 1 else 0)
            raise FormatError(p.message, line=c.line + p.line - 1, column=column, advice=p.advice)
    return after, [Difference(_place(project, c), c.old, c.new) for c in changes]


def _line_of(text: str, message: str) -> int:
    """The line of the name that a message says there is not, else the first."""
    found = re.search(r"there is no (\w+)", message)
    at = re.search(rf"\b{found[1]}\b", text) if found else None
    return text.count("\n", 0, at.start()) + 1 if at else 1


def _place(project: Project, change: Change) -> Place:
    kind, *rest = change.of
    if kind == "condition":
        q = project.sequence(str(rest[0]))
        assert q is not None
        return transition_place(q, int(rest[1]))
    if kind == "body":
        return Place("body", str(rest[0]), str(rest[1]))
    if kind == "hold":
        return Place("sequence", item=str(rest[0]))
    return Place(str(kind), item=str(rest[0]) if rest else "")
