"""A condition typed on the bench, asked of a run: run until it holds, or look at its value."""

from __future__ import annotations

from collections.abc import Callable

from spokeshave.engine.explain import Term, blockers
from spokeshave.engine.names import SlotTable
from spokeshave.engine.program import Program
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation
from spokeshave.language.check import Checker
from spokeshave.language.checked import Checked
from spokeshave.language.compile import compile_units, or_false
from spokeshave.language.parse import parse_expression
from spokeshave.language.syntax import TextError
from spokeshave.model.project import Project
from spokeshave.verify import VerifyError
from spokeshave.verify.scenario_language import SheetScope


class ProbeError(VerifyError):
    """A condition that cannot be asked; says where and why."""


def probe(session: Session, text: str) -> Callable[[Situation], bool]:
    """Whether a condition holds after a scan of a run, which skips no scan from now on in which it could turn.

    Outputs count as they went out. Raises `ProbeError`.
    """
    tree = _tree(session.program.project, text)
    test = or_false(compile_units([(0, tree)])[0])
    session.look_at([tree])
    return lambda s: bool(test(s.v))


def missing_for_home(program: Program, s: Situation) -> tuple[Term, ...]:
    """What keeps the machine from its home position; empty at home, and without a home expression."""
    tree = program.home_tree
    return () if tree is None else blockers(tree, program.project.home, s.v)


def _tree(project: Project, text: str) -> Checked:
    tree = None
    checker = Checker(SheetScope(SlotTable(project)))
    try:
        tree = checker.condition(parse_expression(text))
        problems = checker.problems
    except TextError as error:
        problems = error.problems
    if problems or tree is None:
        first = problems[0]
        raise ProbeError(f"column {first.column}: {first.message}" + (f"; {first.advice}" if first.advice else ""))
    return tree
