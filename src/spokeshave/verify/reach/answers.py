"""Questions about everything a machine file can come to, and their answers."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.model import edits
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.reach.explore import MOST, Explorer, Found
from spokeshave.verify.reach.groups import groups_of, only
from spokeshave.verify.reach.phases import Columns
from spokeshave.verify.reach.studied import Studied, StudyError
from spokeshave.verify.reach.witness import Event, Way, way_to

GROUP = "Study"
"""The group of scenarios that a study has found."""

Bools = NDArray[np.bool_]


class Says(StrEnum):
    """`good` and `bad` are proven; `may` was found with free times and does not come on the bench; `unknown` was not decided."""

    GOOD = "good"
    BAD = "bad"
    MAY = "may"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Answer:
    """`kind` is reached, stuck, home, together, safe or before; `about` what it asks about; `way` leads to what is bad."""

    kind: str
    about: str
    says: Says
    text: str
    way: Way | None = None


@dataclass(frozen=True, slots=True)
class Study:
    """The answers, how many situations there are, and honestly what was assumed, made simpler, or left out."""

    answers: tuple[Answer, ...]
    situations: int
    seconds: float
    limits: tuple[str, ...]
    whole: bool


def study(
    project: Project, assumptions: Iterable[str] | None = None, together: Iterable[tuple[str, str]] = (),
    before: Iterable[tuple[str, str]] = (), most: int = MOST, progress: Callable[[int], bool] | None = None,
) -> Study:  # fmt: skip
    """Answers all questions. `assumptions`, pairs of outputs and pairs of steps are beside those of the machine file.

    Raises `StudyError` for what cannot be studied, `LinkError` for a machine file that cannot run.
    """
    plan = project.study
    opposed = [(o.first, o.second) for o in project.opposed]
    pairs = tuple(dict.fromkeys([*opposed, *plan.together, *together]))
    orders = tuple(dict.fromkeys([*plan.before, *before]))
    assumed = tuple(plan.assumptions if assumptions is None else assumptions)
    whole = Studied(project, assumed, pairs, plan.settings)
    groups = groups_of(whole, pairs, orders)
    answers: list[Answer] = []
    limits: list[str] = []
    count, seconds, complete, waits = 1, 0.0, True, True
    done = 0
    for names in groups:
        mine = tuple(p for p in pairs if _acts(project, names, p)) if len(groups) > 1 else pairs
        studied = whole if len(groups) == 1 else Studied(only(project, names), assumed, mine, plan.settings)
        tell = None if progress is None else lambda n, done=done: progress(done + n)
        explorer = Explorer(studied, most, tell)
        found = explorer.run()
        asked = _Asked(explorer, found)
        answers += [*asked.reached(), *asked.stuck(), *asked.home(), *asked.together(mine), *asked.safe()]
        answers += asked.before(
            tuple(o for o in orders if o[0].partition(".")[0].lower() in [n.lower() for n in names])
        )
        limits += _limits(studied, found, assumed)
        done += len(found.situations)
        count, seconds, complete = count * len(found.situations), seconds + found.seconds, complete and found.whole
        waits = waits and asked.waits_at_home()
    if len(groups) > 1:
        limits.append(
            "sequences that have nothing to do with each other were looked at by themselves: "
            + "; ".join(map(", ".join, groups))
        )
        if not waits:
            limits.append("whether all of them are in their initial steps at the same time was not asked")
    order = ("reached", "stuck", "home", "together", "safe", "before")
    answers.sort(key=lambda a: order.index(a.kind))
    return Study(tuple(answers), count, seconds, tuple(dict.fromkeys(limits)), complete)


def study_data(found: Study) -> dict[str, Any]:
    """The answers as plain data."""
    return {
        "situations": found.situations, "whole": found.whole, "limits": list(found.limits),
        "answers": [
            {"kind": a.kind, "about": a.about, "says": a.says.value, "text": a.text,
             "scenario": a.way.text if a.way is not None else "", "replays": a.way.replays if a.way is not None else None}
            for a in found.answers
        ],
    }  # fmt: skip


def with_ways(project: Project, found: Study) -> Project:
    """The machine file with the ways that replay as scenarios of the group `Study`, in the place of earlier ones."""
    kept = [s for s in project.scenarios if s.group != GROUP]
    taken = {s.name.lower() for s in kept}
    for a in found.answers:
        if a.way is not None and a.way.replays:
            name = edits.free_name(f"{a.about}: {a.kind}", taken)
            taken.add(name.lower())
            kept.append(Scenario(name, f"// {a.text}\n{a.way.text}", GROUP))
    return replace(project, scenarios=tuple(kept))


def _acts(project: Project, names: tuple[str, ...], pair: tuple[str, str]) -> bool:
    """Whether one of the sequences acts on an output of the pair; if none does at all, the first group answers."""
    targets = {q.name: {a.target.lower() for s in q.steps for a in s.actions} for q in project.sequences}
    wanted = {n.lower() for n in pair}
    acting = [name for name, acted in targets.items() if acted & wanted]
    return bool(set(acting) & set(names)) if acting else project.sequences[0].name in names


def _limits(studied: Studied, found: Found, assumed: tuple[str, ...]) -> tuple[str, ...]:
    out = [f"assumed: {text}" for text in assumed]
    out.append(
        "inputs are free otherwise, and so are times: steps that run side by side may each take as long as they like"
    )
    varied = [f"{studied.of_slot[slot].name} {', '.join(map(str, v))}" for slot, v in studied.varied.items()]
    but = f", but for {'; '.join(varied)}" if varied else ""
    out.append(f"settings are as the file has them{but}; nothing is forced, no power is lost, nobody drives by hand")
    if studied.edges.keys() & studied.wanted:
        out.append("an input may rise anew in each scan, and HELD may come whenever what it looks at is TRUE")
    out += dict.fromkeys(studied.limits)
    if found.stopped:
        out.append(f"not everything was looked at: {found.stopped}")
    return tuple(out)


class _Asked:
    def __init__(self, explorer: Explorer, found: Found) -> None:
        self.explorer, self.found, self.studied, self.program = explorer, found, found.studied, found.studied.program
        self.columns: Columns = explorer.layout.unpack(found.situations)
        self.n = len(found.situations)

    def active(self, i: int, a: int) -> Bools:
        return self.columns["code", i, a] > 0

    def _proven(self) -> Says:
        return Says.GOOD if self.found.whole else Says.UNKNOWN

    def _back(self, goal: Bools, edges: NDArray[np.int64]) -> Bools:
        """The situations from which the goal can be come to."""
        reach = goal.copy()
        while True:
            new = edges[:, 0][reach[edges[:, 1]] & ~reach[edges[:, 0]]]
            if not len(new):
                return reach
            reach[new] = True

    def _bad(self, kind: str, about: str, text: str, at: int, before: int = -1, event: Event | None = None) -> Answer:
        way = way_to(self.explorer, self.found, at, before, event)
        if way.replays:
            return Answer(kind, about, Says.BAD, text, way)
        return Answer(kind, about, Says.MAY, f"{text}, but only with times that do not come so on the bench", way)

    def reached(self) -> list[Answer]:
        """Steps and transitions that are never reached."""
        out = []
        for q in self.program.sequences:
            never = [x.name for x in q.steps if not self.active(q.index, x.index).any()]
            ways = [w for w in self.studied.ways[q.index] if (q.index, w.index) not in self.found.cleared]
            says = (Says.BAD if never or ways else Says.GOOD) if self.found.whole else Says.UNKNOWN
            parts = [f"never active: {', '.join(never)}"] if never else []
            parts += [f"never clears: {', '.join(_name(q, w) for w in ways)}"] if ways else []
            if not self.found.whole and parts:
                parts.append("as far as was looked")
            text = "; ".join(parts) or "every step and every transition is reached"
            out.append(Answer("reached", q.name, says, text))
        return out

    def stuck(self) -> list[Answer]:
        """Situations from which a sequence never moves again, whatever happens, unless a trip takes it away."""
        out, edges = [], self.found.edges
        free = np.ones(self.n, bool)
        for t in self.program.trips:
            free &= self.columns["trip", t.index, 0] == 0
        edges = edges[free[edges[:, 0]] & free[edges[:, 1]]]
        for q in self.program.sequences:
            codes = np.stack([self.active(q.index, x.index) for x in q.steps], 1)
            can = np.zeros(self.n, bool)
            can[edges[(codes[edges[:, 0]] != codes[edges[:, 1]]).any(axis=1), 0]] = True
            stuck = np.flatnonzero(free & ~self._back(can, edges)) if self.found.whole else np.zeros(0, np.intp)
            if not len(stuck):
                out.append(Answer("stuck", q.name, self._proven(), self._if_whole("it can always go on")))
                continue
            at = int(stuck[0])
            names = ", ".join(x.name for x in q.steps if self.active(q.index, x.index)[at])
            but = ", but for a trip" if self.program.trips else ""
            out.append(self._bad("stuck", q.name, f"in {names} it can get stuck for ever{but}", at))
        return out

    def _if_whole(self, text: str) -> str:
        return text if self.found.whole else "not decided"

    def home(self) -> list[Answer]:
        """Whether the initial steps can always be come back to."""
        back = self._back(self._home(), self.found.edges)
        lost = np.flatnonzero(~back) if self.found.whole else np.zeros(0, np.intp)
        names = ", ".join(f"{q.name}.{q.steps[q.initial].name}" for q in self.program.sequences)
        if len(lost):
            return [self._bad("home", names, "from here there is no way back to the initial steps", int(lost[0]))]
        return [Answer("home", names, self._proven(), self._if_whole("it can always get back to the initial steps"))]

    def _home(self) -> Bools:
        home = np.ones(self.n, bool)
        for q in self.program.sequences:
            for x in q.steps:
                home &= self.active(q.index, x.index) == (x.index == q.initial)
        return home

    def waits_at_home(self) -> bool:
        """Whether the initial steps can be stayed in for a scan."""
        home = self._home()
        loops = self.found.edges[self.found.edges[:, 0] == self.found.edges[:, 1]][:, 0]
        return bool(home[loops].any())

    def together(self, pairs: tuple[tuple[str, str], ...]) -> list[Answer]:
        """Whether two outputs are ever on together: as the logic asks for them, and as they go out."""
        out = []
        for (a, b), slots in zip(pairs, self.studied.pairs):
            about = f"{a} and {b}"
            for kind, known, words in (
                ("asked", self.found.asked, "asked for together"),
                ("out", self.found.out, "on together"),
            ):
                if slots in known:
                    before, at = known[slots]
                    stage = "before" if kind == "asked" else "after"
                    text = f"they can be {words}"
                    out.append(self._bad("together", f"{about}, {stage} interlocks", text, at, before, (kind, slots)))
                else:
                    stage = "before" if kind == "asked" else "after"
                    text = self._if_whole(f"they are never {words}")
                    out.append(Answer("together", f"{about}, {stage} interlocks", self._proven(), text))
        return out

    def safe(self) -> list[Answer]:
        """Whether a step is ever entered while it is active."""
        out = []
        for q in self.program.sequences:
            met = sorted((at, before, a) for (i, a), (before, at) in self.found.unsafe.items() if i == q.index)
            if met:
                at, before, a = met[0]
                text = f"{q.steps[a].name} can be entered while it is active"
                out.append(self._bad("safe", q.name, text, at, before, ("unsafe", (q.index, a))))
            else:
                text = self._if_whole("no step is ever entered while it is active")
                out.append(Answer("safe", q.name, self._proven(), text))
        return out

    def before(self, pairs: tuple[tuple[str, str], ...]) -> list[Answer]:
        """Whether one step always comes before another."""
        out = []
        for first, then in pairs:
            a, b = self._step(first), self._step(then)
            at = self._without(self.active(*a), self.active(*b))
            about = f"{first} before {then}"
            if at is None:
                out.append(
                    Answer(
                        "before",
                        about,
                        self._proven(),
                        self._if_whole(f"{then} is never entered before {first}"),
                    )
                )
            else:
                found, where = at
                way = way_to(self.explorer, found, where)
                says = Says.BAD if way.replays else Says.MAY
                out.append(Answer("before", about, says, f"{then} can be entered without {first}", way))
        return out

    def _step(self, name: str) -> tuple[int, int]:
        for q in self.program.sequences:
            for x in q.steps:
                if f"{q.name}.{x.name}".lower() == name.strip().lower():
                    return q.index, x.index
        raise StudyError(f"there is no step {name}; write Sequence.Step")

    def _without(self, avoided: Bools, goal: Bools) -> tuple[Found, int] | None:
        """The first situation of the goal on a way that keeps off what is avoided, with parents along such a way."""
        parents = np.full(self.n, -2)
        frontier = np.flatnonzero((self.found.parents < 0) & ~avoided)
        parents[frontier] = -1
        edges = self.found.edges
        while len(frontier):
            hit = frontier[goal[frontier]]
            if len(hit):
                found = Found(self.studied, self.found.situations, parents, edges, True, 0.0, 0)
                return found, int(hit[0])
            inside = np.zeros(self.n, bool)
            inside[frontier] = True
            out = edges[inside[edges[:, 0]]]
            out = out[(parents[out[:, 1]] == -2) & ~avoided[out[:, 1]]]
            frontier, first = np.unique(out[:, 1], return_index=True)
            parents[frontier] = out[first, 0]
        return None


def _name(q: object, way: object) -> str:
    steps = q.steps  # type: ignore[attr-defined]
    return " to ".join("+".join(steps[a].name for a in ends) for ends in (way.sources, way.targets))  # type: ignore[attr-defined]
