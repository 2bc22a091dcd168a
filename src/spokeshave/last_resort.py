"""What is said of an error that nobody expected: that the fault is ours, and where its details are."""

from __future__ import annotations

import datetime
import traceback
from pathlib import Path

from platformdirs import user_log_path

from spokeshave import __version__
from spokeshave.model.diagnostics import quoted


def told_as_ours(error: BaseException, file: Path | None = None) -> str:
    """A sentence on an error of the program itself; its details are written to a log, whose place it tells."""
    about = f" with {quoted(file.name)}" if file is not None else ""
    text = f"this is a fault of Spokeshave {__version__}{about}, not of what you did ({quoted(_kind(error))})"
    try:
        return f"{text}; its details are in {_log(error, file)}"
    except OSError as failure:
        return f"{text}; its details could not be written ({failure.strerror})"


def _kind(error: BaseException) -> str:
    return f"{type(error).__name__}: {error}" if str(error) else type(error).__name__


def _log(error: BaseException, file: Path | None) -> Path:
    path = user_log_path("spokeshave") / "faults.log"
    path.parent.mkdir(parents=True, exist_ok=True)
    now = datetime.datetime.now().astimezone().isoformat(timespec="seconds")
    trace = "".join(traceback.format_exception(error))
    with path.open("a", encoding="utf-8", errors="backslashreplace") as out:
        out.write(f"{now} Spokeshave {__version__} {file or ''}\n{trace}\n")
    return path
