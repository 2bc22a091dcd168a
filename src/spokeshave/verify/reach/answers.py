"""Questions about everything a machine file can come to, and their answers."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import Any

from spokeshave.language.sub_sequences import written_out
from spokeshave.model import edits
from spokeshave.model.project import Project, Scenario
from spokeshave.model.study import MOST
from spokeshave.verify.reach.asked import Answer, Asked
from spokeshave.verify.reach.explore import Explorer, Found
from spokeshave.verify.reach.groups import groups_of, only
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
    groups = groups_of(whole, pairs, orders)
    answers: list[Answer] = []
    limits: list[str] = []
    count, seconds, complete, waits = 1, 0.0, True, True
    done = 0
    for names in groups:
        mine = tuple(p for p in pairs if _acts(project, names, p)) if len(groups) > 1 else pairs
        of_group = [w for w in invariants if len(groups) == 1 or _speaks(w, names, groups[0])]
        seen = tuple((n, n) for w in of_group for n in (w.asked, w.out))
        studied = (
            whole
            if len(groups) == 1
            else Studied(only(watched(project, of_group), names), assumed, (*mine, *seen), plan.settings)
        )
        tell = None if progress is None else lambda n, done=done: progress(done + n)
        explorer = Explorer(studied, most, tell)
        found = explorer.run()
        asked = Asked(explorer, found)
        pairs_said = asked.together((*mine, *seen))
        answers += [*asked.reached(), *asked.stuck(), *asked.home(), *pairs_said[: 2 * len(mine)], *asked.safe()]
        answers += answers_for(of_group, pairs_said[2 * len(mine) :])
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
    order = ("reached", "stuck", "home", "together", "safe", "before", "never")
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
