"""What is large and made by the program, kept apart from the machine file: accepted runs and the accepted sweep.

Each is known by the digest of what is in it, so that two versions of a machine file never disagree on one.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import replace

from spokeshave.model.project import Accepted, Project
from spokeshave.model.sweep import SweepPlan

Rows = tuple[tuple[str, str], ...]
Stored = dict[str, tuple[Rows, tuple[str, ...]]]
"""By digest: the lanes of a run, or the rows of a sweep and its steps."""


def digest_of(rows: Rows, steps: tuple[str, ...] = ()) -> str:
    """The digest of the lanes of a run, or of the rows and steps of a sweep."""
    text = json.dumps([rows, steps], ensure_ascii=False, separators=(",", ":"))
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:32]


def apart(project: Project) -> tuple[Project, Stored]:
    """The machine file with digests in the place of what is large, and that by its digests."""
    out: Stored = {}
    accepted = tuple(_run_apart(a, out) for a in project.accepted)
    plan = project.sweep
    if plan.accepted:
        digest = digest_of(plan.accepted, plan.steps)
        out[digest] = (plan.accepted, plan.steps)
        plan = replace(plan, accepted=(), steps=(), stored=digest)
    return replace(project, accepted=accepted, sweep=plan), out


def _run_apart(a: Accepted, out: Stored) -> Accepted:
    if not a.lanes:
        return a
    digest = digest_of(a.lanes)
    out[digest] = (a.lanes, ())
    return replace(a, lanes=(), stored=digest)


def together(project: Project, known: Mapping[str, tuple[Rows, tuple[str, ...]]]) -> Project:
    """The machine file with what is `known` in the place of its digests; what is not stays a digest."""

    def run(a: Accepted) -> Accepted:
        found = known.get(a.stored)
        return a if found is None else replace(a, lanes=found[0], stored="")

    def sweep(plan: SweepPlan) -> SweepPlan:
        found = known.get(plan.stored)
        return plan if found is None else replace(plan, accepted=found[0], steps=found[1], stored="")

    return replace(project, accepted=tuple(map(run, project.accepted)), sweep=sweep(project.sweep))


def digests(project: Project) -> frozenset[str]:
    """What a machine file names and does not have in it."""
    return frozenset(d for d in (*(a.stored for a in project.accepted), project.sweep.stored) if d)
