"""How fast mistakes are judged, as a ratio to one run of all scenarios of the same machine file, in one run.

    python -m benchmarks.strength

Every mistake of the roastery is planted, in the processes of this machine.
"""

from __future__ import annotations

import time
from pathlib import Path

import spokeshave
from spokeshave.formats.files import read_project
from spokeshave.verify import processes
from spokeshave.verify.scenarios import run_all
from spokeshave.verify.strength.work import Strength

ROASTERY = Path(spokeshave.__file__).parent / "examples" / "roastery.spoke"


def main() -> None:
    project = read_project(ROASTERY)
    run_all(project)
    begin = time.perf_counter()
    results = run_all(project)
    scenarios = time.perf_counter() - begin
    executed = sum(run.live.executed for result in results for run in result.runs if run.live is not None)
    begin, first = time.perf_counter(), 0.0
    run = Strength(project, processes.executor())
    while not run.done:
        if not run.poll():
            time.sleep(0.01)
        elif not first:
            first = time.perf_counter() - begin
    took = time.perf_counter() - begin
    whole = run.report.whole
    print(f"  all scenarios once                      {scenarios:7.2f} s, {executed:,} scans run")
    print(
        f"  {len(run.mistakes)} mistakes, {whole.noticed} of {whole.of} noticed       {took:7.2f} s, the first after {first:.2f} s"
    )
    print(f"  a mistake, to all scenarios once        {took / len(run.mistakes) / scenarios:7.2f}")


if __name__ == "__main__":
    main()
