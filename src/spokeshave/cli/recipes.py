"""The command that lists recipes beside each other."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from spokeshave.cli.told import File, Json, put_out, room_for, safe

recipes_app = typer.Typer()


@recipes_app.command()
@safe
def recipes(
    file: File,
    csv_file: Annotated[Path | None, typer.Option("--csv", help="Write the table here.")] = None,
    as_json: Json = False,
) -> None:
    """Recipes beside each other: a row a setting that any of them speaks of, a column each."""
    from spokeshave.formats.disk import write_text_atomically
    from spokeshave.reading import read_project
    from spokeshave.verify.recipe_table import as_csv, recipe_table

    room_for(csv_file)
    table = recipe_table(read_project(file))
    if csv_file is not None:
        write_text_atomically(as_csv(table), csv_file)
    if as_json:
        rows = [{"setting": r[0], "unit": r[1], "file": r[2], "recipes": list(r[3:])} for r in table[1:]]
        put_out("recipes", recipes=table[0][3:], settings=rows)
        return
    if len(table[0]) == 3:
        print("no recipes: named sets of values for settings, made in Signals, Recipes")
        return
    widths = [max(len(row[i]) for row in table) for i in range(len(table[0]))]
    for row in table:
        print("  ".join(cell.ljust(width) for cell, width in zip(row, widths)).rstrip())
