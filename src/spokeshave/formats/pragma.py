"""What IEC text cannot say: a pragma `{spokeshave ...}` that other readers skip as a comment.

Inside it stands JSON in which the braces of objects are written as parentheses and braces in strings as escapes,
so that no brace ends the pragma early.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from spokeshave.formats.errors import FormatError
from spokeshave.formats.spoke import bring_up_to_date, from_data, to_data
from spokeshave.formats.spoke_schema import VERSION
from spokeshave.language.sub_sequences import runs_any, taken_back, written_out
from spokeshave.model.diagnostics import line_and_column
from spokeshave.model.project import Project

_FOUND = re.compile(r"\{spokeshave\s+([^{}]*)\}")
_STRING = re.compile(r'"(?:[^"\\]|\\.)*"')
_TEXT_SIGNAL = ("name", "cls", "type", "address", "initial", "retain")
_TEXT_SEQUENCE = ("initial", "transitions", "bodies")


def _table(swap: Mapping[str, str]) -> dict[int, str]:
    return {ord(a): b for a, b in swap.items()}


def _outside_strings(text: str, swap: Mapping[str, str], inside: Mapping[str, str]) -> str:
    out, at = [], 0
    for m in _STRING.finditer(text):
        out.append(text[at : m.start()].translate(_table(swap)))
        out.append(m[0].translate(_table(inside)))
        at = m.end()
    out.append(text[at:].translate(_table(swap)))
    return "".join(out)


def take_pragma(text: str) -> tuple[str, dict[str, Any] | None]:
    """The text with the pragma blanked out (places stay), and the pragma's data.

    Raises `FormatError` with the place of a pragma that cannot be read.
    """
    found = _FOUND.search(text)
    if not found:
        return text, None
    line, _ = line_and_column(text, found.start())
    try:
        data = json.loads(_outside_strings(found[1], {"(": "{", ")": "}"}, {}))
    except (ValueError, RecursionError) as error:
        why = "it nests too deeply" if isinstance(error, RecursionError) else error
        raise FormatError(f"the pragma is damaged: {why}", line=line, advice="delete it to read the rest") from None
    if not isinstance(data, dict) or type(data.get("version")) is not int:
        raise FormatError("the pragma is damaged", line=line, advice="delete it to read the rest")
    if data["version"] > VERSION:
        raise FormatError(f"the pragma has version {data['version']}, this program reads up to {VERSION}", line=line)
    with _shaped():
        bring_up_to_date(data)
    blank = re.sub(r"[^\n]", " ", found[0])
    return text[: found.start()] + blank + text[found.end() :], data


def code_pragma(
    project: Project, style: str, protect: bool = True, measured: bool = False, blocks: Sequence[str] = ()
) -> str:
    """The pragma of generated code: the whole machine file, the style it was written in, whether it protects, whether its times
    are measured, and the blocks that its sequences have.
    """
    left: dict[str, Any] = {} if protect else {"unprotected": True}
    left |= ({"measured": True} if measured else {}) | ({"blocks": list(blocks)} if blocks else {})
    return _pragma({"version": VERSION, "code": style, **left, **to_data(project)})


def make_pragma(project: Project) -> str:
    """The pragma that makes the text of a machine file whole, of one whose steps run no sequences (`written_out`); which do stands in it."""
    runs = (
        {"runs": {k: v for k, v in to_data(project).items() if k in ("sequences", "trips")}}
        if runs_any(project)
        else {}
    )
    data = to_data(written_out(project)) | runs
    for s in data.get("signals", []):
        for key in _TEXT_SIGNAL[2:]:
            s.pop(key, None)
    for q in data.get("sequences", []):
        for key in _TEXT_SEQUENCE:
            q.pop(key, None)
        for s in q.get("steps", []):
            s.pop("actions", None)
    data.pop("instances", None)
    data.pop("opening", None)
    data.pop("closing", None)
    return _pragma({"version": VERSION, **data})


def _pragma(data: Mapping[str, Any]) -> str:
    lines = []
    for key, value in data.items():
        if isinstance(value, list) and value:
            items = ",\n   ".join(json.dumps(v, ensure_ascii=False) for v in value)
            lines.append(f" {json.dumps(key)}: [\n   {items}]")
        else:
            lines.append(f" {json.dumps(key)}: {json.dumps(value, ensure_ascii=False)}")
    body = "{" + ",\n".join(lines) + "}"
    escaped = _outside_strings(body, {"{": "(", "}": ")"}, {"{": "\\u007b", "}": "\\u007d"})
    return "{spokeshave " + escaped + "}"


def merge_pragma(project: Project, pragma: dict[str, Any]) -> Project:
    """The project read from the text, with what the pragma adds. Where both speak, the text is right."""
    with _shaped():
        runs = pragma.get("runs", {})
        whole = _merged(to_data(project), {k: v for k, v in pragma.items() if k != "runs"})
        before = whole | {k: runs[k] for k in ("sequences", "trips") if k in runs}
    read = from_data(whole)
    return taken_back(read, from_data(before)) if runs else read


@contextmanager
def _shaped() -> Iterator[None]:
    """What is not where the pragma has it is told as damage; what values are wrong, the machine file tells."""
    try:
        yield
    except (AttributeError, KeyError, TypeError, ValueError, IndexError, RecursionError):
        raise FormatError(
            "the pragma does not have the form it is written in", advice="delete it to read the rest"
        ) from None


def _merged(data: dict[str, Any], pragma: dict[str, Any]) -> dict[str, Any]:
    extra = {k: v for k, v in pragma.items() if k != "version"}
    signals = {s["name"].lower(): s for s in data.get("signals", [])}
    listed: list[dict[str, Any]] = []
    for s in extra.pop("signals", []):
        own = signals.pop(str(s.get("name", "")).lower(), None)
        if own is not None:
            listed.append({**own, **s, "name": own["name"]})
    sequences = {q["name"].lower(): q for q in extra.pop("sequences", [])}
    for q in data.get("sequences", []):
        more = sequences.get(q["name"].lower(), {})
        steps = {s["name"].lower(): s for s in more.get("steps", [])}
        q["steps"] = [{**steps.get(s["name"].lower(), {}), **s,
                       "number": steps.get(s["name"].lower(), s)["number"]} for s in q["steps"]]  # fmt: skip
        order = {name: i for i, name in enumerate(steps)}
        q["steps"].sort(key=lambda s: order.get(s["name"].lower(), len(order)))
        q.update({k: v for k, v in more.items() if k not in ("name", "steps", *_TEXT_SEQUENCE)})
    if "name" not in extra:
        data.pop("name", None)
    return {**data, **extra, "signals": [*listed, *signals.values()]}
