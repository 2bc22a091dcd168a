"""What the commands share: errors that are told and never traced, usual arguments, how findings and results are printed."""

from __future__ import annotations

import datetime
import json
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import wraps
from pathlib import Path
from typing import Annotated, Any, NoReturn

import typer

from spokeshave.engine.link import LinkError
from spokeshave.formats.errors import FormatError
from spokeshave.model.diagnostics import Diagnostic
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.junit import lines_of
from spokeshave.verify.scenarios import Result

File = Annotated[Path, typer.Argument(help="A machine file (.spoke) or IEC text (.st).")]
Json = Annotated[bool, typer.Option("--json", help="Write the report in machine-readable form.")]


def fail(message: str) -> NoReturn:
    print(f"spokeshave: {message}", file=sys.stderr)
    raise typer.Exit(2)


@contextmanager
def told() -> Iterator[None]:
    """Faults in files become a message and exit code 2."""
    try:
        yield
    except (FormatError, EditError) as error:
        fail(str(error))
    except LinkError as error:
        for d in error.found:
            print(f"spokeshave: {d}", file=sys.stderr)
        raise typer.Exit(2) from None
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        raise typer.Exit(0) from None


def safe(command: Callable[..., None]) -> Callable[..., None]:
    @wraps(command)
    def run(*args: Any, **kw: Any) -> None:
        with told():
            command(*args, **kw)

    return run


def show(found: list[Diagnostic], as_json: bool, waived: dict[Diagnostic, str] | None = None) -> None:
    """Open findings, and those that are waived with their reasons."""
    reasons = waived or {}
    if as_json:
        rows = [
            {"code": d.code, "severity": d.severity, "where": str(d.place), "message": d.message, "advice": d.advice}
            | ({"waived": reasons[d]} if d in reasons else {})
            for d in (*found, *reasons)
        ]
        print(json.dumps(rows, indent=2, ensure_ascii=False))
        return
    for d in found:
        print(f"{d.severity:8} {d.code:20} {d}")
    for d, reason in reasons.items():
        print(f"{'waived':8} {d.code:20} {d}; because {reason}")


def scenario_named(project: Project, name: str) -> Scenario:
    scenario = project.scenario(name)
    if scenario is None:
        fail(f"there is no scenario {name!r}; there are: {', '.join(s.name for s in project.scenarios) or 'none'}")
    return scenario


def print_results(results: list[Result]) -> None:
    """A line a scenario, and what did not pass of it."""
    for r in results:
        print(f"{r.outcome.value:12} {r.scenario.name}")
        for line in lines_of(r, bad_only=True):
            print(f"    {line}")


def today() -> str:
    return datetime.date.today().isoformat()
