"""Which requirement of the brief is shown by what: scenarios, rules that came into play, findings that are not there."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.project import Project, Requirement
from spokeshave.verify.cause_effect import shown
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.protection import rules
from spokeshave.verify.scenarios import Result

STATES = ("failed", "not run", "not shown", "proven")
"""Of a link, the worst first. A requirement without links is `open`."""


@dataclass(frozen=True, slots=True)
class Link:
    """What shows a requirement: a scenario, a rule or `check code`; its state, and why."""

    name: str
    state: str
    why: str


@dataclass(frozen=True, slots=True)
class Shown:
    """A requirement, what shows it, and its state: open, not run, not shown, failed, proven."""

    requirement: Requirement
    links: tuple[Link, ...]

    @property
    def scenarios(self) -> tuple[str, ...]:
        """The names of what shows it."""
        return tuple(link.name for link in self.links)

    @property
    def state(self) -> str:
        return min((link.state for link in self.links), key=STATES.index, default="open")


def coverage(
    project: Project, results: dict[str, Result] | None = None, found: Iterable[Diagnostic] | None = None
) -> list[Shown]:
    """One entry a requirement. `results` are the last ones by scenario name, `found` the open findings of the check."""
    known = results or {}
    linked = any(r.shown_by for r in project.requirements)
    keys = {r.name: r.keys for r in rules(project)} if linked else {}
    acted = shown(known.values()) if linked else {}
    all_run = bool(known) and all(s.name in known for s in project.scenarios)
    codes = None if found is None else {d.code for d in found}

    def of_scenario(name: str) -> Link:
        if name not in known:
            return Link(name, "not run", "it was not run since the last edit")
        outcome = known[name].outcome
        return Link(name, "proven" if outcome is Outcome.PASS else "failed", f"its verdict: {outcome.value}")

    def of_rule(name: str) -> Link:
        if name.startswith("check "):
            if codes is None:
                return Link(name, "not run", "the check was not run")
            there = name.removeprefix("check ") in codes
            return Link(
                name, "failed" if there else "proven", "there is such a finding" if there else "nothing is found"
            )
        if name not in keys:
            return Link(name, "failed", "the rule is not there")
        missing = [key[1] or name for key in keys[name] if key not in acted]
        if not missing:
            return Link(name, "proven", f"came into play in {acted[keys[name][0]][0].scenario}")
        return Link(name, "not shown" if all_run else "not run", f"no scenario brought {', '.join(missing)} into play")

    out = []
    for r in project.requirements:
        links = [of_scenario(s.name) for s in project.scenarios if r.ident in s.shows]
        out.append(Shown(r, (*links, *map(of_rule, r.shown_by))))
    return out
