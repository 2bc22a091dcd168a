"""Which requirement of the brief is shown by what."""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.model.project import Project, Requirement
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import Result


@dataclass(frozen=True, slots=True)
class Shown:
    """A requirement, the scenarios that show it, and its state: open, not run, failed, proven."""

    requirement: Requirement
    scenarios: tuple[str, ...]
    state: str


def coverage(project: Project, results: dict[str, Result] | None = None) -> list[Shown]:
    """One entry a requirement. `results` are the last ones by scenario name."""
    known = results or {}
    out = []
    for r in project.requirements:
        names = tuple(s.name for s in project.scenarios if r.ident in s.shows)
        outcomes = [known[n].outcome for n in names if n in known]
        if not names:
            state = "open"
        elif any(o is not Outcome.PASS for o in outcomes):
            state = "failed"
        else:
            state = "proven" if len(outcomes) == len(names) else "not run"
        out.append(Shown(r, names, state))
    return out
