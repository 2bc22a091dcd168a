"""The own file `.spoke`: UTF-8 JSON, versioned, ordered, and laid out so that a difference reads well."""

from __future__ import annotations

import hashlib
import json
import os
import tempfile
from functools import cache
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter, ValidationError

from spokeshave.formats.errors import FormatError, reading
from spokeshave.model.project import Project, with_shows

VERSION = 2
WIDTH = 118
LARGEST_BYTES = 200_000_000


@cache
def _adapter() -> TypeAdapter[Project]:
    return TypeAdapter(Project)


def to_data(project: Project) -> dict[str, Any]:
    """A machine file as plain JSON data, without what has its usual value."""
    data: dict[str, Any] = _adapter().dump_python(project, mode="json", exclude_defaults=True)
    return data


def from_data(data: Any) -> Project:
    """The machine file of plain JSON data. Raises `FormatError` that names the item."""
    try:
        return _adapter().validate_python(data)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        path = _path(data, first["loc"])
        more = f" ({error.error_count() - 1} more faults)" if error.error_count() > 1 else ""
        raise FormatError(f"{first['msg']}{more}", item=path) from None


def _path(data: Any, loc: tuple[int | str, ...]) -> str:
    """`signals[3] (Drum).type`: the way to an item, with its name where it has one."""
    out = ""
    for part in loc:
        try:
            data = data[part]
        except (KeyError, IndexError, TypeError):
            data = None
        if isinstance(part, int):
            name = data.get("name") or data.get("ident") if isinstance(data, dict) else None
            out += f"[{part}]" + (f" ({name})" if name else "")
        else:
            out += f".{part}" if out else str(part)
    return out


def dumps(project: Project) -> str:
    """The text of a machine file. Small items stand on one line each, so that moving one changes few lines."""
    data = {"format": "spokeshave machine file", "version": VERSION, **to_data(project)}
    return _layout(data, "") + "\n"


def fingerprint(project: Project) -> str:
    """Which file it is, to be compared: version and digest."""
    return f"version {VERSION}, SHA-256 {hashlib.sha256(dumps(project).encode()).hexdigest()}"


def _layout(data: Any, indent: str) -> str:
    flat = json.dumps(data, ensure_ascii=False)
    inner = indent + "  "
    if not isinstance(data, (dict, list)) or not data:
        return flat
    if len(flat) + len(indent) <= WIDTH and indent:
        return flat
    if isinstance(data, dict):
        parts = [f"{inner}{json.dumps(k, ensure_ascii=False)}: {_layout(v, inner)}" for k, v in data.items()]
        return "{\n" + ",\n".join(parts) + "\n" + indent + "}"
    parts = [inner + _layout(v, inner) for v in data]
    return "[\n" + ",\n".join(parts) + "\n" + indent + "]"


def loads(text: str) -> Project:
    """The machine file in a text. Raises `FormatError`."""
    try:
        data = json.loads(text, parse_constant=_no_constant)
    except json.JSONDecodeError as error:
        raise FormatError(
            f"this is not a whole machine file: {error.msg.lower()}", line=error.lineno, column=error.colno,
            advice="the file may be damaged or cut off; its last good version is beside it or in version control",
        ) from None  # fmt: skip
    except (RecursionError, ValueError) as error:
        raise FormatError(f"this is not a machine file: {error}") from None
    if not isinstance(data, dict) or data.get("format") != "spokeshave machine file":
        raise FormatError("this is JSON, but not a machine file", advice='it should say "format" on its first lines')
    version = data.get("version")
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise FormatError(f"version {version!r} is not a number of a version", item="version")
    if version > VERSION:
        raise FormatError(
            f"the file has version {version}, this program reads up to {VERSION}", item="version",
            advice="open it with a newer Spokeshave",
        )  # fmt: skip
    bring_up_to_date(data)
    return from_data({k: v for k, v in data.items() if k not in ("format", "version")})


def bring_up_to_date(data: dict[str, Any]) -> None:
    """Brings data of an older version up to date. Version 1: what a scenario shows stood beside its text, now it is a row."""
    scenarios = data.get("scenarios") if data["version"] == 1 else ()
    for s in scenarios if isinstance(scenarios, list) else ():
        shows = s.pop("shows", ()) if isinstance(s, dict) else ()
        if shows and isinstance(s.get("text"), str):
            s["text"] = with_shows(s["text"], map(str, shows))


def _no_constant(name: str) -> Any:
    raise ValueError(f"{name} is not a number a machine file may hold")


def read(path: Path) -> Project:
    """Reads a machine file. Raises `FormatError` that names the file; nothing else for a bad one."""
    with reading(path):
        if path.stat().st_size > LARGEST_BYTES:
            raise FormatError("the file is too large to be a machine file")
        return loads(path.read_bytes().decode("utf-8-sig"))


def write(project: Project, path: Path) -> None:
    """Writes a machine file so that a crash leaves either the old one or the new one, never a half."""
    write_text_atomically(dumps(project), path)


def write_text_atomically(text: str, path: Path) -> None:
    """As `write_bytes_atomically`, in UTF-8."""
    write_bytes_atomically(text.encode(), path)


def write_bytes_atomically(data: bytes, path: Path) -> None:
    """Temporary file in the same folder, synced, then renamed over the old one. Raises `FormatError`."""
    try:
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        try:
            with os.fdopen(handle, "wb") as out:
                out.write(data)
                out.flush()
                os.fsync(out.fileno())
            os.chmod(temporary, path.stat().st_mode & 0o777 if path.exists() else 0o644)
            os.replace(temporary, path)
        except BaseException:
            os.unlink(temporary)
            raise
    except OSError as error:
        failure = FormatError(f"could not be written: {error.strerror or error}")
        failure.file = str(path)
        raise failure from None


def schema() -> dict[str, Any]:
    """The JSON Schema of the file's contents, for the documentation."""
    body = _adapter().json_schema()
    body["title"] = "Spokeshave machine file"
    body["properties"] = {
        "format": {"const": "spokeshave machine file"},
        "version": {"const": VERSION},
        **body["properties"],
    }
    return body
