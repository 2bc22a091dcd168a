"""What is wrong with a text that is being typed, in the scope it will have."""

from __future__ import annotations

from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.language.check import Checker
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.syntax import Problem, TextError
from spokeshave.model.project import Project, Sequence


def condition_problems(project: Project, sequence: Sequence | None, text: str) -> list[Problem]:
    """Problems of a condition in a sequence."""
    checker = Checker(TextScope(SlotTable(project), sequence))
    try:
        checker.condition(parse_expression(text))
    except TextError as error:
        return error.problems
    return checker.problems


def statement_problems(project: Project, sequence: Sequence | None, text: str) -> list[Problem]:
    """Problems of a body of a sequence, or of opening or closing logic (no sequence)."""
    targets = frozenset(a.target.lower() for q in project.sequences for s in q.steps for a in s.actions)
    signals = {s.name.lower() for s in project.signals}
    checker = Checker(TextScope(SlotTable(project), sequence, targets & signals))
    try:
        checker.statements(parse_statements(text))
    except TextError as error:
        return error.problems
    return checker.problems
