"""The command `replay`: a recording of a real machine beside a run."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from spokeshave.cli.told import File, Json, fail, put_out, room_for, safe, scenario_named
from spokeshave.model.diagnostics import several

recording_app = typer.Typer()


@recording_app.command()
@safe
def replay(
    file: File,
    recording: Annotated[Path, typer.Argument(help="A table with times (.csv, .xlsx) or a dump (.vcd).")],
    names: Annotated[
        list[str] | None,
        typer.Option("--name", help="OURS=THEIRS where names differ; =THEIRS leaves one out; again for more."),
    ] = None,
    shift: Annotated[str, typer.Option(help="How much later the recording is, such as 1.5s or -200ms.")] = "0s",
    scenario: Annotated[
        str, typer.Option(help="Compare with this scenario instead of giving the recorded inputs.")
    ] = "",
    within_ms: Annotated[int, typer.Option(help="How far times may differ, in ms.", min=0)] = 50,
    within: Annotated[float, typer.Option(help="How far numbers may differ.", min=0)] = 1.0,
    stimuli: Annotated[Path | None, typer.Option(help="Write the recorded inputs as stimuli here (.csv).")] = None,
    as_json: Json = False,
) -> None:
    """Give the inputs of a recording to the machine file and tell where it does something else. Exit 1 if it does."""
    from spokeshave.formats.recording import read_recording
    from spokeshave.formats.stimuli_csv import write_given
    from spokeshave.language.literals import duration_ms
    from spokeshave.reading import read_project
    from spokeshave.verify.recorded import lay_beside, matched, put_in_place, stimuli_of
    from spokeshave.verify.scenarios import run_scenario

    room_for(stimuli)
    try:
        shift_ms = duration_ms(shift)
    except ValueError as error:
        fail(f"--shift {shift}: {error}")
    given = {}
    for pair in names or ():
        ours, equals, theirs = pair.partition("=")
        if not equals or not theirs:
            fail(f"--name {pair}: write OURS=THEIRS")
        given[theirs.strip()] = ours.strip()
    project, found = read_project(file), read_recording(recording)
    unknown = [theirs for theirs in given if theirs.lower() not in {n.lower() for n in found.lanes}]
    if unknown:
        fail(f"--name: the recording has no {unknown[0]}; it has {', '.join(list(found.lanes)[:20])}")
    where = matched(project, found.lanes, given)
    left = [n for n in found.lanes if n not in where]
    if not where:
        fail(
            f"{recording}: none of its names is in {file}: {several(left)}; say which they are with --name OURS=THEIRS"
        )
    lanes = put_in_place(found.lanes, where, shift_ms)
    if stimuli is not None:
        write_given([(s.time_ms, s.target, s.value) for s in stimuli_of(project, lanes)], stimuli)
    run = None
    if scenario:
        result = run_scenario(project, scenario_named(project, scenario))
        if not result.runs:
            fail(f"{scenario}: {result.problems[0].message}")
        run = result.runs[0]
    beside = lay_beside(project, lanes, max(0, found.end_ms + shift_ms), within_ms, within, run)
    compared = [n for n, _ in beside.recorded.lanes]
    if as_json:
        rows = [
            {"what": d.lane, "time_ms": d.time_ms, "recorded_ms": d.accepted_ms, "text": d.text}
            for d in beside.differences
        ]
        put_out("replay", names=where, left_out=left, compared=compared, stopped=beside.run.stopped, differences=rows)
    else:
        if left:
            print(f"spokeshave: left out, since nothing is called so: {', '.join(left)}", file=sys.stderr)
        for d in beside.differences:
            print(f"{max(d.time_ms, d.accepted_ms)} ms: {d.lane} {d.text}")
        same = "" if beside.differences else ": all as recorded"
        print(f"{len(compared)} compared over {round(found.end_ms / 1000, 1):g} s{same}")
    if beside.run.stopped:
        fail(f"{file}: {beside.run.stopped}")
    if not compared:
        fail(f"{recording}: it has inputs only, there is nothing to compare")
    if beside.differences:
        raise typer.Exit(1)
