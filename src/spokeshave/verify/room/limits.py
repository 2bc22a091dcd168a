"""Where the first thing fails: each knob is turned one way and the other, by bisection on runs that are the same each time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from spokeshave.engine.link import LinkError
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.room.knobs import Knob, later, turned
from spokeshave.verify.scenarios import Result, ScenarioRun
from spokeshave.verify.standing import Proof, proof_of, since

FACTORS = (1.25, 1.6, 2.5, 6.0, 16.0)
"""By these a device or a setting is turned, both ways, until something fails."""
LATEST_MS = 3_600_000
PIECE = 2000
FINE = 1.01
"""How near the factor of a device is told."""


@dataclass(frozen=True, slots=True)
class Limit:
    """How far a knob can be turned one way: `holds` is the last value that passes, `fails` the first that does not, None where
    everything passes as far as was looked; `what` fails first.
    """

    knob: Knob
    up: bool
    holds: float
    fails: float | None = None
    what: str = ""

    @property
    def room(self) -> float:
        """How much of the usual value there is to it: 0.2 for a device that may be a fifth slower; ms for a hand."""
        usual = self.knob.usual
        if self.knob.kind == "hand":
            return self.holds
        return abs(self.holds / usual - 1.0) if usual else 0.0

    def said(self) -> str:
        """In words, as `ChargeGate may be 2.1 times slower`."""
        name, value = self.knob.name, self.holds
        if self.knob.kind == "device":
            factor = value if self.up else 1 / value
            text = f"{name} may be {factor:.3g} times {'slower' if self.up else 'faster'}"
        elif self.knob.kind == "hand":
            text = f"{name} may come {value / 1000:g} s later"
        elif value == self.knob.usual:
            text = f"{name} may not be {'longer' if self.up else 'shorter'} than {value / 1000:g} s"
        else:
            text = f"{name} may be {value / 1000:g} s instead of {self.knob.usual / 1000:g} s"
        return f"{text}; then {self.what}" if self.fails is not None else f"{text}, as far as was looked"


class Judge:
    """Asks the scenarios that pass whether they still do. Those that failed last are asked first; those that a change cannot touch,
    by what their verdicts depend on, are not asked.
    """

    def __init__(self, project: Project, results: list[Result]) -> None:
        self.project = project
        self.passing = [r.scenario for r in results if r.outcome is Outcome.PASS]
        self._proofs: dict[str, Proof] = {r.scenario.name: proof_of(r) for r in results if r.outcome is Outcome.PASS}
        self.runs = 0

    def fails(self, knob: Knob, value: float) -> str:
        """What fails first with a knob at a value; empty if nothing does."""
        changed = turned(self.project, knob, value)
        for scenario in list(self.passing):
            if knob.kind == "hand":
                now = later(scenario, knob.name, round(value))
                if now.text == scenario.text:
                    continue
            elif not since(self._proofs[scenario.name], changed):
                continue
            else:
                now = scenario
            if why := self._why(changed, now):
                self.passing.remove(scenario)
                self.passing.insert(0, scenario)
                return f"{scenario.name}: {why}"
        return ""

    def _why(self, project: Project, scenario: Scenario) -> str:
        self.runs += 1
        try:
            run = ScenarioRun(project, scenario, verdicts_only=True)
        except LinkError as error:
            return str(error.found[0])
        while run.advance(PIECE) and not run.has_failed:
            pass
        result = run.result()
        if result.problems:
            return str(result.problems[0])
        worst = result.worst
        return result.stopped or (f"{worst.text} ({worst.because})" if worst is not None else "")


def limit(judge: Judge, knob: Knob, up: bool) -> Limit:
    """How far a knob can be turned one way. Beyond the first failure nothing is looked at."""
    step = float(judge.project.period_ms)
    good, bad, what = knob.usual, None, ""
    for value in _steps(knob, up, step):
        if what := judge.fails(knob, value):
            bad = value
            break
        good = value
    if bad is None:
        return Limit(knob, up, good)
    while not _near(knob, good, bad, step):
        middle = (good * bad) ** 0.5 if knob.kind == "device" else round((good + bad) / 2 / step) * step
        if said := judge.fails(knob, middle):
            bad, what = middle, said
        else:
            good = middle
    return Limit(knob, up, good, bad, what)


def _near(knob: Knob, good: float, bad: float, step: float) -> bool:
    if knob.kind == "device":
        return max(good, bad) / min(good, bad) <= FINE
    return abs(good - bad) <= step


def _steps(knob: Knob, up: bool, step: float) -> Iterator[float]:
    """Values further and further away."""
    if knob.kind == "hand":
        value = 1000.0
        while value <= LATEST_MS:
            yield value
            value *= 4
        return
    for factor in FACTORS:
        value = knob.usual * factor if up else knob.usual / factor
        yield value if knob.kind == "device" else max(0.0, round(value / step) * step)
    if knob.kind == "setting" and not up:
        yield 0.0


def limits_of(judge: Judge, knob: Knob) -> list[Limit]:
    """Both ways; a hand only comes later."""
    return [limit(judge, knob, up) for up in ((True,) if knob.kind == "hand" else (True, False))]
