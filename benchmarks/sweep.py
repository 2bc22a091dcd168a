"""How fast a fault sweep is: machine-seconds simulated a second and process, beside the C program of the same machine.

    .venv/bin/python -m benchmarks.sweep

The cycle is two candles of the carousel, one small and one large. Counted is what follows on the fault in every cell; a
failure that sleeps until a later step is simulated from there, once for all the steps before.
Exit 1 if a process simulates less than the C program does on the mean, two not nearly twice as much as one, or the first
cells take more than a second.
"""

from __future__ import annotations

import shutil
import statistics
import sys
import tempfile
import time
from concurrent.futures import Executor
from dataclasses import replace
from pathlib import Path

from benchmarks import c_program
from benchmarks.workload import workload
from spokeshave.engine.session import Session
from spokeshave.model.project import Project, Scenario
from spokeshave.verify import processes
from spokeshave.verify.sweep.verdicts import Cell
from spokeshave.verify.sweep.work import Sweep

HOUR_MS = 3_600_000
TIMES = 30
"""Runs of the C program before, between and behind the sweeps: a machine's speed swings from second to second."""


def with_cycle(project: Project) -> Project:
    """The carousel with a scenario of two rounds."""
    session = Session(project)
    session.run_for(400_000)
    q = project.sequences[0]
    begins = [a for a, _ in session.trace.windows(f"{q.name}.{q.initial}.X")]
    length = begins[2] * project.period_ms + 20
    return replace(
        project, scenarios=(Scenario("Two candles", f"run for {length} ms\nexpect no alarms\nexpect no hazards\n"),)
    )


def timed(project: Project, executor: Executor | None) -> tuple[list[Cell], float, float]:
    """The cells of a sweep, seconds to the first of them, seconds for all."""
    begin = time.perf_counter()
    run, first, cells = Sweep(project, executor=executor), 0.0, []
    while not run.done:
        new = run.poll()
        if new and not first:
            first = time.perf_counter() - begin
        cells += new
        if executor is not None:
            time.sleep(0.005)
    if run.problem:
        raise SystemExit(run.problem)
    return cells, first, time.perf_counter() - begin


def c_seconds(program: Path, period_ms: int) -> list[float]:
    """Seconds the C program takes for an hour, `TIMES` times in a row."""
    return [c_program.run(program, HOUR_MS // period_ms).seconds for _ in range(TIMES)]


def main() -> int:
    project = with_cycle(workload())
    if shutil.which("gcc") is None:
        print("gcc is needed to compare")
        return 2
    rates, firsts = [], []
    with tempfile.TemporaryDirectory() as folder:
        program = c_program.build(project, Path(folder))
        beside = c_seconds(program, project.period_ms)
        for jobs in (1, 2):
            executor = processes.executor(jobs)
            executor.submit(sum, ()).result()  # started
            cells, first, took = timed(project, executor)
            processes.let_go()
            beside += c_seconds(program, project.period_ms)
            seconds = sum(c.end_ms - c.injected_ms for c in cells) / 1000
            rates.append(seconds / took)
            firsts.append(first)
            print(f"{jobs} process{'es' if jobs > 1 else ''}: {len(cells):,} cells, {seconds:,.0f} s of machine in {took:.1f} s: "
                  f"{seconds / took:,.0f} machine-seconds a second; first cells after {first:.2f} s")  # fmt: skip
    c_rate, best = HOUR_MS / 1000 / statistics.mean(beside), HOUR_MS / 1000 / min(beside)
    print(f"C, every scan: {c_rate:,.0f} machine-seconds a second, {best:,.0f} in the best of {len(beside)} runs; "
          f"one process {rates[0] / c_rate:.2f} of it; two {rates[1] / rates[0]:.2f} times one")  # fmt: skip
    return int(rates[0] < c_rate or rates[1] < 1.7 * rates[0] or max(firsts) > 1.0)


if __name__ == "__main__":
    sys.exit(main())
