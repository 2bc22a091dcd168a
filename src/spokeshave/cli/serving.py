"""The command `serve`: runs in real time behind Modbus TCP."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from spokeshave.cli.told import File, Json, duration, fail, put_out, room_for, safe

# What a command works with is imported in the command: none waits for what only others need.

serving_app = typer.Typer()


@serving_app.command()
@safe
def serve(
    file: File,
    modbus: Annotated[str, typer.Option("--modbus", help="HOST:PORT to listen at.")] = "127.0.0.1:5020",
    opcua: Annotated[
        str, typer.Option("--opcua", help="HOST:PORT to listen at for OPC UA, in the place of Modbus; 4840 is usual.")
    ] = "",
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
    open_to_all: Annotated[
        bool,
        typer.Option("--open", help="Let everybody who reaches an address that is not this machine's own connect."),
    ] = False,
    by_count: Annotated[
        bool,
        typer.Option("--by-count", help="Run a scan for each that a client counts, and none by the clock."),
    ] = False,
    show_map: Annotated[bool, typer.Option("--map", help="Write the address map and end.")] = False,
    also_map: Annotated[
        list[str] | None,
        typer.Option(
            "--also",
            help="Map this too, to be read: a setting, a variable, Sequence (its state number), Sequence.Step; again for more.",
        ),
    ] = None,
    let_write: Annotated[
        list[str] | None,
        typer.Option("--let-write", help="Clients of the controller may write this setting; again for more."),
    ] = None,
    keep: Annotated[
        bool,
        typer.Option(
            "--keep-map", help="Keep the addresses in the machine file, so that nothing new moves one, and end."
        ),
    ] = False,
    map_table: Annotated[
        Path | None, typer.Option("--map-table", help="Write the address map as a table here (.xlsx, .csv) and end.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Runs in real time behind Modbus TCP."""
    from spokeshave.fieldbus.access import AccessError, host_and_port, networks, warning
    from spokeshave.fieldbus.address_map import COUNT, ECHO, AddressMap, Role, also, keep_map, put_first_free
    from spokeshave.fieldbus.address_map import let_write as let_clients_write
    from spokeshave.fieldbus.serving import ServeError, serve_project
    from spokeshave.formats.files import write_project
    from spokeshave.formats.tables.pages import write_pages
    from spokeshave.model.diagnostics import did_you_mean
    from spokeshave.model.edits import EditError
    from spokeshave.reading import read_project

    room_for(map_table, (".xlsx", ".csv"))
    if role not in (known := [r.value for r in Role]):
        fail(f"--as {role}: there are {', '.join(known)}")
    project = read_project(file)
    for name in also_map or ():
        found = next((w.name for w in also(project, Role(role)) if w.name.lower() == name.lower()), None)
        if found is None:
            offer = did_you_mean(name, [w.name for w in also(project, Role(role))])
            fail(f"--also {name}: there is no such setting, variable, sequence or step{f'; {offer}' * bool(offer)}")
        project = put_first_free(project, found, Role(role))
    for name in let_write or ():
        try:
            project = let_clients_write(project, name, True)
        except EditError as error:
            fail(f"--let-write {name}: {error}")
    mapped = AddressMap(project, Role(role))
    if by_count and not any(p.name == COUNT for p in mapped.points):
        fail(f'--by-count: the map has no "{COUNT}"; --also "{COUNT}" --also "{ECHO}" --keep-map puts it there')
    for problem in mapped.problems:
        print(f"spokeshave: {problem}", file=sys.stderr)
    if keep:
        write_project(keep_map(project, Role(role)), file)
    if map_table is not None:
        write_pages([mapped.table()], map_table)
    if show_map:
        _print_map(mapped.rows(), as_json)
    if show_map or keep or map_table is not None:
        return
    at = opcua or modbus
    try:
        host, port = host_and_port(at)
    except AccessError as error:
        fail(f"{at!r} is no address; {error}")
    if opcua and allow:
        fail(
            "--allow is for Modbus; OPC UA listens to whoever reaches it, so let it listen at 127.0.0.1, or say --open"
        )
    seconds = duration(length) / 1000 if length else None
    try:
        allowed = networks(allow or ())
    except AccessError as error:
        fail(f"--allow: {error}")
    if said := warning(host, allowed, Role(role) is not Role.ONLOOKER):
        if not open_to_all:
            fail(f"{said} with --allow ADDRESS, or let everybody with --open")
        print(f"spokeshave: {said} with --allow", file=sys.stderr)
    try:
        jitter = serve_project(
            project,
            Role(role),
            host,
            port,
            seconds,
            lambda text: print(text, flush=True, file=sys.stderr if as_json else sys.stdout),
            allowed,
            by_count,
            bool(opcua),
        )
    except ServeError as error:
        fail(str(error))
    if as_json:
        put_out("serve", scans=jitter.scans, mean_ms=round(jitter.mean_ms, 3), within_99_ms=jitter.within(0.99),
                worst_ms=round(jitter.worst_ms, 3), overruns=jitter.overruns)  # fmt: skip
    else:
        print(jitter.text())


def _print_map(rows: list[tuple[str, int, int, str, str]], as_json: bool) -> None:
    if as_json:
        keys = ("table", "address", "registers", "signal", "type")
        put_out("serve --map", addresses=[dict(zip(keys, row)) for row in rows])
        return
    for table, address, words, name, kind in rows:
        print(f"{table:18} {address:5}  {name} {kind}" + (f", {words} registers" if words > 1 else ""))
