"""What rules look at: the project, its uses by name, and the shape of its charts, each worked out once."""

from __future__ import annotations

from collections import defaultdict
from functools import cached_property

from spokeshave.language.literals import time_ms
from spokeshave.model.diagnostics import Diagnostic, Place, Severity
from spokeshave.model.project import Project, Sequence, Transition, Type
from spokeshave.model.structure import Structure, structure
from spokeshave.verify.usage import Use, uses


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
    def shapes(self) -> dict[str, Structure]:
        return {q.name: structure(q) for q in self.project.sequences}

    def used(self, name: str, *how: str) -> list[Use]:
        return [u for u in self.by_name.get(name.lower(), ()) if u.how in how]

    @cached_property
    def counted(self) -> frozenset[str]:
        """Signals, in lower case, that a text both reads and writes."""
        found: dict[str, set[tuple[str, str, str, str]]] = {"read": set(), "write": set()}
        for name, places in self.by_name.items():
            for u in places:
                if u.how in found and u.place.kind in ("body", "opening", "closing"):
                    found[u.how].add((name, u.place.kind, u.place.sequence, u.place.item))
        return frozenset(name for name, *_ in found["read"] & found["write"])

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
    return Diagnostic(code, Severity.WARNING, place, message, advice)


def advice(code: str, place: Place, message: str, what: str) -> Diagnostic:
    return Diagnostic(code, Severity.ADVICE, place, message, what)


def single_ways(sequence: Sequence, step: str) -> list[tuple[int, Transition]]:
    """Ways out of a step that need no other predecessor."""
    return [(i, t) for i, t in sequence.leaving(step) if len(t.sources) == 1]
