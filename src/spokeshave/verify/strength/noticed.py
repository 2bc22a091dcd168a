"""Who notices a mistake first: the check, a scenario, an accepted run; and what comes nearest where nobody does."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from spokeshave.engine.link import LinkError, link_problems
from spokeshave.model.diagnostics import Diagnostic, Severity, errors
from spokeshave.model.project import Project, Scenario, SignalClass
from spokeshave.verify.accepted import Change, changes_of, compare
from spokeshave.verify.check.run import every_finding
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.progress import look
from spokeshave.verify.reach.answers import study
from spokeshave.verify.reach.asked import Says
from spokeshave.verify.reach.studied import StudyError
from spokeshave.verify.scenarios import ScenarioRun, run_scenario
from spokeshave.verify.standing import Proof, proof_of, since
from spokeshave.verify.strength.planted import Mistake
from spokeshave.verify.strength.proposals import variants
from spokeshave.verify.strength.same import same_truth
from spokeshave.verify.usage import uses

MOST_STUDIED = 200_000
"""Situations of a study with a mistake; what is not decided within them is not noticed."""
PIECE = 500
"""Scans between two looks at whether a scenario has failed already, or was cancelled."""


Changes = dict[str, list[Change]]


@dataclass(frozen=True, slots=True)
class Nearest:
    """Where a run of a mistake that nobody notices first differs: the scenario, when, what, and the value without the mistake. `text` is
    that of a scenario that is not there yet.
    """

    scenario: str
    time_ms: int
    lane: str
    value: str
    text: str = ""

    @property
    def row(self) -> str:
        """The row of that scenario that would notice it."""
        name = self.lane
        holds = {"1": name, "0": f"NOT {name}"}.get(self.value, f"{name} = {self.value}")
        return f"expect at {self.time_ms} ms: {holds}"


@dataclass(frozen=True, slots=True)
class Judged:
    """What came of a mistake: `noticed`, `survived` or `equivalent`; by what and how, the time in ms of a run, else -1.

    `asked` are the scenarios that have to do with its place; `nearest` is where a run of one that survived differs.
    """

    index: int
    state: str
    by: str = ""
    how: str = ""
    time_ms: int = -1
    asked: tuple[str, ...] = ()
    nearest: Nearest | None = None


class Judge:
    """A machine file that is known well: its findings, scenarios and accepted runs, and the answers of its study where that is asked too.

    Raises `LinkError` if it cannot run.
    """

    def __init__(self, project: Project, ask_study: bool = False) -> None:
        if bad := errors(link_problems(project)):
            raise LinkError(bad)
        self.project = project
        self.known = {_said(d) for d in every_finding(project)}
        self.read = {u.name for u in uses(project) if u.how == "read"}
        """What the logic reads, in lower case."""
        outputs = {s.name for s in project.signals if s.cls is SignalClass.OUTPUT}
        self.shown = frozenset(outputs | {f"{q.name}.{s.name}.X" for q in project.sequences for s in q.steps})
        """What a practitioner looks at: outputs and steps."""
        self.proofs: list[tuple[Scenario, Proof, tuple[Changes, ...]]] = []
        self.idle: list[str] = []
        """Scenarios that fail without any mistake, and so notice none."""
        found: list[tuple[float, Scenario, Proof, tuple[Changes, ...]]] = []
        for s in project.scenarios:
            result = run_scenario(project, s)
            look()
            if result.outcome is Outcome.PASS:
                lanes = tuple(changes_of(r, self.shown) for r in result.runs)
                happened = sum(len(r.live.trace.scans) for r in result.runs if r.live is not None)
                cost = happened / (1 + sum(len(r.verdicts) for r in result.runs))
                found.append((cost, s, proof_of(result), lanes))
            else:
                self.idle.append(s.name)
        for _, s, proof, lanes in sorted(
            found, key=lambda x: x[0]
        ):  # first those that expect much where little happens
            self.proofs.append((s, proof, lanes))
        self.answers = _answers(project) if ask_study else {}
        """What the study answers of the file without any mistake."""
        self._tries: dict[str, list[Changes]] = {}
        """What was tried of this file without any mistake, by the text."""

    def _changes_no_run(self, mistake: Mistake) -> str:
        """Why a mistake that the check does not notice changes no run, or an empty text."""
        if mistake.same:
            return mistake.same
        if mistake.kind == "a contact turned":
            return "the form of a contact in the list is for people and the check: it changes no run"
        if mistake.kind == "retain" and mistake.place.kind == "signal" and mistake.place.item.lower() not in self.read:
            return f"nothing reads {mistake.place.item}"
        if mistake.kind == "inputs exchanged":
            before = {(d.name, t): s for d in self.project.devices for t, s in d.wires}
            after = {(d.name, t): s for d in mistake.project.devices for t, s in d.wires}
            moved = {s.lower() for key, s in before.items() if after.get(key) != s}
            if not moved & self.read:
                return "nothing reads either of them"
        return ""

    def judge(self, index: int, mistake: Mistake) -> Judged:
        """What notices a mistake first."""
        if mistake.changed[0] and same_truth(*mistake.changed):
            return Judged(index, "equivalent", how="the condition is the same under all circumstances")
        found = [
            d
            for d in every_finding(mistake.project)
            if d.severity is not Severity.ADVICE and _said(d) not in self.known
        ]
        if found:
            return Judged(index, "noticed", "check", f"{found[0].code}: {found[0].message}")
        if why := self._changes_no_run(mistake):
            return Judged(index, "equivalent", how=why)
        asked = [(s, p, lanes) for s, p, lanes in self.proofs if since(p, mistake.project)]
        names = tuple(s.name for s, _, _ in asked)
        nearest: list[Nearest] = []
        for s, _, lanes in asked:
            judged = self._run(index, mistake, s, lanes, nearest)
            if judged is not None:
                return Judged(index, "noticed", judged[0], judged[1], judged[2], names)
        if self.answers and (worse := self._studied(mistake)):
            return Judged(index, "noticed", "study", worse, asked=names)
        first = min(nearest, key=lambda n: n.time_ms, default=None)
        if first is None:
            first = self._tried(mistake, asked[0][0] if asked else None)
        return Judged(index, "survived", asked=names, nearest=first)

    def _studied(self, mistake: Mistake) -> str:
        """The first answer of the study that was good and is bad with the mistake; empty for none, and where it cannot be studied."""
        for key, (says, text) in _answers(mistake.project).items():
            if says is Says.BAD and self.answers.get(key, (Says.UNKNOWN, ""))[0] is Says.GOOD:
                return f"{' of '.join(k for k in key if k)}: {text}"
        return ""

    def _tried(self, mistake: Mistake, scenario: Scenario | None) -> Nearest | None:
        """Where mistake and file first differ under other stimuli; None where they do in none that is tried."""
        for variant in variants(self.project, mistake, scenario):
            if variant.text not in self._tries:
                self._tries[variant.text] = _lanes(self.project, variant, self.shown)
            for was, now in zip(self._tries[variant.text], _lanes(mistake.project, variant, self.shown)):
                for near in _first_difference(variant.name, was, now):
                    return replace(near, text=variant.text)
        return None

    def _run(
        self, index: int, mistake: Mistake, scenario: Scenario, lanes: tuple[Changes, ...], nearest: list[Nearest]
    ) -> tuple[str, str, int] | None:
        """By what a scenario, or its accepted run, notices the mistake; else where it differs goes to `nearest`."""
        by = f"scenario {scenario.name}"
        try:
            compared = any(a.scenario == scenario.name for a in self.project.accepted)
            run = ScenarioRun(mistake.project, scenario, verdicts_only=not compared)
        except LinkError as error:
            return by, str(error.found[0]), -1
        while run.advance(PIECE):
            look()
            if run.has_failed:
                break
        result = run.result()
        if result.outcome is not Outcome.PASS:
            failed = [v for v in result.verdicts if v.outcome is Outcome.FAIL] or [
                v for v in result.verdicts if v.outcome is not Outcome.PASS
            ]
            if not failed:
                return by, result.stopped or "it cannot run", -1
            return by, f"row {failed[0].line}: {failed[0].text}: {failed[0].because}", failed[0].time_ms
        for accepted in self.project.accepted:
            mine = [r for r in result.runs if accepted.scenario == scenario.name and accepted.label == r.label]
            for r in mine:
                if differences := compare(accepted, r):
                    d = differences[0]
                    return f"accepted run of {scenario.name}", f"{d.lane} {d.text}", max(d.time_ms, d.accepted_ms)
        for r, was in zip(result.runs, lanes):
            if not r.label:
                nearest += list(_first_difference(scenario.name, was, changes_of(r, self.shown)))
        return None


def _answers(project: Project) -> dict[tuple[str, str], tuple[Says, str]]:
    """What the study of a machine file answers, by the question; nothing of one that cannot be studied."""
    try:
        return {(a.kind, a.about): (a.says, a.text) for a in study(project, most=MOST_STUDIED, progress=_go_on).answers}
    except (StudyError, LinkError):
        return {}


def _go_on(_: int) -> bool:
    look()
    return True


def _first_difference(scenario: str, was: Changes, now: Changes) -> Iterator[Nearest]:
    """The first time at which an output or a step is otherwise, and the value that it had."""
    first: tuple[int, str, str] | None = None
    for lane in was.keys() & now.keys():
        a, b = was[lane], now[lane]
        n = next((i for i, (x, y) in enumerate(zip(a, b)) if x != y), min(len(a), len(b)))
        if n == len(a) == len(b):
            continue
        time = min(side[n][0] for side in (a, b) if n < len(side))
        value = f"{[v for t, v in a if t <= time][-1]:g}" if a and a[0][0] <= time else "0"
        if first is None or (time, lane) < first[:2]:
            first = time, lane, value
    if first is not None:
        yield Nearest(scenario, *first)


def _lanes(project: Project, scenario: Scenario, shown: frozenset[str]) -> list[Changes]:
    """What is shown of a scenario, run by run; nothing where it cannot be run to its end."""
    look()
    expecting = replace(scenario, text=f"{scenario.text}\nexpect no hazards")  # all expect something
    result = run_scenario(project, expecting, verdicts_only=True)
    return [] if result.problems or result.stopped else [changes_of(r, shown) for r in result.runs]


def _said(d: Diagnostic) -> tuple[str, str, str]:
    return d.code, str(d.place), d.message
