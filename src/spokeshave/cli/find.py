"""The command that finds words, and where something is used."""

from __future__ import annotations

from typing import Annotated

import typer

from spokeshave.cli.told import File, Json, fail, put_out, safe

find_app = typer.Typer()


@find_app.command()
@safe
def find(
    file: File,
    wanted: Annotated[str, typer.Argument(help="A word, a name, or a time, which is found however it is written.")],
    whole: Annotated[bool, typer.Option("--whole", help="Whole names only.")] = False,
    used: Annotated[
        bool, typer.Option("--used", help="Where what has this name is meant by it, such as Go or Main.Open.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Find a word in every text of a machine file, or where something is used. Exit 1 if it stands nowhere."""
    from spokeshave.reading import read_project
    from spokeshave.verify.find import find_everywhere, targets_called, used_where

    project = read_project(file)
    if used:
        targets = targets_called(project, wanted)
        if not targets:
            fail(f"{file}: nothing in it is called {wanted}")
        found = [f for t in targets for f in used_where(project, t)]
    else:
        found = find_everywhere(project, wanted, whole)
    if as_json:
        rows = [{"where": str(f.place), "what": f.what, "line": f.line, "begin": f.begin, "end": f.end} for f in found]
        put_out("find", found=rows)
    else:
        for f in found:
            print(f"{f.place}: {f.what}: {f.line}")
    if not found:
        raise typer.Exit(1)
