"""Commands on one machine file without its proof: `check`, `run`, `convert`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from spokeshave.cli.told import File, Json, duration, fail, in_file, room_for, safe, scenario_named, show

if TYPE_CHECKING:
    from spokeshave.model.project import Project

# What a command works with is imported in the command: none waits for what only others need.

running_app = typer.Typer()
TRACES = (".csv", ".vcd")


@running_app.command()
@safe
def check(
    file: File,
    waived: Annotated[bool, typer.Option("--waived", help="Write what is waived too, with the reasons.")] = False,
    as_json: Json = False,
) -> None:
    """Findings of the static check. Exit 1 with findings of severity error."""
    from spokeshave.model.diagnostics import errors
    from spokeshave.reading import read_project
    from spokeshave.verify.check import look_over

    sorted_out = look_over(read_project(file))
    found = list(sorted_out.open)
    found = in_file(found, file)
    show(found, as_json, dict(sorted_out.waived) if waived else {})
    if errors(found):
        raise typer.Exit(1)


@running_app.command()
@safe
def run(
    file: File,
    for_: Annotated[str, typer.Option("--for", help="How long, for example 60s; all scans with t below it.")] = "",
    scenario: Annotated[str, typer.Option(help="Run this scenario.")] = "",
    recipe: Annotated[str, typer.Option(help="Run with the values of this recipe.")] = "",
    stimuli: Annotated[Path | None, typer.Option(help="CSV: time_ms,signal,value.")] = None,
    trace: Annotated[
        Path | None, typer.Option(help="Write the trace here (.csv, .vcd); standard output without it.")
    ] = None,
    keep_stimuli: Annotated[
        Path | None,
        typer.Option("--keep-stimuli", help="Write what the inputs and settings were here, as stimuli (.csv)."),
    ] = None,
    every_scan: Annotated[
        bool, typer.Option("--every-scan", help="Run every scan instead of jumping over quiet ones.")
    ] = False,
) -> None:
    """Simulate, and write the trace."""
    from spokeshave.formats.trace_csv import trace_rows
    from spokeshave.reading import read_project

    room_for(trace, TRACES)
    room_for(keep_stimuli)
    project = read_project(file)
    if recipe:
        project = with_recipe(project, recipe)
    if scenario:
        from spokeshave.verify.junit import lines_of
        from spokeshave.verify.scenarios import run_scenario

        result = run_scenario(project, scenario_named(project, scenario))
        for line in lines_of(result, bad_only=True):
            print(f"spokeshave: {scenario}: {line}", file=sys.stderr)
        found = result.session
        if found is None:
            raise typer.Exit(2)
        session = found
    elif not for_:
        fail("say how long: --for 60s, or which scenario: --scenario NAME")
    else:
        from spokeshave.engine.session import Session
        from spokeshave.engine.stimuli import Stimulus
        from spokeshave.formats.stimuli_csv import read_stimuli

        rows = [] if stimuli is None else read_stimuli(stimuli, project)
        session = Session(project, [Stimulus(r.time_ms, "set", r.signal, r.value) for r in rows], every_scan)
        session.run_for(duration(for_))
    if trace is not None:
        _write_trace(session.trace, trace)
    elif keep_stimuli is None:
        for line in trace_rows(session.trace):
            print(line)
    if keep_stimuli is not None:
        from spokeshave.formats.stimuli_csv import write_stimuli

        write_stimuli(session.trace, session.program.project, keep_stimuli)
    for e in session.trace.events:
        if e.kind in ("unsafe activation", "numeric overflow", "hazard", "early", "alarm"):
            print(f"{e.k * project.period_ms} ms: {e.kind}: {e.place}: {e.text}", file=sys.stderr)
    if session.stopped is not None:
        (stopped,) = in_file([session.stopped], file)
        fail(str(stopped) if stopped.at else f"{file}: {stopped}")


def with_recipe(project: Project, name: str) -> Project:
    """The file as it runs with a recipe; a name that is none ends the command."""
    from spokeshave.model.diagnostics import did_you_mean, several
    from spokeshave.model.recipes import by_the_file, recipe_of, taken

    found = recipe_of(project, name)
    if found is None:
        known = [r.name for r in project.recipes]
        there = f"there are: {several(known)}" if known else "the file has none"
        fail(f"there is no recipe {name}; {did_you_mean(name, known) or there}")
    return by_the_file(project, taken(project, found))


def _write_trace(trace: Any, path: Path) -> None:
    from spokeshave.formats import trace_csv, vcd

    (vcd.write_vcd if path.suffix.lower() == ".vcd" else trace_csv.write_trace)(trace, path)


@running_app.command()
@safe
def convert(
    source: File,
    target: Annotated[Path, typer.Argument(help="The suffix tells the format.")],
    style: Annotated[
        str,
        typer.Option(
            help="How IEC text says a chart: chart, plain (one CASE, as written by hand), case or flags (phase by phase)."
        ),
    ] = "chart",
    prove: Annotated[
        bool, typer.Option("--prove", help="Run the code beside the chart and tell the first difference.")
    ] = False,
    without_interlocks: Annotated[
        bool, typer.Option("--without-interlocks", help="Code without interlocks, opposed pairs and dead times.")
    ] = False,
    measured_time: Annotated[
        bool, typer.Option("--measured-time", help="Plain code whose times go by what each scan took, in ScanTime.")
    ] = False,
    sheet: Annotated[str, typer.Option(help="Of a workbook: the sheet with the sequence.")] = "",
    take: Annotated[bool, typer.Option("--take", help="Of a table: take what is not clear as it is said.")] = False,
    strict: Annotated[
        bool, typer.Option("--strict", help="Of a table: exit 1 where anything was taken otherwise.")
    ] = False,
) -> None:
    """Convert a machine file, IEC text or a table to .spoke, .st, .xlsx or .csv."""
    from spokeshave.formats.files import TABLES, write_project
    from spokeshave.reading import read_file

    if source.suffix.lower() in TABLES:
        project, told = _of_table(source, sheet, take)
    else:
        found = read_file(source)
        project, told = found.project, 0
        for note in found.notes:
            print(f"{source}:{f'{note.line}:' if note.line else ''} {note.text}", file=sys.stderr)
        if found.shown:
            print(f"spokeshave: {source}: {found.shown}", file=sys.stderr)
    if style == "chart":
        if prove:
            fail("--prove compares a chart with its code: add --style plain, case or flags")
        if without_interlocks:
            fail("--without-interlocks is for code: add --style plain, case or flags")
        if measured_time:
            fail("--measured-time is for code: add --style plain")
        write_project(project, target)
        from spokeshave.formats.iec_write import not_in_charts

        if target.suffix.lower() in TABLES:
            from spokeshave.formats.tables.write import left_out

            if lost := left_out(project, target.suffix.lower() == ".csv"):
                print(f"spokeshave: {target}: not in the table: {lost}", file=sys.stderr)
        if target.suffix.lower() == ".st" and (left := not_in_charts(project)):
            print(f"spokeshave: {target}: {left}", file=sys.stderr)
        if strict and told:
            raise typer.Exit(1)
        return
    if measured_time and style != "plain":
        fail("--measured-time is for code: add --style plain")
    _convert_to_code(project, target, style, prove, without_interlocks, measured_time)


def _of_table(source: Path, sheet: str, take: bool) -> tuple[Project, int]:
    """The machine file of a table, and how much was said of it. What is not clear is taken only where that is asked for."""
    from spokeshave.formats.files import ASKS
    from spokeshave.formats.tables.book import read_tables

    found = read_tables(source, sheet)
    for note in (*found.notes, *found.questions):
        print(f"{source}: {note}", file=sys.stderr)
    if found.questions and not take:
        fail(f"{source}: {found.questions[0]}; {ASKS}")
    return found.project, len(found.notes) + len(found.questions)


def _convert_to_code(
    project: Project, target: Path, style: str, prove: bool, without_interlocks: bool, measured: bool
) -> None:
    from spokeshave.engine.link import link
    from spokeshave.formats.code.as_run import as_project
    from spokeshave.formats.code.finals import left_out, unprotected
    from spokeshave.formats.code.write import STYLES, generate
    from spokeshave.formats.disk import write_text_atomically
    from spokeshave.formats.iec_write import write_code
    from spokeshave.verify.equivalence import compare, runs_of

    if style not in STYLES:
        fail(f"--style {style}: there are chart, {', '.join(STYLES)}")
    if target.suffix.lower() != ".st":
        fail(f"{target}: code is IEC text; use the suffix .st")
    link(project)
    write_text_atomically(write_code(project, style, not without_interlocks, measured), target)
    if without_interlocks:
        if left := left_out(project):
            print(f"spokeshave: {target}: the code leaves out {left}", file=sys.stderr)
        project = unprotected(project)
    if prove:
        code = generate(project, style, measured)
        found = compare(project, as_project(code), {c: code.flag(c) for c in code.active}, runs_of(project))
        print(f"{found.scans:,} scans of {found.runs} runs compared: {found.difference or 'no difference'}")
        if found.difference is not None:
            raise typer.Exit(1)
