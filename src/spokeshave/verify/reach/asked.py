"""Questions about what was explored, each with its answer and, where that is bad, the way there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from spokeshave.verify.reach.explore import Explorer, Found
from spokeshave.verify.reach.frontier import TIMES
from spokeshave.verify.reach.studied import StudyError
from spokeshave.verify.reach.witness import Event, Way, way_to

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


class Asked:
    """The questions of a study, put to what was found."""

    def __init__(self, explorer: Explorer, found: Found) -> None:
        self.explorer, self.found, self.studied, self.program = explorer, found, found.studied, found.studied.program
        self.n = len(found.situations)

    def active(self, i: int, a: int) -> Bools:
        return self.explorer.layout.column(self.found.situations, ("code", i, a)) > 0

    def _proven(self) -> Says:
        return Says.GOOD if self.found.whole else Says.UNKNOWN

    def _back(self, goal: Bools, within: Bools | None = None) -> Bools:
        """The situations from which the goal can be come to, without leaving those `within`."""
        reach, more = goal.copy(), True
        while more:
            more = False
            for links in reversed(self.found.links):  # what comes late is come to last
                new = links[reach[links[:, 1]] & ~reach[links[:, 0]]]
                if within is not None:
                    new = new[within[new[:, 0]] & within[new[:, 1]]]
                if len(new):
                    reach[new[:, 0]] = more = True
        return reach

    def _bad(
        self, kind: str, about: str, text: str, ends: Sequence[tuple[int, ...]], event: Event | None = None
    ) -> Answer:
        way = way_to(self.explorer, self.found, ends, event)
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
        out = []
        for q in self.program.sequences:
            free = self._no_trip_acts_on(q.index)
            codes = np.packbits(np.stack([self.active(q.index, x.index) for x in q.steps], 1), axis=1)
            where = np.unique(codes, axis=0, return_inverse=True)[1].reshape(-1).astype(np.int32)
            can = np.zeros(self.n, bool)
            for links in self.found.links:
                moves = links[where[links[:, 0]] != where[links[:, 1]]]
                can[moves[free[moves[:, 0]] & free[moves[:, 1]], 0]] = True
            stuck = np.flatnonzero(free & ~self._back(can, free)) if self.found.whole else np.zeros(0, np.intp)
            if not len(stuck):
                out.append(Answer("stuck", q.name, self._proven(), self._if_whole("it can always go on")))
                continue
            at = int(stuck[0])
            names = ", ".join(x.name for x in q.steps if self.active(q.index, x.index)[at])
            but = ", but for a trip" if any(q.index in t.scope for t in self.program.trips) else ""
            ends = [(int(x),) for x in stuck[where[stuck] == where[at]][:TIMES]]
            out.append(self._bad("stuck", q.name, f"in {names} it can get stuck for ever{but}", ends))
        return out

    def _no_trip_acts_on(self, sequence: int) -> Bools:
        """Where no trip stands that acts on a sequence, nor one that a late step has raised and that stands from the next scan on."""
        layout, situations = self.explorer.layout, self.found.situations
        free, known = np.ones(self.n, bool), {c.key for c in layout.cells}
        for t in self.program.trips:
            if sequence in t.scope:
                for key in (("trip", t.index, 0), ("raised", t.index, 0)):
                    if key in known:
                        free &= layout.column(situations, key) == 0
        return free

    def _if_whole(self, text: str) -> str:
        return text if self.found.whole else "not decided"

    def home(self) -> list[Answer]:
        """Whether the initial steps can always be come back to."""
        back = self._back(self._home())
        lost = np.flatnonzero(~back) if self.found.whole else np.zeros(0, np.intp)
        names = ", ".join(f"{q.name}.{q.steps[q.initial].name}" for q in self.program.sequences)
        if len(lost):
            ends = [(int(x),) for x in lost[:TIMES]]
            return [self._bad("home", names, "from here there is no way back to the initial steps", ends)]
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
        return any(bool(home[links[links[:, 0] == links[:, 1], 0]].any()) for links in self.found.links)

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
                    stage = "before" if kind == "asked" else "after"
                    text = f"they can be {words}"
                    out.append(self._bad("together", f"{about}, {stage} interlocks", text, known[slots], (kind, slots)))
                else:
                    stage = "before" if kind == "asked" else "after"
                    text = self._if_whole(f"they are never {words}")
                    out.append(Answer("together", f"{about}, {stage} interlocks", self._proven(), text))
        return out

    def safe(self) -> list[Answer]:
        """Whether a step is ever entered while it is active."""
        out = []
        for q in self.program.sequences:
            met = min(((times, a) for (i, a), times in self.found.unsafe.items() if i == q.index), default=None)
            if met is not None:
                times, a = met
                text = f"{q.steps[a].name} can be entered while it is active"
                out.append(self._bad("safe", q.name, text, times, ("unsafe", (q.index, a))))
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
                way = way_to(self.explorer, found, [(where,)])
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
        while len(frontier):
            hit = frontier[goal[frontier]]
            if len(hit):
                found = Found(self.studied, self.found.situations, parents, [], True, 0.0, 0)
                return found, int(hit[0])
            met = [np.zeros((0, 2), np.int32)]
            for links in self.found.links:
                low, high = np.searchsorted(frontier, (links[0, 0], links[-1, 0] + 1))
                if low < high:
                    inside = np.isin(links[:, 0], frontier[low:high])
                    met.append(links[inside & (parents[links[:, 1]] == -2) & ~avoided[links[:, 1]]])
            out = np.concatenate(met)
            frontier, first = np.unique(out[:, 1], return_index=True)
            parents[frontier] = out[first, 0]
        return None


def _name(q: object, way: object) -> str:
    steps = q.steps  # type: ignore[attr-defined]
    return " to ".join("+".join(steps[a].name for a in ends) for ends in (way.sources, way.targets))  # type: ignore[attr-defined]
