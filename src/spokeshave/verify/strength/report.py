"""What came of the mistakes: how many are noticed, of what; the survivors as sentences, nearest first."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from spokeshave.model.edits import free_name, put_items
from spokeshave.model.project import Project, Scenario, Waiver
from spokeshave.verify.check.waivers import MISTAKE
from spokeshave.verify.strength.noticed import Judged
from spokeshave.verify.strength.planted import Mistake


@dataclass(frozen=True, slots=True)
class Share:
    """Of one thing (a step, a rule, a requirement, a kind): how many mistakes are noticed, and how many there are. Equivalent ones do
    not count.
    """

    name: str
    noticed: int
    of: int

    @property
    def part(self) -> float:
        """The strength, 0 to 1; 1 where there is no mistake to make."""
        return self.noticed / self.of if self.of else 1.0


@dataclass(frozen=True)
class Report:
    """The mistakes of a machine file and what was judged by now, by the index of the mistake."""

    project: Project
    mistakes: list[Mistake]
    judged: Mapping[int, Judged]
    idle: tuple[str, ...] = ()
    """Scenarios that fail without any mistake, and so notice none."""

    def of(self, state: str) -> list[Judged]:
        """Those that are `noticed`, `survived` or `equivalent`, in the order of the mistakes; survivors nearest first."""
        found = [j for _, j in sorted(self.judged.items()) if j.state == state]
        if state == "survived":
            found.sort(key=lambda j: (j.nearest is None, -len(j.asked), j.index))
        return found

    def reason(self, judged: Judged) -> str:
        """Why somebody lets a mistake survive; empty where nobody has said so."""
        return self._reasons.get(self.mistakes[judged.index].ident, "")

    @cached_property
    def _reasons(self) -> dict[str, str]:
        return {w.place: w.reason for w in self.project.waivers if w.code == MISTAKE}

    @property
    def unexplained(self) -> list[Judged]:
        """Survivors that nobody has accepted."""
        return [j for j in self.of("survived") if not self.reason(j)]

    def lines(self) -> Iterator[str]:
        """All of it for a terminal: how many, by requirement, then each survivor with what would notice it."""
        whole, by = self.whole, [j.by.split()[0] for j in self.of("noticed")]
        what = {"check": "the check", "scenario": "scenarios", "accepted": "accepted runs"}
        parts = [f"{by.count(word)} by {said}" for word, said in what.items() if word in by]
        same = len(self.of("equivalent"))
        head = f"{whole.noticed} of {whole.of} mistakes are noticed ({100 * whole.part:.0f} %)"
        yield head + (f": {', '.join(parts)}" * bool(parts)) + (f"; {same} change nothing" * bool(same))
        if self.idle:
            yield f"{', '.join(self.idle)}: {'fails' if len(self.idle) == 1 else 'fail'} without any mistake, and so noticed none"
        for share in self.by("requirement"):
            yield f"  {share.name}: {share.noticed} of {share.of}"
        for j in self.of("survived"):
            m, reason = self.mistakes[j.index], self.reason(j)
            yield f"{m.place}: {m.sentence()}" + (f" (accepted: {reason})" if reason else "")
            if not reason:
                yield f"  {self.proposal(j)}"

    @property
    def whole(self) -> Share:
        """All of them."""
        return self._share("", self.judged.values())

    def by(self, what: str) -> list[Share]:
        """Shares by `place` or `kind` in the order of the mistakes, by `requirement` in that of the brief: of one those mistakes that
        have to do with a scenario which shows it, or that are in a rule that does.
        """
        if what == "requirement":
            mine = [
                (r.ident, [j for j in self.judged.values() if self.belongs(j, what, r.ident)])
                for r in self.project.requirements
            ]
            return [self._share(ident, found) for ident, found in mine]
        name: Callable[[Mistake], str] = (lambda m: str(m.place)) if what == "place" else (lambda m: m.kind)
        found: dict[str, list[Judged]] = {}
        for i, j in sorted(self.judged.items()):
            found.setdefault(name(self.mistakes[i]), []).append(j)
        return [self._share(n, listed) for n, listed in found.items()]

    def belongs(self, judged: Judged, what: str, name: str) -> bool:
        """Whether a mistake is one of those of a share of `by(what)`."""
        m = self.mistakes[judged.index]
        if what != "requirement":
            return name == (str(m.place) if what == "place" else m.kind)
        scenarios, rules = self._showing[name]
        return not scenarios.isdisjoint(judged.asked) or str(m.place).lower() in rules

    @cached_property
    def _showing(self) -> dict[str, tuple[set[str], set[str]]]:
        """The scenarios and the rules that show each requirement."""
        project = self.project
        return {
            r.ident: ({s.name for s in project.scenarios if r.ident in s.shows}, {x.lower() for x in r.shown_by})
            for r in project.requirements
        }

    @staticmethod
    def _share(name: str, found: Iterable[Judged]) -> Share:
        states = [j.state for j in found if j.state != "equivalent"]
        return Share(name, states.count("noticed"), len(states))

    def proposal(self, judged: Judged) -> str:
        """What would notice a survivor: a row for the scenario that comes nearest; else in a sentence why there is none."""
        near = judged.nearest
        if near is not None:
            return f"{'a new scenario' if near.text else 'in'} {near.scenario}: {near.row}"
        if judged.asked:
            return "no run was found in which it would matter"
        return "no scenario has to do with this place, and no run was found in which it would matter"

    def with_proposal(self, judged: Judged, project: Project | None = None) -> Project:
        """A machine file, this one or one that only has more scenarios and rows, with what would notice a survivor. Raises `ValueError`
        where there is nothing.
        """
        near, project = judged.nearest, project or self.project
        if near is None:
            raise ValueError(self.proposal(judged))
        if near.text:
            name = free_name(near.scenario, {s.name.lower() for s in project.scenarios})
            return put_items(project, "scenarios", (*project.scenarios, Scenario(name, f"{near.text}\n{near.row}")))
        return _with_row(project, near.scenario, near.row)

    def csv(self) -> str:
        """A line a mistake."""
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\r\n")
        writer.writerow(["place", "kind", "mistake", "state", "noticed by", "how", "time_ms", "proposal"])
        for i, j in sorted(self.judged.items()):
            m = self.mistakes[i]
            proposal = self.proposal(j) if j.state == "survived" else ""
            writer.writerow(
                [str(m.place), m.kind, m.words, j.state, j.by, j.how, j.time_ms if j.time_ms >= 0 else "", proposal]
            )
        return out.getvalue()

    def data(self) -> dict[str, Any]:
        """All of it as plain data."""
        whole = self.whole
        listed = []
        for i, j in sorted(self.judged.items()):
            m = self.mistakes[i]
            entry: dict[str, Any] = {"place": str(m.place), "kind": m.kind, "mistake": m.words, "state": j.state}
            if j.state == "noticed":
                entry |= {"by": j.by, "how": j.how, "time_ms": j.time_ms}
            elif j.state == "survived":
                entry |= {"proposal": self.proposal(j), "accepted": self.reason(j)}
            listed.append(entry)
        shares = {what: [[s.name, s.noticed, s.of] for s in self.by(what)] for what in ("requirement", "place", "kind")}
        return {
            "noticed": whole.noticed,
            "of": whole.of,
            "equivalent": len(self.of("equivalent")),
            "by": shares,
            "mistakes": listed,
        }


def _with_row(project: Project, scenario: str, row: str) -> Project:
    def more(text: str) -> str:
        return f"{text.rstrip()}\n{row}"

    found = (replace(s, text=more(s.text)) if s.name == scenario else s for s in project.scenarios)
    return replace(project, scenarios=tuple(found))


def let_survive(project: Project, mistake: Mistake, reason: str) -> Project:
    """The machine file in which somebody has said why a mistake may survive; without a reason it may not any more."""
    left = tuple(w for w in project.waivers if (w.code, w.place) != (MISTAKE, mistake.ident))
    more = (Waiver(MISTAKE, mistake.ident, " ".join(reason.split())),) if reason.strip() else ()
    return put_items(project, "waivers", (*left, *more))
