"""The verdicts of a machine file while it is edited: which hold, which held before what change, what is to be run again."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from spokeshave.model.project import Project, Scenario
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import Result
from spokeshave.verify.standing import Proof, Work, of_data, proof_of, since, to_data, told, work_data, work_of


@dataclass(frozen=True, slots=True)
class Standing:
    """A verdict, and what of what it depends on has `changed` since; it holds where that is nothing."""

    proof: Proof
    changed: tuple[str, ...] = ()

    @property
    def passed(self) -> bool:
        return self.proof.outcome is Outcome.PASS

    @property
    def holds(self) -> bool:
        return not self.changed

    @property
    def words(self) -> str:
        """`passed, kept on 2031-05-06`, `passed before the change of step Main.Open`."""
        verdict = {Outcome.PASS: "passed", Outcome.FAIL: "failed"}.get(self.proof.outcome, "was not reached")
        if self.changed:
            return f"{verdict} before the change of {told(self.changed)}"
        return f"{verdict}, kept on {self.proof.on}" if self.proof.on else verdict


Standings = Mapping[str, Standing]
"""By the name of the scenario."""


class Ledger:
    """Verdicts by scenario, and what came of sweep and study.

    `results` are those with runs to look at that hold; `earlier` those that held before an edit, which come back if the edit is
    undone; `standing` tells of every verdict that is known, also those kept beside the file.
    """

    def __init__(self) -> None:
        self.results: dict[str, Result] = {}
        self.earlier: dict[str, Result] = {}
        self.standing: dict[str, Standing] = {}
        self.work: dict[str, Work] = {}
        """What came of the last sweep and the last study, by `sweep` and `study`."""

    def take(self, results: Iterable[Result], project: Project, on: str = "") -> None:
        """New results, in the place of those before. They may be of the machine file as it was a moment ago."""
        for r in results:
            self.results[r.scenario.name] = r
            self.standing[r.scenario.name] = Standing(proof_of(r, on))
            self.earlier.pop(r.scenario.name, None)
        self.follow(project)

    def take_kept(self, lines: Iterable[Mapping[str, Any]], project: Project) -> None:
        """Verdicts that were kept beside the file, as `kept` gave them; of several about the same, one that holds."""
        for line in lines:
            work, proof = work_of(line), of_data(line)
            if work is not None and (work.name not in self.work or not work.since(project)):
                self.work[work.name] = work
            if proof is None:
                continue
            now = Standing(proof, since(proof, project))
            known = self.standing.get(proof.scenario)
            if known is None or (now.holds and not known.holds):
                self.standing[proof.scenario] = now

    def follow(self, project: Project) -> None:
        """Looks at every verdict again after an edit, an undo or a redo."""
        self.standing = {n: Standing(s.proof, since(s.proof, project)) for n, s in self.standing.items()}
        known = self.earlier | self.results
        self.results = {n: r for n, r in known.items() if self.standing[n].holds}
        self.earlier = {n: r for n, r in known.items() if n not in self.results and r.runs}

    def kept(self, project: Project) -> list[dict[str, Any]]:
        """The verdicts that are worth keeping, as plain data: those of scenarios that are there, then sweep and study."""
        found = (self.standing.get(s.name) for s in project.scenarios)
        return [to_data(s.proof) for s in found if s is not None] + [work_data(w) for w in self.work.values()]

    def spares(self, name: str) -> bool:
        """Whether a scenario need not be run again to know that it passes."""
        known = self.standing.get(name)
        return known is not None and known.holds and known.passed

    def to_run(self, project: Project) -> list[Scenario]:
        """The scenarios of which nothing is known that holds."""
        return [s for s in project.scenarios if (known := self.standing.get(s.name)) is None or not known.holds]
