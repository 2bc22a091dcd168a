"""Which requirement of the brief is shown by what: scenarios, rules that came into play, findings that are not there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.project import Project, Requirement
from spokeshave.verify.cause_effect import shown
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.ledger import Standings
from spokeshave.verify.protection import rules
from spokeshave.verify.scenarios import Result

STATES = ("failed", "not run", "not shown", "proven before", "proven")
"""Of a link, the worst first. A requirement without links is `open`."""
RUNS_ANYWAY = ("scenario", "trip-misses-output")
"""Errors with which the machine file can still be run."""


@dataclass(frozen=True, slots=True)
class Link:
    """What shows a requirement: a scenario, a rule or `check code`; its state, and why."""

    name: str
    state: str
    why: str


@dataclass(frozen=True, slots=True)
class Shown:
    """A requirement, what shows it, and its state: open, not run, not shown, failed, proven before, proven."""

    requirement: Requirement
    links: tuple[Link, ...]

    @property
    def scenarios(self) -> tuple[str, ...]:
        """The names of what shows it."""
        return tuple(link.name for link in self.links)

    @property
    def state(self) -> str:
        return min((link.state for link in self.links), key=STATES.index, default="open")

    @property
    def words(self) -> str:
        """The state, and of one that held before, before what."""
        return f"proven {self.why[self.why.index('before') :]}" if self.state == "proven before" else self.state

    @property
    def why(self) -> str:
        """What is said of the first link that is in the worst state."""
        return next((link.why for link in self.links if link.state == self.state), "nothing shows it")


def cannot_run(found: Iterable[Diagnostic]) -> bool:
    """Whether errors are among the findings with which nothing can be run."""
    return any(d.severity == "error" and d.code not in RUNS_ANYWAY for d in found)


def coverage(
    project: Project,
    results: Mapping[str, Result] | None = None,
    found: Iterable[Diagnostic] | None = None,
    standing: Standings | None = None,
) -> list[Shown]:
    """One entry a requirement. `results` are the last ones by scenario name, `found` the open findings of the check, and
    `standing` what is known of verdicts whose runs are not here, or that may no longer hold.
    """
    found = None if found is None else list(found)
    known = {} if results is None or cannot_run(found or ()) else dict(results)
    kept = {n: s for n, s in (standing or {}).items() if n not in known and project.scenario(n) is not None}
    ways = _Ways(project, known, kept, None if found is None else {d.code for d in found}, cannot_run(found or ()))
    out = []
    for r in project.requirements:
        links = [ways.of_scenario(s.name) for s in project.scenarios if r.ident in s.shows]
        out.append(Shown(r, (*links, *map(ways.of_rule, r.shown_by))))
    return out


class _Ways:
    """What shows a requirement, and in which state it is."""

    def __init__(
        self, project: Project, known: dict[str, Result], kept: Standings, codes: set[str] | None, stuck: bool
    ) -> None:
        self.known, self.kept, self.codes, self.stuck = known, kept, codes, stuck
        linked = any(r.shown_by for r in project.requirements)
        self.keys = {r.name: r.keys for r in rules(project)} if linked else {}
        self.acted = {key: found[0].scenario for key, found in shown(known.values()).items()} if linked else {}
        self.acted_before: dict[tuple[str, str], str] = {}
        for name, s in kept.items():
            if s.passed:
                into = self.acted if s.holds and not stuck else self.acted_before
                for key, _ in s.proof.acted:
                    into.setdefault(key, name if s.holds else f"{name}, which {s.words}")
        held = {n for n, s in kept.items() if s.holds}
        self.all_run = bool(known or held) and all(s.name in known or s.name in held for s in project.scenarios)

    def of_scenario(self, name: str) -> Link:
        if name in self.known:
            outcome = self.known[name].outcome
            return Link(name, "proven" if outcome is Outcome.PASS else "failed", f"its verdict: {outcome.value}")
        s = self.kept.get(name)
        if self.stuck:
            return Link(name, "not run", "the machine file cannot run: see the findings")
        if s is None:
            return Link(name, "not run", "it was not run since the last edit")
        if not s.holds:
            return Link(name, "proven before" if s.passed else "not run", f"it {s.words}")
        return Link(name, "proven" if s.passed else "failed", f"it {s.words}, and nothing it depends on has changed")

    def of_rule(self, name: str) -> Link:
        if name.startswith("check "):
            if self.codes is None:
                return Link(name, "not run", "the check was not run")
            there = name.removeprefix("check ") in self.codes
            return Link(
                name, "failed" if there else "proven", "there is such a finding" if there else "nothing is found"
            )
        if name not in self.keys:
            return Link(name, "failed", "the rule is not there")
        keys = self.keys[name]
        missing = [key for key in keys if key not in self.acted]
        if not missing:
            return Link(name, "proven", f"came into play in {self.acted[keys[0]]}")
        if all(key in self.acted_before for key in missing):
            return Link(name, "proven before", f"came into play in {self.acted_before[missing[0]]}")
        words = ", ".join(key[1] or name for key in missing)
        return Link(name, "not shown" if self.all_run else "not run", f"no scenario brought {words} into play")
