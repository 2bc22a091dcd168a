"""The command line: thin commands over the core. Exit 0 done, 1 something failed or was found, 2 could not do it."""

from __future__ import annotations

import atexit
import json
import os
import sys
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from spokeshave import __version__
from spokeshave.cli_told import File, Json, fail, in_file, print_results, room_for, safe, scenario_named, show

if TYPE_CHECKING:
    from spokeshave.model.project import Project
    from spokeshave.verify.reach.answers import Study
    from spokeshave.verify.scenarios import Result
    from spokeshave.verify.sweep.matrix import Matrix

# What a command works with is imported in the command: none waits for what only others need.

OPTIONS: dict[str, Any] = {
    "add_completion": False, "pretty_exceptions_enable": False, "context_settings": {"help_option_names": ["-h", "--help"]},
}  # fmt: skip
app = typer.Typer(**OPTIONS)
"""The commands that stand here; see `whole_app`."""

TRACES = (".csv", ".vcd")


def start(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", help="Print the version and end.")] = False,
) -> None:
    """Design, simulate and prove machine sequences before the machine exists."""
    if version:
        print(f"Spokeshave {__version__}")
        raise typer.Exit(0)
    if context.invoked_subcommand is None:
        _desktop(None)


@app.command("open")
@safe
def open_file(file: File) -> None:
    """Open the desktop on a file."""
    from spokeshave.reading import read_project

    read_project(file)
    _desktop(file)


def _desktop(file: Path | None, copy: bool = False) -> None:
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")):
        fail("there is no display; run, verify and demo work without one")
    try:
        from spokeshave.desktop.start import run_desktop
    except ImportError as error:
        fail(f"the desktop needs Qt, which could not be loaded: {error}")
    raise typer.Exit(run_desktop(file, copy))


@app.command()
@safe
def demo(
    name: Annotated[str, typer.Argument(help="Which example.")] = "roastery",
    out: Annotated[Path, typer.Option(help="Where results go when there is no display.")] = Path("demo-output"),
    mistake: Annotated[str, typer.Option(help="Plant this mistake in the roastery first; ? lists them.")] = "",
) -> None:
    """Open the desktop on a shipped example; with no display, run the example whole."""
    from spokeshave.cli_report import write_report
    from spokeshave.examples.mistakes import MISTAKES
    from spokeshave.formats.trace_csv import write_trace
    from spokeshave.reading import read_project
    from spokeshave.verify.check import findings
    from spokeshave.verify.expectations import Outcome
    from spokeshave.verify.scenarios import run_all

    if mistake == "?":
        for m in MISTAKES:
            print(f"{m.name:20} {m.what}; found by {m.found_by}")
        return
    file = _planted(mistake) if mistake else _example(name)
    name = file.stem
    if os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"):
        _desktop(file, copy=True)
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


def _planted(name: str) -> Path:
    """The roastery with a mistake, as a file to open."""
    from spokeshave.examples.mistakes import MISTAKES, planted
    from spokeshave.formats.files import write_project
    from spokeshave.reading import read_project

    found = next((m for m in MISTAKES if m.name == name), None)
    if found is None:
        fail(f"there is no mistake {name!r}; there are {', '.join(m.name for m in MISTAKES)}")
    folder = tempfile.TemporaryDirectory(prefix="spokeshave-")
    atexit.register(folder.cleanup)
    path = Path(folder.name) / f"roastery-{name}.spoke"
    write_project(planted(read_project(_example("roastery")), found), path)
    return path


def _example(name: str) -> Path:
    folder = Path(__file__).parent / "examples"
    file = folder / f"{name}.spoke"
    if not file.exists():
        known = ", ".join(sorted(p.stem for p in folder.glob("*.spoke")))
        fail(f"there is no example {name}; there are {known}")
    return file


@app.command()
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


