"""The command that tells how near a machine is to failing."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from spokeshave.cli.told import File, Json, fail, put_out, room_for, safe
from spokeshave.cli.workers import Cluster, Jobs, see_through, workers

room_app = typer.Typer()


@room_app.command()
@safe
def room(
    file: File,
    jobs: Jobs = 0,
    cluster: Cluster = "",
    quick: Annotated[
        bool, typer.Option("--quick", help="Measure and draw only; turn no device, setting or hand.")
    ] = False,
    tolerance: Annotated[
        float, typer.Option(help="How far devices are off in the draws, in percent.", min=0, max=90)
    ] = 10,
    tolerance_of: Annotated[
        str,
        typer.Option(
            "--tolerance-of",
            help="Devices and settings that may be off by something else: 'Gate 20 %, CoolTime 5 %'; else as the file has it.",
        ),
    ] = "",
    keep: Annotated[bool, typer.Option("--keep", help="Keep --tolerance-of in the machine file.")] = False,
    draws: Annotated[int, typer.Option(help="Cycles to run with all devices off by chance.", min=0)] = 100,
    seed: Annotated[int, typer.Option(help="Draws the same ones each time.")] = 0,
    csv_file: Annotated[Path | None, typer.Option("--csv", help="Write windows and limits here.")] = None,
    as_json: Json = False,
) -> None:
    """How much slower, longer or later before the first thing fails: windows, fixed waits, devices, settings, hands, tolerances."""
    from spokeshave.formats.disk import write_text_atomically
    from spokeshave.formats.files import write_project
    from spokeshave.reading import read_project
    from spokeshave.verify.room.tolerances import ToleranceError, read_tolerances
    from spokeshave.verify.room.work import Room

    room_for(csv_file)
    project = read_project(file)
    if tolerance_of:
        try:
            project = replace(project, tolerances=read_tolerances(project, tolerance_of))
        except ToleranceError as error:
            fail(f"--tolerance-of: {error}")
    if keep:
        write_project(project, file)
    with workers(jobs, cluster) as executor:
        run = Room(project, executor, tolerance / 100, draws, seed, not quick)
        see_through(run, executor)
    if run.problem:
        fail(f"{file}: {run.problem}")
    if as_json:
        put_out("room", **run.report.data())
    else:
        for line in run.report.lines():
            print(line)
    if csv_file is not None:
        write_text_atomically(run.report.csv(), csv_file)
