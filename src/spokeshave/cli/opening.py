"""Commands that open the desktop: `open`, and `demo`, which runs the example whole where there is no display."""

from __future__ import annotations

import atexit
import os
import sys
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from spokeshave.cli.told import fail, print_results, safe

if TYPE_CHECKING:
    from spokeshave.verify.reach.answers import Study
    from spokeshave.verify.scenarios import Result
    from spokeshave.verify.sweep.matrix import Matrix

# What a command works with is imported in the command: none waits for what only others need.

opening_app = typer.Typer()


@opening_app.command("open")
@safe
def open_file(
    file: Annotated[Path | None, typer.Argument(help="The machine file; without one the start page.")] = None,
) -> None:
    """Open the desktop on a file, or on the start page."""
    from spokeshave.reading import look_at

    if file is not None:
        look_at(file)
    show_desktop(file)


def show_desktop(file: Path | None, copy: bool = False) -> None:
    """Runs the desktop until it is closed, and ends the program with its exit code. Exits 2 where there is no display
    or no Qt.
    """
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")):
        fail("there is no display; run, verify and demo work without one")
    try:
        from spokeshave.desktop.start import run_desktop
    except ImportError as error:
        fail(f"the desktop needs Qt, which could not be loaded: {error}")
    raise typer.Exit(run_desktop(file, copy))


@opening_app.command()
@safe
def demo(
    name: Annotated[str, typer.Argument(help="Which example.")] = "roastery",
    out: Annotated[Path, typer.Option(help="Where results go when there is no display.")] = Path("demo-output"),
    mistake: Annotated[str, typer.Option(help="Plant this mistake in it first; ? lists them.")] = "",
) -> None:
    """Open the desktop on a shipped example; with no display, run the example whole."""
    from spokeshave.cli.report import write_report
    from spokeshave.examples.mistakes import MISTAKES
    from spokeshave.formats.trace_csv import write_trace
    from spokeshave.reading import read_project
    from spokeshave.verify.check import findings
    from spokeshave.verify.expectations import Outcome
    from spokeshave.verify.scenarios import run_all

    if mistake == "?":
        for m in MISTAKES.get(name, ()):
            print(f"{m.name:24} {m.what}; found by {m.found_by}")
        return
    file = file_with_mistake(name, mistake) if mistake else _example(name)
    name = file.stem
    if os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"):
        show_desktop(file, copy=True)
    print(f"No display: running the example {name} whole.")
    project = read_project(file)
    try:
        out.mkdir(parents=True, exist_ok=True)
        (out / ".here").touch()
        (out / ".here").unlink()
    except OSError as error:
        fail(f"{out}: {error.strerror}; choose another folder with --out")
    found = findings(project)
    results = run_all(project)
    print_results(results)
    main_run = results[0].session
    if main_run is not None:
        write_trace(main_run.trace, out / f"{name}-trace.csv")
        print(f"Trace of the first scenario: {out / f'{name}-trace.csv'}")
    record = out / f"{name}-record.html"
    swept, studied = write_report(record, project, results, found)
    print(f"Record: {record}")
    _pictures(file, out, results, swept, studied)
    if any(r.outcome is not Outcome.PASS for r in results):
        raise typer.Exit(1)


def _pictures(file: Path, out: Path, results: list[Result], swept: Matrix | str, studied: Study | str) -> None:
    """Pictures of every stage, drawn without a display."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    try:
        from spokeshave.desktop.pictures import take_pictures
    except ImportError as error:
        print(f"No pictures: Qt could not be loaded ({error}).", file=sys.stderr)
        return
    for path in take_pictures(file, out, results=results, swept=swept, studied=studied):
        print(f"Picture: {path}")


def file_with_mistake(example: str, name: str) -> Path:
    """An example with a mistake, as a file to open."""
    from spokeshave.examples.mistakes import MISTAKES, planted
    from spokeshave.formats.files import write_project
    from spokeshave.reading import read_project

    known = MISTAKES.get(example, ())
    found = next((m for m in known if m.name == name), None)
    if found is None:
        fail(f"there is no mistake {name!r} of {example}; there are {', '.join(m.name for m in known) or 'none'}")
    folder = tempfile.TemporaryDirectory(prefix="spokeshave-")
    atexit.register(folder.cleanup)
    path = Path(folder.name) / f"{example}-{name}.spoke"
    write_project(planted(read_project(_example(example)), found), path)
    return path


def _example(name: str) -> Path:
    from spokeshave.examples import FOLDER

    file = FOLDER / f"{name}.spoke"
    if not file.exists():
        known = ", ".join(sorted(p.stem for p in FOLDER.glob("*.spoke")))
        fail(f"there is no example {name}; there are {known}")
    return file
