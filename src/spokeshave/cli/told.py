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
from typing import TYPE_CHECKING, Annotated, Any, NoReturn, TextIO

import typer

from spokeshave.model.diagnostics import Told, quoted, several

if TYPE_CHECKING:
    from spokeshave.model.diagnostics import Diagnostic
    from spokeshave.model.project import Project, Scenario
    from spokeshave.verify.scenarios import Result


File = Annotated[Path, typer.Argument(help="A machine file (.spoke) or IEC text (.st).")]
Json = Annotated[bool, typer.Option("--json", help="Write the report in machine-readable form.")]


_CONTROLS = dict.fromkeys([c for c in range(32) if chr(c) not in "\t\n\r"] + list(range(0x7F, 0xA0)), "\ufffd")


def fail(message: str) -> NoReturn:
    """Says on standard error what could not be done, and exits 2."""
    print(f"spokeshave: {message}", file=sys.stderr)
    raise typer.Exit(2)


class _Visible:
    """A stream that lets no control character of a person's file through to the terminal."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        return self._stream.write(text.translate(_CONTROLS))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


@contextmanager
def _visible() -> Iterator[None]:
    before = sys.stdout, sys.stderr
    sys.stdout, sys.stderr = _Visible(sys.stdout), _Visible(sys.stderr)
    try:
        yield
    finally:
        sys.stdout, sys.stderr = before


@contextmanager
def told(file: Path | None = None) -> Iterator[None]:
    """Errors become a message and exit code 2: those in files as what they are, any other as a fault of ours."""
    with _visible():
        try:
            yield
        except (typer.Exit, typer.Abort, KeyboardInterrupt):
            raise
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            raise typer.Exit(0) from None
        except Told as error:
            for line in _lines(error, file):
                print(f"spokeshave: {line}", file=sys.stderr)
            raise typer.Exit(2) from None
        except Exception as error:
            from spokeshave.last_resort import told_as_ours

            fail(told_as_ours(error, file))


def _lines(error: Told, file: Path | None) -> list[str]:
    """What is said of an error; of one that was found in several places each of them, with its line in a text file."""
    found: list[Diagnostic] | None = getattr(error, "found", None)
    if found is None:
        return [str(error)]
    return [str(d) if d.at or file is None else f"{file}: {d}" for d in in_file(found, file)]


def in_file(found: list[Diagnostic], file: Path | None) -> list[Diagnostic]:
    """Findings with the line and column they have in the text file they are of."""
    if file is None or file.suffix.lower() != ".st" or not found:
        return found
    from spokeshave.reading import located

    return located(found, file)


def safe(command: Callable[..., None]) -> Callable[..., None]:
    """A command whose errors are told and never traced (see `told`)."""

    @wraps(command)
    def run(*args: Any, **kw: Any) -> None:
        with told(kw.get("file") or kw.get("source")):
            command(*args, **kw)

    return run


OUTPUT_VERSION = 1
"""Of what the commands print with `--json`; it counts up when a field goes or means something else, not when one comes."""


def put_out(command: str, **fields: object) -> None:
    """What a command found, as one JSON object alone on standard output (`docs/output.schema.json`)."""
    head = {"format": f"spokeshave {command}", "version": OUTPUT_VERSION}
    print(json.dumps(head | fields, indent=2, ensure_ascii=False))


def show(found: list[Diagnostic], as_json: bool, waived: dict[Diagnostic, str] | None = None) -> None:
    """Open findings, and those that are waived with their reasons."""
    reasons = waived or {}
    if as_json:
        rows = [
            {
                "code": d.code,
                "severity": d.severity,
                "where": str(d.place),
                "at": d.at,
                "message": d.message,
                "advice": d.advice,
            }
            | ({"waived": reasons[d]} if d in reasons else {})
            for d in (*found, *reasons)
        ]
        put_out("check", findings=rows)
        return
    for d in found:
        print(f"{d.severity:8} {d.code:20} {d}")
    for d, reason in reasons.items():
        print(f"{'waived':8} {d.code:20} {d}; because {reason}")


def room_for(path: Path | None, kinds: tuple[str, ...] = ()) -> None:
    """Fails before any work is done if a file could not be written where it is to be, or has none of the suffixes `kinds`."""
    if path is not None and not path.parent.is_dir():
        fail(f"{path}: there is no folder {path.parent}")
    if path is not None and len(os.fsencode(path.name)) > (most := os.pathconf(path.parent, "PC_NAME_MAX")):
        fail(f"{quoted(path)}: the name is too long; names of files have at most {most} bytes here")
    if path is not None and kinds and path.suffix.lower() not in kinds:
        fail(f"{path}: the suffix {path.suffix or '(none)'} is not known; use {' or '.join(kinds)}")


def scenario_named(project: Project, name: str) -> Scenario:
    """The scenario of this name; exits 2 with the names there are if there is none."""
    scenario = project.scenario(name)
    if scenario is None:
        fail(f"there is no scenario {name!r}; there are: {several(s.name for s in project.scenarios) or 'none'}")
    return scenario


def print_results(results: list[Result]) -> None:
    """A line a scenario, and what did not pass of it."""
    from spokeshave.verify.junit import lines_of

    for r in results:
        print(f"{r.outcome.value:12} {quoted(r.scenario.name)}")
        for line in lines_of(r, bad_only=True):
            print(f"    {line}")


def today() -> str:
    """The date as it stands in records and accepted runs, `2031-05-06`."""
    return datetime.date.today().isoformat()


def duration(text: str, option: str = "--for") -> int:
    """A time of the command line in ms; exits 2 for a text that is none."""
    from spokeshave.language.literals import duration_ms

    try:
        ms = duration_ms(text)
    except ValueError as error:
        fail(f"{option} {text}: write a time such as 60s, 500ms or 1m30s ({error})")
    if ms < 0:
        fail(f"{option} {text}: a time cannot be shorter than nothing; write one such as 60s")
    return ms
