"""The command that proposes scenarios, and devices."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from spokeshave.cli.told import File, Json, fail, put_out, room_for, safe

if TYPE_CHECKING:
    from spokeshave.model.project import Project

propose_app = typer.Typer()


@propose_app.command()
@safe
def propose(
    file: File,
    seconds: Annotated[float, typer.Option(help="Look for so long at most.", min=1)] = 60,
    out: Annotated[Path | None, typer.Option(help="Write the machine file with the proposed scenarios here.")] = None,
    take: Annotated[bool, typer.Option("--take", help="Write them into the machine file itself.")] = False,
    devices: Annotated[
        bool,
        typer.Option("--devices", help="Propose devices that the names of signals speak of, in place of scenarios."),
    ] = False,
    as_json: Json = False,
) -> None:
    """Propose scenarios for every way and rule that no scenario shows, and for what befalls a run. Exit 1 if no run was found for one of them."""
    from spokeshave.formats.files import write_project
    from spokeshave.reading import read_project
    from spokeshave.verify.proposed import work

    if out is not None and take:
        fail("--out writes a new file, --take the one that is read: only one of them is possible")
    room_for(out)
    project = read_project(file)
    if devices:
        _devices(project, file if take else out, as_json)
        return
    found = work.propose(project, seconds)
    to = file if take else out
    if to is not None and (found.found or out is not None):
        write_project(work.taken_over(project, found.found), to)
    if as_json:
        rows = [
            {
                "name": p.scenario.name,
                "text": p.scenario.text,
                "shows": [g.words for g in p.goals],
                "unnoticed": [g.words for g in p.unnoticed],
            }
            for p in found.found
        ]
        left = [{"what": g.words, "where": str(g.place)} for g in found.left]
        put_out("propose", scenarios=rows, left=left, of=found.goals, whole=found.whole)
    else:
        for p in found.found:
            print(f"scenario {p.scenario.name}\n  // {p.said()}")
            print("".join(f"  {line}\n" for line in p.scenario.text.splitlines()))
        print(found.said())
        for g in found.left:
            print(f"nothing found for {g.words}")
    if found.left:
        raise typer.Exit(1)


def _devices(project: Project, to: Path | None, as_json: bool) -> None:
    """Tells the devices that are proposed, and writes them with the machine file."""
    from spokeshave.formats.files import write_project
    from spokeshave.machine.proposed_devices import make_proposed, proposed_devices
    from spokeshave.machine.wiring import unwired

    found = proposed_devices(project)
    made = make_proposed(project, found)
    if to is not None:
        write_project(made, to)
    loose = unwired(made)
    left = [*loose.inputs, *loose.outputs]
    if as_json:
        put_out(
            "devices", devices=[{"kind": d.kind, "name": d.name, "signals": list(d.signals)} for d in found], left=left
        )
        return
    for d in found:
        print(f"{d.kind} {d.name}: {', '.join(d.signals)}")
    for name in left:
        print(f"no device for {name}")
