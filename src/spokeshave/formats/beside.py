"""The file beside a machine file, `NAME.spoke.accepted`: accepted runs, the accepted sweep, and verdicts with what they depend on.

A line each, as JSON. The machine file names runs by the digest of what is in them, so a line is right or it is not there, and
the lines of two versions can be put together in any order.
"""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Collection, Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from spokeshave.formats.disk import text_of_file, write_text_atomically
from spokeshave.formats.errors import FormatError
from spokeshave.model.stored import Stored, digest_of

SUFFIX = ".accepted"
LARGEST_BYTES = 200_000_000
"""Bytes of a file beside that is read."""
HEAD = {"format": "spokeshave accepted runs and verdicts", "version": 1}
_NAMED = re.compile(r'"stored": "([0-9a-f]{32})"')


def path_beside(path: Path) -> Path:
    """Where the accepted runs of a machine file stand."""
    return path.with_name(path.name + SUFFIX)


@dataclass
class Beside:
    """What stands beside a machine file. `verdicts` are as they were written (see `verify.standing`)."""

    stored: Stored = field(default_factory=dict)
    verdicts: list[dict[str, Any]] = field(default_factory=list)


def read_beside(path: Path) -> Beside:
    """What stands beside the machine file at `path`. A line that is not whole, or not what its digest says, is as good as
    none: the check tells which runs are missing.
    """
    found = Beside()
    try:
        other = path_beside(path)
        text = text_of_file(other, LARGEST_BYTES) if other.is_file() else ""
    except (FormatError, OSError, UnicodeDecodeError):
        return found
    for line in text.splitlines():
        try:
            data = json.loads(line)
        except (ValueError, RecursionError):
            continue
        if not isinstance(data, dict):
            continue
        if "verdict" in data:
            found.verdicts.append(data)
        elif isinstance(data.get("stored"), str):
            rows, steps = _rows(data.get("rows")), _names(data.get("steps", []))
            if rows is not None and steps is not None and digest_of(rows, steps) == data["stored"]:
                found.stored[data["stored"]] = (rows, steps)
    return found


def _rows(data: Any) -> tuple[tuple[str, str], ...] | None:
    if not isinstance(data, list) or not all(isinstance(r, list) and len(r) == 2 and _names(r) for r in data):
        return None
    return tuple((r[0], r[1]) for r in data)


def _names(data: Any) -> tuple[str, ...] | None:
    return tuple(data) if isinstance(data, list) and all(isinstance(n, str) for n in data) else None


def named_in(path: Path) -> frozenset[str]:
    """The digests that the machine file at `path` names now."""
    try:
        return frozenset(_NAMED.findall(path.read_text(encoding="utf-8", errors="replace")))
    except OSError:
        return frozenset()


def write_beside(
    path: Path, stored: Stored, named: Collection[str], verdicts: Iterable[dict[str, Any]] | None = None
) -> None:
    """Writes what belongs to the machine file that is about to be written at `path`. What the present one names stays, so that
    a crash between the two leaves both whole; `named` are digests whose runs are only in the file beside. Verdicts stay as
    they are where none are given.
    """
    before = read_beside(path)
    needed = {*named, *(named_in(path) if before.stored else ())}
    keep = {d: v for d, v in before.stored.items() if d in needed}
    told = before.verdicts if verdicts is None else list(verdicts)
    lines = [_line({"stored": d, "rows": rows} | ({"steps": steps} if steps else {}))
             for d, (rows, steps) in (stored | keep).items()]  # fmt: skip
    lines += map(_line, told)
    if lines:
        write_text_atomically("\n".join([_line(HEAD), *lines]) + "\n", path_beside(path))
        return
    with contextlib.suppress(OSError):  # a name that is too long for a file beside it, too
        path_beside(path).unlink()


def _line(data: dict[str, Any]) -> str:
    return json.dumps(data, ensure_ascii=False)
