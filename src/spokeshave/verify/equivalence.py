"""Whether two machine files do the same: one with charts, one in which generated code stands for them.

Both are run over every scan by the same engine under the same stimuli, and their traces compared change by change.
"""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.engine.trace import Trace
from spokeshave.language.literals import value_text
from spokeshave.model.project import Device, Project, SignalClass, Type
from spokeshave.verify.scenarios import Run as ScenarioRun
from spokeshave.verify.scenarios import run_scenario

RANDOM_MS = 60_000


@dataclass(frozen=True, slots=True)
class Difference:
    """The first scan in which something differs: what, in which run, and both values."""

    run: str
    time_ms: int
    name: str
    chart: str
    code: str

    def __str__(self) -> str:
        return f"{self.run}: at {self.time_ms} ms {self.name} is {self.chart} in the chart and {self.code} in the code"


@dataclass(frozen=True, slots=True)
class Comparison:
    """How much was run of two machine files side by side, and the first difference, None if there is none."""

    runs: int
    scans: int
    difference: Difference | None


@dataclass(frozen=True, slots=True)
class Run:
    """`devices` are those a scenario has given other parameters; None for those of the file."""

    name: str
    stimuli: tuple[Stimulus, ...]
    ms: int
    devices: tuple[Device, ...] | None = None

    def machine(self, project: Project) -> Project:
        return project if self.devices is None else replace(project, devices=self.devices)

    def of(self, project: Project) -> ScenarioRun:
        """The run of the chart, for looking at."""
        return ScenarioRun(self.name, (), self.machine(project), self.stimuli, self.ms // project.period_ms)


def runs_of(project: Project, random_runs: int = 3) -> Iterator[Run]:
    """What there is to compare under: each scenario as it ran, unless somebody drives by hand in it, then hands that move at
    random, always the same ones.
    """
    for scenario in project.scenarios:
        for r in run_scenario(project, scenario).runs:
            if any(st.do == "drive" for st in r.done):
                continue  # code knows no hand drive
            devices = r.project.devices if r.project.devices != project.devices else None
            label = f" [{r.label}]" if r.label else ""
            yield Run(f"scenario {scenario.name}{label}", r.done, r.scans * project.period_ms, devices)
    given = {s.lower() for d in project.devices for _, s in d.wires}
    free = [s for s in project.signals if s.cls is SignalClass.INPUT and s.name.lower() not in given]
    free = [s for s in free if s.type is Type.BOOL]
    hands = [d.name for d in project.devices if d.kind in ("button", "emergency", "selector")]
    for n in range(random_runs):
        chance = random.Random(n)
        rows: list[Stimulus] = []
        t = 0
        while (free or hands) and t < RANDOM_MS:
            t += chance.choice((10, 50, 200, 700, 3000))
            at = chance.randrange(len(free) + len(hands))
            if at < len(free):
                rows.append(Stimulus(t, "set", free[at].name, chance.random() < 0.5))
            else:
                rows.append(Stimulus(t, "hand", hands[at - len(free)], chance.randrange(2)))
        yield Run(f"random run {n + 1}", tuple(rows), RANDOM_MS)


def compare(chart: Project, code: Project, names: Mapping[str, str], runs: Iterator[Run]) -> Comparison:
    """Runs both files under each of `runs`, up to the first difference. `names` gives, for what the trace of `chart`
    shows, what it is called in `code`. Raises `LinkError` if one of them cannot run.
    """
    count = scans = 0
    for run in runs:
        count += 1
        sessions = [Session(run.machine(p), run.stimuli) for p in (chart, code)]
        for session in sessions:
            session.run_for(run.ms)
        traces = [s.trace for s in sessions]
        scans += traces[0].scan_count
        found = first_difference(traces[0], traces[1], names, run.name)
        if found is not None:
            return Comparison(count, scans, found)
    return Comparison(count, scans, None)


def first_difference(chart: Trace, code: Trace, names: Mapping[str, str], run: str) -> Difference | None:
    """The earliest difference of two traces; of several in one scan the one that is listed first."""
    import numpy as np

    best: tuple[int, int] | None = None
    for column, r in enumerate(chart.recorded):
        a_scans, a_values = chart.changes(column)
        b_scans, b_values = code.changes(code.column(names.get(r.name, r.name)))
        n = min(len(a_scans), len(b_scans))
        unlike = np.flatnonzero((a_scans[:n] != b_scans[:n]) | (a_values[:n] != b_values[:n]))
        if len(unlike):
            k = int(min(a_scans[unlike[0]], b_scans[unlike[0]]))
        elif len(a_scans) != len(b_scans):
            k = int((a_scans if len(a_scans) > n else b_scans)[n])
        else:
            continue
        if best is None or (k, column) < best:
            best = (k, column)
    if best is None:
        if chart.scan_count == code.scan_count:
            return None
        shorter = min(chart.scan_count, code.scan_count)
        ends = ["stopped" if t.scan_count == shorter else "running" for t in (chart, code)]
        return Difference(run, shorter * chart.period_ms, "the run", *ends)
    k, column = best
    r = chart.recorded[column]
    values = [value_text(t.at(name, k), r.type) for t, name in ((chart, r.name), (code, names.get(r.name, r.name)))]
    return Difference(run, k * chart.period_ms, r.name, *values)
