"""The own file `.spoke`: UTF-8 JSON, versioned, ordered, and laid out so that a difference reads well."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from spokeshave.formats.beside import read_beside, write_beside
from spokeshave.formats.disk import text_of_file, write_text_atomically
from spokeshave.formats.errors import FormatError, reading
from spokeshave.formats.shape import serializer, validator
from spokeshave.formats.spoke_schema import TEXTS, VERSION, near, schema, wrong_values
from spokeshave.language.literals import real_number
from spokeshave.model.project import Project, with_shows
from spokeshave.model.stored import apart, digests, together

WIDTH = 118
LARGEST_BYTES = 50_000_000
"""Bytes of a machine file that is read."""


def to_data(project: Project) -> dict[str, Any]:
    """A machine file as plain JSON data, without what has its usual value."""
    data: dict[str, Any] = serializer().to_python(project, mode="json", exclude_defaults=True)
    return data


_WORDS = {
    "missing": "this field is missing", "string_type": "a text is needed here", "bool_type": "true or false is needed here",
    "int_type": "a whole number is needed here", "float_type": "a number is needed here",
    "tuple_type": "a list is needed here", "list_type": "a list is needed here", "dataclass_type": "an object is needed here",
    "dict_type": "an object is needed here", "too_short": "something is missing in this list", "too_long": "this list is too long",
}  # fmt: skip
"""What is wrong, by the reader's kinds of faults."""


def from_data(data: Any) -> Project:
    """The machine file of plain JSON data. Raises `FormatError` that names the item: nothing unknown is dropped, nothing
    wrong is made to fit.
    """
    from pydantic_core import ValidationError  # takes its time, and IEC text does without

    try:
        project: Project = validator().validate_json(json.dumps(data), strict=True, extra="forbid")
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        loc = first["loc"]
        message, advice = _WORDS.get(first["type"], first["msg"]), ""
        if first["type"] == "json_invalid":  # what JSON can say and no file can keep
            raise FormatError(
                "a text holds half a character", advice="look for \\ud8 to \\udf in it, and take it out"
            ) from None
        if loc[-1:] and loc[-1] in ("bool", "int", "float") and loc[-2:-1] and loc[-2] in ("initial", "home"):
            loc, message, advice = loc[:-1], "this is no value", "write true or false, or a number"
        path = _path(data, loc)
        more = f" ({error.error_count() - 1} more faults)" if error.error_count() > 1 else ""
        if first["type"] in ("extra_forbidden", "unexpected_keyword_argument"):
            message, advice = "there is no such field", near(data, first["loc"])
        raise FormatError(f"{message}{more}", item=path, advice=advice) from None
    for where, message, advice in wrong_values(data, (), schema(), schema()):
        raise FormatError(message, item=_path(data, where), advice=advice)
    return project


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
    """The whole text of a machine file, accepted runs in it. Small items stand on one line each, and texts line by line, so that
    a change is few lines.
    """
    data = {"format": "spokeshave machine file", "version": VERSION, **to_data(project)}
    return _layout(data, "") + "\n"


def fingerprint(project: Project) -> str:
    """Which file it is, to be compared: version and digest, that of the file as it is written."""
    return f"version {VERSION}, SHA-256 {hashlib.sha256(dumps(apart(project)[0]).encode()).hexdigest()}"


def _layout(data: Any, indent: str) -> str:
    flat = json.dumps(data, ensure_ascii=False)
    inner = indent + "  "
    if not isinstance(data, (dict, list)) or not data:
        return flat
    if len(flat) + len(indent) <= WIDTH and indent and "\\n" not in flat:
        return flat
    if isinstance(data, dict):
        parts = [
            f"{inner}{json.dumps(k, ensure_ascii=False)}: {_lines(v, inner) if k in TEXTS else _layout(v, inner)}"
            for k, v in data.items()
        ]
        return "{\n" + ",\n".join(parts) + "\n" + indent + "}"
    parts = [inner + _layout(v, inner) for v in data]
    return "[\n" + ",\n".join(parts) + "\n" + indent + "]"


def _lines(data: Any, indent: str) -> str:
    """A text as a list of its lines, if it has several."""
    if not isinstance(data, str) or "\n" not in data:
        return _layout(data, indent)
    parts = [f"{indent}  {json.dumps(line, ensure_ascii=False)}" for line in data.split("\n")]
    return "[\n" + ",\n".join(parts) + "\n" + indent + "]"


def _put_together(data: Any) -> None:
    """Makes one text of each that stands as a list of its lines."""
    for key, value in list(data.items() if isinstance(data, dict) else enumerate(data)):
        if isinstance(value, list) and key in TEXTS and value and all(isinstance(line, str) for line in value):
            data[key] = "\n".join(value)
        elif isinstance(value, (dict, list)):
            _put_together(value)


def loads(text: str) -> Project:
    """The machine file in a text. Raises `FormatError`."""
    try:
        data = json.loads(text, parse_constant=_no_constant, parse_float=_finite)
        _put_together(data if isinstance(data, dict) else {})
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
    """Brings data of an older version up to date.

    Version 1: what a scenario shows stood beside its text, now it is a row. Version 2: a trip without a scope acted on
    nothing, now on all sequences; one that named all of them acts on all.
    """
    trips, sequences = ((x if isinstance(x, list) else []) for x in (data.get("trips"), data.get("sequences")))
    for t in trips if data["version"] < 3 else ():
        if isinstance(t, dict):
            scope = t.setdefault("scope", [])
            names = [str(q.get("name")) for q in sequences if isinstance(q, dict)]
            if scope and isinstance(scope, list) and {str(n).lower() for n in scope} >= {n.lower() for n in names}:
                t.pop("scope")
    scenarios = data.get("scenarios") if data["version"] == 1 else ()
    for s in scenarios if isinstance(scenarios, list) else ():
        shows = s.pop("shows", ()) if isinstance(s, dict) else ()
        if shows and isinstance(s.get("text"), str):
            s["text"] = with_shows(s["text"], map(str, shows))


def _no_constant(name: str) -> Any:
    raise ValueError(f"{name} is not a number a machine file may hold")


def _finite(text: str) -> float:
    return real_number(text)


def read(path: Path) -> Project:
    """Reads a machine file, with the accepted runs beside it. Raises `FormatError` that names the file; nothing else for a bad
    one.
    """
    with reading(path):
        project = loads(text_of_file(path, LARGEST_BYTES))
    return together(project, read_beside(path).stored) if digests(project) else project


def write(project: Project, path: Path, verdicts: Iterable[dict[str, Any]] | None = None) -> None:
    """Writes a machine file so that a crash leaves either the old one or the new one, never a half; first its accepted runs and
    verdicts beside it. Verdicts stay as they are where none are given.
    """
    small, stored = apart(project)
    write_beside(path, stored, digests(project), verdicts)
    write_text_atomically(dumps(small), path)