def _duration(text: str) -> int:
    from spokeshave.language.literals import duration_ms

    try:
        ms = duration_ms(text)
    except ValueError as error:
        fail(f"--for {text}: write a time such as 60s, 500ms or 1m30s ({error})")
    if ms < 0:
        fail(f"--for {text}: a run cannot be shorter than nothing; write a time such as 60s")
    return ms


@app.command()
@safe
def run(
    file: File,
    for_: Annotated[str, typer.Option("--for", help="How long, for example 60s; all scans with t below it.")] = "",
    scenario: Annotated[str, typer.Option(help="Run this scenario.")] = "",
    stimuli: Annotated[Path | None, typer.Option(help="CSV: time_ms,signal,value.")] = None,
    trace: Annotated[
        Path | None, typer.Option(help="Write the trace here (.csv, .vcd); standard output without it.")
    ] = None,
    every_scan: Annotated[
        bool, typer.Option("--every-scan", help="Run every scan instead of jumping over quiet ones.")
    ] = False,
) -> None:
    """Simulate, and write the trace."""
    from spokeshave.formats.trace_csv import trace_rows
    from spokeshave.reading import read_project

    room_for(trace)
    if trace is not None and trace.suffix.lower() not in TRACES:
        fail(f"{trace}: the suffix {trace.suffix or '(none)'} is not known; use {' or '.join(TRACES)}")
    project = read_project(file)
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
        session.run_for(_duration(for_))
    if trace is not None:
        _write_trace(session.trace, trace)
    else:
        for line in trace_rows(session.trace):
            print(line)
    for e in session.trace.events:
        if e.kind in ("unsafe activation", "numeric overflow", "hazard", "early", "alarm"):
            print(f"{e.k * project.period_ms} ms: {e.kind}: {e.place}: {e.text}", file=sys.stderr)
    if session.stopped is not None:
        (stopped,) = in_file([session.stopped], file)
        fail(str(stopped) if stopped.at else f"{file}: {stopped}")


def _write_trace(trace: Any, path: Path) -> None:
    from spokeshave.formats import trace_csv, vcd

    (vcd.write_vcd if path.suffix.lower() == ".vcd" else trace_csv.write_trace)(trace, path)


@app.command()
@safe
def convert(
    source: File,
    target: Annotated[Path, typer.Argument(help="The suffix tells the format.")],
    style: Annotated[
        str, typer.Option(help="How IEC text says a chart: chart, case (a CASE for each thread) or flags (step flags).")
    ] = "chart",
    prove: Annotated[
        bool, typer.Option("--prove", help="Run the code beside the chart and tell the first difference.")
    ] = False,
    without_interlocks: Annotated[
        bool, typer.Option("--without-interlocks", help="Code without interlocks, opposed pairs and dead times.")
    ] = False,
) -> None:
    """Convert a machine file to IEC text (.st) or back (.spoke)."""
    from spokeshave.formats.files import write_project
    from spokeshave.reading import read_project

    project = read_project(source)
    if style == "chart":
        if prove:
            fail("--prove compares a chart with its code: add --style case or --style flags")
        if without_interlocks:
            fail("--without-interlocks is for code: add --style case or --style flags")
        write_project(project, target)
        from spokeshave.formats.iec_write import not_in_charts

        if target.suffix.lower() == ".st" and (left := not_in_charts(project)):
            print(f"spokeshave: {target}: {left}", file=sys.stderr)
        return
    _convert_to_code(project, target, style, prove, without_interlocks)


def _convert_to_code(project: Project, target: Path, style: str, prove: bool, without_interlocks: bool) -> None:
    from spokeshave.engine.link import link
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
    write_text_atomically(write_code(project, style, protect=not without_interlocks), target)
    if without_interlocks:
        if left := left_out(project):
            print(f"spokeshave: {target}: the code leaves out {left}", file=sys.stderr)
        project = unprotected(project)
    if prove:
        code = generate(project, style)
        found = compare(project, code.as_project(), {c: code.flag(c) for c in code.active}, runs_of(project))
        print(f"{found.scans:,} scans of {found.runs} runs compared: {found.difference or 'no difference'}")
        if found.difference is not None:
            raise typer.Exit(1)


