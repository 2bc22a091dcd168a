"""The command that lists alarms."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from spokeshave.cli.told import File, Json, put_out, room_for, safe

alarms_app = typer.Typer()


@alarms_app.command()
@safe
def alarms(
    file: File,
    csv_file: Annotated[
        Path | None, typer.Option("--csv", help="Write the list as a table here, for panel and manual.")
    ] = None,
    as_json: Json = False,
) -> None:
    """List all alarms: what raises each, its text and class, what it points at, which scenario shows it."""
    from spokeshave.formats.disk import write_text_atomically
    from spokeshave.reading import read_project
    from spokeshave.verify.alarm_list import alarm_list, as_csv, as_data

    room_for(csv_file)
    listed = alarm_list(read_project(file))
    if csv_file is not None:
        write_text_atomically(as_csv(listed), csv_file)
    if as_json:
        put_out("alarms", alarms=as_data(listed))
        return
    for row in listed:
        name, when, text, kind, _, device, shown = row.cells
        points = f", points at {device}" if device else ""
        print(f"{kind:8} {name}: {when}{points}")
        if text != name and text:
            print(f"         {text}")
        if row.told:
            print(f"         {f'shown by {shown}' if shown else 'no scenario shows it'}")
    if not listed:
        print("nothing raises an alarm: no window, no trip, no alarm of its own")
