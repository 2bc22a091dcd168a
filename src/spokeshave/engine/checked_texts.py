"""Texts of a machine file on their way to code: checked in their scope, gathered with their places."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from spokeshave.engine import program as pg
from spokeshave.engine.kept_texts import KeptTexts, declared_in
from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.language import checked as ck
from spokeshave.language.check import Checker, Scope
from spokeshave.language.compile import Compiled, Unit
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import Diagnostic, Place, Severity
from spokeshave.model.project import Project, SignalClass, Type


class Texts:
    """Gathers checked texts as units to compile, and what is wrong with them as findings. Texts that were read `before` are
    not read again, where all that can be named was declared as it is.
    """

    def __init__(self, project: Project, before: Iterable[KeptTexts] = ()) -> None:
        self.project = project
        self.found: list[Diagnostic] = []
        self.units: list[Unit] = []
        self.table = SlotTable(project)
        self.places = self.table.places
        self.acted = frozenset(
            a.target.lower()
            for q in project.sequences
            for s in q.steps
            for a in s.actions
            if project.signal(a.target) is not None
        )
        """Signals that are targets of action blocks: nothing else may write them."""
        self.kept = KeptTexts(declared_in(project, self.acted))
        self._before = next((known for known in before if known.declared == self.kept.declared), None)

    def note(self, code: str, place: Place, message: str, advice: str = "") -> None:
        self.found.append(Diagnostic(code, Severity.ERROR, place, message, advice))

    def place(self, place: Place) -> int:
        """The number of a place, for code that tells where it stopped."""
        self.places.append(place)
        return len(self.places) - 1

    def check(self, text: str, place: Place, scope: Scope, kind: str) -> Any:
        """The checked tree of a text, or None with its problems noted. `kind`: condition, time, value, statements."""
        key = (kind, place, text)
        if self._before is not None and (known := self._before.trees.get(key)) is not None:
            self.kept.trees[key] = known
            return known
        marks = self.table.marks()
        checker = Checker(scope)
        tree: Any = None
        try:
            if kind == "statements":
                tree = checker.statements(parse_statements(text))
            elif kind == "condition":
                tree = checker.condition(parse_expression(text))
            elif kind == "value":
                tree = checker.value(parse_expression(text))
            else:
                tree = checker.expression(parse_expression(text), Type.TIME, "a TIME is needed")
            problems = checker.problems
        except TextError as error:
            problems = error.problems
        for p in problems:
            message = p.message
            if kind == "condition" and not message.startswith("this is"):
                message = f"in the condition: {message}"
            self.note("text", place.spot(p.line, p.column), message, p.advice)
        if problems:
            return None
        # It means the same by itself where reading it has declared nothing; own devices have slots of their own.
        if marks == self.table.marks() and isinstance(scope, TextScope):
            self.kept.trees[key] = tree
        return tree

    def compiled(self, later: set[int]) -> list[Compiled]:
        """The code of all units."""
        return self.kept.compiled(self.units, later, self._before)

    def unit(self, tree: Any, place: Place) -> int:
        self.units.append((self.place(place), tree))
        return len(self.units) - 1

    def condition(self, text: str, place: Place, scope: TextScope) -> tuple[int, ck.Checked] | None:
        tree = self.check(text, place, scope, "condition")
        return None if tree is None else (self.unit(tree, place), tree)

    def time(self, text: str, place: Place, scope: TextScope) -> pg.Time | None:
        """A literal or a setting."""
        if not text.strip():
            return None
        tree = self.check(text, place, scope, "time")
        if isinstance(tree, ck.Const):
            if int(tree.value) < 0:
                self.note("time-negative", place, f"{text} is negative", "a time counts from 0")
            return pg.Time(int(tree.value))
        if isinstance(tree, ck.Load):
            signal = self.project.signal(tree.name)
            if signal is not None and signal.cls is SignalClass.SETTING:
                return pg.Time(0, tree.slot)
        if tree is not None:
            self.note(
                "time-form", place, f"{text} is neither a time nor a setting", "write T#2s or the name of a setting"
            )
        return None

    def rising(self, text: str, place: Place, scope: TextScope) -> int:
        """The slot of RISING(text), or -1 without a text."""
        if not text.strip():
            return -1
        tree = self.check(text, place, scope, "condition")
        return -1 if tree is None else self.table.edge("RISING", tree, None)
