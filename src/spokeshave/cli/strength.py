"""The command that asks whether anybody would notice a mistake."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from spokeshave.cli.told import File, Json, fail, put_out, room_for, safe
from spokeshave.cli.workers import Cluster, Jobs, see_through, workers

strength_app = typer.Typer()


@strength_app.command()
@safe
def strength(
    file: File,
    jobs: Jobs = 0,
    cluster: Cluster = "",
    sample: Annotated[int, typer.Option(help="Judge so many mistakes only, drawn by --seed; 0 for all.", min=0)] = 0,
    seed: Annotated[int, typer.Option(help="Draws the sample: the same one each time.")] = 0,
    study: Annotated[
        bool,
        typer.Option(help="Ask the study of what can be reached too, of those that nobody else notices: takes longer."),
    ] = False,
    csv_file: Annotated[Path | None, typer.Option("--csv", help="Write a line a mistake here.")] = None,
    junit_file: Annotated[Path | None, typer.Option("--junit", help="Write JUnit XML here.")] = None,
    as_json: Json = False,
) -> None:
    """Plants small mistakes one at a time and tells which nobody would notice. Exit 1 if one survives that nobody has accepted."""
    from spokeshave.formats.disk import write_text_atomically
    from spokeshave.reading import read_project
    from spokeshave.verify.junit import strength_junit
    from spokeshave.verify.strength.work import Strength

    room_for(csv_file)
    room_for(junit_file)
    project = read_project(file)
    with workers(jobs, cluster) as executor:
        run = Strength(project, executor, sample, seed, study)
        see_through(run, executor)
    if run.problem:
        fail(f"{file}: {run.problem}")
    report = run.report
    left = report.unexplained
    if as_json:
        put_out("strength", **report.data())
    else:
        for line in report.lines():
            print(line)
    if csv_file is not None:
        write_text_atomically(report.csv(), csv_file)
    if junit_file is not None:
        write_text_atomically(strength_junit(project.name, report), junit_file)
    if left:
        raise typer.Exit(1)
