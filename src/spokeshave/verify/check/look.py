"""What rules look at: the project, its uses by name, and the shape of its charts, each worked out once."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from functools import cached_property

from spokeshave.language import syntax as sx
from spokeshave.language.literals import time_ms
from spokeshave.language.parse import parse_statements
from spokeshave.language.sub_sequences import Call, runs_of, written_out
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import Diagnostic, Place, Severity
from spokeshave.model.project import Project, Sequence, Transition, Type
from spokeshave.model.structure import Structure, structure
from spokeshave.verify.usage import Use, names_in, uses


class Look:
    """A project under check."""

    def __init__(self, project: Project) -> None:
        self.project = project

    @cached_property
    def by_name(self) -> dict[str, list[Use]]:
        found: dict[str, list[Use]] = defaultdict(list)
        for use in uses(self.project):
            found[use.name].append(use)
        return found

    @cached_property
    def as_run(self) -> Project:
        """The project with what marks on sequences mean written out."""
        return written_out(self.project)

    @cached_property
    def runs(self) -> dict[str, tuple[Call, ...]]:
        """The steps that run each sequence, by its name in lower case."""
        return runs_of(self.project)

    @cached_property
    def shapes(self) -> dict[str, Structure]:
        return {q.name: structure(q) for q in self.project.sequences}

    def used(self, name: str, *how: str) -> list[Use]:
        return [u for u in self.by_name.get(name.lower(), ()) if u.how in how]

    @cached_property
    def counted(self) -> frozenset[str]:
        """Signals, in lower case, that some statement makes from what they were: `N := N + 1`."""
        return frozenset(
            target
            for _, s in self.each_statement()
            if isinstance(s, sx.Assign)
            and (target := str(s.target).lower()) in {n.lower() for n, _ in names_in(s.value)}
        )

    @cached_property
    def statements(self) -> list[tuple[Place, tuple[sx.Statement, ...]]]:
        """Opening and closing logic and all bodies that can be read."""
        p = self.project
        texts = [(Place("opening"), p.opening), (Place("closing"), p.closing)]
        texts += [(Place("body", q.name, b.name), b.text) for q in p.sequences for b in q.bodies]
        found = []
        for place, text in texts:
            try:
                found.append((place, parse_statements(text)))
            except TextError:
                continue
        return found

    def each_statement(self) -> Iterator[tuple[Place, sx.Statement]]:
        """Every statement of `statements`, inner ones too."""
        for place, block in self.statements:
            for s in sx.every_statement(block):
                yield place, s

    @cached_property
    def writing(self) -> dict[str, list[tuple[Place, sx.Statement]]]:
        """The statements that write a variable, by its name in lower case."""
        found: dict[str, list[tuple[Place, sx.Statement]]] = defaultdict(list)
        for place, s in self.each_statement():
            for name in sx.children(s)[2]:
                found[str(name).lower()].append((place, s))
        return found

    def time_ms(self, text: str) -> int | None:
        """What a time literal or a TIME signal begins with, in ms; None for no time."""
        signal = self.project.signal(text.strip())
        if signal is not None and signal.type is Type.TIME:
            return int(signal.start)
        try:
            return time_ms(text) if text.strip() else None
        except ValueError:
            return None


def warning(code: str, place: Place, message: str, advice: str) -> Diagnostic:
    """A finding of severity warning."""
    return Diagnostic(code, Severity.WARNING, place, message, advice)


def advice(code: str, place: Place, message: str, what: str) -> Diagnostic:
    """A finding of severity advice."""
    return Diagnostic(code, Severity.ADVICE, place, message, what)


def single_ways(sequence: Sequence, step: str) -> list[tuple[int, Transition]]:
    """Ways out of a step that need no other predecessor."""
    return [(i, t) for i, t in sequence.leaving(step) if len(t.sources) == 1]