@app.command()
@safe
def serve(
    file: File,
    modbus: Annotated[str, typer.Option("--modbus", help="HOST:PORT to listen at.")] = "127.0.0.1:5020",
    role: Annotated[
        str,
        typer.Option(
            "--as",
            help="What this side is: controller, machine, or onlooker: both run here.",
        ),
    ] = "controller",
    length: Annotated[str, typer.Option("--for", help="How long, such as 10s; until Ctrl+C without it.")] = "",
    allow: Annotated[
        list[str] | None,
        typer.Option(
            "--allow", help="An address or network clients may come from; again for more. Everybody may without it."
        ),
    ] = None,
    show_map: Annotated[bool, typer.Option("--map", help="Write the address map and end.")] = False,
    as_json: Json = False,
) -> None:
    """Runs in real time behind Modbus TCP."""
    from spokeshave.fieldbus.access import AccessError, networks, warning
    from spokeshave.fieldbus.address_map import AddressMap, Role
    from spokeshave.fieldbus.serving import ServeError, serve_project
    from spokeshave.reading import read_project

    if role not in (known := [r.value for r in Role]):
        fail(f"--as {role}: there are {', '.join(known)}")
    project = read_project(file)
    rows = AddressMap(project, Role(role)).rows()
    if show_map:
        _print_map(rows, as_json)
        return
    host, _, port = modbus.rpartition(":")
    if not host or not port.isdigit() or int(port) > 65535:
        fail(f"{modbus!r} is no address; write HOST:PORT, for example 127.0.0.1:5020")
    seconds = _duration(length) / 1000 if length else None
    try:
        allowed = networks(allow or ())
    except AccessError as error:
        fail(f"--allow: {error}")
    if said := warning(host, allowed, Role(role) is not Role.ONLOOKER):
        print(f"spokeshave: {said} with --allow", file=sys.stderr)
    try:
        jitter = serve_project(
            project, Role(role), host, int(port), seconds, lambda text: print(text, flush=True), allowed
        )
    except ServeError as error:
        fail(str(error))
    if as_json:
        numbers = {"scans": jitter.scans, "mean_ms": round(jitter.mean_ms, 3), "within_99_ms": jitter.within(0.99),
                   "worst_ms": round(jitter.worst_ms, 3), "overruns": jitter.overruns}  # fmt: skip
        print(json.dumps(numbers))
    else:
        print(jitter.text())


def _print_map(rows: list[tuple[str, int, int, str, str]], as_json: bool) -> None:
    if as_json:
        keys = ("table", "address", "registers", "signal", "type")
        print(json.dumps([dict(zip(keys, row)) for row in rows], indent=1))
        return
    for table, address, words, name, kind in rows:
        print(f"{table:18} {address:5}  {name} {kind}" + (f", {words} registers" if words > 1 else ""))


def whole_app() -> typer.Typer:
    """The application with all commands."""
    from spokeshave.cli_proof import proof_app
    from spokeshave.cli_sweep import sweep_app

    return _with([c for part in (app, proof_app, sweep_app) for c in part.registered_commands])


def _with(commands: list[Any]) -> typer.Typer:
    """An application with these commands."""
    made = typer.Typer(**OPTIONS)
    made.callback(invoke_without_command=True)(start)
    made.registered_commands = commands
    return made


def app_for(words: list[str]) -> typer.Typer:
    """The application for a command line: with just its command where that stands here, since each has its price."""
    name = words[0] if words else ""
    own = [c for c in app.registered_commands if name in (c.name, getattr(c.callback, "__name__", ""))]
    return _with(own) if own else whole_app()


def main() -> None:
    """Runs the command line with the words of the process."""
    app_for(sys.argv[1:])()


if __name__ == "__main__":
    main()
