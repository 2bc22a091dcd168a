"""Questions about everything a machine file can come to, and their answers."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from math import prod
from typing import Any

from spokeshave.language.sub_sequences import written_out
from spokeshave.model import edits
from spokeshave.model.project import Project, Scenario
from spokeshave.model.study import MOST
from spokeshave.verify.reach.asked import Answer, Asked
from spokeshave.verify.reach.explore import Explorer, Found
from spokeshave.verify.reach.groups import groups_of
from spokeshave.verify.reach.invariants import Watched, answers_for, broken, said, watched, watching
from spokeshave.verify.reach.studied import Studied

GROUP = "Study"
"""The group of scenarios that a study has found."""


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
    never: Iterable[str] = (),
) -> Study:  # fmt: skip
    """Answers all questions. `assumptions`, pairs of outputs, pairs of steps and what must `never` be are beside those of the machine file.

    Raises `StudyError` for what cannot be studied, `LinkError` for a machine file that cannot run.
    """
    project = written_out(project)
    plan = project.study
    opposed = [(o.first, o.second) for o in project.opposed]
    pairs = tuple(dict.fromkeys([*opposed, *plan.together, *together]))
    orders = tuple(dict.fromkeys([*plan.before, *before]))
    assumed = tuple(plan.assumptions if assumptions is None else assumptions)
    invariants = watching(project, (*plan.never, *never))
    if invariants:
        plain = Studied(project)
        for w in invariants:
            plain.readable(broken(w.text), said(w.text))
    watches = [(n, n) for w in invariants for n in (w.asked, w.out)]
    all_watched = watched(project, invariants)
    whole = Studied(all_watched, assumed, (*pairs, *watches), plan.settings)
    asks = _Asks(project, all_watched, assumed, pairs, orders, tuple(invariants), most)
    groups = groups_of(whole, pairs, orders)
    apart = groups_of(whole, pairs, orders, through_inputs=False)
    looked, by_inputs = asks.look_at(groups, apart, whole, progress)
    answers = [a for x in looked for a in x.answers]
    limits = [text for x in looked for text in x.limits]
    if len(groups) > 1:
        limits.append(
            "sequences that have nothing to do with each other were looked at by themselves: "
            + "; ".join(map(", ".join, groups))
        )
    if by_inputs:
        limits.append(f"sequences that share nothing but inputs were looked at by themselves: {'; '.join(by_inputs)}")
    if by_inputs or (len(groups) > 1 and not all(x.waits for x in looked)):
        limits.append("whether all of them are in their initial steps at the same time was not asked")
    answers.sort(key=lambda a: KINDS.index(a.kind))
    count = sum(x.count for x in looked) if by_inputs else prod(x.count for x in looked)
    whole_answer = all(x.whole for x in looked)
    return Study(tuple(answers), count, sum(x.seconds for x in looked), tuple(dict.fromkeys(limits)), whole_answer)


KINDS = ("reached", "stuck", "home", "together", "safe", "before", "never")
"""Kinds of answers in their order."""

MOST_TRIED_TOGETHER = 4_000_000
"""Ways to go on, about, up to which sequences that share nothing but inputs are looked at together: then it is also asked whether all
of them get home at once."""


@dataclass(frozen=True, slots=True)
class _Looked:
    """What was found of some sequences."""

    answers: tuple[Answer, ...]
    limits: tuple[str, ...]
    count: int
    tried: int
    """Ways to go on that were tried."""
    seconds: float
    whole: bool
    waits: bool
    """Whether the initial steps can be stayed in."""


def _after(progress: Callable[[int], bool] | None, looked: list[_Looked]) -> Callable[[int], bool] | None:
    """Tells how many situations there are with those that were looked at before."""
    done = sum(x.count for x in looked)
    return None if progress is None else lambda n: progress(done + n)


@dataclass(frozen=True, slots=True)
class _Asks:
    """All that is asked of a machine file."""

    project: Project
    file: Project
    """The machine file with what watches its invariants."""
    assumed: tuple[str, ...]
    pairs: tuple[tuple[str, str], ...]
    orders: tuple[tuple[str, str], ...]
    invariants: tuple[Watched, ...]
    most: int

    def look_at(
        self,
        groups: list[tuple[str, ...]],
        apart: list[tuple[str, ...]],
        whole: Studied,
        progress: Callable[[int], bool] | None,
    ) -> tuple[list[_Looked], list[str]]:
        """What is found of all groups, and which were too many together, so that their parts that are `apart` were looked at."""
        looked: list[_Looked] = []
        by_inputs: list[str] = []
        for names in groups:
            parts = [p for p in apart if set(p) <= set(names)]
            found: list[_Looked] = []
            for part in parts if len(parts) > 1 else []:
                found.append(self.look(part, apart, _after(progress, [*looked, *found])))
            if found and prod(x.tried for x in found) > MOST_TRIED_TOGETHER:
                by_inputs.append("; ".join(map(", ".join, parts)))
                looked += found
            else:
                looked.append(self.look(names, groups, _after(progress, looked), whole))
        return looked, by_inputs

    def look(
        self,
        names: tuple[str, ...],
        groups: list[tuple[str, ...]],
        progress: Callable[[int], bool] | None,
        whole: Studied | None = None,
    ) -> _Looked:
        """What is found of one group of sequences. `whole` is studied if there is no other."""
        alone = len(groups) == 1
        mine = self.pairs if alone else tuple(p for p in self.pairs if _acts(self.project, names, p))
        of_group = [w for w in self.invariants if alone or _speaks(w, names, groups[0])]
        seen = tuple((n, n) for w in of_group for n in (w.asked, w.out))
        if whole is None or not alone:
            whole = Studied(self.file, self.assumed, (*mine, *seen), self.project.study.settings, names)
        explorer = Explorer(whole, self.most, progress)
        found = explorer.run()
        asked = Asked(explorer, found)
        pairs_said = asked.together((*mine, *seen))
        answers = [*asked.reached(), *asked.stuck(), *asked.home(), *pairs_said[: 2 * len(mine)], *asked.safe()]
        answers += answers_for(of_group, pairs_said[2 * len(mine) :])
        known = [n.lower() for n in names]
        answers += asked.before(tuple(o for o in self.orders if o[0].partition(".")[0].lower() in known))
        return _Looked(
            tuple(answers), _limits(whole, found, self.assumed), len(found.situations), found.scans, found.seconds,
            found.whole, asked.waits_at_home(),
        )  # fmt: skip


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


def _speaks(w: Watched, names: tuple[str, ...], first: tuple[str, ...]) -> bool:
    """Whether an invariant is asked of these sequences: those it speaks of, which hang together; of none, the first ones."""
    return bool(w.sequences & {n.lower() for n in names}) if w.sequences else names == first


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
