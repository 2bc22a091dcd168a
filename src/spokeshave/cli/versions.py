"""Versions of a machine file: what differs, three put together, a text to compare by lines."""

from __future__ import annotations

import sys
from html import escape
from itertools import groupby
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from spokeshave.cli.told import File, fail, put_out, safe

if TYPE_CHECKING:
    from spokeshave.changes.words import Told
    from spokeshave.model.project import Project

versions_app = typer.Typer()


def read_any(path: Path) -> Project:
    """A machine file by its suffix, or by what is in it where version control gives it another name."""
    from spokeshave.formats.files import READERS, TABLES
    from spokeshave.formats.spoke import loads
    from spokeshave.reading import read_iec, read_project

    if path.suffix.lower() in (*READERS, *TABLES):
        return read_project(path)
    from spokeshave.formats.disk import text_of_file
    from spokeshave.formats.errors import reading

    with reading(path):
        text = text_of_file(path)
        if not text.strip():
            from spokeshave.model.project import Project

            return Project()
        return loads(text) if text.lstrip("\ufeff \n").startswith("{") else read_iec(text)


@versions_app.command()
@safe
def diff(
    before: File,
    after: File,
    as_json: Annotated[bool, typer.Option("--json", help="Each difference as an object.")] = False,
    html: Annotated[Path | None, typer.Option(help="A page with the differences.")] = None,
) -> None:
    """What differs between two machine files, in words. Exit 1 if anything does."""
    from spokeshave.changes.compare import differences
    from spokeshave.changes.words import told

    a, b = read_any(before), read_any(after)
    found = told(differences(a, b), a, b)
    if html is not None:
        from spokeshave.formats.disk import write_text_atomically

        write_text_atomically(_page(found, str(before), str(after)), html)
    if as_json:
        rows = [
            {"stage": t.stage, "kind": t.difference.kind, "path": list(t.difference.path), "text": t.text}
            for t in found
        ]
        put_out("diff", differences=rows)
    elif html is None:
        for stage, group in groupby(found, key=lambda t: t.stage):
            print(stage)
            for t in group:
                print(f"  {t.text}")
    raise typer.Exit(1 if found else 0)


def _page(found: list[Told], before: str, after: str) -> str:
    parts = [
        f"<!DOCTYPE html><html lang=en><meta charset=utf-8><title>{escape(after)}</title><h1>From {escape(before)} to {escape(after)}</h1>"
    ]
    for stage, group in groupby(found, key=lambda t: t.stage):
        rows = "".join(f"<li class={t.difference.kind}>{escape(t.text)}</li>" for t in group)
        parts.append(f"<h2>{escape(stage)}</h2><ul>{rows}</ul>")
    return "\n".join(parts if found else [*parts, "<p>Nothing differs.</p>"]) + "\n"


@versions_app.command()
@safe
def merge(base: File, mine: File, theirs: File, target: Annotated[Path, typer.Argument(metavar="OUT")]) -> None:
    """Put together what two versions changed since a common one. Exit 1 where both changed the same, or the result cannot run."""
    from spokeshave.formats.disk import write_text_atomically
    from spokeshave.formats.files import WRITERS, write_project
    from spokeshave.formats.spoke import dumps
    from spokeshave.versions.merge import faults_of, made_worse
    from spokeshave.versions.merge import merge as merged

    a, b, c = (read_any(p) for p in (base, mine, theirs))
    found = merged(a, b, c)
    for conflict in found.conflicts:
        print(
            f"{conflict.path}: mine {conflict.mine or 'nothing'}; theirs {conflict.theirs or 'nothing'}",
            file=sys.stderr,
        )
    broken = made_worse(found.project, faults_of(b, c))
    for d in broken:
        print(f"{d.place}: {d.message}", file=sys.stderr)
    if target.suffix.lower() in WRITERS:
        write_project(found.project, target)
    else:
        write_text_atomically(dumps(found.project), target)
    if found.conflicts or broken:
        raise typer.Exit(1)


@versions_app.command()
@safe
def text(file: File) -> None:
    """The machine file as text, a thing a line, for people and for version control."""
    from spokeshave.versions.readable import readable

    try:
        found = read_any(file)
    except UnicodeDecodeError:
        fail(f"{file}: this is no text")
    print(readable(found), end="")
