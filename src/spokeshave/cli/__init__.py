"""The command line: thin commands over the core. Exit 0 done, 1 something failed or was found, 2 could not do it."""

from __future__ import annotations

import gc
import sys
from functools import cache
from importlib import import_module
from typing import Annotated, Any

import typer

from spokeshave import COLLECT, __version__

OPTIONS: dict[str, Any] = {
    "add_completion": False, "pretty_exceptions_enable": False, "context_settings": {"help_option_names": ["-h", "--help"]},
}  # fmt: skip

PARTS = {"opening": ("open", "demo"), "running": ("check", "run", "convert"), "serving": ("serve",),
         "proof": ("verify", "accept", "tidy", "brief"), "faults": ("faults", "reach"), "strength": ("strength",),
         "alarms": ("alarms",), "recipes": ("recipes",), "room": ("room",), "find": ("find",), "propose": ("propose",),
         "versions": ("diff", "merge", "text"),
         "recording": ("replay",)}  # fmt: skip
"""Modules of this folder with their commands, each an application called `<module>_app`."""


def start(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", help="Print the version and end.")] = False,
) -> None:
    """Design, simulate and prove machine sequences before the machine exists."""
    if version:
        print(f"Spokeshave {__version__}")
        raise typer.Exit(0)
    if context.invoked_subcommand is None:
        from spokeshave.cli.opening import show_desktop

        show_desktop(None)


def commands_of(part: str) -> list[Any]:
    """The commands of a module of this folder, as typer registers them."""
    found: list[Any] = getattr(import_module(f"spokeshave.cli.{part}"), f"{part}_app").registered_commands
    return found


def app_with(commands: list[Any]) -> typer.Typer:
    """An application with these commands."""
    made = typer.Typer(**OPTIONS)
    made.callback(invoke_without_command=True)(start)
    made.registered_commands = commands
    return made


@cache
def whole_app() -> typer.Typer:
    """The application with all commands."""
    return app_with([c for part in PARTS for c in commands_of(part)])


def app_for(words: list[str]) -> typer.Typer:
    """The application for a command line: with just its command where it names one, since each has its price."""
    name = words[0] if words else ""
    part = next((p for p, names in PARTS.items() if name in names), None)
    if part is None:
        return whole_app()
    return app_with([c for c in commands_of(part) if name in (c.name, getattr(c.callback, "__name__", ""))])


def main() -> None:
    """Runs the command line with the words of the process."""
    gc.set_threshold(*COLLECT)
    app_for(sys.argv[1:])()


if __name__ == "__main__":
    main()
