"""Runs against a controller for a process: the line is made there, and what comes back are values."""

from __future__ import annotations

from contextlib import closing
from dataclasses import dataclass

from spokeshave.controller.against import AgainstRun, Measured, Way, way_of
from spokeshave.controller.line import LineError, open_line
from spokeshave.engine.link import LinkError
from spokeshave.model.project import Accepted, Project, Scenario
from spokeshave.verify.accepted import accept
from spokeshave.verify.batch import portable
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.progress import look
from spokeshave.verify.scenarios import Result, run_scenario


@dataclass(frozen=True, slots=True)
class Address:
    """Where the controller is: `HOST:PORT`, or `opc.tcp://HOST:PORT`; `unit` is that of Modbus."""

    text: str
    unit: int = 1


@dataclass(frozen=True, slots=True)
class Judged:
    """What came of one scenario; `left_out` says why it is none for a controller outside."""

    result: Result
    measured: Measured
    left_out: str = ""
    alone: Accepted | None = None
    """The model's own run, to be laid beside the one that did not pass."""


def measure(project: Project, at: Address, their_scan_ms: int, tolerance_ms: int, real_time: bool) -> Way | str:
    """What the line gives, or why there is none."""
    try:
        with closing(open_line(project, at.text, at.unit)) as line:
            return way_of(line, project, their_scan_ms, tolerance_ms, real_time)
    except (LineError, LinkError) as error:
        return str(error)


def judge(project: Project, scenario: Scenario, at: Address, way: Way) -> Judged | str:
    """One scenario, or why there is no line any more."""
    try:
        with closing(open_line(project, at.text, at.unit)) as line:
            run = AgainstRun(project, scenario, line, way)
            result = portable(run.run(look))
    except (LineError, LinkError) as error:
        return str(error)
    worst = result.worst_run
    alone = None
    if worst is not None and worst.outcome is not Outcome.PASS:
        mine = next((r for r in run_scenario(project, scenario).runs if r.label == worst.label), None)
        alone = accept(scenario, mine, way.tolerance_ms) if mine is not None else None
    return Judged(result, run.measured, run.left_out, alone)
