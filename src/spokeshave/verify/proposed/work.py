"""Proposing: what nothing shows is looked for, and each run that shows more becomes a scenario that was run once and passed."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import chain, count

from spokeshave.engine.link import LinkError, link
from spokeshave.engine.session import Session
from spokeshave.model.edits import put_items
from spokeshave.model.project import Project, Scenario, SignalClass, Type, Value
from spokeshave.model.recipes import by_the_file
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.progress import look
from spokeshave.verify.proposed.circumstances import open_circumstances, round_of, scenarios_of
from spokeshave.verify.proposed.faults import Faults
from spokeshave.verify.proposed.goals import WAY, Goal, Way, open_goals, shown_by, ways_gone
from spokeshave.verify.proposed.rows import scenario_rows
from spokeshave.verify.proposed.search import Node, Search
from spokeshave.verify.proposed.without import without
from spokeshave.verify.protection import Key
from spokeshave.verify.scenarios import Run, run_scenario
from spokeshave.verify.sweep.concerns import reads_of

MOST_MORE = 10
"""Deeds that are tried at the end of a run to tell whether a rule is there."""
GROUP = "Proposed"
"""The group of what is taken over, so that it is seen which nobody has read yet."""
USUAL_S = 60.0
"""So long is looked for runs, unless it is said otherwise."""


@dataclass(frozen=True, slots=True)
class Proposal:
    """A scenario, and what it shows that nothing showed before; `unnoticed` are those of it without which it would pass too."""

    scenario: Scenario
    goals: tuple[Goal, ...]
    unnoticed: tuple[Goal, ...] = ()

    def said(self) -> str:
        """What it shows, in a sentence."""
        but = f". It would pass without: {'; '.join(g.words for g in self.unnoticed)}" if self.unnoticed else ""
        return f"Shows {'; '.join(g.words for g in self.goals)}{but}"


@dataclass(frozen=True, slots=True)
class Proposals:
    """What was found; `left` is what no run was found for, `situations` so many were looked at; `whole` says whether everything was
    tried that hands can do; where it is not the time was over, or there were too many situations.
    """

    found: tuple[Proposal, ...]
    left: tuple[Goal, ...]
    goals: int
    situations: int
    whole: bool

    def said(self) -> str:
        """In a sentence."""
        if not self.goals:
            return "Every way, every rule and what may befall a run are shown by scenarios that pass"
        shown = self.goals - len(self.left)
        over = "" if self.whole else "; not everything was tried that could be"
        return f"{len(self.found)} scenarios show {shown} of {self.goals} ways, rules and circumstances that nothing showed{over}"


def propose(project: Project, seconds: float = USUAL_S) -> Proposals:
    """Scenarios for every transition and rule that no scenario shows. Raises `LinkError` for a machine file that cannot run.

    What is found is the same each time but for how far `seconds` lead.
    """
    ends = time.monotonic() + seconds
    program = link(project)
    shown: list[Goal] = []
    passed: list[Session] = []
    for scenario in project.scenarios:
        for run in _passed(project, scenario):
            assert run.live is not None
            shown += shown_by(project, ways_gone(run.live.trace, program), (key for key, _ in run.acted))
            passed += [run.live] if run.project == project and not run.start_ms else []
    goals = open_goals(project, shown)
    search = Search(program)
    maker = _Maker(project, goals, search)
    maker.go_through(ends)
    maker.take_ways()
    for given in ((), *_settings(project, maker.open)):
        if time.monotonic() >= ends or not any(g.kind == WAY for g in maker.open):
            break
        for walked in search.walk(link(with_given(project, given)), given):
            maker.meet((walked,))
            if maker.all_ways_met or time.monotonic() >= ends:
                break
        maker.take_ways()
    maker.take_rules(ends)
    if maker.open and time.monotonic() < ends:  # what comes only when the machine stands as it never does by itself
        maker.meet(search.cut_power())
        maker.go_through(ends)
        maker.take_ways()
        maker.take_rules(ends)
    for p in maker.found:
        passed += [run.live for run in _passed(project, p.scenario) if run.live is not None and run.project == project]
    found_round = round_of(passed)
    more = 0
    if found_round is not None:
        for goal in open_circumstances(project, found_round, passed):
            maker.add(goal, scenarios_of(project, found_round, goal) if time.monotonic() < ends else [])
            more += 1
    whole = not search.full and time.monotonic() < ends
    return Proposals(tuple(maker.found), tuple(maker.open), len(goals) + more, len(search.nodes), whole)


def _passed(project: Project, scenario: Scenario) -> list[Run]:
    """The runs of a scenario in which everything is as it is expected."""
    runs = run_scenario(project, scenario).runs
    return [r for r in runs if r.live is not None and all(v.outcome is Outcome.PASS for v in r.verdicts)]


def taken_over(project: Project, chosen: Iterable[Proposal]) -> Project:
    """The machine file with proposals as scenarios behind its own, in a group of theirs."""
    taken = {s.name.lower() for s in project.scenarios}
    more = []
    for p in chosen:
        name = _free(p.scenario.name, taken)
        taken.add(name.lower())
        more.append(Scenario(name, p.scenario.text, GROUP))
    return put_items(project, "scenarios", (*project.scenarios, *more))


def _free(name: str, taken: set[str]) -> str:
    """The name, or with a number behind it that is not a part of its last word."""
    others = (f"{name} {n}" for n in count(2))
    return next(n for n in chain((name,), others) if n.lower() not in taken)


def _settings(project: Project, goals: list[Goal]) -> Iterator[tuple[tuple[str, Value], ...]]:
    """Other values of the settings that the conditions of ways which were not gone read."""
    seen = set()
    for g in goals:
        q = project.sequence(g.place.sequence) if g.kind == WAY else None
        for name in sorted(reads_of(q.transitions[int(g.key[1])].condition)) if q is not None else ():
            s = project.signal(name)
            if s is None or s.cls is not SignalClass.SETTING or s.name in seen:
                continue
            seen.add(s.name)
            if s.type is Type.BOOL:
                yield ((s.name, not s.start),)
            elif s.type in (Type.INT, Type.DINT):
                yield from (((s.name, value),) for value in (int(s.start) + 1, int(s.start) - 1) if value >= 0)


def proposed(project: Project, seconds: float = USUAL_S) -> Proposals | str:
    """As `propose`; for a machine file that cannot run, why, as a text that a process can hand over."""
    try:
        return propose(project, seconds)
    except LinkError as error:
        return str(error.found[0])


class _Maker:
    """Makes scenarios of runs, those first that show the most that is still open."""

    def __init__(self, project: Project, goals: list[Goal], search: Search) -> None:
        self.project, self.goals, self.open, self.search = project, goals, list(goals), search
        self.candidates: list[Node] = []
        self.found: list[Proposal] = []
        self._met: set[Key | Way] = set()

    def meet(self, nodes: Iterable[Node]) -> None:
        """More runs that scenarios can be made of."""
        for node in nodes:
            self.candidates.append(node)
            self._met |= node.ways | node.acted

    def go_through(self, ends: float) -> None:
        """Tries everything in each situation, until nothing is open or the time is over."""
        while not self.search.done and self.open and time.monotonic() < ends:
            look(0.4 * self.part)
            self.meet(self.search.expand())

    def take_rules(self, ends: float) -> None:
        """A scenario for each rule that is open, with what breaks where nothing else brings it."""
        faults = Faults(self.search)
        rules = [g for g in self.open if g.kind != WAY]
        for tried, goal in enumerate(rules):
            if time.monotonic() >= ends:
                return
            look(0.5 + 0.5 * tried / len(rules))
            if goal in self.open:
                node = self.came_to(goal) or faults.run_to(goal)
                if node is not None:
                    self.take(node)

    @property
    def part(self) -> float:
        """How much of what is looked for was met."""
        return sum(g.key in self._met for g in self.goals) / max(1, len(self.goals))

    @property
    def all_ways_met(self) -> bool:
        return all(g.key in self._met for g in self.open if g.kind == WAY)

    def came_to(self, goal: Goal) -> Node | None:
        """The shortest of the runs in which a rule acted."""
        return min((n for n in self.candidates if goal.key in n.acted), key=lambda n: n.ms, default=None)

    def take_ways(self) -> None:
        """As few runs as show every way that was gone: again and again the one with the most that is new."""
        left = list(self.candidates)
        while True:
            wanted = {g.key for g in self.open if g.kind == WAY}
            best = max(left, key=lambda n: (len(n.ways & wanted), -len(n.given), -n.ms), default=None)
            if best is None or not best.ways & wanted:
                return
            left.remove(best)
            self.take(best)

    def take(self, node: Node) -> None:
        """A scenario of a run, if it passes and shows something that is open. Where it would pass without what it shows, something more is
        done at its end that tells the difference, if there is anything.
        """
        best = self._proposal(node)
        if best is None:
            return
        for deed in list(self.search.hands.deeds(node.session))[:MOST_MORE] if best.unnoticed else ():
            run = self.search.tried(node, deed)
            run.settle()
            longer = self._proposal(run.node())
            if (
                longer is not None
                and set(best.goals) <= set(longer.goals)
                and len(longer.unnoticed) < len(best.unnoticed)
            ):
                best = longer
            if not best.unnoticed:
                break
        self.found.append(best)
        self.open = [g for g in self.open if g not in best.goals]

    def add(self, goal: Goal, scenarios: list[Scenario] | str) -> None:
        """One more goal, with the scenarios that show it if there are any, or why there are none."""
        if not scenarios or isinstance(scenarios, str):
            self.open.append(replace(goal, words=f"{goal.words}{': ' if scenarios else ''}{scenarios or ''}"))
            return
        for scenario in scenarios:
            taken = {s.name.lower() for s in self.project.scenarios} | {p.scenario.name.lower() for p in self.found}
            self.found.append(Proposal(replace(scenario, name=_free(scenario.name, taken)), (goal,)))

    def _proposal(self, node: Node) -> Proposal | None:
        """The scenario of a run, if it passes and shows something that is open."""
        session = again(self.project, node)
        program = session.program
        came = list(shown_by(self.project, set(node.ways), node.acted))
        new = [g for g in came if g in self.open]
        if not new:
            return None
        text = "\n".join(scenario_rows(session, node, new))
        taken = {s.name.lower() for s in self.project.scenarios} | {p.scenario.name.lower() for p in self.found}
        scenario = Scenario(_free(_name(new), taken), text)
        result = run_scenario(self.project, scenario)
        run = next(iter(result.runs), None)
        if result.problems or result.worst is not None or run is None or run.live is None:
            return None
        ways = set(node.ways) & ways_gone(run.live.trace, program)
        proven = set(shown_by(self.project, ways, (key for key, _ in run.acted)))
        shown = tuple(g for g in self.open if g in proven)
        return Proposal(scenario, shown, tuple(g for g in shown if not self._notices(scenario, g))) if shown else None

    def _notices(self, scenario: Scenario, goal: Goal) -> bool:
        """Whether a scenario fails without what it shows."""
        look()
        try:
            result = run_scenario(without(self.project, goal), scenario)
        except LinkError:
            return True
        return bool(result.problems) or result.worst is not None


def with_given(project: Project, given: tuple[tuple[str, Value], ...]) -> Project:
    """The machine file with other values of settings."""
    return by_the_file(project, [(s, v) for name, v in given if (s := project.signal(name)) is not None])


def again(project: Project, node: Node) -> Session:
    """A run from the start that does what was done on the way to a node."""
    session = Session(with_given(project, node.given), node.done)
    session.run_scans(node.session.k)
    return session


def _name(goals: list[Goal]) -> str:
    """What it shows: the way or the rule, of several ways the sequences."""
    ways = [g for g in goals if g.kind == WAY]
    if len(ways) > 1:
        return f"Ways of {' and '.join(dict.fromkeys(str(g.key[0]) for g in ways))}"
    return (ways or goals)[0].words.replace(": ", ", ")
