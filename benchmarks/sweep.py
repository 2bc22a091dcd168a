"""How fast a fault sweep is: machine-seconds simulated a second and process, beside the C program of the same machine.

    .venv/bin/python -m benchmarks.sweep

The cycle is two candles of the carousel, one small and one large. Counted is what follows on the fault in every cell; a
failure that sleeps until a later step is simulated from there, once for all the steps before.
Exit 1 if a process simulates less than the C program does, or two not nearly twice as much as one.
"""

from __future__ import annotations

import shutil
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
from spokeshave.verify.sweep.verdicts import Cell
from spokeshave.verify.sweep.work import Sweep, processes

HOUR_MS = 3_600_000


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


def c_rate(project: Project) -> float:
    """Machine-seconds a second of the C program, the best of five runs of an hour."""
    with tempfile.TemporaryDirectory() as folder:
        program = c_program.build(project, Path(folder))
        return HOUR_MS / 1000 / min(c_program.run(program, HOUR_MS // project.period_ms).seconds for _ in range(5))


def main() -> int:
    project = with_cycle(workload())
    if shutil.which("gcc") is None:
        print("gcc is needed to compare")
        return 2
    rates = []
    for jobs in (1, 2):
        with processes(jobs) as executor:
            executor.submit(sum, ()).result()  # started
            cells, first, took = timed(project, executor)
        seconds = sum(c.end_ms - c.injected_ms for c in cells) / 1000
        rates.append(seconds / took)
        print(f"{jobs} process{'es' if jobs > 1 else ''}: {len(cells):,} cells, {seconds:,.0f} s of machine in {took:.1f} s: "
              f"{seconds / took:,.0f} machine-seconds a second; first cells after {first:.2f} s")  # fmt: skip
    beside = c_rate(project)
    print(f"C, every scan: {beside:,.0f} machine-seconds a second; one process {rates[0] / beside:.2f} of it; "
          f"two {rates[1] / rates[0]:.2f} times one")  # fmt: skip
    return int(rates[0] < beside or rates[1] < 1.7 * rates[0])


if __name__ == "__main__":
    sys.exit(main())
