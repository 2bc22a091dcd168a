"""`verify --against`: scenarios with the controls in a controller outside."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from spokeshave.cli.told import duration, fail
from spokeshave.model.diagnostics import quoted

if TYPE_CHECKING:
    from spokeshave.model.project import Project, Scenario
    from spokeshave.verify.scenarios import Result

Against = Annotated[
    str,
    typer.Option(
        "--against",
        help="HOST:PORT of a controller (Modbus TCP) that has the controls, or opc.tcp://HOST:PORT; the machine stand-in is its machine.",
    ),
]
Tolerance = Annotated[
    str,
    typer.Option(
        "--tolerance", help="How late a change of the controller is taken as the same, such as 50ms; else measured."
    ),
]
TheirScan = Annotated[
    str, typer.Option("--their-scan", help="How long a scan of the controller takes; as ours without it.")
]
RealTime = Annotated[
    bool, typer.Option("--real-time", help="By the clock, also with a controller that counts our scans.")
]
Unit = Annotated[int, typer.Option("--unit", help="The controller's Modbus unit.", min=0, max=255)]
Outside = Annotated[
    bool,
    typer.Option(
        "--outside", help="Write inputs into a controller that is not on this machine. Its outputs must move nothing."
    ),
]


def run_against(
    project: Project, scenarios: list[Scenario], file: Path, address: str, tolerance: str, their_scan: str, real_time: bool,
    unit: int, outside: bool,
) -> tuple[list[Result], dict[str, Any], list[str]]:  # fmt: skip
    """The results, what was measured as data, and the same in words. Exits 2 where no line can be made."""
    from spokeshave.controller.against import AgainstRun, Measured, way_of
    from spokeshave.controller.line import LineError, host_of, open_line
    from spokeshave.fieldbus.access import is_open
    from spokeshave.verify.expectations import Outcome

    try:
        host, _ = host_of(address)
    except LineError as error:
        fail(f"--against {address!r}: {error}")
    if is_open(host) and not outside:
        fail(
            f"{host} is another machine, and inputs would be written into its controller; unplug what it moves, then say --outside"
        )
    scan_ms = duration(their_scan, "--their-scan") if their_scan else 0
    late_ms = duration(tolerance, "--tolerance") if tolerance else 0
    try:
        line = open_line(project, address, unit)
    except LineError as error:
        fail(f"{file}: {error}")
    results: list[Result] = []
    left: list[tuple[str, str]] = []
    measured = Measured()
    try:
        way = way_of(line, project, scan_ms, late_ms, real_time)
        print(f"Against {address}, {way.text()}", file=sys.stderr)
        for s in scenarios:
            run = AgainstRun(project, s, line, way)
            if run.left_out:
                left.append((s.name, run.left_out))
                continue
            results.append(run.run())
            measured = measured.with_more(run.measured)
            if results[-1].outcome is Outcome.LINE_LOST:
                break
    except LineError as error:
        fail(f"{file}: {error}")
    finally:
        line.close()
    data = {
        "address": address, "by_count": way.counts, "tolerance_ms": way.tolerance_ms, "mean_ms": round(way.round_trip.mean_ms, 3),
        "worst_ms": round(way.round_trip.worst_ms, 3), "lag_ms": measured.lag_ms, "late_ms": round(measured.late_ms, 3),
        "unseen": measured.unseen, "left_out": [{"name": name, "why": why} for name, why in left],
    }  # fmt: skip
    told = [f"{'not run':12} {quoted(name)}: {why}" for name, why in left]
    behind = len(scenarios) - len(results) - len(left)
    told += [f"{behind} more were not run, since the line was lost"] * bool(behind)
    told.append(measured.text())
    return results, data, told
