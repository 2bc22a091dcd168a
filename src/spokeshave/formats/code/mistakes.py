"""What is wrong with plain code while it is typed, all at once: syntax, then names and types, then states and their labels."""

from __future__ import annotations

from collections.abc import Iterator

from spokeshave.formats.code.write import Generated
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_statements
from spokeshave.language.syntax import Problem, TextError
from spokeshave.model.project import Sequence, Type


def mistakes(text: str, code: Generated) -> tuple[list[Problem], list[Problem]]:
    """Faults that keep an edited text of `code` from being taken over, and what is probably not meant. Names and types are for
    whoever knows the machine's variables to look at.
    """
    try:
        statements = parse_statements(text)
    except TextError as error:
        return error.problems, []
    faults: list[Problem] = []
    doubts: list[Problem] = []
    found = list(_every(statements))
    for q, var in _states(code):
        cases = [
            s
            for s in found
            if isinstance(s, sx.Case) and isinstance(s.selector, sx.Name) and str(s.selector).lower() == var
        ]
        if not cases:
            continue
        labels: dict[int, sx.Span] = {}
        for case in cases:
            for ends, _ in case.branches:
                for low, _ in ends:
                    if isinstance(low, sx.Literal) and isinstance(low.value, int):
                        if low.value in labels:
                            faults.append(
                                Problem.at(
                                    low.span, f"the state {low.value} has two labels", "put what they do under one"
                                )
                            )
                        labels.setdefault(low.value, low.span)
        entered = {next((s.number for s in q.steps if s.name == q.initial), 0)}
        listed = ", ".join(map(str, sorted(labels)[:8])) + (" ..." if len(labels) > 8 else "")
        for s in found:
            if not isinstance(s, sx.Assign) or str(s.target).lower() != var:
                continue
            value = _number(s.value)
            if isinstance(s.value, sx.Literal) and s.value.type is Type.BOOL:
                faults.append(
                    Problem.at(
                        s.value.span, f"{s.target} is the number of a state, this is BOOL", f"write one of {listed}"
                    )
                )
            elif (
                value is not None
                and value not in labels
                and value >= 0
                and len(cases) == 1
                and not _waits(code, q.name)
            ):
                faults.append(
                    Problem.at(
                        s.value.span,
                        f"there is no state {value}",
                        f"give it a label {value}:, or write one of {listed}",
                    )
                )
            if value is not None:
                entered.add(value)
        doubts += [
            Problem.at(span, f"nothing leads to state {number}", f"write {q.name} := {number}; where it is entered")
            for number, span in labels.items()
            if number not in entered and not _jumped_to(code, q.name, number)
        ]
    return faults, doubts


def _states(code: Generated) -> Iterator[tuple[Sequence, str]]:
    """Sequences with the variables of their threads, in lower case."""
    for (name, _), variable in getattr(code.maker, "at", {}).items():
        q = code.project.sequence(name)
        if q is not None:
            yield q, variable.lower()


def _waits(code: Generated, sequence: str) -> bool:
    """Whether a sequence has several threads, whose variables have numbers for no step."""
    return bool(getattr(code.maker, "threads", {})[sequence].count > 1)


def _jumped_to(code: Generated, sequence: str, number: int) -> bool:
    """Whether a trip goes to a step."""
    q = code.project.sequence(sequence)
    name = next((s.name for s in q.steps if s.number == number), "") if q is not None else ""
    return any(f"{sequence}.{name}".lower() == g.lower() for t in code.project.trips for g in t.go_to)


def _number(tree: sx.Expression) -> int | None:
    if isinstance(tree, sx.Literal) and isinstance(tree.value, int) and not isinstance(tree.value, bool):
        return tree.value
    return None


def _every(block: tuple[sx.Statement, ...]) -> Iterator[sx.Statement]:
    for s in block:
        yield s
        for inner in sx.children(s)[1]:
            yield from _every(inner)
